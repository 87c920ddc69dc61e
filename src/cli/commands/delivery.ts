/** metrics without an environment: how delivery goes. */
import { pipeline } from 'node:stream/promises';
import { CodedError } from '../../core/errors/errors.js';
import { roughText, trendText } from '../../core/delivery/words.js';
import { type Delivery, deliveryTables, type Lengths } from '../../wire/delivery.js';
import { download, get } from '../api.js';
import { bold, faint, plain, say, table } from '../print.js';
import { give, type Shared } from './shared.js';

const bars = '▁▂▃▄▅▆▇█';

export interface DeliveryOptions extends Shared {
  weeks?: string;
  csv?: string | true;
}

const usage = (detail: string) => new CodedError('usage', { detail, command: 'metrics' });

export async function showDelivery(options: DeliveryOptions): Promise<void> {
  const weeks = options.weeks ?? '12';
  if (!/^\d{1,2}$/.test(weeks) || Number(weeks) < 1 || Number(weeks) > 53)
    throw usage(`\`${weeks}\` is not a number of weeks from 1 to 53.`);
  const query = new URLSearchParams({ weeks, ...(options.project ? { project: options.project } : {}) });
  if (options.csv !== undefined) {
    const of = options.csv === true ? 'delivery' : options.csv;
    if (!deliveryTables.some((name) => name === of))
      throw usage(`\`--csv\` is ${deliveryTables.join(', ')}, not \`${of}\`.`);
    query.set('of', of);
    await pipeline(await download(`/api/delivery/csv?${query}`), process.stdout, { end: false });
    return;
  }
  give(options, await get<Delivery>(`/api/delivery?${query}`), show);
}

const length = (ms: number | null): string => (ms === null ? '' : roughText(ms));
const half = ({ half: one }: Lengths) => length(one);
const percent = (share: number | null) => (share === null ? '' : `${Math.round(share * 100)} %`);

function line(values: readonly (number | null)[]): string {
  const top = Math.max(...values.map((one) => one ?? 0), 0);
  return values
    .map((one) => (one === null || top === 0 ? '·' : bars[Math.min(7, Math.floor((one / top) * 7.99))]))
    .join('');
}

function show(one: Delivery): void {
  const { all, weeks } = one.delivery;
  const count = one.weeks.length;
  say(
    bold(`${one.project ? plain(one.project) : 'All projects'}, the last ${count} ${count === 1 ? 'week' : 'weeks'}`),
  );
  say(
    table(
      ['MEASURE', 'ALL', 'NINE OF TEN', 'BY WEEK'],
      [
        [
          'deployments',
          `${all.deployments}, ${(all.deployments / count).toFixed(1)} a week`,
          '',
          line(weeks.map((week) => week.deployments)),
        ],
        ['lead time', half(all.lead), length(all.lead.nineOfTen), line(weeks.map((week) => week.lead.half))],
        ['  until pushed', half(all.pushed), length(all.pushed.nineOfTen), ''],
        ['  built and tested', half(all.built), length(all.built.nineOfTen), ''],
        ['  waited for', half(all.waited), length(all.waited.nineOfTen), ''],
        ['  brought live', half(all.brought), length(all.brought.nineOfTen), ''],
        [
          'failed',
          all.seen ? `${percent(all.failedShare)} (${all.failed} of ${all.seen})` : '',
          all.unseen ? `${all.unseen} more unseen` : '',
          line(weeks.map((week) => week.failedShare)),
        ],
        [
          'time to restore',
          half(all.restored),
          length(all.restored.nineOfTen),
          line(weeks.map((week) => week.restored.half)),
        ],
        [
          'reused',
          one.work.all.reusedShare === null ? '' : `${percent(one.work.all.reusedShare)} of tasks`,
          `saved ${length(one.work.all.savedMs)}`,
          line(one.work.weeks.map((week) => week.reusedShare)),
        ],
        [
          'waiting for agents',
          half(one.work.all.waited),
          length(one.work.all.waited.nineOfTen),
          line(one.work.weeks.map((week) => week.waited.half)),
        ],
      ],
    ),
  );
  if (one.tasks.length) {
    say('', 'What takes longest');
    say(
      table(
        ['TASK', 'RAN', 'HALF', 'NINE OF TEN', 'IN ALL', 'TREND', 'BY WEEK'],
        one.tasks
          .slice(0, 10)
          .map((task) => [
            `${plain(task.project)} ${plain(task.task)}`,
            String(task.ran),
            half(task.took),
            length(task.took.nineOfTen),
            length(task.tookMs),
            trendText(task.trend),
            line(task.weeks),
          ]),
      ),
    );
  }
  if (one.flaky.length) {
    say('', 'Tests that failed and passed with the same bytes');
    say(
      table(
        ['TEST', 'TASK', 'TIMES', 'LAST'],
        one.flaky
          .slice(0, 10)
          .map((test) => [
            plain(test.test),
            `${plain(test.project)} ${plain(test.task)}`,
            String(test.times),
            test.last,
          ]),
      ),
    );
  }
  if (one.behind) say('', faint('Some runs are still to be counted.'));
  say('', faint('`--json` has what each measure counts, in words; `--csv` gives the weeks as a table.'));
}
