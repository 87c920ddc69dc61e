import { openReviewFor } from '../../../engine/environments/reviews.js';
import { openPullRequests } from '../../../records/projects/sources.js';
import { Type } from '@sinclair/typebox';
import { CodedError } from '../../../core/errors/errors.js';
import { hintFor } from '../../../core/nearest.js';
import { coverageOfRun } from '../../../engine/runs/coverage.js';
import { recordEvents } from '../../../records/events.js';
import type { Caller } from '../../../records/callers/people.js';
import { listRuns } from '../../../records/views/overview.js';
import { addRun, saveCommit } from '../../../records/projects/sources.js';
import { allowCommit, askStop, runById, tasksOf, wasAllowed } from '../../../records/runs/runs.js';
import { type Db, notify } from '../../../records/database.js';
import { Page, PageQuery } from '../../../wire/parts.js';
import { Run, RunAgain, RunCoverage, RunDetail, StartRun } from '../../../wire/runs.js';
import { type App, change, needProject, needRun, type Service } from '../../server.js';
import { findRef, lineOf, type Ref } from '../../refs.js';
import { runDetail, runView, runViewOf } from '../../views/runs.js';

const Query = Type.Object(
  {
    project: Type.Optional(Type.String()),
    state: Type.Optional(Type.String()),
    branch: Type.Optional(Type.String()),
    pull_request: Type.Optional(Type.Integer()),
    ...PageQuery,
  },
  { additionalProperties: false },
);
export const NumberParams = Type.Object({
  project: Type.String(),
  number: Type.Integer({ minimum: 1, maximum: 2_147_483_647 }),
});

const CommitParams = Type.Object({
  project: Type.String(),
  commit: Type.String({ pattern: '^[0-9a-f]{40}([0-9a-f]{24})?$' }),
});

/** A run that somebody has asked for; gives its id. */
async function addAsked(
  db: Db,
  project: string,
  found: Ref,
  actor: string,
  fresh: readonly string[] | null,
): Promise<string> {
  if (!found.earlier) await saveCommit(db, project, found.facts);
  const { id } = await addRun(db, {
    project,
    commit: found.commit,
    branch: found.branch,
    pullRequest: found.pull?.number ?? (found.branch === null ? (found.earlier?.pull_request ?? null) : null),
    line: lineOf(found),
    cause: 'asked',
    actor,
    allowed: true,
    fresh: fresh === null ? null : [...fresh],
  });
  return id;
}

export function runRoutes(app: App, service: Service): void {
  const { records } = service.context;

  app.get('/api/runs', { schema: { querystring: Query, response: { 200: Page(Run) } } }, async (request) => {
    const query = request.query;
    const limit = query.limit ?? 30;
    if (query.cursor && !/^[0-9a-f-]{36}$/.test(query.cursor)) throw new CodedError('cursor_wrong');
    const rows = await listRuns(records, {
      before: query.cursor ?? null,
      only: (request.caller as Caller).project,
      project: query.project ?? null,
      state: query.state ?? null,
      branch: query.branch ?? null,
      pullRequest: query.pull_request ?? null,
      limit: limit + 1,
    });
    const items = rows.slice(0, limit).map(runView);
    return { items, next: rows.length > limit ? (rows[limit - 1]?.id ?? null) : null };
  });

  app.get(
    '/api/projects/:project/runs/:number',
    { schema: { params: NumberParams, response: { 200: RunDetail } } },
    async (request) => {
      const { project, run } = await needRun(service, request);
      return runDetail(records, project, run);
    },
  );

  app.get(
    '/api/projects/:project/runs/:number/coverage',
    { schema: { params: NumberParams, response: { 200: RunCoverage } } },
    async (request) => {
      const { project, run } = await needRun(service, request);
      return coverageOfRun(service.context, project, run);
    },
  );

  /** Starts a run of a branch, commit or pull request. An untrusted commit must have been allowed before. */
  app.post(
    '/api/projects/:project/runs',
    { schema: { body: StartRun, response: { 201: Run } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { ref, reuse = true, tasks } = request.body;
      const found = await findRef(service.context, project, ref);
      const fresh = tasks ?? (reuse ? null : []);
      return change(service, request, reply, 'run.asked', 201, async (db, actor) => {
        if (lineOf(found) !== 'own' && !(await wasAllowed(db, project.id, found.commit)))
          throw new CodedError('run_untrusted', { commit: found.commit.slice(0, 12) });
        return runViewOf(db, await addAsked(db, project.id, found, actor, fresh));
      });
    },
  );

  /** Lets a commit of an untrusted pull request run: the run that waits for it, or a new one. That very commit, by its whole id. */
  app.post(
    '/api/projects/:project/commits/:commit/allow',
    { schema: { params: CommitParams, response: { 201: Run } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { commit } = request.params;
      const found = await findRef(service.context, project, commit);
      return change(service, request, reply, 'run.allowed', 201, async (db, actor) => {
        const waiting = await allowCommit(db, project.id, found.commit);
        if (waiting.length === 0 && lineOf(found) === 'own')
          throw new CodedError('run_trusted', { commit: commit.slice(0, 12) });
        const [id = await addAsked(db, project.id, found, actor, null)] = waiting.map((run) => run.id);
        const numbers = waiting.length ? waiting.map((run) => run.number) : [(await runById(db, id))?.number];
        for (const number of numbers)
          await recordEvents(db, {
            type: 'run.allowed',
            project: project.id,
            subject: `run ${number}`,
            actor,
            data: { commit: found.commit },
          });
        const numbered = new Set([...waiting, await runById(db, id)].flatMap((run) => run?.pull_request ?? []));
        for (const pull of await openPullRequests(db, project.id))
          if (numbered.has(pull.number))
            await openReviewFor(service.context, db, project, pull, actor, { allowed: true });
        await notify(db, 'runs');
        return runViewOf(db, id);
      });
    },
  );

  /** Another run of the same commit: what failed runs anew, and the named task too; what passed is reused. */
  app.post(
    '/api/projects/:project/runs/:number/again',
    { schema: { params: NumberParams, body: RunAgain, response: { 201: Run } } },
    async (request, reply) => {
      const { project, run } = await needRun(service, request);
      const { task } = request.body;
      if (run.ended_at === null) throw new CodedError('run_goes_on', { number: run.number });
      const names = [...new Set((await tasksOf(records, run.id)).map((one) => one.model.of))];
      if (task && !names.includes(task))
        throw new CodedError('unknown_task', { name: task, hint: hintFor(task, names) });
      // A run that was stopped while it waited for permission has got none.
      if (run.line !== 'own' && !(await wasAllowed(records, project.id, run.commit)))
        throw new CodedError('run_untrusted', { commit: run.commit.slice(0, 12) });
      return change(service, request, reply, 'run.asked', 201, async (db, actor) => {
        const { id } = await addRun(db, {
          project: project.id,
          commit: run.commit,
          branch: run.branch,
          pullRequest: run.pull_request,
          line: run.line,
          cause: 'asked',
          actor,
          allowed: true,
          fresh: task ? [task] : null,
        });
        return runViewOf(db, id);
      });
    },
  );

  app.post(
    '/api/projects/:project/runs/:number/stop',
    { schema: { params: NumberParams, response: { 202: Run } } },
    async (request, reply) => {
      const { project, run } = await needRun(service, request);
      return change(service, request, reply, 'run.stop-asked', 202, async (db, actor) => {
        if (!(await askStop(db, run.id, actor)))
          throw new CodedError('run_over', { number: run.number, state: run.state });
        await recordEvents(db, { type: 'run.stop-asked', project: project.id, subject: `run ${run.number}`, actor });
        return runViewOf(db, run.id);
      });
    },
  );
}
