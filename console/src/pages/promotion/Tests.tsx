/** What the test says so far: each figure of each part, and of paths with enough traffic. */
import { percent } from '../../../../src/core/cutover/percent';
import type { Cutover } from '../../../../src/wire/environments/cutover';
import { TableHead } from '../../parts/basics';
import { Chip } from '../../parts/Mark';

const words = {
  errors: 'met an error',
  slow: 'met a slow answer',
  rate: 'errors, against the bound',
  p95: 'slow, against the bound',
  same: 'differ, and must not',
} as const;

export function Tests({ one }: { one: Cutover }) {
  const release = `r${one.deployment.release}`;
  const beside = one.beside ? `r${one.beside.release}` : 'what was there';
  const compared = one.tests.filter(({ figure }) => figure === 'errors' || figure === 'slow' || one.guard !== null);
  return (
    <section className="card px-5 py-3.5" aria-label="The test">
      <h2 className="mb-1 font-semibold">
        Is {release} worse than {beside}?
      </h2>
      <p className="mb-2 text-second">
        Visitors, and requests of those who keep no cookie, are counted in the same seconds on both sides. At the first
        sign the traffic goes back, and {one.environment} is on hold.
        {one.enough ? '' : ' So far there is too little traffic to see twice as many slow answers.'}
      </p>
      {compared.length === 0 ? (
        <p className="text-second">Nothing has been counted yet.</p>
      ) : (
        <table className="w-full text-left">
          <TableHead columns={['', 'Figure', 'Part and path', release, beside, 'What would be seen']} />
          <tbody>
            {compared.map((row) => (
              <tr key={`${row.figure} ${row.part} ${row.path}`} className="border-b border-faint last:border-0">
                <td className="px-4 py-1.5">
                  <Sign row={row} />
                </td>
                <td className="px-4 py-1.5">{words[row.figure]}</td>
                <td className="px-4 py-1.5">
                  {row.part} <span className="code text-second">{row.path}</span>
                </td>
                <td className="px-4 py-1.5">{told(row.now)}</td>
                <td className="px-4 py-1.5 text-second">{told(row.old)}</td>
                <td className="px-4 py-1.5 text-second">{seen(row)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

type Row = Cutover['tests'][number];

const told = ({ units, bad }: Row['now']): string => (units === 0 ? '–' : `${percent(bad / units)} of ${units}`);

function seen({ figure, wouldSee, signAt }: Row): string {
  if (figure === 'rate' || figure === 'p95' || figure === 'same') return '';
  if (signAt !== null) return `${percent(signAt)}, where none was so far`;
  return wouldSee === null ? 'too few to judge alone' : `${wouldSee} times as many, with 99 %`;
}

function Sign({ row }: { row: Row }) {
  if (row.towards >= 1) return <Chip tone="failed">worse</Chip>;
  if (row.towards > 0.5) return <Chip tone="poor">{`${Math.round(row.towards * 100)} % of a sign`}</Chip>;
  return <Chip tone="good">no sign of it</Chip>;
}
