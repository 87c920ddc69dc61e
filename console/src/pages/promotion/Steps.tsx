/** The way of the traffic, as a thread with a knot for each step. */
import { percent } from '../../../../src/core/cutover/percent';
import { durationText } from '../../../../src/core/durations';
import type { CutoverStepView } from '../../../../src/wire/environments/rules';

/** `now`: index of the step that it is in; null: it has gone back; left out: it has not begun. */
export function Steps({ steps, now: index }: { steps: readonly CutoverStepView[]; now?: number | null }) {
  const names = ['ready', ...steps.map(({ at, share }) => (at === 'share' ? percent(share) : at))];
  // Where it is, counted with `ready`.
  const now = index === null ? 0 : index === undefined ? -1 : index + 1;
  const last = names.length - 1;
  // Names are as wide as 6rem; the first mark is on the left of its own, the last one on the right.
  const reached = now <= 0 ? '0px' : now >= last ? 'calc(100% - 1rem)' : `calc(2.5rem + (100% - 6rem) * ${now / last})`;
  return (
    <section className="card mb-3.5 px-8 py-5" aria-label="Steps">
      <ol className="relative flex justify-between">
        <span className="absolute top-[7px] right-2 left-2 h-[3px] rounded bg-line" aria-hidden />
        <span className="absolute top-[7px] left-2 h-[3px] rounded bg-indigo" style={{ width: reached }} aria-hidden />
        {names.map((name, at) => {
          const ms = steps[at - 1]?.ms ?? null;
          const here = at === now && index !== null;
          return (
            <li
              key={at}
              className={`relative flex w-24 flex-col ${at === 0 ? 'items-start' : at === names.length - 1 ? 'items-end' : 'items-center'}`}
            >
              <svg viewBox="0 0 16 16" width="16" height="16" aria-hidden className="bg-sheet">
                {here ? (
                  <path d="M8 1 15 8 8 15 1 8Z" className="fill-ochre" />
                ) : at < now ? (
                  <circle cx="8" cy="8" r="6" className="fill-moss" />
                ) : (
                  <circle cx="8" cy="8" r="5.5" className="fill-sheet stroke-stone" strokeWidth="1.6" />
                )}
              </svg>
              <span
                className={here ? 'font-semibold' : at > now ? 'text-second' : ''}
                aria-current={here ? 'step' : undefined}
              >
                {name}
              </span>
              <span className="text-[13px] text-second">{ms === null ? '' : durationText(ms)}</span>
            </li>
          );
        })}
      </ol>
    </section>
  );
}
