import { Type } from '@sinclair/typebox';
import type { FastifyInstance, FastifyRequest } from 'fastify';
import { CodedError } from '../../core/errors.js';
import { repositoryOf } from '../../engine/context.js';
import { commitFacts, holdCommit, resolve } from '../../git/repository.js';
import { recordEvents } from '../../records/events.js';
import type { Caller } from '../../records/people.js';
import { listRuns } from '../../records/overview.js';
import { addRun, findPullRequest, saveCommit } from '../../records/sources.js';
import { allowCommit, askStop, findRun, type RunRow } from '../../records/runs.js';
import { notify } from '../../records/database.js';
import { Page, PageQuery, Run, RunDetail, StartRun } from '../../wire/api.js';
import { change, needProject, notFound, type Service } from '../server.js';
import { runDetail, runView, runViewOf } from '../views/runs.js';

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
export const NumberParams = Type.Object({ project: Type.String(), number: Type.Integer({ minimum: 1, maximum: 2_147_483_647 }) });

export function runRoutes(app: FastifyInstance, service: Service): void {
  const { records } = service.context;

  app.get('/api/runs', { schema: { querystring: Query, response: { 200: Page(Run) } } }, async (request) => {
    const query = request.query as { project?: string; state?: string; branch?: string; pull_request?: number; cursor?: string; limit?: number };
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

  const needRun = async (request: FastifyRequest) => {
    const project = await needProject(service, request);
    const { number } = request.params as { number: number };
    const run = await findRun(records, project.id, number);
    if (!run) throw notFound('run', String(number));
    return { project, run };
  };

  app.get('/api/projects/:project/runs/:number', { schema: { params: NumberParams, response: { 200: RunDetail } } }, async (request) => {
    const { project, run } = await needRun(request);
    return runDetail(records, project, run);
  });

  /** Starts a run of a branch, commit or pull request; for an untrusted commit that waits, this is the permission. */
  app.post('/api/projects/:project/runs', { schema: { body: StartRun, response: { 201: Run } } }, async (request, reply) => {
    const project = await needProject(service, request);
    const { ref } = request.body as { ref: string };
    const repository = repositoryOf(service.context, project);
    const pull = /^pr-(\d{1,9})$/.exec(ref);
    const pullRow = pull ? await findPullRequest(records, project.id, Number(pull[1])) : null;
    const commit = pullRow?.head ?? (ref.startsWith('-') ? null : await resolve(repository, ref));
    const facts = commit ? await commitFacts(repository, commit) : null;
    if (!commit || !facts) throw new CodedError('ref_unknown', { ref: ref.slice(0, 100), project: project.name });
    await holdCommit(repository, commit);
    const branch = pullRow
      ? null
      : ((
          await records.one<{ name: string }>(
            'select name from branches where project_id = $1 and (name = $2 or ($2 = $3 and head = $3)) order by (name = $4) desc limit 1',
            [project.id, ref, commit, project.main_branch],
          )
        )?.name ?? null);
    return change(service, request, reply, 'run.asked', 201, async (db, actor) => {
      const allowed = await allowCommit(db, project.id, commit);
      for (const run of allowed) await recordEvents(db, { type: 'run.allowed', project: project.id, subject: `run ${run.number}`, actor, data: { commit } });
      if (allowed.length) await notify(db, 'runs');
      await saveCommit(db, project.id, facts);
      const earlier = await db.one<{ pull_request: number | null; line: string }>(
        'select pull_request, line from runs where project_id = $1 and commit = $2 order by number desc limit 1',
        [project.id, commit],
      );
      const line = pullRow && !pullRow.trusted ? `pr-${pullRow.number}` : branch === null ? (earlier?.line ?? 'own') : 'own';
      const number =
        allowed[0]?.number ??
        (await addRun(db, {
          project: project.id,
          commit,
          branch,
          pullRequest: pullRow?.number ?? (branch === null ? (earlier?.pull_request ?? null) : null),
          line,
          cause: 'asked',
          actor,
          allowed: true,
        }));
      return runViewOf(db, ((await findRun(db, project.id, number)) as RunRow).id);
    });
  });

  app.post('/api/projects/:project/runs/:number/stop', { schema: { params: NumberParams, response: { 202: Run } } }, async (request, reply) => {
    const { project, run } = await needRun(request);
    return change(service, request, reply, 'run.stop-asked', 202, async (db, actor) => {
      if (!(await askStop(db, run.id, actor))) throw new CodedError('run_over', { number: run.number, state: run.state });
      await recordEvents(db, { type: 'run.stop-asked', project: project.id, subject: `run ${run.number}`, actor });
      return runViewOf(db, run.id);
    });
  });
}
