/** One deployment with what it did: its steps, the work of agents, and its instances. */
import type { Issue } from '../../core/errors/errors.js';
import { deploymentMoving } from '../../core/states.js';
import { listAgents } from '../../records/callers/agents.js';
import type { Db } from '../../records/database.js';
import type { DeploymentRow } from '../../records/deployments/deployments.js';
import { type InstanceRow, instancesOf } from '../../records/deployments/instances.js';
import { listEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { attemptsOfDeployment } from '../../records/runs/attempts.js';
import type { DeploymentDetail, DeploymentStep, Instance } from '../../wire/environments/environments.js';
import { iso, said } from './basics.js';
import { deploymentView } from './releases.js';

/** Events and instances of one deployment that are shown: the newest. */
const mostEvents = 100;
const mostInstances = 200;

export async function deploymentDetail(db: Db, project: ProjectRow, row: DeploymentRow): Promise<DeploymentDetail> {
  const subject = `d${row.number}`;
  const [view, events, attempts, instances, agents] = await Promise.all([
    deploymentView(db, project, row),
    listEvents(db, { project: project.name, subject, kinds: ['deployment'], newestFirst: true, limit: mostEvents }),
    attemptsOfDeployment(db, row.id),
    instancesOf(db, row.id),
    listAgents(db),
  ]);
  const names = new Map(agents.map((one) => [one.id, one.name]));
  return {
    ...view,
    moving: deploymentMoving(row.state),
    steps: events.reverse().flatMap((one) => stepOf(one) ?? []),
    attempts: attempts
      .filter(({ kind }) => kind !== 'job' && kind !== 'picture')
      .map((one) => ({
        id: one.id,
        kind: one.kind,
        part: one.part,
        number: one.number,
        state: one.state,
        issue: said(one.issue),
        startedAt: iso(one.started_at),
        endedAt: iso(one.ended_at),
        logLines: one.log_lines,
      })),
    instances: instances
      .slice(-mostInstances)
      .map((one) => instanceView(one, row.number, names.get(one.agent_id ?? '') ?? null, null)),
  };
}

/** \`noRoom\`: why no agent takes it, where it waits for that. */
export const instanceView = (
  one: InstanceRow,
  deployment: number,
  agent: string | null,
  noRoom: Issue | null,
): Instance => ({
  id: one.id,
  deployment,
  part: one.part,
  kind: one.kind,
  position: one.position,
  state: one.state,
  wanted: one.wanted,
  restarts: one.restarts,
  agent,
  port: one.port,
  exit: one.exit,
  issue: said(one.issue ?? (one.state === 'waiting' ? noRoom : null)),
  createdAt: one.created_at.toISOString(),
  readyAt: iso(one.ready_at),
  endedAt: iso(one.ended_at),
});

interface StepEvent {
  type: string;
  actor: string;
  data: Record<string, unknown>;
  at: Date;
}

/** Events that have another name for people. */
const stepNames: Readonly<Record<string, string>> = { 'ended-old': 'servers ended', 'stop-asked': 'stop' };

function stepOf({ type, actor, data, at }: StepEvent): DeploymentStep | null {
  const name = type.replace('deployment.', '');
  const what = name === 'state' ? String(data.state) : (stepNames[name] ?? name);
  return { at: at.toISOString(), what, by: actor, issue: said((data.issue ?? null) as Issue | null) };
}
