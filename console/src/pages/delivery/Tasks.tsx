/** What takes longest, whether it grows, and which tests can't be trusted. */
import { trendText } from '../../../../src/core/delivery/words';
import type { Delivery } from '../../../../src/wire/delivery';
import { TableHead } from '../../parts/basics';
import { lengthText, WeekBars } from './Weeks';

export function Tasks({ one }: { one: Delivery }) {
  if (one.tasks.length === 0) return null;
  return (
    <section className="card mt-3.5 overflow-x-auto" aria-label="Tasks that take longest">
      <h2 className="px-4 pt-3 text-[15px] font-semibold">What takes longest</h2>
      <p className="px-4 text-second">{one.definitions.tasks}</p>
      <table className="w-full border-collapse text-left">
        <TableHead columns={['Task', 'Ran', 'Failed', 'Half took', 'Nine of ten', 'In all', 'Trend', 'By week']} />
        <tbody>
          {one.tasks.map((task) => (
            <tr key={`${task.project} ${task.task}`} className="border-b border-faint last:border-0">
              <th scope="row" className="px-4 py-1.5 font-normal">
                <span className="font-semibold">{task.task}</span>{' '}
                {one.project === null ? <span className="text-second">{task.project}</span> : null}
              </th>
              <td className="px-4 py-1.5">{task.ran}</td>
              <td className="px-4 py-1.5">{task.failed || ''}</td>
              <td className="px-4 py-1.5 whitespace-nowrap">{lengthText(task.took.half)}</td>
              <td className="px-4 py-1.5 whitespace-nowrap">{lengthText(task.took.nineOfTen)}</td>
              <td className="px-4 py-1.5 whitespace-nowrap">{lengthText(task.tookMs)}</td>
              <td
                className={`px-4 py-1.5 whitespace-nowrap ${(task.trend ?? 1) > 1.2 ? 'text-vermilion' : 'text-second'}`}
              >
                {trendText(task.trend)}
              </td>
              <td className="w-40 px-4 py-1.5">
                <WeekBars
                  small
                  label={`Half of ${task.task} took`}
                  weeks={one.weeks}
                  values={task.weeks}
                  format={lengthText}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

export function Flaky({ one }: { one: Delivery }) {
  if (one.flaky.length === 0) return null;
  return (
    <section className="card mt-3.5 overflow-x-auto" aria-label="Flaky tests">
      <h2 className="px-4 pt-3 text-[15px] font-semibold">Flaky tests</h2>
      <p className="px-4 text-second">{one.definitions.flaky}</p>
      <table className="w-full border-collapse text-left">
        <TableHead columns={['Test', 'Task', 'Times', 'Last']} />
        <tbody>
          {one.flaky.map((test) => (
            <tr key={`${test.project} ${test.task} ${test.test}`} className="border-b border-faint last:border-0">
              <th scope="row" className="px-4 py-1.5 font-normal break-words">
                {test.test}
              </th>
              <td className="px-4 py-1.5 whitespace-nowrap">
                {test.task} {one.project === null ? <span className="text-second">{test.project}</span> : null}
              </td>
              <td className="px-4 py-1.5">{test.times}</td>
              <td className="px-4 py-1.5 whitespace-nowrap">{test.last}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
