/** Who did what, and when: the newest first; the filter is in the address. */
import { useInfiniteQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearch } from '@tanstack/react-router';
import { activityGroupNames, activityGroups, activityText, ownActors } from '../../../../src/core/activity';
import type { Event } from '../../../../src/wire/overview';
import type { PageOf } from '../../../../src/wire/parts';
import { get } from '../../data/api';
import type { Search } from '../../data/search';
import { Ago, Button, Empty, Loading, Trouble } from '../../parts/basics';
import { ProjectChoice, Typed } from '../../parts/where';

type Filter = Pick<Search, 'project' | 'who' | 'about' | 'all'>;

export function ActivityPage(): React.ReactNode {
  const { project = '', who = '', about = '', all = '' } = useSearch({ strict: false }) as Search;
  const filter: Filter = { project, who, about, all };
  const navigate = useNavigate();
  const query = new URLSearchParams({
    ...(project ? { project } : {}),
    ...(who ? { actor: who } : {}),
    ...(about ? { about } : {}),
    ...(all || who ? {} : { people: 'true' }),
  });
  const page = useInfiniteQuery({
    queryKey: ['activity', query.toString()],
    queryFn: ({ pageParam }) =>
      get<PageOf<Event>>(`/api/events?${query}&limit=50${pageParam ? `&cursor=${pageParam}` : ''}`),
    initialPageParam: '',
    getNextPageParam: (one) => one.next ?? undefined,
  });
  const set = (change: Filter) =>
    navigate({
      to: '/activity',
      search: Object.fromEntries(Object.entries({ ...filter, ...change }).filter(([, value]) => value)) as never,
    });
  const items = page.data?.pages.flatMap((one) => one.items) ?? [];
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-3">
        <h1 className="title">Activity</h1>
        <span className="ml-auto flex flex-wrap gap-1.5">
          <ProjectChoice project={project} set={(name) => set({ project: name })} />
          <Typed key={who} label="Who" value={who} set={(name) => set({ who: name })} />
        </span>
        <div className="flex flex-wrap gap-1.5" role="group" aria-label="About what">
          {['', ...activityGroupNames].map((name) => (
            <Button
              key={name}
              size="compact"
              kind={about === name ? 'chosen' : 'plain'}
              aria-pressed={about === name}
              onClick={() => set({ about: name })}
            >
              {name || 'everything'}
            </Button>
          ))}
        </div>
        <Button
          size="compact"
          kind={all ? 'chosen' : 'plain'}
          aria-pressed={Boolean(all)}
          onClick={() => set({ all: all ? '' : 'yes' })}
        >
          also what happened by itself
        </Button>
      </div>
      {page.error && !page.data ? <Trouble error={page.error} /> : null}
      {page.isPending ? <Loading /> : null}
      {page.data && items.length === 0 ? <Empty title="Nothing matches.">Clear the filters.</Empty> : null}
      {items.length ? (
        <ol className="card divide-y divide-faint" aria-label="What happened">
          {items.map((one) => (
            <Row key={one.sequence} one={one} />
          ))}
        </ol>
      ) : null}
      {page.hasNextPage ? (
        <Button className="mt-4" onClick={() => page.fetchNextPage()}>
          Show older
        </Button>
      ) : null}
    </>
  );
}

function Row({ one }: { one: Event }) {
  const type = one.type.replace(/^dev\.tsunagi\./, '');
  const { actor, ...data } = one.data;
  const name = String(actor ?? '');
  return (
    <li className="flex flex-wrap items-baseline gap-x-3 gap-y-0.5 px-4 py-2">
      <span className="w-24 flex-none text-second">
        <Ago at={one.time} />
      </span>
      <span className="min-w-0 flex-1 break-words">
        {ownActors.includes(name) ? (
          <span className="text-second">{name}</span>
        ) : (
          <Link to="/activity" search={{ who: name } as never} className="font-semibold no-underline hover:underline">
            {name}
          </Link>
        )}{' '}
        {activityText({ type, subject: one.subject, data })}
      </span>
      <Place one={one} />
    </li>
  );
}

/** Where that is, in the console. */
function Place({ one }: { one: Event }) {
  const project = /^\/projects\/(.+)$/.exec(one.source)?.[1];
  if (!project) return null;
  const run = /^run (\d+)$/.exec(one.subject)?.[1];
  const release = /^r(\d+)$/.exec(one.subject)?.[1];
  // A branch is written like an environment.
  const kind = one.type.replace(/^dev\.tsunagi\./, '').split('.')[0] ?? '';
  const ofEnvironment = (activityGroups.environments as readonly string[]).includes(kind);
  const place = String(one.data.environment ?? (ofEnvironment ? one.subject : ''));
  const name = place.startsWith(`${project}/`) ? place.slice(project.length + 1) : '';
  const environment = name.includes('/') ? '' : name;
  const look = 'text-second no-underline hover:underline';
  if (run)
    return (
      <Link to="/$project/runs/$number" params={{ project, number: run }} className={look}>
        {project} {one.subject}
      </Link>
    );
  if (release && !environment)
    return (
      <Link to="/$project/releases/$number" params={{ project, number: release }} className={look}>
        {project} r{release}
      </Link>
    );
  if (environment)
    return (
      <Link to="/$project/$environment" params={{ project, environment }} className={look}>
        {project}/{environment}
      </Link>
    );
  return (
    <Link to="/$project" params={{ project }} className={look}>
      {project}
    </Link>
  );
}
