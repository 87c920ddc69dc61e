/** What arrives: events of code hosts, and branches of hosted repositories compared with the records. */
import { beginProject } from './beginnings.js';
import { type Pull, pullAfter, type PullChange, type PullEvent } from '../../core/advance/pulls.js';
import { backoff } from '../../core/backoff.js';
import { CodedError, issue, type Issue, registry } from '../../core/errors/errors.js';
import { GitError } from '../../git/command.js';
import { remoteOf } from './credentials.js';
import {
  branches,
  type CommitFacts,
  commitFacts,
  fetchAll,
  hasCommit,
  holdCommit,
  isCommitId,
} from '../../git/repository.js';
import { type Context, ensureRepository } from '../context.js';
import { type Lanes, openLanes } from '../lanes.js';
import { closeReviews, openReviewFor, parted } from '../environments/reviews.js';
import { recordEvents } from '../../records/events.js';
import { listProjects, projectById, type ProjectRow } from '../../records/projects/projects.js';
import { askStop, openRuns } from '../../records/runs/runs.js';
import {
  addRun,
  dropOldIntents,
  findPullRequest,
  type IntakeRow,
  openIntent,
  recordBranchRemoved,
  recordedBranches,
  recordPush,
  saveCommit,
  lockPullRequest,
  noteAuthor,
  putPullRequest,
  settleIntake,
  takeIntake,
} from '../../records/projects/sources.js';

/** Types of events that a code host sends; the pull request ones are CDEvents' words for a change. */
export const intakeTypes = {
  pushed: 'dev.tsunagi.branch.pushed',
  created: 'dev.cdevents.change.created',
  updated: 'dev.cdevents.change.updated',
  merged: 'dev.cdevents.change.merged',
  abandoned: 'dev.cdevents.change.abandoned',
} as const;

/** How often fetching is tried before an event counts as failed. */
const triesAtMost = 8;

/** Code hosts and sources that one service waits for at a time. */
export const sourceLanes = 4;

/** Events of code hosts: those of one project one after the other, those of several projects at the same time. */
export const intakeLanes = (context: Context, free: () => void): Lanes =>
  openLanes({
    name: 'intake',
    count: sourceLanes,
    take: async () => {
      const row = await takeIntake(context.records, context.timing.lease * 2);
      return row && { ...row, id: `${row.project_id} ${row.event_id}` };
    },
    work: (row) => workIntake(context, row),
    free,
    log: context.log,
  });

async function workIntake(context: Context, row: IntakeRow): Promise<void> {
  const project = await projectById(context.records, row.project_id);
  try {
    await apply(context, project, row);
  } catch (error) {
    const known = asIssue(error, project);
    // Who has it now settles it.
    if (known?.code === 'fence_old') return;
    // What we did not foresee may pass. After its last try it is reported, and the events behind it go on.
    if (!known && row.tries < triesAtMost) throw error;
    if (!known) context.log.error({ event: row.event_id, error: String((error as Error).stack) }, 'an event failed');
    const why = known ?? issue('internal', { reference: `event ${row.event_id}` });
    const away = why.code === 'fetch_failed' || (why.code.startsWith('source_') && registry[why.code].retry);
    const again = away && row.tries < triesAtMost;
    await context.records.transition('intake.settled', (db) =>
      settleIntake(
        db,
        row,
        {
          state: again ? 'waiting' : 'failed',
          issue: why,
          againMs: again ? backoff('intake', row.tries + 1) : null,
        },
        ...(again
          ? []
          : [
              {
                type: 'intake.failed' as const,
                project: project.id,
                subject: project.name,
                actor: row.source,
                data: { issue: why, event: row.event_id },
              },
            ]),
      ),
    );
  }
}

function asIssue(error: unknown, project: ProjectRow): Issue | null {
  if (error instanceof CodedError) return error.issue;
  if (error instanceof GitError)
    return issue('fetch_failed', { url: project.url ?? '', detail: error.detail.slice(0, 300) });
  return null;
}

async function apply(context: Context, project: ProjectRow, row: IntakeRow): Promise<void> {
  if (!project.url) throw new CodedError('source_kind', { project: project.name, kind: 'pushes', way: 'events' });
  const repository = await ensureRepository(context, project);
  const content = row.body as {
    branch?: string;
    commit?: string;
    actor?: string;
    number?: number;
  };
  const actor = content.actor ?? row.source;
  if (row.type === intakeTypes.pushed) {
    await fetchAll(repository, remoteOf(context, project));
    await compareBranches(context, project, actor);
    if (content.commit && !(await hasCommit(repository, content.commit)))
      throw new CodedError('commit_absent', { commit: content.commit, url: project.url });
    await context.records.transition('intake.settled', (db) =>
      settleIntake(db, row, { state: 'done', issue: null, againMs: null }),
    );
    return;
  }
  await takePull(
    context,
    project,
    { number: content.number as number, event: pullEvent(row), author: content.actor ?? null, actor },
    (db) => settleIntake(db, row, { state: 'done', issue: null, againMs: null }),
  );
  if (row.type === intakeTypes.merged) {
    await fetchAll(repository, remoteOf(context, project));
    await compareBranches(context, project, actor);
  }
}

/** What is told of a pull request, or seen of it at its source; `settle` records in the same transaction that it was taken. */
export async function takePull(
  context: Context,
  project: ProjectRow,
  {
    number,
    event,
    author,
    actor,
  }: {
    number: number;
    event: PullEvent;
    /** Whoever told of it; null where nobody knows. */
    author: string | null;
    actor: string;
  },
  settle: (db: Db) => Promise<unknown>,
): Promise<void> {
  const repository = await ensureRepository(context, project);
  const seen = await findPullRequest(context.records, project.id, number);
  const { pull, change } = pullAfter(seen, number, event, project.main_branch);
  let facts: CommitFacts | null = null;
  if (change === 'opened' || change === 'pushed') {
    await fetchAll(repository, remoteOf(context, project));
    if (!isCommitId(pull.head)) throw new CodedError('event_malformed', { detail: 'head is no commit id' });
    if (!(await hasCommit(repository, pull.head)))
      await fetchAll(repository, remoteOf(context, project), [pull.head]).catch(() => {});
    facts = await commitFacts(repository, pull.head);
    if (!facts) throw new CodedError('commit_absent', { commit: pull.head, url: project.url ?? '' });
    await holdCommit(repository, pull.head);
    await compareBranches(context, project, actor);
  }
  await context.records.transition(
    change === 'closed' ? 'pull-request.closed' : 'pull-request.recorded',
    async (db) => {
      if (facts) await saveCommit(db, project.id, facts);
      // What was told of it meanwhile counts here, too.
      const known = await lockPullRequest(db, project.id, number);
      const now = pullAfter(known, number, event, project.main_branch);
      // Its commit was not looked for: whoever has the event next does.
      if ((now.change === 'opened' || now.change === 'pushed') && facts?.id !== now.pull.head)
        throw new CodedError('fence_old');
      await putPullRequest(db, project.id, now.pull);
      if (author && now.change !== null) await noteAuthor(db, project.id, number, author);
      await takeChange(context, db, project, now.pull, now.change, actor);
      await settle(db);
    },
  );
}

const whats: Record<string, PullEvent['what']> = {
  [intakeTypes.created]: 'opened',
  [intakeTypes.updated]: 'updated',
  [intakeTypes.merged]: 'merged',
  [intakeTypes.abandoned]: 'abandoned',
};

/** What an event of a pull request tells. Fields that it leaves out stay as they are known. */
function pullEvent({ type, body, told_at }: IntakeRow): PullEvent {
  const { title, head, base, trusted, draft } = body as Partial<PullEvent>;
  return { what: whats[type] ?? 'updated', at: told_at.getTime(), title, head, base, trusted, draft };
}

/** Compares the mirror's branches with the records and records what differs: the same work after a push, after a fetch and after a crash. */
export async function compareBranches(context: Context, project: ProjectRow, actor: string | null): Promise<void> {
  const repository = await ensureRepository(context, project);
  // The records first: what moves meanwhile is then newer in git than here, never the other way round.
  const known = new Map((await recordedBranches(context.records, project.id)).map((row) => [row.name, row.head]));
  const there = await branches(repository);
  for (const [branch, head] of there) {
    if (known.get(branch) === head) continue;
    const facts = await commitFacts(repository, head);
    if (!facts) continue;
    await holdCommit(repository, head);
    await context.records.transition('push.recorded', async (db) => {
      const intent = await openIntent(db, project.id, branch, head);
      await recordPush(db, {
        project,
        branch,
        before: known.get(branch) ?? null,
        commit: facts,
        actor: intent?.actor ?? actor ?? 'unknown',
        intent: intent?.id ?? null,
      });
    });
  }
  for (const branch of known.keys()) {
    if (there.has(branch)) continue;
    await context.records.transition('branch.removed', async (db) => {
      const intent = await openIntent(db, project.id, branch, null);
      const who = intent?.actor ?? actor ?? 'unknown';
      const gone = await recordBranchRemoved(db, project, branch, known.get(branch) as string, who, intent?.id ?? null);
      if (gone) await closeReviews(db, project, { branch }, who);
    });
  }
}

/** Finds pushes whose answer was on its way when a process died. */
export async function sweepHosted(context: Context): Promise<void> {
  for (const project of await listProjects(context.records)) {
    if (project.source !== 'hosted') continue;
    try {
      await beginProject(context, project, 'tsunagi');
      await compareBranches(context, project, null);
      await dropOldIntents(context.records, project.id);
    } catch (error) {
      context.log.error(
        { project: project.name, error: String((error as Error).stack) },
        'its repository was not compared',
      );
    }
  }
}

type Db = Parameters<Parameters<Context['records']['transition']>[1]>[0];

/** What follows from what an event has changed of a pull request. */
async function takeChange(
  context: Context,
  db: Db,
  project: ProjectRow,
  pull: Pull,
  change: PullChange,
  actor: string,
): Promise<void> {
  if (change === null) return;
  if (change === 'closed') return closePullRequest(db, project, pull, actor);
  const subject = `pr-${pull.number}`;
  await recordEvents(db, {
    type: change === 'opened' ? 'pull-request.opened' : 'pull-request.updated',
    project: project.id,
    subject,
    actor,
    data: { title: pull.title, head: pull.head, base: pull.base, trusted: pull.trusted, draft: pull.draft },
  });
  if (change !== 'told')
    await addRun(db, {
      project: project.id,
      commit: pull.head,
      branch: null,
      pullRequest: pull.number,
      line: pull.trusted ? 'own' : subject,
      cause: 'pull request',
      actor,
      allowed: pull.trusted,
    });
  // One that has closed by itself opens with a commit, not with another title.
  await parted(db, project, pull, actor);
  await openReviewFor(context, db, project, pull, actor, { again: change !== 'told' });
}

async function closePullRequest(db: Db, project: ProjectRow, pull: Pull, actor: string): Promise<void> {
  await recordEvents(db, {
    type: 'pull-request.closed',
    project: project.id,
    subject: `pr-${pull.number}`,
    actor,
    data: { title: pull.title, merged: pull.merged },
  });
  for (const run of await openRuns(db, project.id, { pull_request: pull.number }))
    await askStop(db, run, 'the closing of its pull request');
  await closeReviews(db, project, { pull_request: pull.number }, actor);
}
