/** One environment: what is live, its parts and instances, its history with the way back. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { useState } from 'react';
import type { Deployment, EnvironmentDetail, Instance } from '../../../../src/wire/environments';
import { get, paths, post } from '../../data/api';
import { useLog } from '../../data/log';
import { Crumbs, Ago, Button, Loading, Since, short, Trouble } from '../../parts/basics';
import { Log } from '../runs/Log';
import { Chip, Mark } from '../../parts/Mark';

export function EnvironmentPage(): React.ReactNode {
  const { project, environment } = useParams({ strict: false }) as { project: string; environment: string };
  const path = paths.environment(project, environment);
  const page = useQuery({
    queryKey: ['environment', project, environment],
    queryFn: () => get<EnvironmentDetail>(path),
  });
  const act = useMutation({
    mutationFn: ({ to, body }: { to: string; body?: unknown }) => post(`${path}/${to}`, body),
  });
  const [shown, setShown] = useState<string | null>(null);
  if (page.error && !page.data) return <Trouble error={page.error} />;
  if (!page.data) return <Loading />;
  const one = page.data;
  const instance = one.instanceList.find((item) => item.id === shown) ?? null;
  return (
    <>
      <Crumbs project={project} />
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">
          {environment}
          {one.live ? <> runs r{one.live.release}</> : ' is empty'}
        </h1>
        {one.live || one.serving ? <Chip tone={one.health}>{one.health}</Chip> : null}
        {one.verified ? <Chip tone="good">verified</Chip> : null}
        {one.held ? <Chip tone="held">on hold</Chip> : null}
        <span className="ml-auto flex gap-2">
          {one.held ? (
            <Button onClick={() => act.mutate({ to: 'lift' })}>Lift the hold</Button>
          ) : (
            <Button onClick={() => act.mutate({ to: 'hold' })}>Hold</Button>
          )}
          {one.waits?.allowed ? (
            <Link
              to="/$project/$environment/promote"
              params={{ project, environment }}
              className="rounded-md border border-indigo bg-indigo px-3.5 py-1.5 font-semibold text-on-indigo no-underline"
            >
              Promote r{one.waits.release}
            </Link>
          ) : null}
        </span>
      </div>
      {act.error ? <Trouble error={act.error} /> : null}
      <section className="card mb-3.5 px-5 py-4">
        <p>
          <a href={one.url} target="_blank" rel="noreferrer" className="font-semibold text-indigo">
            {one.url.replace(/^https?:\/\//, '')}
          </a>{' '}
          {one.live ? (
            <span className="text-second">
              <span className="code">{short(one.live.commit.id)}</span> {one.live.commit.title} ·{' '}
              <Since at={one.live.liveAt} what="live" />
            </span>
          ) : null}
        </p>
        {one.held ? (
          <p className="mt-1 text-ochre">
            {one.held.why}: takes nothing new until the hold is lifted; revert still works.
          </p>
        ) : null}
        {one.failed?.failure ? (
          <p className="mt-1 text-vermilion">
            r{one.failed.release} failed: {one.failed.failure.says}{' '}
            <span className="text-second">{one.failed.failure.next}</span>
          </p>
        ) : null}
        {one.moving ? (
          <p className="mt-1 flex items-center gap-2 text-ochre">
            <Mark state="running" /> r{one.moving.release} is on its way: {one.moving.state}
          </p>
        ) : null}
        {one.issue ? (
          <p className="mt-1 text-ochre">
            {one.issue.says} <span className="text-second">{one.issue.next}</span>
          </p>
        ) : null}
        {one.live && one.changes.length ? (
          <p className="mt-1.5 flex flex-wrap items-center gap-2">
            <span className="text-ochre">
              {one.changes.length} {one.changes.length === 1 ? 'change waits' : 'changes wait'}:
            </span>
            <span className="code">{one.changes.join(', ')}</span>
            <Button
              size="small"
              disabled={act.isPending || one.moving !== null}
              onClick={() => act.mutate({ to: 'deployments', body: { kind: 'deploy', release: one.live?.release } })}
              title={`r${one.live.release} is started anew with them, beside what runs now; then the traffic moves.`}
            >
              Deploy r{one.live.release} with these changes
            </Button>
          </p>
        ) : null}
        {one.delays ? <p className="mt-1 text-ochre">{one.delays}</p> : null}
      </section>
      <div className="mb-3.5 grid gap-3.5 *:min-w-0 lg:grid-cols-2">
        <Parts one={one} />
        <Instances
          list={one.instanceList}
          live={(one.serving ?? one.live)?.number ?? null}
          shown={shown}
          show={setShown}
        />
      </div>
      {instance ? (
        <div className="mb-3.5">
          <InstanceLog instance={instance} />
        </div>
      ) : null}
      <History
        one={one}
        busy={act.isPending}
        revert={(release) => act.mutate({ to: 'deployments', body: { kind: 'revert', release } })}
      />
    </>
  );
}

function Parts({ one }: { one: EnvironmentDetail }) {
  return (
    <section className="card h-fit px-5 py-3.5" aria-label="Parts">
      <h2 className="mb-1 font-semibold">Parts</h2>
      {one.parts.length === 0 ? <p className="text-second">Nothing is live here yet.</p> : null}
      {one.parts.map((part) => (
        <div key={part.name} className="flex flex-wrap items-baseline gap-x-3 border-b border-faint py-2 last:border-0">
          <span className="font-semibold">{part.name}</span>
          <span className="text-second">{part.kind}</span>
          <span className="code text-second">{part.at}</span>
          <span className="code ml-auto text-second">{part.digest.slice(7, 19)}</span>
        </div>
      ))}
    </section>
  );
}

function Instances({
  list,
  live,
  shown,
  show,
}: {
  list: Instance[];
  live: number | null;
  shown: string | null;
  show: (id: string | null) => void;
}) {
  return (
    <section className="card h-fit px-5 py-3.5" aria-label="Instances">
      <h2 className="mb-1 font-semibold">Instances</h2>
      {list.length === 0 ? <p className="text-second">It has no servers and no workers.</p> : null}
      {list.map((item) => (
        <button
          key={item.id}
          type="button"
          data-row
          aria-pressed={shown === item.id}
          onClick={() => show(shown === item.id ? null : item.id)}
          className={`flex w-full cursor-pointer flex-wrap items-center gap-x-2.5 border-b border-faint px-1 py-1.5 text-left last:border-0 ${shown === item.id ? 'bg-indigo-wash' : 'hover:bg-faint'}`}
        >
          <Mark state={item.state === 'ready' ? 'passed' : item.state} />
          <span className="font-semibold">
            {item.part} {item.position}
          </span>
          <span className="text-second">
            {item.state !== 'ready'
              ? item.state
              : !item.wanted
                ? 'ending'
                : item.kind === 'server' && item.deployment !== live
                  ? 'warm'
                  : 'ready'}
          </span>
          {item.issue ? <span className="min-w-0 truncate text-vermilion">{item.issue.says}</span> : null}
          <span className="ml-auto whitespace-nowrap text-second">
            d{item.deployment} · {item.agent ?? 'no agent yet'} · <Ago at={item.readyAt ?? item.createdAt} />
          </span>
        </button>
      ))}
    </section>
  );
}

function InstanceLog({ instance }: { instance: Instance }) {
  const log = useLog(`/api/instances/${instance.id}/log`);
  return (
    <Log
      lines={log.lines}
      over={log.over}
      opening={instance.state === 'failed'}
      line={null}
      point={null}
      download={null}
    />
  );
}

const how: Record<string, string> = {
  automatic: 'automatic',
  deploy: 'deployed',
  promote: 'promoted',
  revert: 'reverted to',
};

function History({ one, busy, revert }: { one: EnvironmentDetail; busy: boolean; revert: (release: number) => void }) {
  return (
    <section className="card overflow-x-auto px-5 py-3.5" aria-label="History">
      <h2 className="mb-1 font-semibold">History</h2>
      <table className="w-full border-collapse text-left">
        <tbody>
          {one.history.map((item) => (
            <HistoryRow
              key={item.number}
              item={item}
              target={
                item.release === one.revertsTo &&
                item.state !== 'live' &&
                one.history.find((other) => other.release === item.release && other.liveAt)?.number === item.number
              }
              live={one.live}
              busy={busy || one.moving !== null}
              revert={revert}
            />
          ))}
        </tbody>
      </table>
    </section>
  );
}

function HistoryRow({
  item,
  target,
  live,
  busy,
  revert,
}: {
  item: Deployment;
  target: boolean;
  live: Deployment | null;
  busy: boolean;
  revert: (release: number) => void;
}) {
  return (
    <tr className="border-b border-faint last:border-0">
      <td className="py-2 pr-3">
        <span className="flex items-center gap-2">
          <Mark state={item.state} />
          <span className="code">d{item.number}</span>
        </span>
      </td>
      <td className="code py-2 pr-3 font-semibold">r{item.release}</td>
      <td className="max-w-md py-2 pr-3">
        <span className="block truncate">{item.commit.title}</span>
        {item.failure ? <span className="block text-vermilion">{item.failure.says}</span> : null}
      </td>
      <td className="py-2 pr-3 whitespace-nowrap text-second">
        {item.state} · {how[item.kind]}
        {item.kind === 'automatic' ? '' : ` by ${item.actor}`}
      </td>
      <td className="py-2 pr-3 text-second">
        <Ago at={item.createdAt} />
      </td>
      <td className="py-1 text-right">
        {target && live ? (
          <Button
            disabled={busy}
            onClick={() => revert(item.release)}
            title={`r${item.release} takes all traffic again${item.warmUntil && Date.parse(item.warmUntil) > Date.now() ? ' from servers that are still warm' : ''}, and the environment is held.`}
          >
            Revert to r{item.release}
          </Button>
        ) : null}
      </td>
    </tr>
  );
}
