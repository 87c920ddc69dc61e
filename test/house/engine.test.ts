import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { sha256 } from '../../src/core/canonical.js';
import type { TaskPlan } from '../../src/core/definition/model.js';
import { planRun } from '../../src/core/plan/plan.js';
import { reportAttempt } from '../../src/engine/runs/reports.js';
import type { Context, RunScene, Steps } from '../../src/engine/context.js';
import { openSteps } from '../../src/engine/runs/steps.js';
import { openTakers } from '../../src/engine/runs/takers.js';
import { registerAgent } from '../../src/records/callers/agents.js';
import {
  attemptById,
  type AttemptOfRun,
  type AttemptRow,
  claimAttempts,
  commandsOf,
  startCommand,
} from '../../src/records/runs/attempts.js';
import { query, queryOne, type Records } from '../../src/records/database.js';
import { newId } from '../../src/records/ids.js';
import { addToken } from '../../src/records/callers/people.js';
import type { ProjectRow } from '../../src/records/projects/projects.js';
import { findRun, startRun, tasksOf } from '../../src/records/runs/runs.js';
import { addRun } from '../../src/records/projects/sources.js';
import { type Cluster, openCluster, recordProject } from './cluster.js';

/** The engine on a real database, with an agent that is played here: what a task makes is a function of what it sees. */
let cluster: Cluster;
let records: Records;
let agent: string;
const scenes = new Map<string, RunScene>();
const blobs = { intact: async () => true, size: async () => 1 };
let steps: Steps;
const takers = openTakers();
const context = (): Context =>
  ({
    records,
    blobs,
    steps,
    takers,
    scenes: { forceFetch: async (id: string) => scenes.get(id) ?? Promise.reject(new Error('no scene')) },
  }) as never;

beforeAll(async () => {
  cluster = await openCluster(1);
  ({ records } = cluster);
  steps = openSteps(context);
  const token = await addToken(
    records,
    { hash: Buffer.from('t'), kind: 'agent', name: 'played', person: null, role: null, project: null, expires: null },
    'test',
  );
  agent = (
    await registerAgent(
      records,
      {
        token: token.id,
        name: 'played',
        boot: newId(),
        takes: ['runs', 'untrusted'],
        slots: 99,
        address: '',
        ports: { from: 20_000, to: 20_099 },
        tools: {},
        base: 'b',
        sandbox: {},
      },
      600_000,
    )
  )?.id as string;
});
afterAll(() => cluster?.close());

let projects = 0;
const makeProject = (): Promise<ProjectRow> => recordProject(records, `p${++projects}`);

const plan = (name: string, change: Partial<TaskPlan>): TaskPlan => ({
  name,
  reads: [],
  needs: [],
  run: [`make ${name}`],
  makes: ['out'],
  network: false,
  timeout: 1000,
  variables: {},
  results: null,
  coverage: null,
  cache: [],
  shards: null,
  each: {},
  retry: 0,
  resources: {},
  reuse: true,
  for: null,
  ...change,
});

/** Contents of files by name. */
type Tree = Record<string, string>;

interface Outcome {
  number: number;
  ran: string[];
  states: Record<string, string>;
}

/** Records a run of this tree, planned and not yet begun; gives its number and id. */
async function recordRun(
  project: ProjectRow,
  plans: Record<string, TaskPlan>,
  tree: Tree,
  line = 'own',
): Promise<{ number: number; id: string }> {
  const listed = Object.entries(tree).map(([path, text]) => ({
    path,
    shown: path,
    mode: '100644',
    id: sha256(text).slice(0, 40),
  }));
  const model = { version: 6 as const, tools: {}, tasks: plans, release: null, environments: {} };
  const commit = sha256(JSON.stringify(tree)).slice(0, 40);
  const { number } = await addRun(records, {
    project: project.id,
    commit,
    branch: 'main',
    pullRequest: null,
    line,
    cause: 'asked',
    actor: 'test',
    allowed: true,
  });
  const id = (await findRun(records, project.id, number))?.id as string;
  const planned = planRun(model, listed, { branch: 'main', pullRequest: null });
  const scene: RunScene = { project, model, files: listed };
  scenes.set(id, scene);
  await records.transition('planned', async (db) => {
    const rows = planned.tasks.map((one) => ({
      name: one.task.name,
      position: one.position,
      evidence: false,
      model: one.task,
      files: { key: '', count: 0 },
      pinned: { versions: {}, base: 'b' },
    }));
    await startRun(db, id, rows, []);
  });
  return { number, id };
}

/**
 * Runs a commit through the engine. `outputOf` says what bytes a task makes of what it sees; `fails` which ones fail.
 */
async function runCommit(
  project: ProjectRow,
  plans: Record<string, TaskPlan>,
  tree: Tree,
  outputOf: (task: string, seen: string) => string,
  fails: (task: string) => boolean = () => false,
  line = 'own',
): Promise<Outcome> {
  const { number, id } = await recordRun(project, plans, tree, line);
  await context().steps.take(id, {});
  const ran: string[] = [];
  for (;;) {
    const claimed = await claimAttempts(records, agent, 99, 600_000);
    if (claimed.length === 0) break;
    for (const attempt of claimed) {
      const rows = await tasksOf(records, id);
      const task = rows.find((row) => row.id === attempt.task_id);
      if (!task) throw new Error('an attempt of another run');
      ran.push(task.name);
      const needs = task.model.needs.map((need) => rows.find((row) => row.name === need)?.output);
      const seen = JSON.stringify([(task.model.reads ?? []).map((path) => tree[path] ?? null), needs]);
      const digest = `sha256:${sha256(outputOf(task.model.of, seen))}`;
      const failed = fails(task.model.of);
      await reportAttempt(
        context(),
        (await attemptById(records, attempt.id)) as AttemptOfRun,
        { agent, fence: attempt.fence as string },
        [
          {
            what: 'ended',
            state: failed ? 'failed' : 'passed',
            issue: failed ? { code: 'command_failed', data: { command: 'x', exit: 1, look: 'run log 1 t' } } : null,
            output: failed ? null : { digest, size: 1 },
            tests: null,
          },
        ],
      );
    }
  }
  const rows = await tasksOf(records, id);
  const ended = await findRun(records, project.id, number);
  expect(ended?.ended_at).not.toBeNull();
  return { number, ran: ran.sort(), states: Object.fromEntries(rows.map((row) => [row.name, row.state])) };
}

/** The slow and obvious reference: a task runs when what it sees, files and bytes of its needs, was never seen before by a task of this name. */
function reference(
  plans: Record<string, TaskPlan>,
  tree: Tree,
  outputOf: (task: string, seen: string) => string,
  memory: Map<string, Set<string>>,
): string[] {
  const outputs = new Map<string, string>();
  const ran: string[] = [];
  const visit = (name: string): string => {
    const known = outputs.get(name);
    if (known !== undefined) return known;
    const { needs, reads, run } = plans[name] as TaskPlan;
    const bytes = needs.map((need) => `sha256:${sha256(visit(need))}`);
    const seen = JSON.stringify([(reads ?? []).map((path) => tree[path] ?? null), bytes]);
    const before = memory.get(name) ?? new Set();
    const key = JSON.stringify([run, (reads ?? []).map((path) => [path, tree[path] ?? null]), bytes]);
    if (!before.has(key)) ran.push(name);
    before.add(key);
    memory.set(name, before);
    const made = outputOf(name, seen);
    outputs.set(name, made);
    return made;
  };
  for (const name of Object.keys(plans)) visit(name);
  return ran.sort();
}

const paths = ['a', 'b', 'c', 'd'];
const graphs = fc.array(
  fc.record({ needs: fc.array(fc.nat(), { maxLength: 3 }), reads: fc.subarray(paths), narrow: fc.boolean() }),
  {
    minLength: 1,
    maxLength: 7,
  },
);
const changes = fc.array(fc.record({ path: fc.constantFrom(...paths), text: fc.constantFrom('x', 'y', 'z') }), {
  maxLength: 3,
});

describe('exactly what must run runs', () => {
  it('for any graph and any set of changed files, against a slow obvious reference', async () => {
    await fc.assert(
      fc.asyncProperty(graphs, fc.array(changes, { minLength: 1, maxLength: 4 }), async (nodes, steps) => {
        const project = await makeProject();
        const plans = Object.fromEntries(
          nodes.map((node, at) => [
            `t${at}`,
            plan(`t${at}`, {
              reads: node.reads,
              needs: at === 0 ? [] : [...new Set(node.needs.map((need) => `t${need % at}`))],
            }),
          ]),
        );
        // A narrow task makes bytes that hardly depend on what it sees: what needs it may be reused all the same.
        const outputOf = (task: string, seen: string) =>
          nodes[Number(task.slice(1))]?.narrow ? `${task} ${seen.length % 2}` : `${task} ${seen}`;
        const memory = new Map<string, Set<string>>();
        let tree: Tree = Object.fromEntries(paths.map((path) => [path, 'x']));
        for (const step of [[], ...steps]) {
          tree = { ...tree, ...Object.fromEntries(step.map((one) => [one.path, one.text])) };
          const outcome = await runCommit(project, plans, tree, outputOf);
          expect(outcome.ran).toEqual(reference(plans, tree, outputOf, memory));
          for (const [name, state] of Object.entries(outcome.states))
            expect([name, state]).toEqual([name, outcome.ran.includes(name) ? 'passed' : 'reused']);
        }
      }),
      { numRuns: 60 },
    );
  }, 240_000);

  it('ends for any graph and any set of failures: what needs a failed one is skipped, the rest passes', async () => {
    await fc.assert(
      fc.asyncProperty(graphs, fc.array(fc.nat(6), { maxLength: 3 }), async (nodes, broken) => {
        const project = await makeProject();
        const plans = Object.fromEntries(
          nodes.map((node, at) => [
            `t${at}`,
            plan(`t${at}`, { needs: at === 0 ? [] : [...new Set(node.needs.map((need) => `t${need % at}`))] }),
          ]),
        );
        const fails = (task: string) => broken.includes(Number(task.slice(1)));
        const { states } = await runCommit(project, plans, {}, (task) => task, fails);
        const expected = (name: string): string => {
          const { needs } = plans[name] as TaskPlan;
          return needs.some((need) => expected(need) !== 'passed') ? 'skipped' : fails(name) ? 'failed' : 'passed';
        };
        expect(states).toEqual(Object.fromEntries(Object.keys(plans).map((name) => [name, expected(name)])));
      }),
      { numRuns: 20 },
    );
  }, 240_000);
});

describe('trust scopes', () => {
  const plans = { a: plan('a', { reads: ['a'] }), b: plan('b', { reads: ['b'], needs: ['a'] }) };
  const outputOf = (task: string, seen: string) => `${task} ${seen}`;

  it('read what the project has passed, and write to themselves alone', async () => {
    const project = await makeProject();
    await runCommit(project, plans, { a: '1', b: '1' }, outputOf);
    expect((await runCommit(project, plans, { a: '1', b: '1' }, outputOf, () => false, 'pr-1')).states).toEqual({
      a: 'reused',
      b: 'reused',
    });
    expect((await runCommit(project, plans, { a: '2', b: '1' }, outputOf, () => false, 'pr-1')).ran).toEqual([
      'a',
      'b',
    ]);
    expect((await runCommit(project, plans, { a: '2', b: '1' }, outputOf, () => false, 'pr-2')).ran).toEqual([
      'a',
      'b',
    ]);
    // What strangers have passed is done again for the project itself.
    expect((await runCommit(project, plans, { a: '2', b: '1' }, outputOf)).ran).toEqual(['a', 'b']);
    expect((await runCommit(project, plans, { a: '2', b: '1' }, outputOf, () => false, 'pr-2')).ran).toEqual([]);
  });

  it('do not let a stranger’s poisoned output reach the project: the same inputs with other bytes count on the stranger’s line alone', async () => {
    const project = await makeProject();
    const poisoned = (task: string) => `poison of ${task}`;
    await runCommit(project, plans, { a: '1', b: '1' }, poisoned, () => false, 'pr-1');
    const own = await runCommit(project, plans, { a: '1', b: '1' }, outputOf);
    expect(own.states).toEqual({ a: 'passed', b: 'passed' });
    const rows = await query<{ output: string }>(
      records,
      "select distinct output from results where project_id = $1 and line = 'own' order by output",
      [project.id],
    );
    const bytes = (text: string) => `sha256:${sha256(text)}`;
    expect(rows.map((row) => row.output)).not.toContain(bytes('poison of a'));
  });

  it('keep results of one project from another', async () => {
    const [one, two] = [await makeProject(), await makeProject()];
    await runCommit(one, plans, { a: '1', b: '1' }, outputOf);
    expect((await runCommit(two, plans, { a: '1', b: '1' }, outputOf)).ran).toEqual(['a', 'b']);
  });
});

describe('two services', () => {
  const claimAll = () => claimAttempts(records, agent, 99, 600_000);
  const passed = {
    what: 'ended' as const,
    state: 'passed' as const,
    issue: null,
    output: { digest: `sha256:${sha256('x')}`, size: 1 },
    tests: null,
  };
  const stateOf = async (id: string) => {
    const rows = await tasksOf(records, id);
    return { states: rows.map((row) => row.state), attempts: new Set(rows.map((row) => row.attempt_id)).size };
  };

  it('that take ends of one run at the same time lose none, and count none twice', async () => {
    const project = await makeProject();
    const others = openSteps(context);
    const second = (): Context => ({ ...context(), steps: others });
    const names = Array.from({ length: 24 }, (_, at) => `t${at}`);
    const plans = Object.fromEntries(
      names.map((name, at) => [name, plan(name, { needs: at < 12 ? [] : [`t${at - 12}`, `t${(at + 5) % 12}`] })]),
    );
    const { id } = await recordRun(project, plans, {});
    await Promise.all([steps.take(id, {}), others.take(id, {})]);
    let rounds = 0;
    for (let claimed = await claimAll(); claimed.length; claimed = await claimAll(), rounds++) {
      const reports = claimed.flatMap((row, at) =>
        // Each is told twice, to either service.
        [at % 2 ? context() : second(), at % 3 ? second() : context()].map(async (of) => {
          const seen = (await attemptById(records, row.id)) as AttemptOfRun;
          return reportAttempt(of, seen, { agent, fence: row.fence as string }, [passed]).then(
            () => 'taken',
            (error) => error.issue?.code ?? String(error),
          );
        }),
      );
      const told = await Promise.all(reports);
      expect(told.filter((one) => one === 'taken')).toHaveLength(claimed.length);
      expect(told.filter((one) => one === 'fence_old')).toHaveLength(claimed.length);
    }
    expect(rounds).toBeGreaterThan(1);
    expect((await stateOf(id)).states.every((state) => state === 'passed')).toBe(true);
    const events = await query<{ type: string; count: number }>(
      records,
      `select type, count(*)::int as count from events where project_id = $1 and type in ('task.ended', 'run.ended', 'attempt.ended') group by type order by type`,
      [project.id],
    );
    expect(events.map((one) => one.count)).toEqual([24, 1, 24]);
  });

  it('that need the same for two runs at the same time do it once, and both runs end with it', async () => {
    const project = await makeProject();
    const others = openSteps(context);
    const plans = Object.fromEntries(['a', 'b', 'c'].map((name) => [name, plan(name, { reads: [name] })]));
    plans.d = plan('d', { needs: ['a', 'b', 'c'] });
    const tree = { a: '1', b: '2', c: '3' };
    const runs = await Promise.all([recordRun(project, plans, tree), recordRun(project, plans, tree)]);
    await Promise.all(runs.map(({ id }, at) => (at ? others : steps).take(id, {})));
    const first = await claimAll();
    expect(first).toHaveLength(3);
    // Somebody who does not hold them says the same at the same time: that holds nobody up.
    const foreign = first.map(async (row) => {
      const seen = (await attemptById(records, row.id)) as AttemptOfRun;
      return reportAttempt(context(), seen, { agent, fence: '1' }, [passed]).then(
        () => 'taken',
        (error) => error.issue?.code,
      );
    });
    await Promise.all(
      first.map(async (row, at) =>
        reportAttempt(
          at % 2 ? { ...context(), steps: others } : context(),
          (await attemptById(records, row.id)) as AttemptOfRun,
          { agent, fence: row.fence as string },
          [
            {
              ...passed,
              state: at === 0 ? 'failed' : 'passed',
              output: at === 0 ? null : passed.output,
              issue: at === 0 ? { code: 'command_failed', data: {} } : null,
            },
          ],
        ),
      ),
    );
    const refused = await Promise.all(foreign);
    expect(refused).toEqual(['fence_old', 'fence_old', 'fence_old']);
    const [one, two] = await Promise.all(runs.map(({ id }) => stateOf(id)));
    expect(one?.states.toSorted()).toEqual(['failed', 'passed', 'passed', 'skipped']);
    expect(two).toEqual(one);
    expect(await claimAll()).toEqual([]);
    expect(await query(records, 'select 1 from attempts where project_id = $1', [project.id])).toHaveLength(3);
  });
});

describe('an agent', () => {
  const three = { a: plan('a', { makes: [] }), b: plan('b', { makes: [] }), c: plan('c', { needs: ['a'] }) };
  const leaseMs = 600_000;
  const seen = async (row: AttemptRow) => (await attemptById(records, row.id)) as AttemptOfRun;
  const ended = { what: 'ended' as const, state: 'passed' as const, issue: null, output: null, tests: null };
  const toldOf = (project: ProjectRow) =>
    query<{ type: string; task: string }>(
      records,
      `select type, data->>'task' as task from events where project_id = $1 and type in ('task.ready', 'attempt.started') order by id`,
      [project.id],
    );

  it('that waits is given what a step makes, as running as if it had asked', async () => {
    const project = await makeProject();
    const { id } = await recordRun(project, three, {});
    const given = new Promise<AttemptRow[]>((resolve) => takers.wait({ agent, slots: 1, leaseMs }, resolve));
    await steps.take(id, {});
    const [row] = await given;
    expect(takers.claims()).toEqual([]);
    expect(row).toMatchObject({ state: 'running', agent_id: agent });
    expect(steps.runs(row?.id as string)).toBe(true);
    expect((await tasksOf(records, id)).map((task) => [task.state, task.started_at !== null])).toEqual([
      ['running', true],
      ['ready', false],
      ['waiting', false],
    ]);
    expect(await toldOf(project)).toEqual([
      { type: 'task.ready', task: 'a' },
      { type: 'task.ready', task: 'b' },
      { type: 'attempt.started', task: 'a' },
    ]);
    // What was ready before is begun with the step that gives it, and said once.
    const more = await reportAttempt(
      context(),
      await seen(row as AttemptRow),
      { agent, fence: row?.fence as string },
      [ended],
      { agent, slots: 2, leaseMs },
    );
    expect(more).toHaveLength(2);
    expect((await tasksOf(records, id)).map((task) => task.state)).toEqual(['passed', 'running', 'running']);
    expect((await toldOf(project)).slice(3)).toEqual([
      { type: 'task.ready', task: 'c' },
      { type: 'attempt.started', task: 'b' },
      { type: 'attempt.started', task: 'c' },
    ]);
    const commands = await query(records, `select state from commands where attempt_id = any($1::uuid[])`, [
      more.map((one) => one.id),
    ]);
    expect(commands).toEqual([{ state: 'running' }, { state: 'running' }]);
    for (const one of more)
      await reportAttempt(context(), await seen(one), { agent, fence: one.fence as string }, [ended]);
    expect((await tasksOf(records, id)).map((task) => task.state)).toEqual(['passed', 'passed', 'passed']);
  });

  it('is not given what comes to nothing in the same step', async () => {
    const project = await makeProject();
    const { id } = await recordRun(project, three, {});
    await steps.take(id, {});
    const [row] = await claimAttempts(records, agent, 1, leaseMs);
    await query(records, `update runs set stopped_by = 'mika' where id = $1`, [id]);
    const given = await reportAttempt(
      context(),
      await seen(row as AttemptRow),
      { agent, fence: row?.fence as string },
      [ended],
      { agent, slots: 9, leaseMs },
    );
    expect(given).toEqual([]);
    expect((await tasksOf(records, id)).map((task) => task.state)).toEqual(['passed', 'stopped', 'stopped']);
    expect(await query(records, `select state from attempts where project_id = $1 order by id`, [project.id])).toEqual([
      { state: 'passed' },
      { state: 'stopped' },
    ]);
  });

  it('that waits no more holds nobody up: what was claimed for it is left to be told', async () => {
    const row = { id: newId(), agent_id: agent } as AttemptRow;
    const first = takers.wait({ agent, slots: 1, leaseMs }, () => {});
    const rows: AttemptRow[] = [];
    const second = takers.wait({ agent, slots: 2, leaseMs }, (given) => rows.push(...given));
    // The question before it is over by now; leaving late takes nothing from the newest.
    first();
    expect(takers.claims()).toMatchObject([{ slots: 2 }]);
    expect(takers.give([row, { ...row, agent_id: newId() }])).toHaveLength(1);
    expect(rows).toEqual([row]);
    second();
    expect(takers.give([row])).toEqual([row]);
  });
});

describe('a report', () => {
  it('of an end leaves what a command came to, also where its lines turn out to begin elsewhere', async () => {
    const project = await makeProject();
    const { id } = await recordRun(project, { two: plan('two', { run: ['first', 'second'] }) }, {});
    await steps.take(id, {});
    const [row] = await claimAttempts(records, agent, 1, 600_000);
    const attempt = row?.id as string;
    const by = { agent, fence: row?.fence as string };
    const seen = (await attemptById(records, attempt)) as AttemptOfRun;
    await reportAttempt(context(), seen, by, [
      { what: 'command-started', position: 0, firstLine: 5 },
      { what: 'command-ended', position: 0, exit: 0, ms: 1 },
    ]);
    await startCommand(records, attempt, 1, 'second', 7);
    await query(records, 'update commands set first_line = 5 where attempt_id = $1 and position = 0', [attempt]);
    await reportAttempt(context(), seen, by, [
      { what: 'ended', state: 'failed', issue: null, output: null, tests: null, firstLines: [3, 9] },
    ]);
    expect((await commandsOf(records, [attempt])).map((one) => [one.state, one.first_line])).toEqual([
      ['passed', 3],
      ['failed', 9],
    ]);
  });

  it('of an attempt that is over, or with another fence, changes nothing', async () => {
    const project = await makeProject();
    await runCommit(project, { a: plan('a', {}) }, {}, () => 'x');
    const passed = await queryOne<{ id: string }>(
      records,
      "select id from attempts where project_id = $1 and state = 'passed'",
      [project.id],
    );
    const row = (await attemptById(records, passed?.id as string)) as AttemptOfRun;
    const report = (fence: string) =>
      reportAttempt(context(), row, { agent, fence }, [
        { what: 'ended', state: 'failed', issue: null, output: null, tests: null },
      ]);
    await expect(report(row.fence as string)).rejects.toMatchObject({ issue: { code: 'fence_old' } });
    await expect(report('999999')).rejects.toMatchObject({ issue: { code: 'fence_old' } });
    await expect(reportAttempt(context(), { ...row, id: newId() }, { agent, fence: '1' }, [])).rejects.toMatchObject({
      issue: { code: 'fence_old' },
    });
    expect(await queryOne(records, 'select state from attempts where id = $1', [row.id])).toEqual({ state: 'passed' });
  });
});
