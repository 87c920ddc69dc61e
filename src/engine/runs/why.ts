/** Why a task or run is as it is: its inputs against the last time, what failed, and what has changed since it passed. */
import { differences } from '../../core/fingerprint/differ.js';
import { type JudgedCase, judgeCases } from '../../core/results/compare.js';
import { changedPaths, type CommitFacts, commitsBetween } from '../../git/repository.js';
import { attemptsOfRun, type CommandRow, commandsOf } from '../../records/runs/attempts.js';
import { lastPassedRun, lastTask, type LastTask, type PassedRun, pastTests } from '../../records/views/history.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { type RunRow, type TaskRow, tasksOf, inputsOf } from '../../records/runs/runs.js';
import { type Context, repositoryOf, treeOf } from '../context.js';
import { type ComparedInputs, compareInputs } from './foresee.js';

export interface WhyTask {
  task: TaskRow;
  inputs: Record<string, unknown> | null;
  /** The task of this name in the run before; null when it is the first. */
  last: LastTask | null;
  differences: ComparedInputs[];
}

export async function whyTask(context: Context, project: ProjectRow, run: RunRow, task: TaskRow): Promise<WhyTask> {
  const inputs = await inputsOf(context.records, task.id);
  const last = await lastTask(context.records, project.id, task.name, run.id);
  if (!inputs || !last) return { task, inputs, last, differences: [] };
  const files = await treeOf(context, project, run.commit);
  return {
    task,
    inputs,
    last,
    differences: await compareInputs(context, project, last, { inputs, files, reads: task.model.reads }),
  };
}

export interface FailedTask {
  task: TaskRow;
  /** The attempt that decided, with the command in which it ended. */
  attempt: string | null;
  command: CommandRow | null;
  cases: JudgedCase[];
}

export interface WhyRun {
  failed: FailedTask[];
  skipped: TaskRow[];
  since: {
    run: PassedRun;
    commits: CommitFacts[];
    files: { paths: string[]; count: number };
    tools: ReturnType<typeof differences>;
    variables: string[];
  } | null;
}

const shownFiles = 30;

export async function whyRun(context: Context, project: ProjectRow, run: RunRow): Promise<WhyRun> {
  const { records } = context;
  const [tasks, attempts] = await Promise.all([tasksOf(records, run.id), attemptsOfRun(records, run.id)]);
  const failed: FailedTask[] = [];
  for (const task of tasks.filter((one) => one.state === 'failed')) {
    const attempt =
      attempts.find((one) => one.id === task.attempt_id) ??
      attempts.filter((one) => one.task_id === task.id).at(-1) ??
      null;
    const commands = attempt ? await commandsOf(records, [attempt.id]) : [];
    const past = task.tests ? await pastTests(records, project.id, task.name, run.id, 20) : [];
    failed.push({
      task,
      attempt: attempt?.id ?? null,
      command: commands.find((one) => one.state !== 'passed') ?? commands.at(-1) ?? null,
      cases: task.tests
        ? judgeCases(
            task.tests,
            past.map((one) => one.tests),
          )
        : [],
    });
  }
  const branches = [...new Set([run.branch, project.main_branch].filter((one): one is string => one !== null))];
  const passed = failed.length ? await lastPassedRun(records, project.id, run.id, branches) : null;
  return {
    failed,
    skipped: tasks.filter((one) => one.state === 'skipped'),
    since: passed && (await sincePassed(context, project, run, passed, failed)),
  };
}

async function sincePassed(
  context: Context,
  project: ProjectRow,
  run: RunRow,
  passed: PassedRun,
  failed: readonly FailedTask[],
): Promise<NonNullable<WhyRun['since']>> {
  const repository = repositoryOf(context, project);
  const [commits, paths, before] = await Promise.all([
    commitsBetween(repository, passed.commit, run.commit, 50),
    changedPaths(repository, passed.commit, run.commit),
    tasksOf(context.records, passed.id),
  ]);
  const tools: ReturnType<typeof differences> = [];
  const variables = new Set<string>();
  for (const { task } of failed) {
    const last = before.find((one) => one.name === task.name);
    if (!last) continue;
    for (const one of differences(
      { versions: last.pinned.versions, base: last.pinned.base },
      { versions: task.pinned.versions, base: task.pinned.base },
    ))
      if (!tools.some((other) => other.input === one.input && other.name === one.name)) tools.push(one);
    for (const one of differences({ variables: last.model.variables }, { variables: task.model.variables }))
      if (one.name) variables.add(one.name);
  }
  return {
    run: passed,
    commits,
    files: { paths: paths.slice(0, shownFiles), count: paths.length },
    tools,
    variables: [...variables].sort(),
  };
}
