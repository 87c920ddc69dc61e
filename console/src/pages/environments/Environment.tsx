/** One environment: what is live and waits, and its sections, each at an address of its own. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import type { EnvironmentDetail } from '../../../../src/wire/environments/environments';
import { get, paths, post } from '../../data/api';
import { Crumbs, Button, DeploymentLink, Empty, Loading, Since, short, Trouble } from '../../parts/basics';
import { Ask } from '../../parts/Ask';
import { Chip, Mark } from '../../parts/Mark';
import { Addresses } from './Addresses';
import { EnvironmentLog } from './EnvironmentLog';
import { Inside } from './Inside';
import { History } from './History';
import { Metrics } from './Metrics';
import { Overview } from './Overview';
import { Revert } from './Revert';
import { Resources } from './Resources';
import { Pictures } from '../reviews/Pictures';
import { WithOthers } from '../promotion/Together';
import { ReviewCard } from '../reviews/ReviewCard';
import { Variables } from './Variables';

const sections = ['overview', 'log', 'metrics', 'variables', 'resources', 'addresses', 'terminal', 'history'] as const;
type Section = (typeof sections)[number];

export function EnvironmentPage(): React.ReactNode {
  const {
    project,
    environment,
    section = 'overview',
  } = useParams({ strict: false }) as { project: string; environment: string; section?: string };
  const path = paths.environment(project, environment);
  const page = useQuery({
    queryKey: ['environment', project, environment],
    queryFn: () => get<EnvironmentDetail>(path),
  });
  const act = useMutation({
    mutationFn: ({ to, body }: { to: string; body?: unknown }) => post(`${path}/${to}`, body),
  });
  if (page.error && !page.data) return <Trouble error={page.error} />;
  if (!page.data) return <Loading />;
  const one = page.data;
  const withOthers = (one.moving ?? one.live)?.together ?? null;
  const again = (deployment: number) => act.mutate({ to: 'deployments', body: { kind: 'deploy', deployment } });
  return (
    <>
      <Crumbs project={project} />
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">
          {environment}
          {one.review && one.state !== 'live' && one.state !== 'empty' ? (
            <> is {one.state}</>
          ) : one.live ? (
            <> runs r{one.live.release}</>
          ) : (
            ' is empty'
          )}
        </h1>
        {(one.live || one.serving) && (one.state === 'live' || one.state === 'empty') ? (
          <Chip tone={one.health}>{one.health}</Chip>
        ) : null}
        {one.verified ? <Chip tone="good">verified</Chip> : null}
        {one.held ? <Chip tone="held">on hold</Chip> : null}
        {one.freeze ? <Chip tone="held">frozen</Chip> : null}
        <span className="ml-auto flex flex-wrap gap-2">
          {one.revertsTo && one.live ? (
            <Revert
              // Another one is live: what was chosen before was about something else.
              key={one.live.number}
              project={project}
              environment={environment}
              release={one.revertsTo.release}
              leaves={one.live.number}
              hint={`r${one.revertsTo.release} takes all traffic again${warmFor(one) ? ' from servers that are still warm' : ''}, and the environment is held.`}
            />
          ) : null}
          {one.undo ? (
            <Button
              needs="releaser"
              onClick={() => act.mutate({ to: 'deployments', body: { kind: 'revert', undo: true } })}
              title="What the revert has left takes the traffic again, and the hold is as it was before."
            >
              Undo the revert
            </Button>
          ) : null}
          {one.held ? (
            <Button needs="releaser" onClick={() => act.mutate({ to: 'lift' })}>
              Lift the hold
            </Button>
          ) : (
            <Ask
              label="Hold"
              title={`Hold ${project}/${environment}`}
              says="It takes nothing new until the hold is lifted. A revert still works."
              confirm="Hold it"
              reason="Why"
              needs="releaser"
              act={(why) => act.mutate({ to: 'hold', body: why ? { why } : {} })}
            />
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
        {one.freeze ? (
          <p className="mt-1 text-ochre">
            Frozen by {one.freeze.by} until {new Date(one.freeze.until).toLocaleString('en-GB')}: {one.freeze.why}.
            Revert still works.
          </p>
        ) : null}
        {one.live?.override ? (
          <p className="mt-1 text-ochre">
            {one.live.override.by} took r{one.live.release} though {one.live.override.rules.join(', ')} were not met:{' '}
            {one.live.override.why}
          </p>
        ) : null}
        {withOthers ? <WithOthers number={withOthers} project={project} /> : null}
        {one.besideMain.length ? (
          <p className="mt-1 text-ochre">
            Live and not in main: {one.besideMain[0]?.title}
            {one.besideMain.length > 1 ? ` and ${one.besideMain.length - 1} more` : ''}. The next release of main would
            take {one.besideMain.length === 1 ? 'it' : 'them'} away.
          </p>
        ) : null}
        {one.loosened.length ? (
          <p className="mt-1 text-ochre">
            Main asks for less than what counts: {one.loosened.join('; ')}.{' '}
            <Link to="/$project/$environment/promote" params={{ project, environment }} className="text-indigo">
              Look at its rules
            </Link>
          </p>
        ) : null}
        {one.failed?.failure ? (
          <p className="mt-1 text-vermilion">
            <DeploymentLink project={project} number={one.failed.number} /> with r{one.failed.release} failed:{' '}
            {one.failed.failure.says} <span className="text-second">{one.failed.failure.next}</span>
          </p>
        ) : null}
        {one.moving ? (
          <p className="mt-1 flex items-center gap-2 text-ochre">
            <Mark state="running" /> <DeploymentLink project={project} number={one.moving.number} /> brings r
            {one.moving.release}: {one.moving.state}
            {one.moving.state === 'cutover' ? (
              <Link to="/$project/$environment/cutover" params={{ project, environment }} className="text-indigo">
                How the traffic moves
              </Link>
            ) : null}
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
              needs="developer"
              disabled={act.isPending || one.moving !== null}
              onClick={() => act.mutate({ to: 'deployments', body: { kind: 'deploy', release: one.live?.release } })}
              title={`r${one.live.release} is started with them, next to what runs now. Then the traffic moves.`}
            >
              Deploy r{one.live.release} with these changes
            </Button>
          </p>
        ) : null}
        {one.delays ? <p className="mt-1 text-ochre">{one.delays}</p> : null}
      </section>
      {one.review ? <ReviewCard one={one} review={one.review} /> : null}
      <Tabs
        project={project}
        environment={environment}
        now={section}
        resources={one.resources.length}
        addresses={one.addresses.length}
      />
      {section === 'overview' ? (
        <>
          {one.review ? <Pictures one={one} /> : null}
          <Overview one={one} busy={act.isPending} again={again} />
          {one.review ? null : <Pictures one={one} />}
        </>
      ) : section === 'log' ? (
        <EnvironmentLog one={one} />
      ) : section === 'metrics' ? (
        <Metrics project={project} environment={environment} />
      ) : section === 'variables' ? (
        <Variables project={project} within={one.plan} />
      ) : section === 'resources' ? (
        <Resources project={project} environment={environment} />
      ) : section === 'addresses' ? (
        <Addresses project={project} environment={environment} />
      ) : section === 'terminal' ? (
        <Inside one={one} />
      ) : section === 'history' ? (
        <History one={one} busy={act.isPending} again={again} />
      ) : (
        <Empty title="There is no such section.">
          It has an overview, a log, metrics, variables, resources, addresses, a terminal and a history.
        </Empty>
      )}
    </>
  );
}

function Tabs({
  project,
  environment,
  now,
  resources,
  addresses,
}: {
  project: string;
  environment: string;
  now: string;
  resources: number;
  addresses: number;
}) {
  const text: Record<Section, string> = {
    overview: 'Overview',
    log: 'Log',
    metrics: 'Metrics',
    variables: 'Variables',
    resources: resources ? `Resources · ${resources}` : 'Resources',
    addresses: addresses > 1 ? `Addresses · ${addresses}` : 'Addresses',
    terminal: 'Terminal',
    history: 'History',
  };
  return (
    <nav aria-label="Sections" className="mb-3.5 flex flex-wrap gap-x-5 gap-y-1 border-b border-line">
      {sections.map((section) => (
        <Link
          key={section}
          to={section === 'overview' ? '/$project/$environment' : '/$project/$environment/$section'}
          params={{ project, environment, section }}
          aria-current={now === section ? 'page' : undefined}
          className={`-mb-px border-b-2 pb-1.5 whitespace-nowrap no-underline ${now === section ? 'border-indigo font-semibold text-ink' : 'border-transparent text-second hover:text-ink'}`}
        >
          {text[section]}
        </Link>
      ))}
    </nav>
  );
}

/** Whether the servers that a revert goes back to still run. */
const warmFor = ({ history, revertsTo }: EnvironmentDetail): boolean => {
  const until = history.find((item) => item.number === revertsTo?.deployment)?.warmUntil;
  return until != null && Date.parse(until) > Date.now();
};
