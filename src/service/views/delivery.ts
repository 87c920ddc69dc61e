/** How delivery goes, as the API gives it: as one answer, and as tables. */
import { measures } from '../../core/delivery/definitions.js';
import { deliveryOver, lastWeeks, slowest, weeksOf, workOver } from '../../core/delivery/report.js';
import { countingIsBehind, deliveryDays, flakiest, taskDaysOf } from '../../records/delivery/reading.js';
import type { Db } from '../../records/database.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Delivery, deliveryTables, Lengths } from '../../wire/delivery.js';

const usualWeeks = 12;
const mostTasks = 20;
const mostFlaky = 30;

export async function deliveryView(
  db: Db,
  now: number,
  { project, weeks: count = usualWeeks }: { project: ProjectRow | null; weeks?: number | undefined },
): Promise<Delivery> {
  const weeks = lastWeeks(now, count);
  const from = weeks[0] as string;
  const of = project?.id ?? null;
  const [days, work, flaky, behind] = await Promise.all([
    deliveryDays(db, from, of),
    taskDaysOf(db, from, of),
    flakiest(db, from, of, mostFlaky),
    countingIsBehind(db),
  ]);
  const names = [...new Set([...days, ...work].map((row) => row.project))].sort();
  const projects = names.map((name) => {
    const own = <Row extends { project: string }>(rows: readonly Row[]) => rows.filter((row) => row.project === name);
    return { project: name, own: weeksOf({ delivery: own(days), tasks: own(work) }, weeks) };
  });
  const all = projects.map(({ own }) => own);
  return {
    project: project?.name ?? null,
    weeks,
    at: new Date(now).toISOString(),
    behind,
    definitions: measures,
    delivery: deliveryOver(all, weeks),
    work: workOver(all, weeks),
    projects: projects.map(({ project: name, own }) => ({
      project: name,
      delivery: deliveryOver([own], weeks),
      work: workOver([own], weeks).all,
    })),
    tasks: projects
      .flatMap(({ project: name, own }) => slowest(own, weeks, mostTasks).map((one) => ({ project: name, ...one })))
      .sort((a, b) => b.tookMs - a.tookMs)
      .slice(0, mostTasks),
    flaky,
  };
}

/** Rows of a table, with their head: text and numbers; milliseconds where a name ends so. */
export function deliveryTable(one: Delivery, of: (typeof deliveryTables)[number]): (string | number | null)[][] {
  const halves = (name: string) => [`${name}_half_ms`, `${name}_nine_of_ten_ms`];
  const both = ({ half, nineOfTen }: Lengths) => [half, nineOfTen];
  const ways = ['lead', 'pushed', 'built', 'waited', 'brought', 'restored'] as const;
  switch (of) {
    case 'delivery':
      return [
        ['project', 'week', 'deployments', 'seen', 'failed', 'failed_unseen', ...ways.flatMap(halves)],
        ...one.projects.flatMap(({ project, delivery }) =>
          delivery.weeks.map((week, at) => [
            project,
            one.weeks[at] ?? '',
            week.deployments,
            week.seen,
            week.failed,
            week.unseen,
            ...ways.flatMap((way) => both(week[way])),
          ]),
        ),
      ];
    case 'tasks':
      return [
        [
          'project',
          'task',
          'ran',
          'failed',
          'flaky',
          'took_half_ms',
          'took_nine_of_ten_ms',
          'took_all_ms',
          'trend',
          ...one.weeks.map((week) => `half_ms_${week}`),
        ],
        ...one.tasks.map((task) => [
          task.project,
          task.task,
          task.ran,
          task.failed,
          task.flaky,
          task.took.half,
          task.took.nineOfTen,
          Math.round(task.tookMs),
          task.trend,
          ...task.weeks,
        ]),
      ];
    case 'flaky':
      return [
        ['project', 'task', 'test', 'times', 'last'],
        ...one.flaky.map(({ project, task, test, times, last }) => [project, task, test, times, last]),
      ];
    default:
      return of satisfies never;
  }
}

/** RFC 4180. What begins like a formula is made text: tables are opened in programs that would reckon it. */
export const csvOf = (rows: readonly (readonly (string | number | null)[])[]): string =>
  rows
    .map((row) =>
      row
        .map((cell) => {
          if (typeof cell !== 'string') return cell === null ? '' : String(cell);
          const text = /^[=+\-@\t\r]/.test(cell) ? `'${cell}` : cell;
          return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
        })
        .join(','),
    )
    .join('\r\n')
    .concat('\r\n');
