/** What a commit's run would do, and why, before anything runs. Changes nothing. */
import type { Definition } from '../../core/definition/model.js';
import { issue, type Issue } from '../../core/errors/errors.js';
import { type Difference, differences } from '../../core/fingerprint/differ.js';
import { forecast } from '../../core/plan/forecast.js';
import { type ListedFile, filesOf, pinRun, type PlannedTask } from '../../core/plan/plan.js';
import { listAgents } from '../../records/callers/agents.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { failedRun, findPasses } from '../../records/runs/results.js';
import { expectedTimes, lastTask, type LastTask } from '../../records/views/history.js';
import { mayReuse } from '../../core/advance/step.js';
import { identify } from './steps.js';
import { type Context, treeOf } from '../context.js';
import { planApart } from './plan.js';
import { pinSet } from '../environments/variables.js';
import { readDefinition } from './planning.js';

export interface ForeseenTask {
  name: string;
  evidence: boolean;
  needs: string[];
  will: 'run' | 'reuse';
  why: Issue;
  /** Milliseconds, from past passes; 0 when reused, null when nothing is known. */
  ms: number | null;
}

export interface Foreseen {
  tasks: ForeseenTask[];
  path: string[];
  ms: number | null;
}

export interface Occasion {
  commit: string;
  branch: string | null;
  pullRequest: number | null;
  line: string;
}

/** Throws nothing of its own: a commit that can't be planned gives the issue that says why. */
export async function foresee(context: Context, project: ProjectRow, at: Occasion): Promise<Foreseen | Issue> {
  const read = await readDefinition(context, project, at.commit);
  if (!read.model) return read.refusal as Issue;
  const files = await treeOf(context, project, at.commit);
  const { plan } = await planApart(
    context,
    project.id,
    read.model,
    files,
    { branch: at.branch, pullRequest: at.pullRequest },
    null,
  );
  if (plan.issues[0]) return plan.issues[0];
  const pin = await pinFor(context, read.model, plan.tasks, at.line);
  if (!pin || 'code' in pin) return pin ?? issue('no_agent_for_runs');
  const { set, refused } = await pinSet(
    context,
    context.records,
    project,
    at.line,
    plan.tasks.map((one) => one.task),
  );
  if (refused) return refused;
  const times = await expectedTimes(
    context.records,
    project.id,
    plan.tasks.map((one) => one.task.name),
  );
  const run = { commit: at.commit, branch: at.branch, fresh: null };
  const known = new Map<string, { model: PlannedTask['task']; output: string | null }>();
  const tasks: ForeseenTask[] = [];
  for (const { task, evidence } of plan.tasks) {
    const row = { model: task, pinned: { ...pin, set } };
    const base = { name: task.name, evidence, needs: task.needs };
    const ms = times.get(task.name) ?? null;
    const waits = task.needs.find((need) => !known.has(need));
    if (waits !== undefined) {
      tasks.push({ ...base, will: 'run', why: issue('plan_need_runs', { need: waits }), ms });
      continue;
    }
    const { fingerprint, inputs } = identify({ project, files }, run, row, known);
    const pass = mayReuse(run, task)
      ? (await findPasses(context.records, project.id, at.line, [fingerprint]))[0]
      : undefined;
    if (pass && (pass.output === null || (await context.blobs.size(pass.output)) === pass.output_size)) {
      known.set(task.name, { model: task, output: pass.output });
      tasks.push({ ...base, will: 'reuse', why: issue('plan_reused', { run: pass.run }), ms: 0 });
      continue;
    }
    const failed = await failedRun(context.records, project.id, at.line, fingerprint);
    if (failed !== null && task.reuse) {
      tasks.push({ ...base, will: 'run', why: issue('plan_not_passed', { run: failed }), ms });
      continue;
    }
    const last = await lastTask(context.records, project.id, task.name);
    tasks.push({
      ...base,
      will: 'run',
      why: await reason(context, project, files, task.reuse, fingerprint, inputs, last, task.reads),
      ms,
    });
  }
  return { tasks, ...forecast(tasks) };
}

async function pinFor(context: Context, model: Definition, tasks: readonly PlannedTask[], line: string) {
  const offers = (await listAgents(context.records)).filter(
    (agent) => agent.alive && agent.takes.includes(line === 'own' ? 'runs' : 'untrusted'),
  );
  return pinRun(model.tools, tasks, offers);
}

async function reason(
  context: Context,
  project: ProjectRow,
  files: readonly ListedFile[],
  reuse: boolean,
  fingerprint: string,
  inputs: Record<string, unknown>,
  last: LastTask | null,
  reads: string[] | null,
): Promise<Issue> {
  if (!reuse) return issue('plan_no_reuse');
  if (!last) return issue('plan_first');
  if (last.fingerprint === fingerprint)
    return issue(last.state === 'passed' || last.state === 'reused' ? 'plan_flaky_or_gone' : 'plan_not_passed', {
      run: last.run,
    });
  const first = (await compareInputs(context, project, last, { inputs, files, reads }))[0];
  return issue('plan_changed', { run: last.run, what: first ? differenceText(first) : 'something' });
}

export interface ComparedInputs extends Difference {
  /** For `reads`: the files that differ, at most ten, and how many there are. */
  files?: { paths: string[]; count: number };
}

/** What differs between an earlier task and the inputs of now; files are told by their paths, from the commits. */
export async function compareInputs(
  context: Context,
  project: ProjectRow,
  last: Pick<LastTask, 'inputs' | 'commit' | 'reads'>,
  now: { inputs: Record<string, unknown>; files: readonly ListedFile[]; reads: string[] | null },
): Promise<ComparedInputs[]> {
  const all: ComparedInputs[] = differences(last.inputs, now.inputs);
  const reads = all.find((one) => one.input === 'reads');
  if (reads) {
    const before = new Map(
      filesOf(await treeOf(context, project, last.commit), last.reads).map((file) => [
        file.path,
        `${file.mode} ${file.id}`,
      ]),
    );
    const after = new Map(filesOf(now.files, now.reads).map((file) => [file.path, `${file.mode} ${file.id}`]));
    const paths = [...new Set([...before.keys(), ...after.keys()])]
      .filter((path) => before.get(path) !== after.get(path))
      .sort();
    reads.files = { paths: paths.slice(0, 10), count: paths.length };
  }
  return all;
}

const names: Record<string, string> = {
  run: 'its commands',
  reads: 'files it reads',
  needs: 'the output of',
  variables: 'the variable',
  each: 'the value of',
  shard: 'its shard',
  resources: 'the resource',
  makes: 'what it makes',
  results: 'where its results are',
  coverage: 'where its coverage is',
  network: 'whether it has the network',
  versions: 'the version of',
  base: 'the agent’s base: system, packages or settings',
  project: 'the project',
  folder: 'the project’s folder',
  format: 'the format of fingerprints',
};

/** A difference in words: `the version of node`, `src/a.js and 3 more files`. */
export function differenceText(one: ComparedInputs): string {
  if (one.files?.count)
    return one.files.count === 1
      ? (one.files.paths[0] as string)
      : `${one.files.paths[0]} and ${one.files.count - 1} more ${one.files.count === 2 ? 'file' : 'files'}`;
  return `${names[one.input] ?? one.input}${one.name === null ? '' : ` ${one.name}`}`;
}
