/** Marks of state, 16 px: each has its own shape, so that colour is never alone. */
const shapes: Record<string, { colour: string; draw: (share: number) => React.ReactNode }> = {
  waiting: { colour: 'text-stone', draw: () => <circle cx="8" cy="8" r="2.5" fill="currentColor" /> },
  ready: {
    colour: 'text-stone',
    draw: () => <path d="M8 2 14 8 8 14 2 8Z" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  },
  running: {
    colour: 'text-ochre',
    draw: (share) => (
      <>
        <clipPath id={`fill-${Math.round(share * 100)}`}>
          <rect x="0" y={14 - 12 * share} width="16" height="16" />
        </clipPath>
        <path d="M8 2 14 8 8 14 2 8Z" fill="currentColor" clipPath={`url(#fill-${Math.round(share * 100)})`} />
        <path d="M8 2 14 8 8 14 2 8Z" fill="none" stroke="currentColor" strokeWidth="1.6" />
      </>
    ),
  },
  passed: {
    colour: 'text-moss',
    draw: () => (
      <>
        <circle cx="8" cy="8" r="6.5" fill="currentColor" />
        <path
          d="m5 8.2 2.1 2.1L11 6.2"
          fill="none"
          stroke="var(--sheet)"
          strokeWidth="1.7"
          strokeLinecap="round"
          strokeLinejoin="round"
        />
      </>
    ),
  },
  reused: {
    colour: 'text-moss',
    draw: () => (
      <>
        <circle cx="8" cy="8" r="6" fill="none" stroke="currentColor" strokeWidth="1.6" />
        <path
          d="m5.2 8.2 2 2 3.6-4"
          fill="none"
          stroke="currentColor"
          strokeWidth="1.6"
          strokeLinecap="round"
          strokeLinejoin="round"
        />
      </>
    ),
  },
  failed: {
    colour: 'text-vermilion',
    draw: () => (
      <>
        <path d="M8 1 15 8 8 15 1 8Z" fill="currentColor" />
        <path d="m5.8 5.8 4.4 4.4m0-4.4-4.4 4.4" stroke="var(--sheet)" strokeWidth="1.6" strokeLinecap="round" />
      </>
    ),
  },
  skipped: {
    colour: 'text-stone',
    draw: () => <path d="M4 8h8" stroke="currentColor" strokeWidth="2" strokeLinecap="round" />,
  },
  stopped: {
    colour: 'text-stone',
    draw: () => <rect x="3.5" y="3.5" width="9" height="9" rx="1" fill="currentColor" />,
  },
  superseded: {
    colour: 'text-stone',
    draw: () => <path d="M4 6h8M4 10h8" stroke="currentColor" strokeWidth="2" strokeLinecap="round" />,
  },
  lost: {
    colour: 'text-stone',
    draw: () => <path d="M2 8h4m4 0h4" stroke="currentColor" strokeWidth="2" strokeLinecap="round" />,
  },
  /** Some of it is well: a disc of which a part is missing. */
  poor: {
    colour: 'text-ochre',
    draw: () => (
      <>
        <circle cx="8" cy="8" r="6" fill="none" stroke="currentColor" strokeWidth="1.6" strokeDasharray="2.4 2.2" />
        <path d="M8 8V2a6 6 0 0 1 0 12Z" fill="currentColor" />
      </>
    ),
  },
  asleep: {
    colour: 'text-stone',
    draw: () => (
      <path
        d="M11 11.5A5.5 5.5 0 0 1 7 2.6a5.5 5.5 0 1 0 6 6.9 5.4 5.4 0 0 1-2 2Z"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.5"
        strokeLinejoin="round"
      />
    ),
  },
};

/** States of deployments and instances in the marks of the others. */
const like: Record<string, string> = {
  queued: 'waiting',
  preparing: 'running',
  starting: 'running',
  cutover: 'running',
  verifying: 'running',
  live: 'passed',
  good: 'passed',
  met: 'passed',
  'not met': 'failed',
  waits: 'running',
  needs: 'ready',
  replaced: 'superseded',
  reverted: 'stopped',
  ended: 'skipped',
  down: 'failed',
  empty: 'waiting',
  frozen: 'asleep',
  closing: 'running',
  waking: 'running',
  'falling asleep': 'asleep',
  closed: 'skipped',
};

/** @param share how much of the expected time has passed, 0 to 1 */
export function Mark({ state, share = 0.5, label = true }: { state: string; share?: number; label?: boolean }) {
  const shape = shapes[state] ?? shapes[like[state] ?? 'waiting'];
  return (
    <svg
      viewBox="0 0 16 16"
      width="16"
      height="16"
      className={`inline-block flex-none ${shape?.colour}`}
      {...(label ? { role: 'img', 'aria-label': state } : { 'aria-hidden': true })}
    >
      {shape?.draw(Math.min(1, Math.max(0, share)))}
    </svg>
  );
}

const washes: Record<string, string> = {
  good: 'bg-moss-wash text-moss',
  passed: 'bg-moss-wash text-moss',
  live: 'bg-moss-wash text-moss',
  met: 'bg-moss-wash text-moss',
  failed: 'bg-vermilion-wash text-vermilion',
  down: 'bg-vermilion-wash text-vermilion',
  lost: 'bg-vermilion-wash text-vermilion',
  poor: 'bg-ochre-wash text-ochre',
  running: 'bg-ochre-wash text-ochre',
  held: 'bg-ochre-wash text-ochre',
  moving: 'bg-ochre-wash text-ochre',
  reverted: 'bg-ochre-wash text-ochre',
  waits: 'bg-indigo-wash text-indigo',
};

/** A short word on a wash. */
export function Chip({ tone, children }: { tone: string; children: React.ReactNode }) {
  return (
    <span
      className={`inline-block rounded px-1.5 py-px text-[12px] font-medium whitespace-nowrap ${washes[tone] ?? 'bg-faint text-second'}`}
    >
      {children}
    </span>
  );
}
