/** What came of copies of requests: nobody has seen those answers. */
import type { Cutover } from '../../../../src/wire/environments/cutover';

export function Mirrored({ one }: { one: Cutover }) {
  const { mirrored } = one;
  if (!mirrored) return null;
  const ms = (value: number | null) => (value === null ? '–' : `${Math.round(value)} ms`);
  const rows: [string, string][] = [
    ['answers compared', String(mirrored.compared)],
    ['differ by status', String(mirrored.status)],
    ['by kind', String(mirrored.kind)],
    ['by length', String(mirrored.length)],
    ...(mirrored.same
      ? [['must be equal, and differ', `${mirrored.differ} of ${mirrored.same}`] as [string, string]]
      : []),
    ['errors, beside those of the originals', `${mirrored.nowErrors} · ${mirrored.oldErrors}`],
    ['p95, beside the originals', `${ms(mirrored.nowP95)} · ${ms(mirrored.oldP95)}`],
    ['left out, to harm nobody', String(mirrored.dropped)],
  ];
  return (
    <section className="card mb-3.5 px-5 py-3.5" aria-label="The mirror">
      <h2 className="mb-2 font-semibold">Copies of requests, whose answers nobody has seen</h2>
      <dl className="grid grid-cols-2 gap-x-6 gap-y-1 sm:grid-cols-4">
        {rows.map(([name, value]) => (
          <div key={name}>
            <dt className="text-[13px] text-second">{name}</dt>
            <dd className="font-semibold">{value}</dd>
          </div>
        ))}
      </dl>
    </section>
  );
}
