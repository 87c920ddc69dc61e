/** What would run, and why things are as they are. Nothing here changes anything. */
import { Type } from '@sinclair/typebox';
import { CodedError } from '../../../core/errors/errors.js';
import { hintFor } from '../../../core/nearest.js';
import { type ComparedInputs, differenceText, foresee } from '../../../engine/runs/foresee.js';
import { whyRun, whyTask } from '../../../engine/runs/why.js';
import { runsOfAttempts } from '../../../records/views/history.js';
import { tasksOf } from '../../../records/runs/runs.js';
import { PlanView, SinceView, WhyRunView, WhyTaskView } from '../../../wire/why.js';
import { findRef, lineOf } from '../../refs.js';
import { type App, needProject, needRun, type Service } from '../../server.js';
import { needRelease } from '../../../engine/deployments/acts.js';
import { factsView, said } from '../../views/basics.js';
import { sinceView } from '../../views/since.js';
import { NumberParams } from './runs.js';

const differenceView = (one: ComparedInputs) => ({ ...one, files: one.files ?? null, says: differenceText(one) });

export function whyRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;
  const SinceQuery = Type.Object(
    {
      release: Type.Integer({ minimum: 1, maximum: 1_000_000_000 }),
      ref: Type.Optional(Type.String({ minLength: 1, maxLength: 250 })),
    },
    { additionalProperties: false },
  );
  const PlanQuery = Type.Object(
    { ref: Type.Optional(Type.String({ minLength: 1, maxLength: 250 })) },
    { additionalProperties: false },
  );

  app.get(
    '/api/projects/:project/plan',
    { schema: { querystring: PlanQuery, response: { 200: PlanView } } },
    async (request) => {
      const project = await needProject(service, request);
      const { ref = project.main_branch } = request.query;
      const found = await findRef(context, project, ref);
      const plan = await foresee(context, project, {
        commit: found.commit,
        branch: found.branch,
        pullRequest: found.pull?.number ?? (found.branch === null ? (found.earlier?.pull_request ?? null) : null),
        line: lineOf(found),
      });
      if ('code' in plan) throw new CodedError(plan.code, plan.data);
      const { facts } = found;
      return {
        commit: factsView(facts),
        branch: found.branch,
        tasks: plan.tasks.map(({ ms, why, ...task }) => ({ ...task, why: said(why), expectedMs: ms })),
        path: plan.path,
        expectedMs: plan.ms,
      };
    },
  );

  app.get(
    '/api/projects/:project/tasks/:task/since',
    {
      schema: {
        params: Type.Object({ project: Type.String(), task: Type.String({ maxLength: 300 }) }),
        querystring: SinceQuery,
        response: { 200: SinceView },
      },
    },
    async (request) => {
      const project = await needProject(service, request);
      const { release: number, ref = project.main_branch } = request.query;
      const release = await needRelease(records, project, number);
      const { commit: head } = await findRef(context, project, ref);
      return sinceView(service, project, { task: request.params.task, release, head });
    },
  );

  app.get(
    '/api/projects/:project/runs/:number/why',
    { schema: { params: NumberParams, response: { 200: WhyRunView } } },
    async (request) => {
      const { project, run } = await needRun(service, request);
      const why = await whyRun(context, project, run);
      const { since } = why;
      return {
        run: run.number,
        state: run.state,
        issue: said(run.issue),
        failed: why.failed.map(({ task, attempt, command, cases }) => ({
          task: task.name,
          issue: said(task.issue),
          attempt,
          command: command ? { text: command.text, exit: command.exit, firstLine: command.first_line } : null,
          tests: cases,
        })),
        skipped: why.skipped.map((task) => task.name),
        since: since && {
          run: since.run.number,
          commits: since.commits.map(factsView),
          files: since.files,
          tools: since.tools,
          variables: since.variables,
        },
      };
    },
  );

  app.get(
    '/api/projects/:project/runs/:number/tasks/:task/why',
    {
      schema: {
        params: Type.Object({
          project: Type.String(),
          number: NumberParams.properties.number,
          task: Type.String({ maxLength: 300 }),
        }),
        response: { 200: WhyTaskView },
      },
    },
    async (request) => {
      const { project, run } = await needRun(service, request);
      const { task: name } = request.params;
      const tasks = await tasksOf(records, run.id);
      const task = tasks.find((one) => one.name === name);
      if (!task)
        throw new CodedError('unknown_task', {
          name: name.slice(0, 100),
          hint: hintFor(
            name,
            tasks.map((one) => one.name),
          ),
        });
      const why = await whyTask(context, project, run, task);
      const from =
        task.state === 'reused'
          ? ((await runsOfAttempts(records, [task.attempt_id as string])).get(task.attempt_id as string) ?? null)
          : null;
      return {
        task: task.name,
        run: run.number,
        state: task.state,
        issue: said(task.issue),
        fingerprint: task.fingerprint,
        flaky: task.flaky,
        reusedFrom: from,
        inputs: why.inputs,
        comparedWith: why.last && { run: why.last.run, state: why.last.state, fingerprint: why.last.fingerprint },
        differences: why.differences.map(differenceView),
      };
    },
  );
}
