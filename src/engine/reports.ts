/** What agents report, and what follows when they go away. The row with the work list is locked first, then the attempt or instance. */
import { taskAfter } from '../core/advance/runs.js';
import { CodedError, issue, type Issue } from '../core/errors.js';
import type { TestResults } from '../core/results/junit.js';
import type { AttemptState, InstanceState } from '../core/states.js';
import { isDigest } from '../blobs/store.js';
import {
  type AttemptOfRun,
  type AttemptRow,
  attemptById,
  attemptsOfRun,
  endAttempt,
  type EndedCommand,
  endCommands,
  lockHeld,
  placeCommands,
  startCommand,
  startFirst,
} from '../records/attempts.js';
import { wakeDeployments } from '../records/environments.js';
import { type NewEvent, recordEvents } from '../records/events.js';
import { forgetAgent, type InstanceRow, lockHeldInstance, instanceById, setInstanceState } from '../records/instances.js';
import { projectById } from '../records/projects.js';
import { forgetOutput, keepResult } from '../records/results.js';
import {
  changeTasks,
  lockRun,
  lockServedRuns,
  makeDue,
  readyTasks,
  type RunRow,
  type ServedTask,
  servedTasks,
  settleRun,
  type TaskChange,
  type TaskRow,
  tasksOf,
} from '../records/runs.js';
import { type AdvanceScene, advanceIn, advanceScene, endingOf, type JustEnded, newTries } from './advance.js';
import type { Context, Db } from './context.js';
import { refine } from './refine.js';

export type Happening =
  | { what: 'command-started'; position: number; firstLine: number }
  | { what: 'command-ended'; position: number; exit: number; ms: number }
  | {
      what: 'ended';
      state: 'passed' | 'failed' | 'stopped';
      issue: Issue | null;
      output: { digest: string; size: number } | null;
      tests: TestResults | null;
      firstLines?: number[];
    };

export interface Reporter {
  agent: string;
  fence: string;
}

/** Takes the happenings of an attempt in their order, all or none; `fence_old` when it belongs to someone else by now. */
export async function reportAttempt(context: Context, seen: AttemptOfRun, by: Reporter, happenings: readonly Happening[]): Promise<void> {
  const { id } = seen;
  for (const one of happenings) {
    if (one.what === 'ended' && one.output && (await context.blobs.size(one.output.digest)) === null)
      throw new CodedError('digest_wrong', { digest: one.output.digest });
  }
  const last = happenings.some((one) => one.what === 'ended');
  for (const one of happenings)
    if (one.what === 'ended' && seen.commit) one.issue = await refine(context, seen.project_id, seen.commit, one.issue, 'its `reads`');
  const over = last ? await sceneOf(context, seen) : null;
  // Stored bytes that an agent found to be others than their digest says: looked at here before any row is locked, since that takes a while.
  const wrong = happenings.flatMap((one) => (one.what === 'ended' && one.issue?.code === 'digest_wrong' ? [String(one.issue.data.digest)] : []))[0];
  const broken = wrong !== undefined && isDigest(wrong) && !(await context.blobs.verify(wrong));
  await context.records.transition(last ? 'attempt.ended' : 'attempt.reported', async (db) => {
    const owner = await lockOwner(db, seen, last);
    const attempt = await lockHeld(db, id, by.agent, by.fence);
    if (owner && ['ready', 'stopped', 'superseded'].includes(owner.task.state)) await beginTasks(db, attempt);
    const commands = owner?.task.model.run ?? [];
    const text = (position: number) => commands[position] ?? attempt.kind;
    const end = happenings.find((one) => one.what === 'ended');
    for (const one of happenings) if (one.what === 'command-started') await startCommand(db, id, one.position, text(one.position), one.firstLine);
    const told = happenings
      .filter((one) => one.what === 'command-ended')
      .map(({ position, exit, ms }) => ({
        position,
        exit,
        ms,
        text: text(position),
        ...(end?.firstLines ? { firstLine: end.firstLines[position] ?? 0 } : {}),
      }));
    if (!end) return endCommands(db, id, told);
    if (end.firstLines && commands.length > 1) await placeCommands(db, id, end.firstLines);
    await attemptOver(context, db, attempt, owner, over, end, told, broken);
  });
  // Only now nothing names them.
  if (broken) await context.blobs.remove(wrong as string);
}

/** What the run's next step needs; null leaves that step to the engine's loop. */
const sceneOf = async (context: Context, attempt: AttemptOfRun): Promise<AdvanceScene | null> =>
  attempt.run_id ? advanceScene(context, { id: attempt.run_id, project_id: attempt.project_id, commit: attempt.commit as string }).catch(() => null) : null;

interface Owner {
  run: RunRow;
  task: TaskRow;
  tasks: TaskRow[];
}

/** Locks the row with the work list that an attempt belongs to. */
async function lockOwner(db: Db, attempt: AttemptOfRun, wake: boolean): Promise<Owner | null> {
  if (attempt.deployment_id) {
    if (wake) await wakeDeployments(db, attempt.deployment_id);
    return null;
  }
  // Every run that it works for, in the order of their ids, as everyone locks them: its end changes their tasks.
  await lockServedRuns(db, attempt.id, attempt.run_id as string);
  const run = await lockRun(db, attempt.run_id as string);
  const tasks = await tasksOf(db, attempt.run_id as string);
  const task = tasks.find((one) => one.id === attempt.task_id);
  if (!run || !task) throw new Error(`attempt ${attempt.id} has no task`);
  return { run, task, tasks };
}

/** Failures that are the agent's, the sandbox's or the service's own. */
const ofTheMachine: ReadonlySet<string> = new Set([
  'setup_failed',
  'sandbox_missing',
  'report_refused',
  'digest_wrong',
  'not_found',
  'unavailable',
  'internal',
  'agent_hurt',
  'secret_unreadable',
  'disk_nearly_full',
  'base_gone',
]);

type End = Omit<Extract<Happening, { what: 'ended' }>, 'what' | 'state'> & { state: AttemptState };

/** Records how an attempt ended and what follows for its task; with a scene, the run's next step too. */
async function attemptOver(
  context: Context,
  db: Db,
  attempt: AttemptRow,
  owner: Owner | null,
  scene: AdvanceScene | null,
  end: End,
  commands: readonly EndedCommand[] = [],
  broken = false,
): Promise<void> {
  const { state, issue: why, output, tests } = end;
  await endAttempt(db, attempt.id, state, why, commands);
  if (!owner) {
    await recordEvents(db, {
      type: 'attempt.ended',
      project: attempt.project_id,
      subject: `attempt ${attempt.id}`,
      actor: 'agent',
      data: { kind: attempt.kind, state, issue: why },
    });
    return;
  }
  const { run, task } = owner;
  const [attempts, served] = [await attemptsOfRun(db, run.id), await servedTasks(db, attempt.id)];
  const count = (what: AttemptState) => attempts.filter((one) => one.task_id === task.id && one.state === what).length;
  const tries = { lost: count('lost'), failed: count('failed'), retry: task.model.retry };
  // What goes on for another run is not cut short because this one is to end.
  const others = served.filter((one) => one.run_id !== run.id);
  const next = taskAfter(state, tries, others.length ? null : endingOf(run));
  // What the machine did wrong says nothing of the work.
  if (task.fingerprint && (state === 'passed' || (state === 'failed' && !(why && ofTheMachine.has(why.code)))))
    await keepResult(db, { project: run.project_id, line: run.line, fingerprint: task.fingerprint, attempt: attempt.id, state, output, tests });
  if (why?.code === 'digest_wrong' && broken) await forgetOutput(db, String(why.data.digest));
  const own = served.find((one) => one.id === task.id);
  const again = next === 'ready' ? (own ?? others[0]) : undefined;
  const [attemptAgain] = again ? await newTries(db, await projectById(db, run.project_id), { ...run, ...again, line: run.line }, [again], attempts) : [];
  const changeOf = (one: TaskRow): TaskChange => ({
    id: one.id,
    state: next,
    issue: why,
    output: next === 'passed' ? output : null,
    tests,
    ...(attemptAgain ? { attempt: attemptAgain } : {}),
    ...(next === 'passed' && tries.failed > 0 ? { flaky: true } : {}),
  });
  const eventsOf = (one: { name: string }, number: number): NewEvent[] => {
    const shared = { project: run.project_id, subject: `run ${number}`, actor: 'agent' };
    return [
      { type: 'attempt.ended', ...shared, data: { task: one.name, attempt: attempt.number, state, issue: why } },
      ...(next === 'ready' ? [] : [{ type: 'task.ended' as const, ...shared, data: { task: one.name, state: next } }]),
    ];
  };
  if (others.length) {
    await changeTasks(db, others.map(changeOf));
    await recordEvents(db, ...others.flatMap((one) => eventsOf(one, one.run_number)));
    for (const one of others) await makeDue(db, 'runs', one.run_id);
  }
  if (!own) return settleRun(db, run.id, { dueInMs: null });
  const just: JustEnded = { change: changeOf(own), events: eventsOf(own, run.number) };
  if (scene) return advanceIn(context, db, scene, run, owner.tasks, attemptAgain ? await attemptsOfRun(db, run.id) : attempts, just);
  await changeTasks(db, [just.change]);
  await recordEvents(db, ...just.events);
  await settleRun(db, run.id, { dueInMs: 0 });
}

/**
 * Attempts that an agent has just been given: all tasks that they work for run now. What is missed here (the service dies, someone
 * else holds the task) is made up for by their next report.
 */
export async function beginAttempts(context: Pick<Context, 'records'>, attempts: readonly AttemptRow[]): Promise<void> {
  const tasks = attempts.filter((one) => one.kind === 'task');
  if (tasks.length === 0) return;
  await context.records.transition('attempt.given', async (db) => {
    const ready = await readyTasks(
      db,
      tasks.map((one) => one.id),
    );
    if (ready.length === 0) return;
    const own = (task: TaskRow) => tasks.find((one) => one.id === task.attempt_id) as AttemptRow;
    await startServed(
      db,
      ready.map((task) => ({ task, attempt: own(task) })),
    );
    await startFirst(
      db,
      ready.filter((task) => own(task).task_id === task.id).map((task) => ({ attempt: own(task).id, text: task.model.run[0] ?? '' })),
    );
  });
}

/** The first word of an attempt whose beginning was missed. */
async function beginTasks(db: Db, attempt: AttemptRow): Promise<void> {
  const served = (await servedTasks(db, attempt.id)).filter((one) => one.state === 'ready');
  if (served.length)
    await startServed(
      db,
      served.map((task) => ({ task, attempt })),
    );
}

async function startServed(db: Db, served: readonly { task: ServedTask; attempt: AttemptRow }[]): Promise<void> {
  await changeTasks(
    db,
    served.map(({ task }) => ({ id: task.id, state: 'running' })),
  );
  await recordEvents(
    db,
    ...served.map(
      ({ task, attempt }): NewEvent => ({
        type: 'attempt.started',
        project: attempt.project_id,
        subject: `run ${task.run_number}`,
        actor: 'agent',
        data: { task: task.name, attempt: attempt.number },
      }),
    ),
  );
}

const ended = (state: AttemptState, why: Issue | null): End => ({ state, issue: why, output: null, tests: null });

/**
 * An attempt whose agent went away. Another follows, or a person decides (prepare); not where it may be why its agent went (`hurt`).
 * Unless `now`, its lease is looked at again under the lock: it may have been renewed since it was seen.
 */
export async function loseAttempt(context: Context, seen: AttemptOfRun, agent: string, { now = false, hurt = false } = {}): Promise<void> {
  await context.records.transition('attempt.lost', async (db) => {
    const owner = await lockOwner(db, seen, true);
    const row = await db.one(
      `select 1 as ok from attempts where id = $1 and state = 'running' and fence = $2 and ($3 or lease_until < now()) for no key update`,
      [seen.id, seen.fence, now],
    );
    if (!row) return;
    const why = hurt
      ? ended('failed', issue('agent_hurt', { agent, why: 'it was over its limits of memory or processes when the agent ended' }))
      : ended('lost', issue('agent_lost', { agent }));
    await attemptOver(context, db, seen, owner, null, why);
  });
}

/** An attempt that could not be given to the agent that claimed it: what it needs can't be told. */
export async function refuseAttempt(context: Context, row: AttemptRow, agent: string, why: Issue): Promise<void> {
  const seen = await attemptById(context.records, row.id);
  if (seen?.agent_id !== agent) return;
  await context.records.transition('attempt.ended', async (db) => {
    const owner = await lockOwner(db, seen, true);
    const held = await db.one(`select 1 as ok from attempts where id = $1 and state = 'running' and fence = $2 for no key update`, [row.id, row.fence]);
    if (held) await attemptOver(context, db, seen, owner, null, ended('failed', why));
  });
}

/** An attempt that was told to stop before an agent took it. */
export async function stopWaiting(context: Context, seen: AttemptOfRun): Promise<void> {
  await context.records.transition('attempt.stopped', async (db) => {
    const owner = await lockOwner(db, seen, true);
    const row = await db.one(`select 1 as ok from attempts where id = $1 and state = 'waiting' for no key update`, [seen.id]);
    if (row) await attemptOver(context, db, seen, owner, null, ended('stopped', null));
  });
}

/** An attempt that no agent can take any more: it was planned for a machine that is gone. */
export async function endOrphan(context: Context, seen: AttemptOfRun): Promise<void> {
  await context.records.transition('attempt.stopped', async (db) => {
    const owner = await lockOwner(db, seen, true);
    const row = await db.one(`select 1 as ok from attempts where id = $1 and state = 'waiting' for no key update`, [seen.id]);
    if (row) await attemptOver(context, db, seen, owner, null, ended('failed', issue('base_gone', { run: owner?.run.number ?? '' })));
  });
}

export interface InstanceReport {
  state: 'ready' | 'failed' | 'ended';
  port: number | null;
  exit: number | null;
  issue: Issue | null;
}

export async function reportInstance(context: Context, id: string, by: Reporter, report: InstanceReport): Promise<void> {
  const seen = await instanceById(context.records, id);
  if (!seen) throw new CodedError('fence_old');
  if (report.issue) {
    const of = await context.records.one<{ project_id: string; commit: string }>(
      'select r.project_id, r.commit from deployments d join releases r on r.id = d.release_id where d.id = $1',
      [seen.deployment_id],
    );
    if (of) report.issue = await refine(context, of.project_id, of.commit, report.issue, `\`files\` of ${seen.part}`);
  }
  await context.records.transition(report.state === 'ready' ? 'instance.ready' : 'instance.over', async (db) => {
    await wakeDeployments(db, seen.deployment_id);
    const row = await lockHeldInstance(db, id, by.agent, by.fence);
    if (row.state !== 'starting' && row.state !== 'ready') return;
    // One that was told to end has ended, however it went.
    const state: InstanceState = report.state === 'failed' && !row.wanted ? 'ended' : report.state;
    // Ready again on another port: its agent started it anew, after its machine was off.
    if (state === row.state && report.port === row.port) return;
    await setInstanceState(db, id, state, { port: report.port, exit: report.exit, issue: state === 'failed' ? report.issue : null });
    await instanceEvent(db, row, state, report.issue);
  });
}

async function instanceEvent(db: Db, row: InstanceRow, state: InstanceState, why: Issue | null): Promise<void> {
  const found = await db.one<{ number: number; project_id: string }>('select number, project_id from deployments where id = $1', [row.deployment_id]);
  if (!found || state === 'waiting' || state === 'starting') return;
  await recordEvents(db, {
    type: `instance.${state}`,
    project: found.project_id,
    subject: `d${found.number}`,
    actor: 'agent',
    data: { part: row.part, position: row.position, issue: why },
  });
}

/** An instance whose agent went away `marginMs` ago or more, which is looked at again under the lock. */
export async function loseInstance(context: Context, seen: InstanceRow, marginMs: number): Promise<void> {
  await context.records.transition('instance.lost', async (db) => {
    await wakeDeployments(db, seen.deployment_id);
    const row = await db.one(
      `select 1 as ok from instances i join agents a on a.id = i.agent_id
       where i.id = $1 and i.state in ('starting', 'ready') and i.fence = $2 and a.lease_until < now() - $3::int * interval '1 ms' for update of i`,
      [seen.id, seen.fence, marginMs],
    );
    if (!row) return;
    await forgetAgent(db, seen.id);
    await instanceEvent(db, seen, 'lost', null);
  });
}
