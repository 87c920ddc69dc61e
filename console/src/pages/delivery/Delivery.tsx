/** How delivery goes: deployments, the way of a commit, failures, and what is worth mending of the work itself. */
import { useQuery } from '@tanstack/react-query';
import { useNavigate, useSearch } from '@tanstack/react-router';
import type { Delivery, DeliveryMeasures } from '../../../../src/wire/delivery';
import { get } from '../../data/api';
import type { Search } from '../../data/search';
import { Button, Empty, Loading, TableHead, Trouble } from '../../parts/basics';
import { ProjectChoice } from '../../parts/where';
import { Flaky, Tasks } from './Tasks';
import { Way } from './Way';
import { lengthText, shareText, WeekBars, weekText } from './Weeks';

const spans = [4, 12, 26, 52];

export function DeliveryPage(): React.ReactNode {
  const { project = '', weeks = 12 } = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const query = new URLSearchParams({ weeks: String(weeks), ...(project ? { project } : {}) });
  const page = useQuery({
    queryKey: ['delivery', query.toString()],
    queryFn: () => get<Delivery>(`/api/delivery?${query}`),
    // It is counted a few times a minute.
    refetchInterval: 60_000,
  });
  const set = (change: Search) =>
    navigate({
      to: '/delivery',
      search: Object.fromEntries(Object.entries({ project, weeks, ...change }).filter(([, value]) => value)) as never,
    });
  const one = page.data;
  const empty = one && one.delivery.all.deployments === 0 && one.work.all.ran + one.work.all.reused === 0;
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-3">
        <h1 className="title">Metrics{project ? ` of ${project}` : ''}</h1>
        <span className="ml-auto">
          <ProjectChoice project={project} set={(name) => set({ project: name })} />
        </span>
        <div className="flex gap-1.5" role="group" aria-label="How far back">
          {spans.map((span) => (
            <Button
              key={span}
              size="compact"
              kind={weeks === span ? 'chosen' : 'plain'}
              aria-pressed={weeks === span}
              onClick={() => set({ weeks: span })}
            >
              {span} weeks
            </Button>
          ))}
        </div>
      </div>
      {page.error && !one ? <Trouble error={page.error} /> : null}
      {page.isPending ? <Loading /> : null}
      {empty ? (
        <Empty title="Nothing has been counted in these weeks.">
          Runs and deployments are counted when they have ended.
        </Empty>
      ) : null}
      {one && !empty ? <Whole one={one} query={query} /> : null}
    </>
  );
}

function Whole({ one, query }: { one: Delivery; query: URLSearchParams }) {
  const { all, weeks } = one.delivery;
  const count = one.weeks.length;
  const bars = (
    label: string,
    of: (week: DeliveryMeasures) => number | null,
    format: (value: number | null) => string,
  ) => ({ label, weeks: one.weeks, values: weeks.map(of), format });
  return (
    <>
      <div className="grid gap-3.5 *:min-w-0 sm:grid-cols-2 xl:grid-cols-4">
        <Tile
          name="Deployments"
          value={`${(all.deployments / count).toFixed(1)} a week`}
          more={`${all.deployments} in ${count} ${count === 1 ? 'week' : 'weeks'}`}
          counts={one.definitions.deployments}
        >
          <WeekBars {...bars('Deployments', (week) => week.deployments, String)} />
        </Tile>
        <Tile
          name="Lead time"
          value={lengthText(all.lead.half)}
          more={`nine of ten ${lengthText(all.lead.nineOfTen)}, of ${all.lead.count} commits`}
          counts={one.definitions.lead}
        >
          <WeekBars {...bars('Lead time', (week) => week.lead.half, lengthText)} />
        </Tile>
        <Tile
          name="Changes that failed"
          value={shareText(all.failedShare)}
          more={`${all.failed} of ${all.seen}${all.unseen ? `, and ${all.unseen} that nobody saw` : ''}`}
          counts={one.definitions.failed}
        >
          <WeekBars {...bars('Changes that failed', (week) => week.failedShare, shareText)} colour="vermilion" />
        </Tile>
        <Tile
          name="Time to restore"
          value={lengthText(all.restored.half)}
          more={
            all.restored.count
              ? `nine of ten ${lengthText(all.restored.nineOfTen)}, of ${all.restored.count}`
              : 'nothing was to be restored'
          }
          counts={one.definitions.restored}
        >
          <WeekBars {...bars('Time to restore', (week) => week.restored.half, lengthText)} colour="ochre" />
        </Tile>
      </div>
      <div className="mt-3.5 grid items-start gap-3.5 *:min-w-0 xl:grid-cols-2">
        <Way all={all} />
        <Projects one={one} />
      </div>
      <div className="mt-3.5 grid gap-3.5 *:min-w-0 sm:grid-cols-2">
        <Tile
          name="Reused"
          value={`${shareText(one.work.all.reusedShare)} of tasks`}
          more={`${one.work.all.reused} tasks; that saved ${lengthText(one.work.all.savedMs)} of work`}
          counts={one.definitions.reuse}
        >
          <WeekBars
            label="Reused"
            weeks={one.weeks}
            values={one.work.weeks.map((week) => week.reusedShare)}
            format={shareText}
            colour="moss"
          />
        </Tile>
        <Tile
          name="Waiting for agents"
          value={lengthText(one.work.all.waited.half)}
          more={`nine of ten ${lengthText(one.work.all.waited.nineOfTen)}, of ${one.work.all.waited.count} attempts`}
          counts={one.definitions.waiting}
        >
          <WeekBars
            label="Waiting for agents"
            weeks={one.weeks}
            values={one.work.weeks.map((week) => week.waited.nineOfTen)}
            format={lengthText}
          />
        </Tile>
      </div>
      <Tasks one={one} />
      <Flaky one={one} />
      <p className="mt-4 text-second">
        From Monday, {weekText(one.weeks[0] ?? '')}; weeks and days are those of UTC, the last week is not over. Lengths
        are known to within 5 %.{one.behind ? ' Some runs are still to be counted.' : ''} As tables:{' '}
        {(['delivery', 'tasks', 'flaky'] as const).map((of, at) => (
          <span key={of}>
            {at > 0 ? ' · ' : ''}
            <a className="underline" href={`/api/delivery/csv?${query}&of=${of}`} download={`${of}.csv`}>
              {of}.csv
            </a>
          </span>
        ))}
      </p>
    </>
  );
}

/** `counts`: what the figure counts, in words. */
function Tile({
  name,
  value,
  more,
  counts = '',
  children,
}: {
  name: string;
  value: string;
  more: string;
  counts?: string | undefined;
  children: React.ReactNode;
}) {
  return (
    <section className="card flex flex-col px-4 py-3" aria-label={name}>
      <h2 className="text-second">{name}</h2>
      <p className="text-[22px] leading-tight font-semibold">{value}</p>
      <p className="mb-2 text-second">{more}</p>
      {children}
      <details className="mt-2 text-[13px] text-second">
        <summary className="cursor-pointer">What it counts</summary>
        <p className="mt-1">{counts}</p>
      </details>
    </section>
  );
}

function Projects({ one }: { one: Delivery }) {
  const count = one.weeks.length;
  return (
    <section className="card overflow-x-auto" aria-label="By project">
      <table className="w-full border-collapse text-left">
        <TableHead columns={['Project', 'Deployments', 'Lead time', 'Failed', 'Restored in', 'Reused']} />
        <tbody>
          {one.projects.map(({ project, delivery: { all }, work }) => (
            <tr key={project} className="border-b border-faint last:border-0">
              <th scope="row" className="px-4 py-2 font-semibold">
                {project}
              </th>
              <td className="px-4 py-2 whitespace-nowrap">{(all.deployments / count).toFixed(1)} a week</td>
              <td className="px-4 py-2 whitespace-nowrap">{lengthText(all.lead.half)}</td>
              <td className="px-4 py-2 whitespace-nowrap">{shareText(all.failedShare)}</td>
              <td className="px-4 py-2 whitespace-nowrap">{lengthText(all.restored.half)}</td>
              <td className="px-4 py-2 whitespace-nowrap">{shareText(work.reusedShare)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
