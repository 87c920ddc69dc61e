/** A button that asks before it acts: what will happen, and a reason where one is kept. */
import { Dialog } from 'radix-ui';
import { useState } from 'react';
import { Button } from './basics';
import { Text } from './fields';

interface AskProps {
  /** Text of the button. */
  label: string;
  title: string;
  /** What will happen. */
  says: React.ReactNode;
  /** Text of the button that does it. */
  confirm: string;
  /** Label of the field for a reason; left out: none is asked for. */
  reason?: string;
  kind?: 'plain' | 'danger';
  size?: 'normal' | 'small';
  /** The role that it needs. */
  needs?: React.ComponentProps<typeof Button>['needs'];
  busy?: boolean;
  act(reason: string): void;
}

export function Ask({ label, title, says, confirm, reason, kind = 'plain', size, needs, busy, act }: AskProps) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState('');
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button kind={kind} disabled={busy} {...(size ? { size } : {})} {...(needs ? { needs } : {})}>
          {label}
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <Dialog.Content className="card fixed top-24 left-1/2 z-50 w-[min(32rem,calc(100vw-2rem))] -translate-x-1/2 px-6 py-5">
          <Dialog.Title className="mb-2 text-[17px] font-semibold">{title}</Dialog.Title>
          <Dialog.Description className="mb-3 text-second">{says}</Dialog.Description>
          <form
            className="flex flex-col gap-3"
            onSubmit={(event) => {
              event.preventDefault();
              act(text.trim());
              setText('');
              setOpen(false);
            }}
          >
            {reason ? <Text label={reason} value={text} set={setText} maxLength={400} /> : null}
            <span className="flex gap-2">
              <Button type="submit" kind={kind === 'danger' ? 'danger' : 'main'}>
                {confirm}
              </Button>
              <Dialog.Close asChild>
                <Button>Cancel</Button>
              </Dialog.Close>
            </span>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
