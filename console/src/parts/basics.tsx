/** Small parts that every page uses. */
import { useQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { Tooltip } from 'radix-ui';
import { durationText } from '../../../src/core/durations';
import { atLeast, type Role } from '../../../src/core/states';
import type { Me } from '../../../src/wire/people';
import { get, Refusal } from '../data/api';
import { useNow } from '../data/live';

export const short = (commit: string): string => commit.slice(0, 7);

export function agoText(iso: string, now: number): string {
  const ms = Math.max(0, now - Date.parse(iso));
  return ms < 3_000
    ? 'now'
    : `${durationText(ms < 60_000 ? Math.round(ms / 1000) * 1000 : ms)
        .replace('.0 s', ' s')
        .replace(/ min \d+ s/, ' min')} ago`;
}

/** A time relative to now, exact on hover. */
export function Ago({ at }: { at: string | null }) {
  const now = useNow(5_000);
  if (!at) return null;
  return (
    <Hint text={new Date(at).toLocaleString()}>
      <time dateTime={at} className="whitespace-nowrap">
        {agoText(at, now)}
      </time>
    </Hint>
  );
}

/** How long something has been so: `live 26 min`. */
export function Since({ at, what }: { at: string | null; what: string }) {
  const now = useNow(5_000);
  if (!at) return null;
  return (
    <Hint text={new Date(at).toLocaleString()}>
      <time dateTime={at} className="whitespace-nowrap">
        {what} {agoText(at, now).replace(' ago', '')}
      </time>
    </Hint>
  );
}

export function Hint({ text, children }: { text: string; children: React.ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={4} className="z-50 max-w-96 rounded bg-ink px-2 py-1 text-[12px] text-paper">
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

const look = {
  main: 'bg-indigo text-on-indigo border-indigo hover:opacity-90',
  plain: 'bg-sheet text-ink border-line hover:bg-faint',
  danger: 'bg-sheet text-vermilion border-line hover:bg-vermilion-wash',
  chosen: 'bg-indigo-wash text-indigo border-line',
  quiet: 'bg-sheet text-second border-line hover:bg-faint',
};

const sizes = {
  normal: 'px-3.5 py-1.5 font-semibold',
  small: 'px-3.5 py-1 font-semibold',
  compact: 'px-2.5 py-1',
  tiny: 'px-2 py-0.5 text-[13px]',
};

/** Whether the person who is signed in has a role, or one above it. Until that is known: yes, the service decides. */
export function useMay(needed: Role | undefined): boolean {
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me'), enabled: needed !== undefined });
  return needed === undefined || !me.data?.role || atLeast(me.data.role, needed);
}

/**
 * `size`: `small` in a row of a form, `compact` where several stand side by side, `tiny` inside a table or a list. `needs`: a person
 * without that role sees it disabled, with the reason.
 */
export function Button({
  kind = 'plain',
  size = 'normal',
  className = '',
  needs,
  ...rest
}: React.ButtonHTMLAttributes<HTMLButtonElement> & {
  kind?: keyof typeof look;
  size?: keyof typeof sizes;
  needs?: Role;
}) {
  const may = useMay(needs);
  return (
    <button
      type="button"
      {...rest}
      {...(may ? {} : { disabled: true, title: `It needs the role ${needs}.` })}
      className={`cursor-pointer rounded-md border whitespace-nowrap disabled:cursor-not-allowed disabled:opacity-50 ${sizes[size]} ${look[kind]} ${className}`}
    />
  );
}

/** What was refused or went wrong, with the next step. */
export function Trouble({ error }: { error: unknown }) {
  const problem = error instanceof Refusal ? error.problem : null;
  return (
    <div role="alert" className="rounded-md border border-vermilion bg-vermilion-wash px-4 py-3">
      <p className="font-semibold text-vermilion">{problem?.detail ?? 'The service cannot be reached.'}</p>
      <p className="text-ink">
        {problem?.next ?? 'It is tried again automatically.'}
        {problem?.code === 'not_found' ? (
          <>
            {' '}
            <Link to="/" className="text-indigo">
              Open the board
            </Link>
          </>
        ) : null}
      </p>
    </div>
  );
}

export function Loading() {
  return <p className="py-16 text-center text-second">Fetching …</p>;
}

export function Empty({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <div className="card mx-auto mt-10 max-w-xl px-8 py-10 text-center">
      <p className="mb-2 text-[17px] font-semibold">{title}</p>
      <div className="text-second">{children}</div>
    </div>
  );
}

/** The head of a table, one word a column. */
export function TableHead({ columns }: { columns: readonly string[] }) {
  return (
    <thead>
      <tr className="border-b border-line text-second">
        {columns.map((column) => (
          <th key={column} scope="col" className="px-4 py-2 font-medium">
            {column}
          </th>
        ))}
      </tr>
    </thead>
  );
}

/** Where a page is: the project, and what leads on from there. */
export function Crumbs({ project, children }: { project: string; children?: React.ReactNode }) {
  return (
    <nav aria-label="Where this is" className="mb-1 text-second">
      <Link to="/$project" params={{ project }} className="no-underline hover:underline">
        {project}
      </Link>
      {children ? <> / {children}</> : null}
    </nav>
  );
}

/** The same on a page of an environment. */
export function EnvironmentCrumbs({ project, environment }: { project: string; environment: string }) {
  return (
    <Crumbs project={project}>
      <Link to="/$project/$environment" params={{ project, environment }} className="no-underline hover:underline">
        {environment}
      </Link>
    </Crumbs>
  );
}

/** A release's number, which leads to its page. */
export function DeploymentLink({ project, number }: { project: string; number: number }) {
  return (
    <Link
      to="/$project/deployments/$number"
      params={{ project, number: String(number) }}
      className="code no-underline hover:underline"
    >
      d{number}
    </Link>
  );
}

export function ReleaseLink({ project, number }: { project: string; number: number }) {
  return (
    <Link
      to="/$project/releases/$number"
      params={{ project, number: String(number) }}
      className="no-underline hover:underline"
    >
      r{number}
    </Link>
  );
}
