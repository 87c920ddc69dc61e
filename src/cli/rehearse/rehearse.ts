/** `rehearse`: runs tasks of the working copy here, in the same sandbox, with no service. */
import { randomUUID } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import { availableParallelism } from 'node:os';
import { dirname, join, resolve } from 'node:path';
import { startAttempt } from '../../agent/attempts/attempt.js';
import { openWorkshop, type Workshop } from '../../agent/attempts/workshop.js';
import { advanceRun } from '../../core/advance/runs.js';
import { type Task, withNeeds } from '../../core/definition/model.js';
import { parseDefinition } from '../../core/definition/parse.js';
import { CodedError, type Issue, wording } from '../../core/errors/errors.js';
import { fingerprint, fingerprintInputs } from '../../core/fingerprint/inputs.js';
import { hintFor } from '../../core/nearest.js';
import { type Pin, pinRun, planRun, type PlannedTask } from '../../core/plan/plan.js';
import type { TaskState } from '../../core/states.js';
import { setNames, taskValues } from '../../core/variables/task.js';
import { layerKey } from '../../git/layer.js';
import type { AttemptWork } from '../../wire/rooms/work.js';
import { faint, say } from '../print.js';
import { readWorkingCopy, type WorkingCopy } from './checkout.js';
import { type Desk, openDesk } from './desk.js';
import { offerDefinition } from './offer.js';
import { openView, type View } from './view.js';

export interface RehearseOptions {
  json?: boolean;
  /** Name of the project, for the same fingerprints; default the name of the folder. */
  project?: string;
  /** Shows all that is printed. */
  log?: boolean;
  /** Where there is no definition: write the one that is proposed, and go on with it. */
  write?: boolean;
  /** No earlier pass counts. */
  withoutReuse?: boolean;
  /** Where outputs and caches are kept. */
  data: string;
  /** Address of a PostgreSQL cluster for the tasks' resources; made when one needs it. */
  resources(): Promise<string>;
}

interface Row {
  task: Task;
  files: PlannedTask['files'];
  state: TaskState;
  fingerprint: string | null;
  output: { digest: string; size: number } | null;
  issue: Issue | null;
  ms: number;
}

/** Exit status: 0 all passed, 1 one failed. */
export async function rehearse(names: readonly string[], options: RehearseOptions): Promise<number> {
  const folder = findFolder() ?? offerDefinition(options.write === true, options.json === true);
  const { definition, issues } = parseDefinition(readFileSync(join(folder, 'tsunagi.yaml')));
  if (!definition) {
    const errors = issues.filter((one) => one.severity === 'error');
    const first = errors[0];
    throw new CodedError('definition_invalid', {
      path: 'tsunagi.yaml',
      count: errors.length === 1 ? 'one error' : `${errors.length} errors`,
      first: first ? `line ${first.line}: ${wording(first).says}` : '',
    });
  }
  const objects = join(options.data, 'objects.git');
  const copy = await readWorkingCopy(folder, objects);
  const plan = planRun(definition, copy.files, { branch: copy.branch, pullRequest: null });
  if (plan.issues[0]) throw new CodedError(plan.issues[0].code, plan.issues[0].data);
  const chosen = choose(plan.tasks, names);
  const desk = openDesk(options.data, objects);
  const wantsDatabase = chosen.some((one) => Object.keys(one.task.resources).length > 0);
  let stopped = false;
  const quiet = {
    info() {},
    warn() {},
    error: (data: object, text: string) => void process.stderr.write(`${text} ${JSON.stringify(data)}\n`),
  };
  const slots = Math.max(2, availableParallelism());
  const workshop = await openWorkshop(
    {
      name: 'rehearsal',
      folder: join(options.data, 'agent'),
      slots,
      ...(wantsDatabase ? { resources: await options.resources() } : {}),
    },
    desk.client,
    quiet,
    () => stopped,
  );
  const interrupt = new AbortController();
  process.once('SIGINT', () => interrupt.abort());
  const terminal = Boolean(process.stdout.isTTY) && !options.json;
  const view = openView(
    chosen.length,
    Boolean(options.log) && !options.json,
    (text) => void (options.json || process.stdout.write(text)),
    terminal,
  );
  try {
    const pinned = pinRun(definition.tools, chosen, [{ tools: workshop.tools, base: workshop.base }]);
    if (!pinned || 'code' in pinned) throw new CodedError(pinned?.code ?? 'internal', pinned?.data ?? {});
    const rows = await runAll(chosen, {
      copy,
      desk,
      workshop,
      view,
      pinned,
      project: options.project ?? folder.split('/').at(-1) ?? 'project',
      reuse: !options.withoutReuse,
      slots,
      interrupt: interrupt.signal,
    });
    view.close();
    report(rows, copy, chosen, options, pinned);
    return rows.every((row) => row.state === 'passed' || row.state === 'reused') ? 0 : 1;
  } finally {
    view.close();
    stopped = true;
    await workshop.close();
  }
}

/** The folder of the nearest tsunagi.yaml, here or above; null when there is none. */
function findFolder(): string | null {
  for (let at = resolve('.'); ; at = dirname(at)) {
    if (existsSync(join(at, 'tsunagi.yaml'))) return at;
    if (at === dirname(at)) return null;
  }
}

/** The named tasks and all that they need; every one when none is named. */
function choose(tasks: readonly PlannedTask[], names: readonly string[]): PlannedTask[] {
  if (names.length === 0) return [...tasks];
  const known = [...new Set(tasks.flatMap((one) => [one.task.name, one.task.of]))];
  for (const name of names)
    if (!known.includes(name)) throw new CodedError('unknown_task', { name, hint: hintFor(name, known) });
  const models = Object.fromEntries(tasks.map((one) => [one.task.name, one.task]));
  const wanted = withNeeds(
    models,
    tasks.filter((one) => names.includes(one.task.name) || names.includes(one.task.of)).map((one) => one.task.name),
  );
  return tasks.filter((one) => wanted.includes(one.task.name));
}

interface Scene {
  copy: WorkingCopy;
  desk: Desk;
  workshop: Workshop;
  view: View;
  pinned: Pin;
  project: string;
  reuse: boolean;
  slots: number;
  interrupt: AbortSignal;
}

async function runAll(chosen: readonly PlannedTask[], scene: Scene): Promise<Row[]> {
  const rows = new Map(
    chosen.map(({ task, files }): [string, Row] => [
      task.name,
      { task, files, state: 'waiting', fingerprint: null, output: null, issue: null, ms: 0 },
    ]),
  );
  const going = new Map<string, Promise<void>>();
  for (;;) {
    const step = advanceRun(
      [...rows.values()].map((row) => ({ name: row.task.name, state: row.state, needs: row.task.needs })),
      scene.interrupt.aborted ? 'stopped' : null,
    );
    for (const change of step.tasks) {
      const row = rows.get(change.name) as Row;
      row.state = change.state;
      if (change.state !== 'ready') scene.view.ends(row.task.name, change.state, 0, null);
    }
    const ready = [...rows.values()].filter((row) => row.state === 'ready');
    let reused = false;
    for (const row of ready) {
      if (going.size >= scene.slots) break;
      row.fingerprint ??= identify(row, rows, scene);
      const before = scene.reuse && row.task.reuse ? scene.desk.passed(row.fingerprint) : null;
      if (before) {
        Object.assign(row, { state: 'reused', output: before.output });
        scene.view.ends(row.task.name, 'reused', 0, null);
        reused = true;
        continue;
      }
      row.state = 'running';
      going.set(
        row.task.name,
        perform(row, rows, scene).finally(() => going.delete(row.task.name)),
      );
    }
    if (reused) continue;
    if (going.size === 0) return [...rows.values()];
    await Promise.race(going.values());
  }
}

function identify(row: Row, rows: ReadonlyMap<string, Row>, { copy, pinned, project }: Scene): string {
  const needs = row.task.needs.map((need) => ({
    need,
    makes: rows.get(need)?.task.makes ?? [],
    digest: rows.get(need)?.output?.digest ?? null,
  }));
  return fingerprint(
    fingerprintInputs(row.task, row.files, needs, {
      project: { name: project },
      folder: copy.inside,
      run: copy,
      ...pinned,
    }),
  );
}

/** Tries a task as often as its definition says. */
async function perform(row: Row, rows: ReadonlyMap<string, Row>, scene: Scene): Promise<void> {
  const { task } = row;
  const { desk, view, workshop } = scene;
  const began = performance.now();
  const { values, fromResources } = taskValues(task, { run: scene.copy, project: { name: scene.project } });
  for (let tries = 0; ; tries++) {
    const id = randomUUID();
    let over: { state: string; issue: Issue | null; output: { digest: string; size: number } | null } = {
      state: 'failed',
      issue: null,
      output: null,
    };
    desk.expect(
      id,
      row.files,
      (one) => {
        if (one.what === 'ended') over = { state: one.state, issue: one.issue as Issue | null, output: one.output };
      },
      (bytes) => view.prints(task.name, bytes),
    );
    if (tries === 0) view.begins(task.name);
    const work: AttemptWork = {
      id,
      fence: '1',
      kind: 'task',
      label: `rehearsal ${task.name}`,
      commands: task.run,
      secret: [],
      variables: {
        CI: 'true',
        ...(task.shard ? { TSUNAGI_SHARD: String(task.shard.index), TSUNAGI_SHARDS: String(task.shard.count) } : {}),
        ...values,
      },
      fromResources,
      resources: task.resources,
      untrusted: false,
      cache: { key: 'rehearsal', paths: task.cache },
      files: row.files.length ? { key: layerKey(row.files), count: row.files.length } : null,
      layers: [...task.needs].sort().flatMap((need) => rows.get(need)?.output?.digest ?? []),
      makes: task.makes,
      results: task.results,
      coverage: task.coverage,
      timeoutMs: task.timeout,
      network: task.network ? 'open' : 'none',
      reach: [],
      logBytes: 0,
    };
    const attempt = startAttempt(workshop.context, work, () => {});
    const stop = () => attempt.stop();
    scene.interrupt.addEventListener('abort', stop);
    await attempt.done;
    scene.interrupt.removeEventListener('abort', stop);
    row.ms = performance.now() - began;
    if (over.state === 'failed' && tries < task.retry && !scene.interrupt.aborted) continue;
    Object.assign(row, { state: over.state, issue: over.issue, output: over.output });
    // A pass after a failure is flaky and does not count the next time.
    if (over.state === 'passed' && tries === 0) desk.keep(row.fingerprint as string, over.output);
    view.ends(task.name, over.state, row.ms, over.state === 'failed' ? over.issue : null);
    return;
  }
}

function report(
  rows: readonly Row[],
  copy: WorkingCopy,
  chosen: readonly PlannedTask[],
  options: RehearseOptions,
  pinned: Scene['pinned'],
): void {
  const differs = differences(copy, chosen);
  if (options.json) {
    const tasks = rows.map((row) => ({
      name: row.task.name,
      state: row.state,
      fingerprint: row.fingerprint,
      ms: Math.round(row.ms),
      issue: row.issue && { ...row.issue, ...wording(row.issue) },
    }));
    say(
      JSON.stringify(
        { commit: copy.commit, changed: copy.changed, versions: pinned.versions, base: pinned.base, tasks, differs },
        null,
        2,
      ),
    );
    return;
  }
  const count = (state: TaskState) => rows.filter((row) => row.state === state).length;
  const words = (['passed', 'reused', 'failed', 'skipped', 'stopped'] as const)
    .filter((one) => count(one))
    .map((one) => `${count(one)} ${one}`);
  say(
    `${words.join(', ') || 'There was nothing to do'}${copy.changed ? faint(` (with ${copy.changed} ${copy.changed === 1 ? 'file that is' : 'files that are'} not committed)`) : ''}`,
  );
  for (const one of differs) say(faint(one));
  say(faint('On an agent with the same base and tools the fingerprints are the same; `--json` prints them.'));
}

/** What may make a run of the service differ from this. */
function differences(copy: WorkingCopy, chosen: readonly PlannedTask[]): string[] {
  const using = (what: string) =>
    chosen
      .filter(({ task }) => Object.values(task.variables).some((one) => typeof one !== 'string' && one.from === what))
      .map(({ task }) => task.name);
  const commit = using('run.commit');
  const open = chosen.filter(({ task }) => task.network).map(({ task }) => task.name);
  const set = chosen.filter(({ task }) => setNames(task).length);
  return [
    ...set.map(
      ({ task }) => `${task.name}: ${setNames(task).join(', ')} is set by people in the service; here it is not set.`,
    ),
    ...(commit.length && copy.changed
      ? [`${commit.join(', ')}: run.commit is that of HEAD; a commit of these files will have another one.`]
      : []),
    ...(open.length
      ? [`${open.join(', ')}: an agent passes its operator’s settings to tasks with the network; here there are none.`]
      : []),
  ];
}
