/** Runs, the newest first; the filter is in the address. */
import type { Search } from '../../data/search';
import { useInfiniteQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { durationText } from '../../../../src/core/durations';
import { runStates } from '../../../../src/core/states';
import type { PageOf } from '../../../../src/wire/parts';
import type { Run } from '../../../../src/wire/runs';
import { get } from '../../data/api';
import { Ago, Button, Empty, Loading, ReleaseLink, short, TableHead, Trouble } from '../../parts/basics';
import { Mark } from '../../parts/Mark';
import { ProjectChoice, Typed } from '../../parts/where';

type Filter = Pick<Search, 'project' | 'state' | 'branch'>;

export function RunsPage(): React.ReactNode {
  const filter = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const query = new URLSearchParams(
    Object.entries(filter).filter(([key, value]) => ['project', 'state', 'branch'].includes(key) && value),
  );
  const runs = useInfiniteQuery({
    queryKey: ['runs', query.toString()],
    queryFn: ({ pageParam }) => get<PageOf<Run>>(`/api/runs?${query}${pageParam ? `&cursor=${pageParam}` : ''}`),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const set = (change: Filter) =>
    navigate({
      to: '/runs',
      search: Object.fromEntries(Object.entries({ ...filter, ...change }).filter(([, value]) => value)) as never,
    });
  const items = runs.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center justify-between gap-3">
        <h1 className="title">Runs{filter.project ? ` of ${filter.project}` : ''}</h1>
        <span className="ml-auto flex flex-wrap gap-1.5">
          <ProjectChoice project={filter.project ?? ''} set={(project) => set({ project })} />
          <Typed key={filter.branch} label="Branch" value={filter.branch ?? ''} set={(branch) => set({ branch })} />
        </span>
        <div className="flex flex-wrap gap-1.5" role="group" aria-label="State">
          {['', ...runStates].map((state) => (
            <Button
              key={state}
              aria-pressed={(filter.state ?? '') === state}
              size="compact"
              kind={(filter.state ?? '') === state ? 'chosen' : 'plain'}
              onClick={() => set({ state })}
            >
              {state || 'all'}
            </Button>
          ))}
        </div>
      </div>
      {runs.error && !runs.data ? <Trouble error={runs.error} /> : null}
      {runs.isPending ? <Loading /> : null}
      {runs.data && items.length === 0 ? (
        <Empty title="No run matches.">Clear the filters, or push a commit.</Empty>
      ) : null}
      {items.length ? (
        <div className="card overflow-x-auto">
          <table className="w-full border-collapse text-left">
            <TableHead columns={['Run', 'Project', 'Branch', 'Commit', 'Release', 'Took', 'When']} />
            <tbody>
              {items.map((run) => (
                <RunRow key={`${run.project} ${run.number}`} run={run} />
              ))}
            </tbody>
          </table>
        </div>
      ) : null}
      {runs.hasNextPage ? (
        <Button className="mt-4" onClick={() => runs.fetchNextPage()}>
          Show older
        </Button>
      ) : null}
    </>
  );
}

function RunRow({ run }: { run: Run }) {
  return (
    <tr className="border-b border-faint last:border-0 hover:bg-faint">
      <td className="px-4 py-2 whitespace-nowrap">
        <span className="flex items-center gap-2">
          <Mark state={run.state} />
          <Link
            data-row
            to="/$project/runs/$number"
            params={{ project: run.project, number: String(run.number) }}
            className="font-semibold no-underline hover:underline"
          >
            run {run.number}
          </Link>
        </span>
      </td>
      <td className="px-4 py-2">{run.project}</td>
      <td className="max-w-44 truncate px-4 py-2">{run.pullRequest ? `pr-${run.pullRequest}` : run.branch}</td>
      <td className="max-w-md truncate px-4 py-2">
        <span className="code text-second">{short(run.commit.id)}</span> {run.commit.title}
        {run.issue && run.state === 'failed' ? (
          <span className="block truncate text-vermilion">{run.issue.says}</span>
        ) : null}
      </td>
      <td className="code px-4 py-2">
        {run.release ? <ReleaseLink project={run.project} number={run.release} /> : ''}
      </td>
      <td className="px-4 py-2 whitespace-nowrap text-second">
        {run.endedAt ? durationText(Date.parse(run.endedAt) - Date.parse(run.createdAt)) : run.state}
      </td>
      <td className="px-4 py-2 text-second">
        <Ago at={run.createdAt} />
      </td>
    </tr>
  );
}
