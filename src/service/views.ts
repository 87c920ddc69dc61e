/** Rows as the API gives them. */
import { type Issue, wording } from '../core/errors.js';
import { addressesDelay } from './delays.js';
import { revertTarget } from '../core/advance/environments.js';
import { considerPromotion, heldWhy, placeOf } from '../engine/acts.js';
import { urlOf, repositoryOf } from '../engine/context.js';
import { commitsBetween } from '../git/repository.js';
import { listAgents, listEdges } from '../records/agents.js';
import { attemptsOfRun, commandsOf } from '../records/attempts.js';
import type { Db } from '../records/database.js';
import { type DeploymentRow, deploymentById, deploymentsOf, type EnvironmentRow, environmentsOf, movingDeployments } from '../records/environments.js';
import type { EventRow } from '../records/events.js';
import { instancesOfEnvironment } from '../records/instances.js';
import { definitionOf, listProjects, mainDefinition, type ProjectRow } from '../records/projects.js';
import { evidenceOf, type ReleaseRow, releaseById, releaseOfRun } from '../records/releases.js';
import { type RunRow, tasksOf } from '../records/runs.js';
import { findPullRequest } from '../records/sources.js';
import type * as api from '../wire/api.js';
import { CodedError } from '../core/errors.js';
import type { Service } from './server.js';

export const said = (issue: Issue | null): api.Said | null => (issue ? { ...issue, ...wording(issue) } : null);
const iso = (at: Date | null): string | null => at?.toISOString() ?? null;

export function projectView(service: Service, row: ProjectRow): api.Project {
  const endpoint = row.source === 'hosted' ? `${service.url}/git/${row.name}` : `${service.url}/api/sources/${row.name}/events`;
  return {
    name: row.name,
    source: row.source,
    mainBranch: row.main_branch,
    folder: row.folder,
    url: row.url,
    endpoint,
    definitionCommit: row.definition_commit,
  };
}

async function commitView(db: Db, project: string, id: string): Promise<api.Commit> {
  const row = await db.one<{ title: string; author: string; at: Date }>('select title, author, at from commits where project_id = $1 and id = $2', [
    project,
    id,
  ]);
  return { id, title: row?.title ?? '', author: row?.author ?? '', at: (row?.at ?? new Date(0)).toISOString() };
}

/** How long a passed run of this project takes: the median of the last five. */
async function expectedRun(db: Db, project: string): Promise<number | null> {
  const row = await db.one<{ ms: number | null }>(
    `select percentile_cont(0.5) within group (order by ms) as ms from
     (select extract(epoch from ended_at - created_at) * 1000 as ms from runs where project_id = $1 and state = 'passed' order by number desc limit 5) r`,
    [project],
  );
  return row?.ms == null ? null : Math.round(row.ms);
}

export async function runView(db: Db, project: Pick<ProjectRow, 'id' | 'name'>, row: RunRow): Promise<api.Run> {
  const [commit, release, counts, expected] = await Promise.all([
    commitView(db, project.id, row.commit),
    releaseOfRun(db, row.id),
    db.one<{ total: number; ended: number }>('select tasks_total as total, tasks_ended as ended from runs where id = $1', [row.id]),
    row.state === 'running' || row.state === 'waiting' ? expectedRun(db, project.id) : null,
  ]);
  return {
    project: project.name,
    number: row.number,
    state: row.state,
    commit,
    branch: row.branch,
    pullRequest: row.pull_request,
    cause: row.cause,
    actor: row.actor,
    allowed: row.allowed,
    issue: said(row.issue),
    tasks: counts ?? { total: 0, ended: 0 },
    release: release?.number ?? null,
    createdAt: row.created_at.toISOString(),
    startedAt: iso(row.started_at),
    endedAt: iso(row.ended_at),
    expectedMs: expected,
  };
}

export async function runDetail(db: Db, project: ProjectRow, row: RunRow): Promise<api.RunDetail> {
  const [view, tasks, attempts, definition, agents] = await Promise.all([
    runView(db, project, row),
    tasksOf(db, row.id),
    attemptsOfRun(db, row.id),
    definitionOf(db, project.id, row.commit),
    listAgents(db),
  ]);
  const commands = await commandsOf(
    db,
    attempts.map((one) => one.id),
  );
  const expected = await db.rows<{ name: string; ms: number }>(
    `select t.name, percentile_cont(0.5) within group (order by extract(epoch from t.ended_at - t.started_at) * 1000) as ms
     from tasks t join (select id from runs where project_id = $1 and state = 'passed' and number < $2 order by number desc limit 5) r on r.id = t.run_id where t.state = 'passed' group by t.name`,
    [project.id, row.number],
  );
  const agentNames = new Map(agents.map((agent) => [agent.id, agent.name]));
  return {
    ...view,
    warnings: row.warnings.map((one) => said(one) as api.Said),
    definitionIssues: (definition?.issues ?? []).map((one) => ({ ...(said(one) as api.Said), line: one.line, column: one.column })),
    taskList: tasks.map((task) => ({
      name: task.name,
      state: task.state,
      evidence: task.evidence,
      needs: task.model.needs,
      issue: said(task.issue),
      fingerprint: task.fingerprint,
      output: task.output ? { digest: task.output, size: task.output_size ?? 0 } : null,
      tests: task.tests,
      files: task.files.count,
      startedAt: iso(task.started_at),
      endedAt: iso(task.ended_at),
      expectedMs: Math.round(expected.find((one) => one.name === task.name)?.ms ?? 0) || null,
      attempts: attempts
        .filter((one) => one.task_id === task.id)
        .map((one) => ({
          id: one.id,
          number: one.number,
          state: one.state,
          issue: said(one.issue),
          agent: agentNames.get(one.agent_id ?? '') ?? null,
          startedAt: iso(one.started_at),
          endedAt: iso(one.ended_at),
          logLines: one.log_lines,
          commands: commands
            .filter((command) => command.attempt_id === one.id)
            .map((command) => ({
              text: command.text,
              state: command.state,
              exit: command.exit,
              ms: command.ms,
              startedAt: command.started_at.toISOString(),
              firstLine: command.first_line,
            })),
        })),
    })),
  };
}

export async function releaseView(db: Db, project: Pick<ProjectRow, 'id' | 'name'>, row: ReleaseRow): Promise<api.Release> {
  const [commit, run] = await Promise.all([
    commitView(db, project.id, row.commit),
    db.one<{ number: number }>('select number from runs where id = $1', [row.run_id]),
  ]);
  const parts = row.parts.map((part) => ({
    name: part.name,
    kind: row.plan.parts[part.name]?.kind ?? ('site' as const),
    digest: part.digest,
    size: part.layers.reduce((sum, layer) => sum + layer.size, 0),
  }));
  return {
    project: project.name,
    number: row.number,
    digest: row.digest,
    commit,
    branch: row.branch,
    pullRequest: row.pull_request,
    run: run?.number ?? 0,
    parts,
    createdAt: row.created_at.toISOString(),
  };
}

export async function releaseDetail(db: Db, project: ProjectRow, row: ReleaseRow): Promise<api.ReleaseDetail> {
  const [view, evidence] = await Promise.all([releaseView(db, project, row), evidenceOf(db, row.id)]);
  return { ...view, evidence: evidence.map((one) => ({ ...one, at: one.at.toISOString() })) };
}

export async function deploymentView(db: Db, project: Pick<ProjectRow, 'id' | 'name'>, row: DeploymentRow): Promise<api.Deployment> {
  const release = await releaseById(db, row.release_id);
  const environment = await db.one<{ name: string }>('select name from environments where id = $1', [row.environment_id]);
  return {
    project: project.name,
    environment: environment?.name ?? '',
    number: row.number,
    release: release.number,
    commit: await commitView(db, project.id, release.commit),
    kind: row.kind,
    actor: row.actor,
    state: row.state,
    failure: said(row.failure),
    definitionCommit: row.definition_commit,
    createdAt: row.created_at.toISOString(),
    liveAt: iso(row.live_at),
    endedAt: iso(row.ended_at),
    warmUntil: iso(row.warm_until),
  };
}

export async function environmentView(service: Service, db: Db, project: ProjectRow, row: EnvironmentRow): Promise<api.Environment> {
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
  const instances = (await instancesOfEnvironment(db, row.id)).filter((one) => one.deployment_id === (row.serving_id ?? row.live_id) && one.wanted);
  const served = row.serving_id ? await db.one<{ release_id: string }>('select release_id from deployments where id = $1', [row.serving_id]) : null;
  const asked = served
    ? Object.values((await releaseById(db, served.release_id)).plan.parts).reduce((sum, part) => sum + (part.kind === 'site' ? 0 : part.instances), 0)
    : 0;
  const moving = movingRows[0];
  const last = newest[0];
  const verified =
    live && plan?.verify
      ? (await db.one(
          `select 1 as ok from evidence e join deployments d on d.release_id = e.release_id where d.id = $1 and e.kind = 'verification' and e.name = $2`,
          [row.live_id, row.name],
        )) !== null
      : false;
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
  };
}

async function waits(service: Service, db: Db, project: ProjectRow, row: EnvironmentRow): Promise<api.Environment['waits']> {
  try {
    const { release, judgement, live } = await considerPromotion(service.context, db, project, row.name, null);
    if (live?.number === release.number) return null;
    const commits = await commitsBetween(repositoryOf(service.context, project), live?.commit ?? null, release.commit, 100);
    return { release: release.number, commits: commits.length, allowed: judgement.allowed, why: judgement.refusal ? wording(judgement.refusal).says : null };
  } catch (error) {
    if (error instanceof CodedError) return null;
    throw error;
  }
}

export async function environmentDetail(service: Service, db: Db, project: ProjectRow, row: EnvironmentRow): Promise<api.EnvironmentDetail> {
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
      past.map((one) => ({ number: one.number, release: one.release, state: one.state, wasLive: one.live_at !== null })),
      live,
    ),
    delays: addressesDelay(await listEdges(db), row),
  };
}

export async function promotionView(service: Service, db: Db, project: ProjectRow, name: string, number: number | null): Promise<api.Promotion> {
  const { release, environment, judgement, live, plan } = await considerPromotion(service.context, db, project, name, number);
  const repository = repositoryOf(service.context, project);
  const facts = async (from: string | null, to: string) =>
    (await commitsBetween(repository, from, to, 100)).map((one) => ({ id: one.id, title: one.title, author: one.author, at: one.at.toISOString() }));
  const names = new Set([...(live?.parts ?? []), ...release.parts].map((part) => part.name));
  const digest = (row: ReleaseRow | null, part: string) => row?.parts.find((one) => one.name === part)?.digest ?? null;
  const warm = `${Math.round(service.context.timing.warm / 60_000)} minutes`;
  const place = placeOf(project, environment);
  const sentence = live
    ? `r${release.number}, the same bytes that ${plan?.after} has verified, takes all traffic of ${place} in one step; r${live.number} stays warm for ${warm}, ready for a revert.`
    : `r${release.number}, the same bytes that ${plan?.after} has verified, becomes the first release that is live in ${place}.`;
  return {
    environment: name,
    project: project.name,
    release: await releaseView(db, project, release),
    live: live ? await releaseView(db, project, live) : null,
    after: plan?.after ?? null,
    allowed: judgement.allowed,
    refusal: said(judgement.refusal),
    checks: judgement.checks,
    commits: await facts(live?.commit ?? null, release.commit),
    removed: live ? await facts(release.commit, live.commit) : [],
    parts: [...names].map((part) => ({ name: part, from: digest(live, part), to: digest(release, part) })),
    sentence,
  };
}

export async function boardView(service: Service, db: Db, only: string | null): Promise<api.Board> {
  const [projects, agents, edges] = await Promise.all([listProjects(db), listAgents(db), listEdges(db)]);
  const shown = projects.filter((one) => only === null || one.id === only);
  return {
    projects: await Promise.all(
      shown.map(async (project) => {
        const environments = await Promise.all((await environmentsOf(db, project.id)).map((row) => environmentView(service, db, project, row)));
        const run = await db.one<RunRow>('select * from runs where project_id = $1 and branch = $2 order by number desc limit 1', [
          project.id,
          project.main_branch,
        ]);
        const refused = project.definition_commit ? null : run?.state === 'failed' ? run.issue : null;
        return {
          name: project.name,
          source: project.source,
          mainBranch: project.main_branch,
          run: run ? await runView(db, project, run) : null,
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
function inThread(environments: api.Environment[]): api.Environment[] {
  const depth = (one: api.Environment, seen = 0): number => {
    const before = environments.find((other) => other.name === one.after);
    return before && seen < environments.length ? depth(before, seen + 1) + 1 : 0;
  };
  return [...environments].sort((a, b) => depth(a) - depth(b));
}

export const eventView = (row: EventRow): api.Event => ({
  specversion: '1.0',
  id: row.number,
  source: row.project ? `/projects/${row.project}` : '/',
  type: `dev.tsunagi.${row.type}`,
  subject: row.subject,
  time: row.at.toISOString(),
  sequence: row.number,
  datacontenttype: 'application/json',
  data: { actor: row.actor, ...row.data },
});
