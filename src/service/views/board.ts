/** The board, and an environment as the board shows it: said from one row of the records, without asking anything else. */
import { closesAt, sleepsAt } from '../../core/advance/life.js';
import { idleOf } from '../../core/definition/model.js';
import { wording } from '../../core/errors/errors.js';
import { longestHealth } from '../../core/release/evidence.js';
import { type Rules, rulesOf, tighten } from '../../core/rules/in-force.js';
import { judgePromotion } from '../../core/rules/promotion.js';
import { changedVariables, type Resolved, resolveVariables, scopesOf, setIn } from '../../core/variables/resolve.js';
import { reachedAt } from '../../engine/context.js';
import { heldWhy } from '../../engine/deployments/live.js';
import { commitsBeside } from '../../engine/runs/forward.js';
import { freezeOf, promotionEvidence } from '../../engine/promotion/rules.js';
import {
  type BoardDeployment,
  type BoardEnvironment,
  type BoardProject,
  type BoardRelease,
  boardOf,
} from '../../records/views/board.js';
import { listAgents } from '../../records/callers/agents.js';
import { listEdges } from '../../records/callers/edges.js';
import type { Db } from '../../records/database.js';
import type { Deployment, Environment } from '../../wire/environments/environments.js';
import type { Board } from '../../wire/overview.js';
import type { Service } from '../server.js';
import { said } from './basics.js';
import { imagePath } from './pictures.js';
import { freezeView } from './rules.js';
import { runView } from './runs.js';

export async function boardView(service: Service, db: Db, only: string | null): Promise<Board> {
  const [projects, agents, edges] = await Promise.all([boardOf(db, only), listAgents(db), listEdges(db)]);
  return {
    projects: await inOrder(projects, async (project) => {
      const { run } = project;
      const environments = await environmentsOf(service, project);
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
    agents: { total: agents.length, alive: agents.filter((one) => one.alive).length },
    edges: { total: edges.length, alive: edges.filter((one) => one.alive).length },
  };
}

/** All environments of a project that are not closed. */
export async function environmentViews(service: Service, db: Db, project: string): Promise<Environment[]> {
  return (await inOrder(await boardOf(db, project), (row) => environmentsOf(service, row))).flat();
}

/** One environment, closed or not. */
export async function environmentView(
  service: Service,
  db: Db,
  { id, project_id }: { id: string; project_id: string },
): Promise<Environment> {
  const [project] = await boardOf(db, project_id, id);
  const found = project?.environments.find((one) => one.id === id);
  if (!project || !found) throw new Error(`no environment ${id}`);
  return environmentOf(service, project, found, await besideOf(service, project, found));
}

/** One after the other: what is not known yet asks git, and not for all projects at once. */
async function inOrder<A, B>(list: readonly A[], map: (one: A) => Promise<B>): Promise<B[]> {
  const all: B[] = [];
  for (const one of list) all.push(await map(one));
  return all;
}

const environmentsOf = (service: Service, project: BoardProject): Promise<Environment[]> =>
  Promise.all(
    project.environments.map(async (one) =>
      environmentOf(service, project, one, await besideOf(service, project, one)),
    ),
  );

/** What is live and not in main. Of reviews nothing is said: that is what they are for. */
async function besideOf(
  service: Service,
  project: BoardProject,
  row: BoardEnvironment,
): Promise<Environment['beside']> {
  const live = row.kind === 'standing' ? deploymentIn(project, row.live_id) : null;
  if (!live) return null;
  const [newest, ...others] = await commitsBeside(service.context, project, project.head, live.release.commit);
  return newest ? { commits: others.length + 1, title: newest.title } : null;
}

/** A deployment with its release. */
interface Shown extends BoardDeployment {
  release: BoardRelease;
}

/** What environments name by id, looked up once for each project: there may be hundreds of them. */
const indexes = new WeakMap<BoardProject, Map<string, Shown>>();

function deploymentIn(project: BoardProject, id: string | null): Shown | null {
  if (id === null) return null;
  let index = indexes.get(project);
  if (!index) {
    const releases = new Map(project.releases.map((one) => [one.id, one]));
    const shown = project.deployments.flatMap((one) => {
      const release = releases.get(one.release_id);
      return release ? [[one.id, { ...one, release }] as const] : [];
    });
    index = new Map(shown);
    indexes.set(project, index);
  }
  return index.get(id) ?? null;
}

function environmentOf(
  service: Service,
  project: BoardProject,
  row: BoardEnvironment,
  beside: Environment['beside'],
): Environment {
  const plan = project.plans?.[row.plan_name] ?? null;
  const { rules, loosened } = tighten(row.rules, rulesOf(project.plans, row.plan_name));
  const view = (id: string | null) => {
    const found = deploymentIn(project, id);
    return found && deploymentOf(project.name, row.name, found);
  };
  const live = deploymentIn(project, row.live_id);
  const served = deploymentIn(project, row.serving_id) ?? live;
  return {
    project: project.name,
    name: row.name,
    kind: row.kind,
    state: row.state,
    health: row.health,
    held: row.held_by === null ? null : { by: row.held_by, why: heldWhy(row) },
    freeze: freezeView(row, service.context.now()),
    loosened: loosened.map(({ says }) => says),
    url: reachedAt(service.context.addresses, row.host, row.main_host),
    after: rules.after,
    branch: rules.after === null ? (plan?.branch ?? null) : null,
    verifies: Boolean(plan?.verify),
    pullRequest: row.pull,
    review: row.kind === 'review' ? reviewOf(project, row) : null,
    live: view(row.live_id),
    verified: Boolean(live && plan?.verify && verifiedIn(live.release, row.name)),
    serving: row.serving_id === row.live_id ? null : view(row.serving_id),
    moving: view(row.moving_id),
    failed: view(row.failed_id),
    beside,
    instances: { asked: served?.release.asked ?? 0, ready: Math.min(row.ready, served?.release.asked ?? 0) },
    waits: rules.after !== null ? waits(service, project, row, live, rules) : null,
    picture: row.picture && {
      share: row.picture.share,
      small: row.picture.small ? imagePath(project.name, row.name, row.picture.id, 0, 'small') : null,
      takenAt: iso(row.picture.at) as string,
    },
    changes: live
      ? changedVariables(
          { values: live.variables, secrets: live.secrets },
          resolved(service, project, row, live.release),
        )
      : [],
    issue: said(row.issue),
  };
}

/** How a review sleeps and closes. */
function reviewOf(project: BoardProject, row: BoardEnvironment): Environment['review'] {
  const at = (text: string | null) => (text === null ? 0 : Date.parse(text));
  const times = {
    idle: idleOf(project.plans?.[row.plan_name]),
    usedAt: at(row.used_at),
    wokenAt: at(row.woken_at),
    pushedAt: Math.max(at(row.opened_at), at(row.pushed_at)),
    keepUntil: row.keep_until === null ? null : at(row.keep_until),
  };
  const open = row.state !== 'closing' && row.state !== 'closed';
  const shown = (time: number | null) => (time === null || !open ? null : new Date(time).toISOString());
  return {
    branch: row.branch,
    outside: row.outside,
    access: project.plans?.[row.plan_name]?.access ?? 'open',
    depth: row.depth,
    openedAt: iso(row.opened_at) as string,
    since: iso(row.state_since) as string,
    usedAt: iso(row.used_at) as string,
    sleepsAt: row.state === 'live' ? shown(sleepsAt(times)) : null,
    closesAt: shown(closesAt(times)),
    keepUntil: iso(row.keep_until),
    dataOf: iso(row.data_of),
    wakeIssue: said(row.wake_issue),
  };
}

const verifiedIn = ({ evidence }: BoardRelease, environment: string): boolean =>
  (evidence ?? []).some((one) => one.kind === 'verification' && one.name === environment);

/** What a release would get of variables here, now. */
function resolved(service: Service, project: BoardProject, row: BoardEnvironment, release: BoardRelease): Resolved {
  return resolveVariables(
    release.plans ?? {},
    {
      environment: { name: row.name, url: reachedAt(service.context.addresses, row.host, row.main_host) },
      release: { number: release.number, commit: release.commit },
      project: { name: project.name },
    },
    release.line === 'own' ? setIn(project.variables, scopesOf(row)) : 'untrusted',
  );
}

/** What the environment before has that is not live here. */
function waits(
  service: Service,
  project: BoardProject,
  row: BoardEnvironment,
  live: Shown | null,
  rules: Rules,
): Environment['waits'] {
  const { after } = rules;
  const before = project.environments.find((one) => one.name === after);
  const release = before && deploymentIn(project, before.live_id)?.release;
  if (!release || !after || release.number === live?.release.number) return null;
  if (rules.verified && !verifiedIn(release, after)) return null;
  const approvals = row.approvals.filter((one) => one.release_id === release.id);
  const evidence = release.evidence ?? [];
  const { longest, source } = longestHealth(evidence, after);
  const judgement = judgePromotion({
    now: service.context.now(),
    environment: `${project.name}/${row.name}`,
    rules,
    release: release.number,
    digest: release.digest,
    liveRelease: live?.release.number ?? null,
    held: row.held_by !== null,
    heldWhy: heldWhy(row),
    moving: row.moving_id !== null,
    closed: row.state === 'closed' || row.state === 'closing',
    ...promotionEvidence(after, evidence),
    health: { longest, source, since: before.healthy_since === null ? null : Date.parse(before.healthy_since) },
    approvals,
    authors: approvals.filter(({ author }) => author).map(({ person }) => person),
    freeze: freezeOf(row),
    override: null,
    // It is live there now.
    wasLiveBefore: true,
    unset: resolved(service, project, row, release).unset,
  });
  const since = live?.release.run ?? 0;
  return {
    release: release.number,
    // The same commit run again is no push.
    pushes: new Set(
      project.runs
        .filter(({ number, commit }) => number > since && number <= release.run && commit !== live?.release.commit)
        .map(({ commit }) => commit),
    ).size,
    allowed: judgement.allowed,
    why: judgement.refusal ? wording(judgement.refusal).says : null,
    until: judgement.until === null ? null : new Date(judgement.until).toISOString(),
    whom: judgement.answers.find((one) => one.whom !== null)?.whom ?? null,
  };
}

/** PostgreSQL's way to write a time into JSON, in UTC with microseconds, as it is written elsewhere. */
const iso = (text: string | null): string | null =>
  text === null
    ? null
    : /^[^.]{19}\.\d{3}\d*\+00:00$/.test(text)
      ? `${text.slice(0, 23)}Z`
      : new Date(text).toISOString();

const deploymentOf = (project: string, environment: string, one: Shown): Deployment => ({
  project,
  environment,
  number: one.number,
  release: one.release.number,
  commit: {
    id: one.release.commit,
    title: one.release.title,
    author: one.release.author,
    at: iso(one.release.at) ?? new Date(0).toISOString(),
  },
  kind: one.kind,
  actor: one.actor,
  state: one.state,
  failure: said(one.failure),
  definitionCommit: one.definition_commit,
  createdAt: iso(one.created_at) as string,
  liveAt: iso(one.live_at),
  endedAt: iso(one.ended_at),
  warmUntil: iso(one.warm_until),
  override: one.override,
  together: one.joint_number,
  undoes: one.undoes,
});

/** Environments in the order of the thread: what takes a branch first, then what comes after it. */
function inThread(environments: Environment[]): Environment[] {
  const depth = (one: Environment, seen = 0): number => {
    const before = environments.find((other) => other.name === one.after);
    return before && seen < environments.length ? depth(before, seen + 1) + 1 : 0;
  };
  return [...environments].sort((a, b) => depth(a) - depth(b));
}
