/** The frame of every page: where one is, who one is, the keys. */
import { Link, Outlet, useNavigate, useRouterState } from '@tanstack/react-router';
import { Dialog } from 'radix-ui';
import { useEffect, useState } from 'react';
import type { Me } from '../../../src/wire/people';
import { useConnected } from '../data/live';
import { Button } from './basics';
import { Find } from './Find';

const pages = [
  { to: '/', name: 'Board', key: 'b' },
  { to: '/runs', name: 'Runs', key: 'r' },
  { to: '/reviews', name: 'Reviews', key: 'v' },
  { to: '/delivery', name: 'Metrics', key: 'm' },
  { to: '/activity', name: 'Activity', key: 't' },
  { to: '/alerts', name: 'Alerts', key: 'a' },
] as const;

export function Frame({ me }: { me: Me }) {
  const connected = useConnected();
  const place = useRouterState({ select: (state) => state.location.pathname });
  const [over, setOver] = useState<'keys' | 'find' | null>(null);
  useKeys(setOver);
  return (
    <>
      <header className="border-b border-line bg-sheet">
        <div className="mx-auto flex min-h-[51px] max-w-[1400px] items-center gap-4 px-4 max-sm:flex-wrap max-sm:gap-y-0 max-sm:pt-2 md:gap-6 md:px-7">
          <Link to="/" className="flex items-center gap-2 text-[16px] font-semibold no-underline">
            <svg viewBox="0 0 32 20" width="28" height="18" aria-hidden="true">
              <path
                d="M1 10c6 0 5-7 10-7s4 14 10 14 4-7 10-7"
                fill="none"
                stroke="var(--indigo)"
                strokeWidth="3"
                strokeLinecap="round"
              />
              <circle cx="16" cy="10" r="3" fill="var(--vermilion)" />
            </svg>
            <span className="hidden sm:inline">tsunagi</span>
            <span className="sr-only sm:hidden">tsunagi</span>
          </Link>
          <nav
            aria-label="Pages"
            className="flex min-w-0 gap-4 overflow-x-auto py-2 whitespace-nowrap max-sm:order-last max-sm:w-full max-sm:justify-between max-sm:gap-2 md:gap-6"
          >
            {pages.map((page) => {
              const here =
                page.to === '/'
                  ? place === '/'
                  : place.startsWith(page.to) || (page.to === '/runs' && place.includes('/runs/'));
              return (
                <Link
                  key={page.to}
                  to={page.to}
                  aria-current={here ? 'page' : undefined}
                  className={`no-underline ${here ? 'font-semibold text-ink' : 'text-second hover:text-ink'}`}
                >
                  {page.name}
                </Link>
              );
            })}
          </nav>
          <div className="ml-auto flex flex-none items-center gap-3">
            <Button onClick={() => setOver('find')} kind="quiet" size="compact" aria-label="Find anything">
              Find <kbd className="code hidden md:inline">/</kbd>
            </Button>
            <Button
              onClick={switchTheme}
              kind="quiet"
              size="compact"
              className="hidden md:block"
              aria-label="Switch between light and dark"
            >
              ◐
            </Button>
            <span className="hidden text-second md:inline">{me.role}</span>
            <Link
              to="/you"
              title={me.name}
              className="grid size-7 place-items-center rounded-full bg-indigo-wash text-[12px] font-semibold text-indigo uppercase no-underline"
            >
              <span aria-hidden="true">{me.name.slice(0, 2)}</span>
              <span className="sr-only">{me.name}: where you are signed in</span>
            </Link>
          </div>
        </div>
      </header>
      {connected ? null : (
        <p role="status" className="bg-ochre-wash px-7 py-1.5 text-center text-ochre">
          The connection is lost; what you see may be old. It is restored automatically.
        </p>
      )}
      <main className="mx-auto max-w-[1400px] px-4 pt-5 pb-16 md:px-7">
        <Outlet />
      </main>
      <Keys open={over === 'keys'} close={() => setOver(null)} />
      <Find open={over === 'find'} close={() => setOver(null)} />
    </>
  );
}

function switchTheme(): void {
  const next = document.documentElement.dataset.theme === 'dark' ? 'light' : 'dark';
  document.documentElement.dataset.theme = next;
  localStorage.setItem('theme', next);
}

const keyList = [
  ['/', 'find anything'],
  ['g b', 'the board'],
  ['g r', 'the runs'],
  ['g v', 'the reviews'],
  ['g m', 'the metrics'],
  ['g t', 'the activity'],
  ['g a', 'the alerts'],
  ['j  k', 'down and up in a list'],
  ['?', 'this list'],
];

function Keys({ open, close }: { open: boolean; close: () => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-[rgb(0_0_0/0.35)]" />
        <Dialog.Content
          className="card fixed top-1/4 left-1/2 z-50 w-80 -translate-x-1/2 p-6"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-3 text-[17px] font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[4rem_1fr] gap-y-1.5">
            {keyList.map(([key, what]) => (
              <div key={key} className="contents">
                <dt className="code font-semibold">{key}</dt>
                <dd className="text-second">{what}</dd>
              </div>
            ))}
          </dl>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** `/`, `g b`, `g r`, `?`, and `j`/`k` over whatever is marked as a row of a list. */
function useKeys(show: (what: 'keys' | 'find') => void): void {
  const navigate = useNavigate();
  useEffect(() => {
    let before = '';
    const press = (event: KeyboardEvent) => {
      const field = (event.target as HTMLElement).closest('input, textarea, select, [contenteditable]');
      if (field || event.ctrlKey || event.metaKey || event.altKey) return;
      const page = before === 'g' ? pages.find((one) => one.key === event.key) : undefined;
      if (page) void navigate({ to: page.to });
      else if (event.key === '?') show('keys');
      else if (event.key === '/') {
        // The field that opens is not to get the stroke itself.
        event.preventDefault();
        show('find');
      } else if (event.key === 'j' || event.key === 'k') moveFocus(event.key === 'j' ? 1 : -1);
      before = event.key;
    };
    addEventListener('keydown', press);
    return () => removeEventListener('keydown', press);
  }, [navigate, show]);
}

function moveFocus(by: number): void {
  const rows = [...document.querySelectorAll<HTMLElement>('[data-row]')];
  const at = rows.indexOf(document.activeElement as HTMLElement);
  rows[Math.min(rows.length - 1, Math.max(0, at + by))]?.focus();
}
