/** From a recorded run to its tasks. */
import { syncGates } from '../environments/gate.js';
import { lookAtSnapshots } from '../../records/resources/snapshots.js';
import type { Definition } from '../../core/definition/model.js';
import { definitionLimit, type DefinitionIssue } from '../../core/definition/parse.js';
import { CodedError, issue, type Issue, registry, wording } from '../../core/errors/errors.js';
import { pinRun } from '../../core/plan/plan.js';
import { unplaced } from '../../core/plan/unplaced.js';
import { layerKey } from '../../git/layer.js';
import { readFile } from '../../git/repository.js';
import { listAgents } from '../../records/callers/agents.js';
import { canonical } from '../../core/canonical.js';
import {
  dueReviews,
  findEnvironment,
  lockEnvironments,
  makeEnvironment,
} from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { olderOpenRuns, runBefore, setSuperseded, wakeWaitingRun } from '../../records/runs/order.js';
import {
  noteFiltered,
  acceptDefinition,
  lockMainHead,
  mainDefinition,
  projectById,
  type ProjectRow,
  saveDefinition,
} from '../../records/projects/projects.js';
import {
  beginPlanning,
  type Due,
  endRun,
  lockRun,
  planningOver,
  type RunRow,
  setRunIssue,
  setUnplaced,
  settleDue,
  startRun,
  stopTasks,
  stopWork,
} from '../../records/runs/runs.js';
import { freshState } from '../../records/runs/steps.js';
import { openReviewFor } from '../environments/reviews.js';
import { branchHead, openPullRequests } from '../../records/projects/sources.js';
import { moveRules, rulesMoved } from '../promotion/loosened.js';
import { beginRules } from '../../records/deployments/rules.js';
import { rulesOf } from '../../core/rules/in-force.js';
import { parseApart } from './parse.js';
import { planApart } from './plan.js';
import { pinSet } from '../environments/variables.js';
import { type Context, type Db, domainOf, repositoryOf, treeOf } from '../context.js';

const inFolder = (folder: string, name: string): string => (folder ? `${folder}/${name}` : name);
export const definitionPath = (folder: string): string => inFolder(folder, 'tsunagi.yaml');

export interface ReadDefinition {
  model: Definition | null;
  issues: DefinitionIssue[];
  /** Why there is no model. */
  refusal: Issue | null;
}

export async function readDefinition(context: Context, project: ProjectRow, commit: string): Promise<ReadDefinition> {
  const path = definitionPath(project.folder);
  const source = await readFile(repositoryOf(context, project), commit, path, definitionLimit);
  if (source === null && project.draft === null)
    return { model: null, issues: [], refusal: issue('definition_missing', { commit: commit.slice(0, 7), path }) };
  if (source === 'too large')
    return { model: null, issues: [], refusal: issue('definition_too_large', { path, limit: '256 KiB' }) };
  // A commit without a definition gets the project's draft, until one is committed.
  const { definition, issues } = await parseApart(context, project.id, source ?? project.draft ?? '');
  if (definition) return { model: definition, issues, refusal: null };
  const errors = issues.filter((one) => one.severity === 'error');
  const first = errors[0];
  const count = errors.length === 1 ? 'one error' : `${errors.length} errors`;
  return {
    model: null,
    issues,
    refusal: issue('definition_invalid', {
      path,
      count,
      first: first ? `line ${first.line}: ${wording(first).says}` : '',
    }),
  };
}

/**
 * What a push means for the older runs of its branch or pull request. Where an environment takes the branch, the run that runs
 * finishes and this one waits for it, and of those that wait only the newest stays; elsewhere older ones end at once.
 * False when this run does not go on now.
 */
async function takeTurn(context: Context, project: ProjectRow, run: RunRow, due: Due): Promise<boolean> {
  if ((await olderOpenRuns(context.records, run)).length === 0) return true;
  const main = await mainDefinition(context.records, project.id);
  const taken =
    run.pull_request === null &&
    Object.values(main?.model.environments ?? {}).some((plan) => plan.branch === run.branch);
  return context.records.transition('run.turned', async (db) => {
    const older = await olderOpenRuns(db, run);
    const replaced = older.filter((one) => !taken || one.state === 'waiting').map((one) => one.id);
    if (replaced.length) {
      await setSuperseded(db, replaced, run.number);
      for (const id of replaced) await stopWork(db, id);
    }
    const before = taken ? await runBefore(db, run) : null;
    if (!before) return true;
    await setRunIssue(db, run.id, issue('waits_for_run', { run: before.number }));
    await settleDue(db, 'runs', due, null);
    return false;
  });
}

/** How often planning a run may be begun: one that ended the service each time is not begun for ever. */
const triesAtMost = 3;

/** Plans a waiting run, or says what it waits for. What its commit is to blame for fails it, in words. */
export async function planWaitingRun(context: Context, due: Due, run: RunRow): Promise<void> {
  try {
    const [tries, project] = await Promise.all([
      beginPlanning(context.records, run.id),
      projectById(context.records, run.project_id),
    ]);
    if (tries > triesAtMost) throw new CodedError('run_hurts', { tries: tries - 1 });
    await planRunOnce(context, project, run, due);
    await planningOver(context.records, run.id);
  } catch (error) {
    if (!(error instanceof CodedError)) throw error;
    if (registry[error.issue.code].retry) {
      // It passes: what counts is a planning that ends the process.
      await planningOver(context.records, run.id);
      throw error;
    }
    await failRun(context, run.id, error.issue);
  }
}

/** What git and the records have to say is asked for at once, and waited for where it is needed. */
function askAll(context: Context, project: ProjectRow, run: RunRow) {
  const listing = treeOf(context, project, run.commit);
  const agents = listAgents(context.records);
  const reading = readDefinition(context, project, run.commit);
  for (const one of [listing, agents, reading]) one.catch(() => {});
  return { listing, agents, reading };
}

async function planRunOnce(context: Context, project: ProjectRow, run: RunRow, due: Due): Promise<void> {
  const { records } = context;
  const { id } = run;
  if (run.stopped_by)
    return void (await records.transition('run.stopped', (db) =>
      finish(db, run, 'stopped', issue('stopped_by', { who: run.stopped_by })),
    ));
  if (run.superseded_by) {
    const by = issue('superseded_by', { run: run.superseded_by });
    return void (await records.transition('run.superseded', (db) => finish(db, run, 'superseded', by)));
  }
  if (project.paused_at !== null) {
    await records.transition('run.waits', async (db) => {
      await setRunIssue(db, id, issue('project_paused', { project: project.name }));
      await settleDue(db, 'runs', due, null);
    });
    return;
  }
  const asked = run.allowed ? askAll(context, project, run) : null;
  if (run.cause !== 'asked' && !(await takeTurn(context, project, run, due))) return;
  if (!asked) {
    await records.transition('run.waits', async (db) => {
      await setRunIssue(db, id, issue('run_untrusted', { commit: run.commit.slice(0, 7) }));
      await settleDue(db, 'runs', due, null);
    });
    return;
  }
  const { listing, agents, reading } = asked;
  const read = await reading;
  const { model } = read;
  if (!model) {
    await records.transition('run.refused', async (db) => {
      await saveDefinition(db, project.id, run.commit, null, read.issues);
      if (run.branch === project.main_branch && (await branchHead(db, project.id, run.branch)) === run.commit)
        await recordEvents(db, {
          type: 'definition.refused',
          project: project.id,
          subject: project.name,
          actor: run.actor,
          data: { commit: run.commit, issue: read.refusal },
        });
      await finish(db, run, 'failed', read.refusal);
    });
    return;
  }
  const files = await listing;
  const attributes = files.some((file) => file.path === '.gitattributes')
    ? await readFile(repositoryOf(context, project), run.commit, inFolder(project.folder, '.gitattributes'), 65_536)
    : null;
  const { plan, warnings } = await planApart(
    context,
    project.id,
    model,
    files,
    { branch: run.branch, pullRequest: run.pull_request },
    attributes instanceof Buffer ? attributes.toString('utf8') : null,
  );
  const refused = plan.issues[0] ?? null;
  const offers = (await agents).filter(
    (agent) => agent.alive && agent.takes.includes(run.line === 'own' ? 'runs' : 'untrusted'),
  );
  const pinned = pinRun(model.tools, plan.tasks, offers);
  const { set, refused: unset } = await pinSet(
    context,
    records,
    project,
    run.line,
    plan.tasks.map((one) => one.task),
  );
  let planned: Awaited<ReturnType<typeof startRun>> | null = null;
  await records.transition('run.planned', async (db) => {
    planned = null;
    const now = await lockRun(db, id);
    if (now?.state !== 'waiting') return;
    await takeDefinition(context, db, project, run, { model, issues: read.issues });
    await tellFiltered(db, project, run, warnings);
    if (refused ?? unset) return finish(db, run, 'failed', refused ?? unset);
    const needsAgent = Object.keys(model.tasks).length > 0;
    if (needsAgent && (pinned === null || 'code' in pinned)) {
      const why = pinned ?? issue('no_agent_for_runs');
      const since = await setUnplaced(db, id, why, context.now());
      const next = unplaced(context.now() - since.getTime());
      if (next.ends) return finish(db, run, 'failed', issue('no_agent_came', { detail: wording(why).says }));
      return settleDue(db, 'runs', due, next.againMs);
    }
    const pin = { ...(pinned && !('code' in pinned) ? pinned : { versions: {}, base: '', resources: {} }), set };
    const started = await startRun(
      db,
      id,
      plan.tasks.map((one) => ({
        name: one.task.name,
        position: one.position,
        evidence: one.evidence,
        model: one.task,
        files: { key: layerKey(one.files), count: one.files.length },
        pinned: pin,
      })),
      warnings,
    );
    await recordEvents(db, {
      type: 'run.planned',
      project: project.id,
      subject: `run ${run.number}`,
      actor: 'engine',
      data: { tasks: plan.tasks.length },
    });
    planned = started;
  });
  if (!planned) return;
  // Its steps need what is here already. Who dies here leaves the run on the work list.
  context.scenes.set(id, { project, model, files });
  context.steps.learn(id, freshState(planned));
  await context.steps.take(id, { stamp: due.stamp });
}

/** Main's files may be pointers to what is kept elsewhere: nobody would look for that in a passed run. */
async function tellFiltered(
  db: Db,
  project: ProjectRow,
  run: RunRow,
  warnings: readonly { code: string; data: Record<string, unknown> }[],
): Promise<void> {
  if (run.branch !== project.main_branch) return;
  const asked = warnings.find((one) => one.code === 'filter_attribute')?.data.attribute;
  const attribute = typeof asked === 'string' && asked.startsWith('filter=') ? asked.slice(0, 100) : null;
  if (!(await noteFiltered(db, project.id, attribute)) || attribute === null) return;
  await recordEvents(db, {
    type: 'repository.filtered',
    project: project.id,
    subject: project.name,
    actor: run.actor,
    data: { attribute, commit: run.commit },
  });
}

/** Ends a run that can't go on, in words. */
export async function failRun(context: Context, id: string, why: Issue): Promise<void> {
  await context.records.transition('run.refused', async (db) => {
    const now = await lockRun(db, id);
    if (now?.state !== 'waiting' && now?.state !== 'running') return;
    // Its release may fail while other tasks of it wait or run.
    if (now.state === 'running') await stopTasks(db, id);
    await finish(db, now, 'failed', why);
  });
}

async function finish(
  db: Db,
  run: RunRow,
  state: 'failed' | 'stopped' | 'superseded',
  why: Issue | null,
): Promise<void> {
  await endRun(db, run.id, state, why);
  await wakeWaitingRun(db, run.id);
  await recordEvents(db, {
    type: 'run.ended',
    project: run.project_id,
    subject: `run ${run.number}`,
    actor: 'engine',
    data: { state, issue: why },
  });
}

/**
 * Keeps the definition of a run's commit. The project takes it as its own where the commit is the recorded head of main: another run of
 * an older commit declares nothing, whatever its number. The definition of main says which environments there are. Standing ones are made at
 * once, reviews for the pull requests that are open.
 */
async function takeDefinition(
  context: Context,
  db: Db,
  project: ProjectRow,
  run: RunRow,
  { model, issues }: { model: Definition; issues: readonly DefinitionIssue[] },
): Promise<void> {
  const ofMain = run.branch === project.main_branch && (await lockMainHead(db, project.id)) === run.commit;
  const main = await mainDefinition(db, project.id);
  // Of a commit without a definition it is the draft, which can have changed since main took it.
  if (ofMain || main?.commit !== run.commit) await saveDefinition(db, project.id, run.commit, model, issues);
  if (!ofMain) return;
  if (main?.commit === run.commit && canonical(main.model) === canonical(model)) return;
  const before = main?.model.environments ?? {};
  await acceptDefinition(db, project.id, run.commit, run.number);
  await recordEvents(db, {
    type: 'definition.accepted',
    project: project.id,
    subject: project.name,
    actor: run.actor,
    data: { commit: run.commit },
  });
  // What makes copies fit for others may be another command now.
  await lookAtSnapshots(db, { project: project.id });
  const plans = Object.values(model.environments);
  const guarded = plans.filter((plan) => plan.for !== null && before[plan.name]?.access !== plan.access);
  // Before any of them is locked by itself: all are locked in one order.
  const loosened = await rulesMoved(db, project, before, model.environments);
  if (guarded.length || loosened.length) await lockEnvironments(db, [project.id], null);
  for (const one of loosened) await moveRules(db, project, one, run.actor);
  for (const plan of guarded) await syncGates(context, db, project, plan);
  for (const plan of plans) {
    if (plan.for === null) {
      // One that main has declared before and that is open is left alone: its lock would wait for all that goes on there.
      const known = before[plan.name] ? await findEnvironment(db, project.id, plan.name) : null;
      if (!known || known.state === 'closing' || known.state === 'closed')
        await makeEnvironment(
          db,
          {
            project: project.id,
            projectName: project.name,
            name: plan.name,
            kind: 'standing',
            plan: plan.name,
            pullRequest: null,
            domain: domainOf(context.addresses, 'standing'),
          },
          run.actor,
        );
      await beginRules(db, project.id, plan.name, rulesOf(model.environments, plan.name));
      continue;
    }
    // Other times and bounds count at once.
    if (canonical(before[plan.name]?.idle ?? null) !== canonical(plan.idle ?? null))
      await dueReviews(db, project.id, plan.name);
    // What has closed by itself stays so; a push to it opens it again.
    for (const pull of await openPullRequests(db, project.id))
      await openReviewFor(context, db, project, pull, run.actor, { again: false });
  }
}
