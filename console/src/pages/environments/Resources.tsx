/** What an environment has of its own: state, size, backups, logins, and the rows in it. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { durationSource } from '../../../../src/core/durations';
import { atLeast } from '../../../../src/core/states';
import type { Me } from '../../../../src/wire/people';
import type { PageOf } from '../../../../src/wire/parts';
import type { OpenedLogin, Resource, ResourceDetail } from '../../../../src/wire/environments/resources';
import { get, paths, post } from '../../data/api';
import { Ago, Button, Empty, Loading, Trouble } from '../../parts/basics';
import { Chip } from '../../parts/Mark';
import { Backups } from './Backups';
import { CopiesCard, Origin, Snapshots } from './Copies';
import { Fill, Notices } from './Fill';
import { RemoveIt } from './RemoveResource';
import { Tables } from './Tables';

export function Resources({ project, environment }: { project: string; environment: string }) {
  const path = `${paths.environment(project, environment)}/resources`;
  const all = useQuery({
    queryKey: ['resources', project, environment],
    queryFn: () => get<PageOf<Resource>>(path),
  });
  if (all.error && !all.data) return <Trouble error={all.error} />;
  if (!all.data) return <Loading />;
  if (all.data.items.length === 0)
    return (
      <Empty title="It has nothing of its own.">
        <code>resources</code> of a release declares a database or a volume; it is made with the next deployment.
      </Empty>
    );
  return (
    <div className="flex flex-col gap-3.5">
      <CopiesCard project={project} environment={environment} />
      {all.data.items.map((one) => (
        <One key={one.name} project={project} environment={environment} name={one.name} />
      ))}
    </div>
  );
}

/** Milliseconds between two looks at how full a volume is. */
const fillMs = 15_000;

function One({ project, environment, name }: { project: string; environment: string; name: string }) {
  const path = `${paths.environment(project, environment)}/resources/${encodeURIComponent(name)}`;
  const client = useQueryClient();
  const key = ['resource', project, environment, name];
  const detail = useQuery({
    queryKey: key,
    queryFn: () => get<ResourceDetail>(path),
    // How full a volume is changes without an event.
    refetchInterval: ({ state: { data } }) => (data?.volume ? fillMs : false),
  });
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const act = useMutation({
    mutationFn: ({ to, body }: { to: string; body?: unknown }) => post(`${path}/${to}`, body),
    onSettled: () => client.invalidateQueries({ queryKey: key }),
  });
  const [looking, setLooking] = useState(false);
  if (detail.error && !detail.data) return <Trouble error={detail.error} />;
  const one = detail.data;
  if (!one) return <Loading />;
  const may = me.data?.role ? atLeast(me.data.role, 'releaser') : false;
  const ready = one.state === 'ready' && one.place !== 'elsewhere';
  return (
    <section className="card overflow-x-auto" aria-label={name}>
      <header className="flex flex-wrap items-center gap-x-3 gap-y-2 border-b border-faint px-5 py-3">
        <h2 className="text-[15px] font-semibold">{name}</h2>
        <span className="text-second">{one.kind}</span>
        <Chip tone={one.state === 'ready' ? 'good' : one.state === 'failed' ? 'failed' : 'running'}>{one.state}</Chip>
        {one.restoring ? <Chip tone="running">a backup is being restored</Chip> : null}
        {one.place === 'elsewhere' ? <Chip tone="plain">kept elsewhere</Chip> : null}
        {one.used || one.state === 'removed' ? null : <Chip tone="plain">not used by what is live</Chip>}
        <Fill one={one} />
        <span className="text-second">
          {one.connections === null ? '' : `${one.connections} ${one.connections === 1 ? 'session' : 'sessions'}`}
        </span>
        {may && ready ? (
          <span className="ml-auto flex flex-wrap gap-2">
            {one.volume ? null : (
              <Button size="compact" aria-pressed={looking} onClick={() => setLooking(!looking)}>
                {looking ? 'Hide the rows' : 'Look at the rows'}
              </Button>
            )}
            <Button size="compact" disabled={act.isPending} onClick={() => act.mutate({ to: 'backups' })}>
              Back up now
            </Button>
            {one.used && !one.volume ? (
              <Button
                size="compact"
                disabled={act.isPending}
                onClick={() => act.mutate({ to: 'rotate' })}
                title="Its programs get new logins, one after another; then the old ones end."
              >
                New logins
              </Button>
            ) : null}
            <RemoveIt path={path} one={one} />
          </span>
        ) : null}
      </header>
      <Notices one={one} />
      <Origin of={one.origin} />
      {one.issue ? (
        <p className="border-b border-faint bg-vermilion-wash px-5 py-2">
          <span className="text-vermilion">{one.issue.says}</span> <span className="text-second">{one.issue.next}</span>
        </p>
      ) : null}
      {act.error ? (
        <div className="px-5 py-3">
          <Trouble error={act.error} />
        </div>
      ) : null}
      {looking && ready ? <Tables path={path} /> : null}
      <div className={`grid gap-x-8 *:min-w-0 ${one.volume ? '' : 'lg:grid-cols-[3fr_2fr]'}`}>
        <Backups
          one={one}
          may={may && ready}
          busy={act.isPending || one.restoring}
          restore={(body) => act.mutate({ to: 'restore', body })}
        />
        {one.volume ? null : <Logins one={one} path={path} may={may && ready} />}
      </div>
      {one.snapshots.length ? (
        <Snapshots one={one} may={may && ready} copy={() => act.mutate({ to: 'snapshots' })} />
      ) : null}
      {one.plan.backup ? (
        <p className="border-t border-faint px-5 py-2 text-second">
          Backed up every {durationSource(one.plan.backup.everyMs)}, {one.plan.backup.keep} of these are kept
          {one.plan.backup.tryMs ? `, and the newest is tried every ${durationSource(one.plan.backup.tryMs)}` : ''}.
        </p>
      ) : null}
    </section>
  );
}

const whose = { parts: 'its programs', prepare: 'prepare', person: 'a person' };

function Logins({ one, path, may }: { one: ResourceDetail; path: string; may: boolean }) {
  const client = useQueryClient();
  const open = useMutation({
    mutationFn: () => post<OpenedLogin>(`${path}/logins`),
    onSuccess: () => client.invalidateQueries({ queryKey: ['resource'] }),
  });
  return (
    <div className="px-5 py-3">
      <div className="mb-1 flex items-center gap-2">
        <h3 className="font-semibold">Logins</h3>
        {may ? (
          <Button
            size="tiny"
            className="ml-auto"
            disabled={open.isPending}
            onClick={() => open.mutate()}
            title="Of your own, for an hour; it is recorded."
          >
            Open one
          </Button>
        ) : null}
      </div>
      {open.error ? <Trouble error={open.error} /> : null}
      {open.data ? (
        <div className="mb-2 rounded-md border border-indigo bg-indigo-wash px-3 py-2">
          <p>
            Yours until {new Date(open.data.until).toLocaleTimeString([], { timeStyle: 'short' })}; shown this once:
          </p>
          <p className="code my-1 break-all select-all">{open.data.url}</p>
          <Button size="tiny" onClick={() => void navigator.clipboard.writeText(open.data.url)}>
            Copy
          </Button>
        </div>
      ) : null}
      {one.logins.length === 0 ? <p className="text-second">Nobody has one.</p> : null}
      {one.logins.map((item) => (
        <div
          key={item.id}
          className="flex flex-wrap items-baseline gap-x-2.5 border-b border-faint py-1.5 last:border-0"
        >
          <span className="font-semibold">{item.who}</span>
          <span className="text-second">{whose[item.usedBy]}</span>
          {item.state === 'ready' ? null : <span className="text-ochre">{item.state}</span>}
          <span className="ml-auto text-second">
            {item.until ? (
              `until ${new Date(item.until).toLocaleTimeString([], { timeStyle: 'short' })}`
            ) : (
              <Ago at={item.createdAt} />
            )}
          </span>
        </div>
      ))}
    </div>
  );
}
