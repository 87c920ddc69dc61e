/** Environments, and the board of all of them, as the API gives them. */
import { revertTarget } from '../../core/advance/environments.js';
import { CodedError, wording } from '../../core/errors/errors.js';
import { considerPromotion, heldWhy, waitingChanges } from '../../engine/deployments/acts.js';
import { repositoryOf, urlOf } from '../../engine/context.js';
import { commitsBetween } from '../../git/repository.js';
import { listAgents, listEdges } from '../../records/agents.js';
import type { Db } from '../../records/database.js';
import { deploymentById, deploymentsOf, movingDeployments, releasedBy } from '../../records/deployments.js';
import { type EnvironmentRow, environmentsOf } from '../../records/environments.js';
import { instancesOfEnvironment } from '../../records/instances.js';
import { newestRun } from '../../records/overview.js';
import { listProjects, mainDefinition, type ProjectRow } from '../../records/projects.js';
import { releaseById, verifiedThere } from '../../records/releases.js';
import { findPullRequest } from '../../records/sources.js';
import type { Board } from '../../wire/overview.js';
import type { Environment, EnvironmentDetail } from '../../wire/environments.js';
import { addressesDelay } from '../delays.js';
import type { Service } from '../server.js';
import { iso, said } from './basics.js';
import { deploymentView } from './releases.js';
import { runView } from './runs.js';

export async function environmentView(
  service: Service,
  db: Db,
  project: ProjectRow,
  row: EnvironmentRow,
): Promise<Environment> {
  const main = await mainDefinition(db, project.id);
  const plan = main?.model.environments[row.plan_name] ?? null;
  const view = async (id: string | null) => {
    const found = id ? await deploymentById(db, id) : null;
    return found ? deploymentView(db, project, found) : null;
  };
  const [live, serving, movingRows, newest, pull] = await Promise.all([
    view(row.live_id),
    row.serving_id !== row.live_id ? view(row.serving_id) : null,
    movingDeployments(db, row.id),
    deploymentsOf(db, row.id, 1),
    row.pull_request === null ? null : findPullRequest(db, project.id, row.pull_request),
  ]);
  const instances = (await instancesOfEnvironment(db, row.id)).filter(
    (one) => one.deployment_id === (row.serving_id ?? row.live_id) && one.wanted,
  );
  const served = row.serving_id ? await releasedBy(db, row.serving_id) : null;
  const asked = served
    ? Object.values((await releaseById(db, served.release_id)).plan.parts).reduce(
        (sum, part) => sum + (part.kind === 'site' ? 0 : part.instances),
        0,
      )
    : 0;
  const moving = movingRows[0];
  const last = newest[0];
  const verified = live && plan?.verify ? await verifiedThere(db, row.live_id as string, row.name) : false;
  return {
    project: project.name,
    name: row.name,
    kind: row.kind,
    state: row.state,
    health: row.health,
    held: row.held_by === null ? null : { by: row.held_by, why: heldWhy(row) },
    url: urlOf(service.context.addresses, row.host),
    after: plan?.after ?? null,
    branch: plan?.branch ?? null,
    verifies: Boolean(plan?.verify),
    pullRequest: pull ? { number: pull.number, title: pull.title } : null,
    live,
    verified,
    serving,
    moving: moving ? await deploymentView(db, project, moving) : null,
    failed: last?.state === 'failed' ? await deploymentView(db, project, last) : null,
    instances: { asked, ready: instances.filter((one) => one.state === 'ready').length },
    waits: plan?.after ? await waits(service, db, project, row) : null,
    changes: await changesOf(service, db, project, row),
    issue: said(row.issue),
  };
}

async function changesOf(service: Service, db: Db, project: ProjectRow, row: EnvironmentRow): Promise<string[]> {
  const live = row.live_id ? await deploymentById(db, row.live_id) : null;
  if (!live) return [];
  return waitingChanges(
    service.context,
    db,
    { project, environment: row, release: await releaseById(db, live.release_id) },
    live,
  );
}

async function waits(
  service: Service,
  db: Db,
  project: ProjectRow,
  row: EnvironmentRow,
): Promise<Environment['waits']> {
  try {
    const { release, judgement, live } = await considerPromotion(service.context, db, project, row.name, null);
    if (live?.number === release.number) return null;
    const commits = await commitsBetween(
      repositoryOf(service.context, project),
      live?.commit ?? null,
      release.commit,
      100,
    );
    return {
      release: release.number,
      commits: commits.length,
      allowed: judgement.allowed,
      why: judgement.refusal ? wording(judgement.refusal).says : null,
    };
  } catch (error) {
    if (error instanceof CodedError) return null;
    throw error;
  }
}

export async function environmentDetail(
  service: Service,
  db: Db,
  project: ProjectRow,
  row: EnvironmentRow,
): Promise<EnvironmentDetail> {
  const [view, instances, past, agents] = await Promise.all([
    environmentView(service, db, project, row),
    instancesOfEnvironment(db, row.id),
    deploymentsOf(db, row.id, 50),
    listAgents(db),
  ]);
  const served = past.find((one) => one.id === (row.serving_id ?? row.live_id));
  const release = served ? await releaseById(db, served.release_id) : null;
  const numbers = new Map(past.map((one) => [one.id, one.number]));
  const names = new Map(agents.map((agent) => [agent.id, agent.name]));
  const live = past.find((one) => one.id === row.live_id)?.release ?? null;
  const open = instances.filter((one) => one.state === 'waiting' || one.state === 'starting' || one.state === 'ready');
  const over = instances.filter((one) => !open.includes(one)).slice(0, 10);
  return {
    ...view,
    parts: release
      ? release.parts.map((part) => ({
          name: part.name,
          kind: release.plan.parts[part.name]?.kind ?? 'site',
          at: release.plan.parts[part.name]?.kind === 'worker' ? null : (release.plan.parts[part.name]?.at ?? null),
          digest: part.digest,
        }))
      : [],
    instanceList: [...open, ...over].map((one) => ({
      id: one.id,
      deployment: numbers.get(one.deployment_id) ?? 0,
      part: one.part,
      kind: one.kind,
      position: one.position,
      state: one.state,
      wanted: one.wanted,
      restarts: one.restarts,
      agent: names.get(one.agent_id ?? '') ?? null,
      port: one.port,
      exit: one.exit,
      issue: said(one.issue),
      createdAt: one.created_at.toISOString(),
      readyAt: iso(one.ready_at),
      endedAt: iso(one.ended_at),
    })),
    history: await Promise.all(past.map((one) => deploymentView(db, project, one))),
    revertsTo: revertTarget(
      past.map((one) => ({
        number: one.number,
        release: one.release,
        state: one.state,
        wasLive: one.live_at !== null,
      })),
      live,
    ),
    delays: addressesDelay(await listEdges(db), row),
  };
}

export async function boardView(service: Service, db: Db, only: string | null): Promise<Board> {
  const [projects, agents, edges] = await Promise.all([listProjects(db), listAgents(db), listEdges(db)]);
  const shown = projects.filter((one) => only === null || one.id === only);
  return {
    projects: await Promise.all(
      shown.map(async (project) => {
        const environments = await Promise.all(
          (await environmentsOf(db, project.id)).map((row) => environmentView(service, db, project, row)),
        );
        const run = await newestRun(db, project.id, project.main_branch);
        const refused = project.definition_commit ? null : run?.state === 'failed' ? run.issue : null;
        return {
          name: project.name,
          source: project.source,
          mainBranch: project.main_branch,
          run: run ? runView(run) : null,
          environments: inThread(environments.filter((one) => one.kind === 'standing')),
          reviews: environments.filter((one) => one.kind === 'review'),
          issue: said(refused),
        };
      }),
    ),
    agents: { total: agents.length, alive: agents.filter((one) => one.alive).length },
    edges: { total: edges.length, alive: edges.filter((one) => one.alive).length },
  };
}

/** Environments in the order of the thread: what takes a branch first, then what comes after it. */
function inThread(environments: Environment[]): Environment[] {
  const depth = (one: Environment, seen = 0): number => {
    const before = environments.find((other) => other.name === one.after);
    return before && seen < environments.length ? depth(before, seen + 1) + 1 : 0;
  };
  return [...environments].sort((a, b) => depth(a) - depth(b));
}
