/** `/`: goes to a project, environment, review, run or release by what one remembers of it. */
import { useQuery } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { Dialog } from 'radix-ui';
import { useEffect, useId, useState } from 'react';
import type { Found } from '../../../src/wire/projects';
import { get } from '../data/api';
import { Mark } from './Mark';

/** Milliseconds without a key before the service is asked. */
const restMs = 120;

export function Find({ open, close }: { open: boolean; close: () => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-[rgb(0_0_0/0.35)]" />
        <Dialog.Content
          className="card fixed top-[14%] left-1/2 z-50 w-[36rem] max-w-[94vw] -translate-x-1/2 overflow-hidden p-0"
          aria-describedby={undefined}
        >
          <Dialog.Title className="sr-only">Find anything</Dialog.Title>
          <Search close={close} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Search({ close }: { close: () => void }) {
  const [text, setText] = useState('');
  const [at, setAt] = useState(0);
  const asked = useRested(text.trim());
  const list = useId();
  const navigate = useNavigate();
  const found = useQuery({
    queryKey: ['find', asked],
    queryFn: () => get<{ items: Found[] }>(`/api/find?text=${encodeURIComponent(asked)}`),
    enabled: asked !== '',
    placeholderData: (before) => before,
  });
  const items = asked ? (found.data?.items ?? []) : [];
  const chosen = Math.min(at, items.length - 1);
  const go = (item: Found | undefined) => {
    if (!item) return;
    close();
    void navigate({ to: item.page as never });
  };
  const press = (event: React.KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (by) {
      event.preventDefault();
      setAt(Math.max(0, Math.min(items.length - 1, chosen + by)));
    } else if (event.key === 'Enter') go(items[chosen]);
  };
  return (
    <>
      <input
        // biome-ignore lint/a11y/noAutofocus: the dialog was opened to type here
        autoFocus
        role="combobox"
        aria-expanded={items.length > 0}
        aria-controls={list}
        aria-activedescendant={items.length ? `${list}-${chosen}` : undefined}
        aria-label="Find a project, environment, run or release"
        placeholder="A project, environment, run, release, commit or title"
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
        }}
        onKeyDown={press}
        className="w-full border-b border-line bg-sheet px-5 py-3.5 text-[16px] outline-none"
      />
      <div id={list} role="listbox" aria-label="Found" className="max-h-96 overflow-y-auto py-1">
        {items.map((item, index) => (
          // biome-ignore lint/a11y/useFocusableInteractive: the field keeps the focus and names the option it is on
          // biome-ignore lint/a11y/useKeyWithClickEvents: Enter in the field does the same
          <div
            key={item.page}
            id={`${list}-${index}`}
            role="option"
            aria-selected={index === chosen}
            onClick={() => go(item)}
            className={`flex cursor-pointer items-center gap-2.5 px-5 py-2 ${index === chosen ? 'bg-indigo-wash' : 'hover:bg-faint'}`}
          >
            {item.state ? <Mark state={item.state} /> : <span className="inline-block size-4" />}
            <span className="font-semibold whitespace-nowrap">{item.name}</span>
            <span className="truncate text-second">{item.about}</span>
          </div>
        ))}
      </div>
      {asked && found.data && items.length === 0 ? (
        <p className="px-5 pb-4 text-second">Nothing matches. A number, a name or the beginning of a commit will do.</p>
      ) : null}
      {asked ? null : <p className="px-5 py-3 text-second">↑ ↓ to choose, Enter to go, Esc to leave.</p>}
    </>
  );
}

/** A text once it has not changed for a moment. */
function useRested(text: string): string {
  const [rested, setRested] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setRested(text), restMs);
    return () => clearTimeout(timer);
  }, [text]);
  return rested;
}
