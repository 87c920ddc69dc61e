/** What an environment is made of: parts, programs with their logs, resources. */
import { useMutation } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import { Jobs } from './Jobs';
import { History } from './History';
import { Glance } from './Metrics';
import { Parts } from './Parts';
import { CostLine } from '../projects/CostCard';
import { bytesText } from '../../../../src/core/sizes';
import type { EnvironmentDetail, Instance, Restarted } from '../../../../src/wire/environments/environments';
import { paths, post } from '../../data/api';
import { useLog } from '../../data/log';
import { Ago, Button, Trouble } from '../../parts/basics';
import { Log } from '../runs/Log';
import { Chip, Mark } from '../../parts/Mark';

/** Deployments that the overview shows. */
const recent = 5;

export function Overview({
  one,
  busy,
  again,
}: {
  one: EnvironmentDetail;
  busy: boolean;
  again: (deployment: number) => void;
}) {
  const [shown, setShown] = useState<string | null>(null);
  const instance = one.instanceList.find((item) => item.id === shown) ?? null;
  return (
    <>
      <Glance project={one.project} environment={one.name} />
      <CostLine project={one.project} environment={one.name} />
      <div className="mb-3.5 grid gap-3.5 *:min-w-0 lg:grid-cols-2">
        <div className="flex flex-col gap-3.5">
          <Parts one={one} />
          {one.resources.length ? <ResourceList one={one} /> : null}
        </div>
        <div className="flex flex-col gap-3.5">
          <Instances one={one} shown={shown} show={setShown} />
          {one.jobs.length ? <Jobs one={one} /> : null}
        </div>
      </div>
      {instance ? (
        <div className="mb-3.5">
          <InstanceLog instance={instance} />
        </div>
      ) : null}
      <History one={one} busy={busy} again={again} most={recent} />
    </>
  );
}

function ResourceList({ one }: { one: EnvironmentDetail }) {
  return (
    <section className="card h-fit px-5 py-3.5" aria-label="Resources">
      <h2 className="mb-1 font-semibold">Resources</h2>
      {one.resources.map((item) => (
        <Link
          key={item.name}
          to="/$project/$environment/$section"
          params={{ project: one.project, environment: one.name, section: 'resources' }}
          className="flex flex-wrap items-baseline gap-x-3 border-b border-faint py-2 text-ink no-underline last:border-0 hover:bg-faint"
        >
          <span className="font-semibold">{item.name}</span>
          <span className="text-second">{item.kind}</span>
          {item.state === 'ready' ? null : (
            <Chip tone={item.state === 'failed' ? 'failed' : 'running'}>{item.state}</Chip>
          )}
          {item.issue ? <span className="min-w-0 text-vermilion">{item.issue.says}</span> : null}
          <span className="ml-auto text-second">
            {[
              ...sizeOf(item),
              ...(item.connections === null
                ? []
                : [`${item.connections} ${item.connections === 1 ? 'session' : 'sessions'}`]),
            ].join(' · ')}
            {item.backups.last ? (
              <>
                {' · backup '}
                <Ago at={item.backups.last} />
              </>
            ) : null}
          </span>
        </Link>
      ))}
    </section>
  );
}

/** `40.2 MiB`, of a volume `40.2 MiB of 2.0 GiB`. */
const sizeOf = ({ bytes, most }: EnvironmentDetail['resources'][number]): string[] =>
  bytes === null ? [] : [most ? `${bytesText(bytes)} of ${bytesText(most)}` : bytesText(bytes)];

/** Of those that have ended. */
const endedAtFirst = 2;

const over = (one: Instance): boolean => one.state === 'failed' || one.state === 'ended' || one.state === 'lost';

function Instances({
  one,
  shown,
  show,
}: {
  one: EnvironmentDetail;
  shown: string | null;
  show: (id: string | null) => void;
}) {
  const [all, setAll] = useState(false);
  const running = one.instanceList
    .filter((item) => !over(item))
    .sort((a, b) => a.part.localeCompare(b.part) || a.position - b.position);
  // Those that failed say why; the others have ended as they were asked to.
  const ended = one.instanceList
    .filter(over)
    .sort(
      (a, b) => Number(b.issue !== null) - Number(a.issue !== null) || (b.endedAt ?? '').localeCompare(a.endedAt ?? ''),
    );
  const list = [...running, ...(all ? ended : ended.slice(0, endedAtFirst))];
  const live = (one.serving ?? one.live)?.number ?? null;
  const restart = useMutation({
    mutationFn: () => post<Restarted>(`${paths.environment(one.project, one.name)}/restart`),
  });
  return (
    <section className="card h-fit px-5 py-3.5" aria-label="Instances">
      <header className="mb-1 flex items-center">
        <h2 className="font-semibold">Instances</h2>
        {one.live && list.length ? (
          <Button
            size="tiny"
            className="ml-auto"
            disabled={restart.isPending || one.moving !== null}
            onClick={() => restart.mutate()}
            title="Each is replaced by a fresh one of the same release; no request is lost."
          >
            Restart all
          </Button>
        ) : null}
      </header>
      {restart.error ? <Trouble error={restart.error} /> : null}
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
      {ended.length > endedAtFirst ? (
        <Button size="tiny" className="mt-2" onClick={() => setAll(!all)}>
          {all ? 'Show fewer' : `Show ${ended.length - endedAtFirst} more that have ended`}
        </Button>
      ) : null}
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
