/** When nothing is taken: five weeks, a row each, by the clocks of whoever looks. */
import type { EnvironmentRules } from '../../../../src/wire/environments/rules';
import { when } from './Rules';

const dayMs = 86_400_000;
const weeks = 5;
const names = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'];
/** Midnight of the Monday of this week, and of each day from it. */
function days(now: Date): Date[] {
  const monday = now.getDate() - ((now.getDay() + 6) % 7);
  return Array.from({ length: weeks * 7 }, (_, at) => new Date(now.getFullYear(), now.getMonth(), monday + at));
}

export function Calendar({ rules }: { rules: EnvironmentRules }) {
  const spans = [
    ...rules.calendar,
    ...(rules.freeze
      ? [{ from: new Date().toISOString(), until: rules.freeze.until, text: `${rules.freeze.by}: ${rules.freeze.why}` }]
      : []),
  ];
  const now = new Date();
  const next = spans.find(({ from, until }) => Date.parse(until) > now.getTime() && Date.parse(from) > now.getTime());
  const within = spans.find(
    ({ from, until }) => Date.parse(from) <= now.getTime() && Date.parse(until) > now.getTime(),
  );
  const all = days(now);
  return (
    <section className="card mt-3.5 px-5 py-3.5" aria-label="Frozen hours">
      <h2 className="mb-1 font-semibold">When nothing is taken</h2>
      <p className="mb-2 text-second">
        {within
          ? `Frozen until ${when(within.until)}: ${within.text}.`
          : next
            ? `Next from ${when(next.from)} until ${when(next.until)}.`
            : 'Nothing is frozen in the coming weeks.'}{' '}
        A revert is never held up.
      </p>
      <div className="grid grid-cols-7 gap-px text-[12px] text-second">
        {names.map((name) => (
          <span key={name}>{name}</span>
        ))}
        {all.map((day, at) => (
          <Day
            key={day.getTime()}
            day={day}
            until={all[at + 1] ?? new Date(day.getTime() + dayMs)}
            spans={spans}
            now={now}
          />
        ))}
      </div>
    </section>
  );
}

function Day({
  day,
  until,
  spans,
  now,
}: {
  day: Date;
  until: Date;
  spans: { from: string; until: string; text: string }[];
  now: Date;
}) {
  // A day on which clocks are set is as long as it is.
  const length = until.getTime() - day.getTime();
  const share = (time: number) => Math.min(1, Math.max(0, (time - day.getTime()) / length)) * 100;
  const parts = spans.flatMap((span) => {
    const [from, to] = [share(Date.parse(span.from)), share(Date.parse(span.until))];
    return to > from ? [{ from, to, text: span.text }] : [];
  });
  const today = now >= day && now < until;
  return (
    <div
      className={`relative h-8 overflow-hidden rounded-sm border ${today ? 'border-indigo' : 'border-faint'}`}
      title={parts.map(({ text }) => text).join('; ')}
    >
      <span className={`absolute top-0 left-1 z-10 ${today ? 'font-semibold text-indigo' : ''}`}>{day.getDate()}</span>
      {parts.map((part) => (
        <span
          key={`${part.from} ${part.text}`}
          className="absolute bottom-0 h-3.5 bg-ochre/60"
          style={{ left: `${part.from}%`, width: `${part.to - part.from}%` }}
        />
      ))}
      {today ? (
        <span className="absolute top-0 bottom-0 w-px bg-indigo" style={{ left: `${share(now.getTime())}%` }} />
      ) : null}
    </div>
  );
}
