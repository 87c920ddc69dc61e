/** The way of a commit to where nothing comes after, in its parts. */
import type { DeliveryMeasures } from '../../../../src/wire/delivery';
import { lengthText } from './Weeks';

const parts = [
  { of: 'pushed', name: 'until it was pushed', colour: 'stone' },
  { of: 'built', name: 'built and tested', colour: 'indigo' },
  { of: 'waited', name: 'waited for its promotion', colour: 'ochre' },
  { of: 'brought', name: 'brought live', colour: 'moss' },
] as const;

export function Way({ all }: { all: DeliveryMeasures }) {
  const lengths = parts.map((part) => ({ ...part, half: all[part.of].half, most: all[part.of].nineOfTen }));
  const total = lengths.reduce((sum, one) => sum + (one.half ?? 0), 0);
  return (
    <section className="card px-4 py-3" aria-label="The way of a commit">
      <h2 className="mb-2 text-[15px] font-semibold">The way of a commit</h2>
      {total === 0 ? (
        <p className="text-second">No commit has come to its last environment in these weeks.</p>
      ) : (
        <>
          <div className="mb-3 flex h-5 overflow-hidden rounded-sm" aria-hidden="true">
            {lengths.map((one) => (
              <span
                key={one.of}
                style={{ width: `${((one.half ?? 0) / total) * 100}%`, background: `var(--${one.colour})` }}
              />
            ))}
          </div>
          <table className="w-full text-left">
            <thead>
              <tr className="text-second">
                <th scope="col" className="font-medium">
                  Part
                </th>
                <th scope="col" className="pl-3 text-right align-bottom font-medium">
                  Half took at most
                </th>
                <th scope="col" className="pl-3 text-right align-bottom font-medium">
                  Nine of ten
                </th>
              </tr>
            </thead>
            <tbody>
              {lengths.map((one) => (
                <tr key={one.of}>
                  <th scope="row" className="py-0.5 font-normal">
                    <span
                      className="mr-2 inline-block size-2.5 rounded-[2px]"
                      style={{ background: `var(--${one.colour})` }}
                      aria-hidden="true"
                    />
                    {one.name}
                  </th>
                  <td className="pl-3 text-right whitespace-nowrap">{lengthText(one.half)}</td>
                  <td className="pl-3 text-right whitespace-nowrap text-second">{lengthText(one.most)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </section>
  );
}
