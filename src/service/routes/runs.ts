import { Type } from '@sinclair/typebox';
import type { FastifyInstance } from 'fastify';
import { CodedError } from '../../core/errors/errors.js';
import { hintFor } from '../../core/nearest.js';
import { coverageOfRun } from '../../engine/runs/coverage.js';
import { recordEvents } from '../../records/events.js';
import type { Caller } from '../../records/people.js';
import { listRuns } from '../../records/overview.js';
import { addRun, saveCommit } from '../../records/sources.js';
import { allowCommit, askStop, findRun, type RunRow, tasksOf } from '../../records/runs.js';
import { notify } from '../../records/database.js';
import { Page, PageQuery } from '../../wire/parts.js';
import { Run, RunAgain, RunCoverage, RunDetail, StartRun } from '../../wire/runs.js';
import { change, needProject, needRun, type Service } from '../server.js';
import { findRef, lineOf } from '../refs.js';
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
export const NumberParams = Type.Object({
  project: Type.String(),
  number: Type.Integer({ minimum: 1, maximum: 2_147_483_647 }),
});

export function runRoutes(app: FastifyInstance, service: Service): void {
  const { records } = service.context;

  app.get('/api/runs', { schema: { querystring: Query, response: { 200: Page(Run) } } }, async (request) => {
    const query = request.query as {
      project?: string;
      state?: string;
      branch?: string;
      pull_request?: number;
      cursor?: string;
      limit?: number;
    };
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

  /** Starts a run of a branch, commit or pull request; for an untrusted commit that waits, this is the permission. */
  app.post(
    '/api/projects/:project/runs',
    { schema: { body: StartRun, response: { 201: Run } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { ref, reuse = true, tasks } = request.body as StartRun;
      const found = await findRef(service.context, project, ref);
      const { commit, facts, branch, pull: pullRow, earlier } = found;
      const fresh = tasks ?? (reuse ? null : []);
      return change(service, request, reply, 'run.asked', 201, async (db, actor) => {
        const allowed = await allowCommit(db, project.id, commit);
        for (const run of allowed)
          await recordEvents(db, {
            type: 'run.allowed',
            project: project.id,
            subject: `run ${run.number}`,
            actor,
            data: { commit },
          });
        if (allowed.length) await notify(db, 'runs');
        await saveCommit(db, project.id, facts);
        const line = lineOf(found);
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
            fresh,
          }));
        return runViewOf(db, ((await findRun(db, project.id, number)) as RunRow).id);
      });
    },
  );

  /** Another run of the same commit: what failed runs anew, and the named task too; what passed is reused. */
  app.post(
    '/api/projects/:project/runs/:number/again',
    { schema: { params: NumberParams, body: RunAgain, response: { 201: Run } } },
    async (request, reply) => {
      const { project, run } = await needRun(service, request);
      const { task } = request.body as { task?: string };
      if (run.ended_at === null) throw new CodedError('run_goes_on', { number: run.number });
      const names = [...new Set((await tasksOf(records, run.id)).map((one) => one.model.of))];
      if (task && !names.includes(task))
        throw new CodedError('unknown_task', { name: task, hint: hintFor(task, names) });
      return change(service, request, reply, 'run.asked', 201, async (db, actor) => {
        const number = await addRun(db, {
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
        return runViewOf(db, ((await findRun(db, project.id, number)) as RunRow).id);
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
