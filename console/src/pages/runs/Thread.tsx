/** The thread of a project: knots on a line, one for each place a commit comes through. */
export type KnotState = 'live' | 'empty' | 'moving';

function Knot({ state }: { state: KnotState }) {
  const filled = state === 'live' ? 'var(--indigo)' : 'var(--sheet)';
  return (
    <svg viewBox="0 0 44 28" width="44" height="28" aria-hidden="true" className="block flex-none text-indigo">
      <path
        d="M0 18 H13 C21 18 27.5 13 27.5 8.2 C27.5 5 25 3.4 22.4 3.4 C18.6 3.4 16.6 7 16.6 12 C16.6 18 18.6 24.6 23 24.6 C27 24.6 29 21.6 28.4 18.6 C28 16.4 30 18 34 18 H44"
        fill="none"
        stroke="currentColor"
        strokeWidth="2.6"
        strokeLinecap="butt"
      />
      <circle
        cx="22.6"
        cy="17.6"
        r="2.9"
        fill={filled}
        stroke="currentColor"
        strokeWidth="1.6"
        strokeDasharray={state === 'moving' ? '2 2' : undefined}
      />
    </svg>
  );
}

export interface ThreadPlace {
  key: string;
  knot: KnotState;
  content: React.ReactNode;
  /** What stands on the thread on the way to the next place. */
  between?: React.ReactNode;
}

/** Lies on its side from 768 px, stands below that. */
export function Thread({ places }: { places: ThreadPlace[] }) {
  return (
    <ol className="flex flex-col md:flex-row">
      {places.map((place, at) => {
        const last = at === places.length - 1;
        return (
          <li key={place.key} className={`flex gap-3 md:block ${last ? 'md:flex-[0.8]' : 'md:flex-1'} md:min-w-0`}>
            <div className="flex w-11 flex-col items-center md:w-auto md:flex-row">
              <Knot state={place.knot} />
              <div
                className={`bg-indigo ${last ? 'hidden md:block md:h-[2.6px] md:w-5' : 'w-[2.6px] flex-1 md:h-[2.6px] md:w-auto'} md:mt-[8px]`}
              />
            </div>
            <div className="flex min-w-0 flex-1 flex-wrap justify-between gap-x-4 gap-y-2 pt-1 pb-5 md:flex-nowrap md:pr-5 md:pb-0">
              <div className="min-w-0">{place.content}</div>
              {place.between ? (
                <div className="flex flex-none flex-row items-center gap-2 md:-mt-2 md:flex-col md:items-end">
                  {place.between}
                </div>
              ) : null}
            </div>
          </li>
        );
      })}
    </ol>
  );
}
