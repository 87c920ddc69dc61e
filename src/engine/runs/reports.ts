/** What agents report, and what follows when they go away. The row with the work list is locked first, then the attempt or instance. */
import { wakePicture } from '../../records/deployments/pictures.js';
import { wakeSnapshot } from '../../records/resources/snapshots.js';
import { CodedError, issue, type Issue } from '../../core/errors/errors.js';
import type { Coverage } from '../../core/results/coverage.js';
import type { TestResults } from '../../core/results/model.js';
import type { InstanceState } from '../../core/states.js';
import type { StepEnd } from '../../core/advance/step.js';
import { isDigest } from '../../blobs/store.js';
import {
  type AttemptOfRun,
  type AttemptRow,
  attemptById,
  beginServed,
  endAttempt,
  type EndedCommand,
  endCommands,
  lockAs,
  lockHeld,
  startCommand,
} from '../../records/runs/attempts.js';
import { keepCoverage } from '../../records/runs/coverage.js';
import { wakeDeployments, deploymentById, releasedBy } from '../../records/deployments/deployments.js';
import { jobOf } from '../../records/jobs/jobs.js';
import { recordEvents } from '../../records/events.js';
import { dueTurning, isWaking, lockEnvironmentOf } from '../../records/deployments/environments.js';
import { stepLife } from '../environments/life.js';
import {
  forgetAgent,
  type InstanceRow,
  lockHeldInstance,
  instanceById,
  setInstanceState,
  lockSilent,
} from '../../records/deployments/instances.js';
import { runById, taskById } from '../../records/runs/runs.js';
import type { AttemptOver, Claim } from '../../records/runs/steps.js';
import type { Context, Db } from '../context.js';
import { refine } from './refine.js';

export type Happening =
  | { what: 'command-started'; position: number; firstLine: number }
  | { what: 'command-ended'; position: number; exit: number; ms: number }
  | ({ what: 'covered' } & Coverage)
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

/** An attempt as far as its reports need it. */
export type ReportedAttempt = Pick<
  AttemptOfRun,
  'id' | 'kind' | 'task_id' | 'deployment_id' | 'project_id' | 'run_id' | 'commit'
> & {
  /** Its commands; not known of all. */
  commands?: readonly string[];
};

/**
 * Takes the happenings of an attempt in their order, all or none; `fence_old` when it belongs to someone else by now. With the
 * end of a task's attempt the agent may be given more work at once: gives what it was given.
 */
export async function reportAttempt(
  context: Context,
  seen: ReportedAttempt,
  by: Reporter,
  happenings: readonly Happening[],
  claim?: Claim,
): Promise<AttemptRow[]> {
  const { id } = seen;
  const end = happenings.find((one) => one.what === 'ended');
  if (end?.output && (await context.blobs.size(end.output.digest)) === null)
    throw new CodedError('digest_wrong', { digest: end.output.digest });
  if (end && seen.commit) end.issue = await refine(context, seen.project_id, seen.commit, end.issue, 'its `reads`');
  const commands =
    seen.commands ?? (seen.task_id ? ((await taskById(context.records, seen.task_id))?.model.run ?? []) : []);
  const text = (position: number) => commands[position] ?? seen.kind;
  const told = happenings
    .filter((one) => one.what === 'command-ended')
    .map(
      ({ position, exit, ms }): EndedCommand => ({
        position,
        exit,
        ms,
        text: text(position),
        ...(end?.firstLines ? { firstLine: end.firstLines[position] ?? 0 } : {}),
      }),
    );
  const covered = happenings.find((one) => one.what === 'covered');
  if (covered)
    await context.records.transition('attempt.covered', async (db) => {
      await lockHeld(db, id, by.agent, by.fence);
      await keepCoverage(db, id, covered);
    });
  const begun = happenings.filter((one) => one.what === 'command-started');
  if (!end || !seen.run_id) {
    await context.records.transition(end ? 'attempt.ended' : 'attempt.reported', async (db) => {
      if (seen.deployment_id && end) await wakeDeployments(db, seen.deployment_id);
      // What was missed of its beginning is made up for.
      else if (seen.task_id)
        for (const one of await beginServed(db, [id])) context.steps.began(one.run, one.version, [id]);
      const attempt = await lockHeld(db, id, by.agent, by.fence);
      for (const one of begun) await startCommand(db, id, one.position, text(one.position), one.firstLine);
      if (!end) return endCommands(db, id, told);
      await deploymentStepOver(db, attempt, end, told, commands.length > 1 ? end.firstLines : undefined);
    });
    return [];
  }
  // Stored bytes that an agent found to be others than their digest says are looked at before anything is written.
  const wrong = end.issue?.code === 'digest_wrong' ? String(end.issue.data.digest) : null;
  const broken = wrong !== null && isDigest(wrong) && !(await context.blobs.verify(wrong)) ? wrong : null;
  const given = await context.steps.take(seen.run_id, {
    over: {
      end: endOf(id, end),
      from: 'running',
      ...by,
      commands: told,
      firstLines: commands.length > 1 ? end.firstLines : undefined,
    },
    claim,
    ...(broken ? { forget: broken } : {}),
  });
  // Only now nothing names them.
  if (broken) await context.blobs.remove(broken);
  return given;
}

const endOf = (attempt: string, { state, issue: why, output, tests }: Omit<StepEnd, 'attempt'>): StepEnd => ({
  attempt,
  state,
  issue: why,
  output,
  tests,
});

/** The end of what a deployment has done: prepare, seed, verify, a job, the scrub of a copy, pictures. */
async function deploymentStepOver(
  db: Db,
  attempt: Pick<AttemptRow, 'id' | 'project_id' | 'kind'>,
  { state, issue: why, output }: Pick<StepEnd, 'state' | 'issue' | 'output'>,
  commands: readonly EndedCommand[],
  firstLines?: readonly number[],
): Promise<void> {
  await endAttempt(db, attempt.id, state, why, commands, firstLines);
  await recordEvents(db, {
    type: 'attempt.ended',
    project: attempt.project_id,
    subject: `attempt ${attempt.id}`,
    actor: 'agent',
    data: { kind: attempt.kind, state, issue: why },
  });
  if (attempt.kind === 'scrub') await wakeSnapshot(db, attempt.id, output?.digest ?? null);
  if (attempt.kind === 'picture') await wakePicture(db, attempt.id, output?.digest ?? null);
  const job = attempt.kind === 'job' ? await jobOf(db, attempt.id) : null;
  if (job)
    await recordEvents(db, {
      type: 'job.ended',
      project: attempt.project_id,
      subject: job.subject,
      actor: 'agent',
      data: { number: job.number, state, issue: why },
    });
}

/**
 * Attempts that an agent has just been given: all tasks that they work for run now. What is missed here (the service dies) is
 * made up for by their next report.
 */
export async function beginAttempts(
  context: Pick<Context, 'records' | 'steps'>,
  attempts: readonly AttemptRow[],
): Promise<void> {
  const ids = attempts.filter((one) => one.kind === 'task').map((one) => one.id);
  if (ids.length === 0) return;
  const begun = await context.records.single('attempt.given', (db) => beginServed(db, ids));
  for (const one of begun) context.steps.began(one.run, one.version, ids);
}

/** Ends an attempt that no agent says anything of any more, as it was seen; what has changed since stays as it is. */
async function endUnheard(
  context: Context,
  seen: AttemptOfRun,
  how: Pick<AttemptOver, 'from' | 'agent' | 'fence' | 'lapsed'>,
  end: Omit<StepEnd, 'attempt' | 'output' | 'tests'>,
) {
  if (seen.run_id) {
    const over = { ...how, end: endOf(seen.id, { ...end, output: null, tests: null }), commands: [] };
    await context.steps.take(seen.run_id, { over }).catch((error) => {
      if (!(error instanceof CodedError && error.issue.code === 'fence_old')) throw error;
    });
    return;
  }
  await context.records.transition('attempt.ended', async (db) => {
    if (seen.deployment_id) await wakeDeployments(db, seen.deployment_id);
    if (await lockAs(db, seen.id, how)) await deploymentStepOver(db, seen, { ...end, output: null }, []);
  });
}

/**
 * An attempt whose agent went away. Another follows, or a person decides (prepare); not where it may be why its agent went (`hurt`).
 * `left`: the agent has said that it goes, and nothing is counted against the work.
 * Unless `now`, its lease is looked at again under the lock: it may have been renewed since it was seen.
 */
export async function loseAttempt(
  context: Context,
  seen: AttemptOfRun,
  agent: string,
  { now = false, hurt = false, left = false } = {},
): Promise<void> {
  const how = {
    from: 'running' as const,
    ...(seen.fence ? { fence: seen.fence } : {}),
    ...(now ? {} : { lapsed: true }),
  };
  await endUnheard(
    context,
    seen,
    how,
    hurt
      ? {
          state: 'failed',
          issue: issue('agent_hurt', {
            agent,
            why: 'it was over its limits of memory or processes when the agent ended',
          }),
        }
      : { state: 'lost', issue: issue(left ? 'agent_left' : 'agent_lost', { agent }) },
  );
}

/** An attempt that could not be given to the agent that claimed it: what it needs can't be told. */
export async function refuseAttempt(context: Context, row: AttemptRow, agent: string, why: Issue): Promise<void> {
  const seen = await attemptById(context.records, row.id);
  if (seen?.agent_id !== agent) return;
  await endUnheard(
    context,
    seen,
    { from: 'running', ...(row.fence ? { fence: row.fence } : {}) },
    { state: 'failed', issue: why },
  );
}

/** An attempt that was told to stop before an agent took it. */
export const stopWaiting = (context: Context, seen: AttemptOfRun): Promise<void> =>
  endUnheard(context, seen, { from: 'waiting' }, { state: 'stopped', issue: null });

/** An attempt that no agent can take any more: it was planned for a machine that is gone. */
export async function endOrphan(context: Context, seen: AttemptOfRun): Promise<void> {
  const task = seen.task_id ? await taskById(context.records, seen.task_id) : null;
  const run = task ? await runById(context.records, task.run_id) : null;
  await endUnheard(
    context,
    seen,
    { from: 'waiting' },
    { state: 'failed', issue: issue('base_gone', { run: run?.number ?? '' }) },
  );
}

export interface InstanceReport {
  state: 'ready' | 'frozen' | 'failed' | 'ended';
  port: number | null;
  exit: number | null;
  issue: Issue | null;
}

export async function reportInstance(
  context: Context,
  id: string,
  by: Reporter,
  report: InstanceReport,
): Promise<void> {
  const seen = await instanceById(context.records, id);
  if (!seen) throw new CodedError('fence_old');
  const own = seen.agent_id === by.agent && seen.fence === by.fence;
  if (own && report.state === 'ready' && seen.state === 'frozen' && !seen.still) context.stood.tell(id);
  if (report.issue) {
    const of = await releasedBy(context.records, seen.deployment_id);
    if (of) report.issue = await refine(context, of.project_id, of.commit, report.issue, `\`files\` of ${seen.part}`);
  }
  // Of what sleeps or wakes: that goes on in the same transaction, and its environment is locked first, as everywhere.
  const stood =
    report.state === 'frozen' ||
    (report.state === 'ready' && (seen.state === 'frozen' || (await isWaking(context.records, seen.deployment_id))));
  const name = stood ? 'instance.stood' : report.state === 'ready' ? 'instance.ready' : 'instance.over';
  await context.records.transition(name, async (db) => {
    const environment = stood ? await lockEnvironmentOf(db, seen.deployment_id) : null;
    if (!environment) {
      // What closes or falls asleep waits for its programs to end.
      if (report.state !== 'ready') await dueTurning(db, seen.deployment_id);
      await wakeDeployments(db, seen.deployment_id);
    }
    const row = await lockHeldInstance(db, id, by.agent, by.fence);
    if (row.state !== 'starting' && row.state !== 'ready' && row.state !== 'frozen') return;
    // Told by one who had not heard yet that it goes on again, or that it stands still by now.
    if (report.state === 'frozen' && (!row.still || row.state === 'starting')) return;
    if (report.state === 'ready' && row.state === 'frozen' && row.still) return;
    // One that was told to end has ended, however it went.
    const state: InstanceState = report.state === 'failed' && !row.wanted ? 'ended' : report.state;
    // Ready again on another port: its agent started it anew, after its machine was off.
    if (state === row.state && report.port === row.port) return;
    await setInstanceState(db, id, state, {
      port: report.port,
      exit: report.exit,
      issue: state === 'failed' ? report.issue : null,
    });
    if (!environment) return instanceEvent(db, row, state, report.issue);
    await stepLife({ context, db, environment }, 0);
  });
}

async function instanceEvent(db: Db, row: InstanceRow, state: InstanceState, why: Issue | null): Promise<void> {
  const found = await deploymentById(db, row.deployment_id);
  if (!found || state === 'waiting' || state === 'starting' || state === 'frozen') return;
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
    if (!(await lockSilent(db, seen, marginMs))) return;
    await forgetAgent(db, seen.id);
    await instanceEvent(db, seen, 'lost', null);
  });
}
