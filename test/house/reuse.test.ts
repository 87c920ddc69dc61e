import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import pg from 'pg';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import type { PlanView, WhyRunView, WhyTaskView } from '../../src/wire/why.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
beforeAll(async () => {
  world = await openWorld();
});
afterAll(() => world?.close());

/** A project whose tasks print a line each time they really run. */
async function project(name: string, definition: string, files: Record<string, string> = {}): Promise<Checkout> {
  const { checkout } = await world.hosted(name, { 'a.txt': 'a', 'b.txt': 'b', ...files, 'tsunagi.yaml': definition });
  await checkout.push();
  return checkout;
}
const states = (run: RunDetail) => Object.fromEntries(run.taskList.map((task) => [task.name, task.state]));
const again = (name: string, ref = 'main', body: object = {}) =>
  world.api().post<Run>(`/api/projects/${name}/runs`, { ref, ...body });
const ended = (name: string, number: number) =>
  until(`run ${number} of ${name} has ended`, async () => {
    const run = await world.api().get<RunDetail>(`/api/projects/${name}/runs/${number}`);
    return run.endedAt ? run : null;
  });
const startAndEnd = async (name: string, ref = 'main', body: object = {}) =>
  ended(name, (await again(name, ref, body)).number);

const chain = `tsunagi: 1
tasks:
  make: { reads: [a.txt], run: 'head -c 1 a.txt > out.txt', makes: [out.txt] }
  use: { needs: [make], reads: [b.txt], run: 'cat out.txt b.txt' }
  alone: { reads: [b.txt], run: 'cat b.txt' }
  always: { reads: [b.txt], reuse: false, run: 'true' }
`;

describe('work that has passed', () => {
  let checkout: Checkout;
  beforeAll(async () => {
    checkout = await project('chain', chain);
    expect(states(await ended('chain', 1))).toEqual({
      make: 'passed',
      use: 'passed',
      alone: 'passed',
      always: 'passed',
    });
  });

  it('is not done again for the same inputs, and its log and outputs are linked', async () => {
    const run = await startAndEnd('chain');
    expect(states(run)).toEqual({ make: 'reused', use: 'reused', alone: 'reused', always: 'passed' });
    const [first] = (await world.api().get<RunDetail>('/api/projects/chain/runs/1')).taskList;
    expect(run.taskList[0]).toMatchObject({
      output: first?.output,
      fingerprint: first?.fingerprint,
      attempts: [{ id: first?.attempts[0]?.id, state: 'passed' }],
    });
  });

  it('counts on another branch too, until an input differs', async () => {
    await checkout.commit({ 'c.txt': 'c' }, 'a file that no task reads');
    await checkout.push('HEAD:refs/heads/other');
    const run = await ended('chain', 3);
    expect(run.branch).toBe('other');
    expect(states(run)).toMatchObject({ make: 'reused', use: 'reused', alone: 'reused' });
    await checkout.commitAndPush({ 'b.txt': 'B' }, 'b differs');
    expect(states(await ended('chain', 4))).toMatchObject({ make: 'reused', use: 'passed', alone: 'passed' });
  });

  it('stops early: what needs a task whose bytes came out the same is reused', async () => {
    await checkout.commitAndPush({ 'a.txt': 'a, and more that does not reach the output' }, 'a differs');
    expect(states(await ended('chain', 5))).toMatchObject({ make: 'passed', use: 'reused', alone: 'reused' });
  });

  it('is done again when that is asked for, for all tasks or for some', async () => {
    expect(states(await startAndEnd('chain', 'main', { reuse: false }))).toEqual({
      make: 'passed',
      use: 'passed',
      alone: 'passed',
      always: 'passed',
    });
    expect(states(await startAndEnd('chain', 'main', { tasks: ['alone'] }))).toMatchObject({
      make: 'reused',
      use: 'reused',
      alone: 'passed',
    });
    const { out, status } = await world.cli('run', 'start', 'main', '--project', 'chain', '--without-reuse');
    expect([status, out]).toEqual([0, expect.stringMatching(/^run 8 of /)]);
    expect(states(await ended('chain', 8)).make).toBe('passed');
  });

  it('does not count when its bytes are broken or gone', async () => {
    const { taskList } = await ended('chain', 8);
    const blob = join(
      world.folder,
      'house/service/blobs/blobs/sha256',
      (taskList[0]?.output?.digest ?? '').replace('sha256:', ''),
    );
    writeFileSync(blob, 'x'.repeat(taskList[0]?.output?.size ?? 0));
    expect(states(await startAndEnd('chain'))).toMatchObject({ make: 'passed', use: 'reused', alone: 'reused' });
    rmSync(blob);
    expect(states(await startAndEnd('chain'))).toMatchObject({ make: 'passed', use: 'reused' });
  });

  it('is foretold by a plan that changes nothing, with the time and the way through it', async () => {
    const before = (await world.api().get<{ items: Run[] }>('/api/runs?project=chain&limit=1')).items[0]?.number;
    const plan = await world.api().get<PlanView>('/api/projects/chain/plan');
    expect(plan.tasks.map((one) => [one.name, one.will, one.why?.code])).toEqual([
      ['make', 'reuse', 'plan_reused'],
      ['use', 'reuse', 'plan_reused'],
      ['alone', 'reuse', 'plan_reused'],
      ['always', 'run', 'plan_no_reuse'],
    ]);
    expect(plan.path).toEqual(['always']);
    expect(plan.expectedMs).toBeGreaterThan(0);
    await checkout.commit({ 'b.txt': 'once more' }, 'b again');
    await checkout.push('HEAD:refs/heads/planned');
    const number = (
      await until(
        'its run',
        async () => (await world.api().get<{ items: Run[] }>('/api/runs?project=chain&branch=planned')).items[0],
      )
    ).number;
    await ended('chain', number);
    await checkout.commit({ 'a.txt': 'z', 'b.txt': 'not run yet' }, 'both');
    // Both slots are taken, so that the commit's own run has not begun when the plan is asked for.
    await project('busy', 'tsunagi: 1\ntasks:\n  w: { shards: 2, run: sleep 30 }\n');
    await until('both slots are taken', async () =>
      (await world.api().get<RunDetail>('/api/projects/busy/runs/1')).taskList.every((one) => one.state === 'running'),
    );
    await checkout.git('push', '-q', 'origin', 'HEAD:refs/heads/foretold');
    const foretold = await world.cli('plan', 'foretold', '--project', 'chain');
    expect(foretold.status).toBe(0);
    expect(foretold.out).toMatch(/make +run .*a\.txt/);
    expect(foretold.out).toMatch(/use +run +.*make runs before it/);
    await world.api().post('/api/projects/busy/runs/1/stop');
    expect(
      (await world.api().get<{ items: Run[] }>('/api/runs?project=chain&branch=main&limit=1')).items[0]?.number,
    ).toBe(before);
    expect((await world.cli('plan', 'nowhere', '--project', 'chain')).err).toContain('nowhere');
  });

  it('is explained: the inputs, and the first that differs', async () => {
    const run = (
      await until(
        'the run',
        async () => (await world.api().get<{ items: Run[] }>('/api/runs?project=chain&branch=foretold')).items[0],
      )
    ).number;
    await ended('chain', run);
    const why = await world.api().get<WhyTaskView>(`/api/projects/chain/runs/${run}/tasks/alone/why`);
    expect(why).toMatchObject({
      state: 'passed',
      flaky: false,
      reusedFrom: null,
      differences: [{ input: 'reads', says: 'b.txt', files: { paths: ['b.txt'], count: 1 } }],
    });
    expect(why.inputs).toMatchObject({ run: ['cat b.txt'], project: 'chain' });
    const make = await world.cli('why', 'task', 'make', '--project', 'chain', '--run', String(run));
    expect(make.out).toMatch(/make in run \d+: passed/);
    expect(make.out).toContain('differs first: a.txt');
    const second = await world.cli('why', 'task', 'make', '--project', 'chain', '--run', '2');
    expect(second.out).toContain('The pass of run 1 counts');
    expect((await world.cli('why', 'task', 'mak', '--project', 'chain')).err).toContain('make');
  });
});

describe('a task that fails', () => {
  it('is tried again as its definition says, and a pass is then flaky and not reused', async () => {
    await project(
      'shaky',
      `tsunagi: 1
tasks:
  shaky: { cache: [~/seen/], retry: 2, run: 'test -e ~/seen/once || { touch ~/seen/once; exit 3; }' }
  firm: { reads: [a.txt], run: 'true' }
  never: { reads: [b.txt], retry: 1, run: 'exit 4' }
`,
    );
    const run = await ended('shaky', 1);
    expect(
      run.taskList.map((task) => [task.name, task.state, task.flaky, task.attempts.map((one) => one.state)]),
    ).toEqual([
      ['shaky', 'passed', true, ['failed', 'passed']],
      ['firm', 'passed', false, ['passed']],
      ['never', 'failed', false, ['failed', 'failed']],
    ]);
    expect(run.taskList[0]?.issue).toBeNull();
    const next = await startAndEnd('shaky');
    expect(states(next)).toEqual({ shaky: 'passed', firm: 'reused', never: 'failed' });
    const why = await world.cli('why', 'run', '2', '--project', 'shaky');
    expect(why.out).toContain('never failed: The command `exit 4` ended with exit status 4.');
  });

  it('runs again on its own, with what passed reused; its reason and what has changed are told', async () => {
    const checkout = await project(
      'fixed',
      `tsunagi: 1
tasks:
  unit: { reads: [test.sh, a.txt], run: bash test.sh, results: out.xml }
  after: { needs: [unit], run: 'true' }
  other: { reads: [b.txt], run: 'true' }
`,
      {
        'test.sh': `fails() { grep -q "$1" a.txt && echo '<failure message="price is wrong">at price.js:7</failure>'; }\nprintf '<testsuite><testcase name="price" classname="board">%s</testcase><testcase name="seat" classname="board">%s</testcase></testsuite>' "$(fails low)" "$(fails full)" > out.xml\n! grep -q 'low\\|full' a.txt\n`,
      },
    );
    expect((await ended('fixed', 1)).state).toBe('passed');
    await checkout.commitAndPush({ 'a.txt': 'low' }, 'Lower the price');
    const failed = await ended('fixed', 2);
    expect(states(failed)).toEqual({ unit: 'failed', after: 'skipped', other: 'reused' });
    let why = await world.api().get<WhyRunView>('/api/projects/fixed/runs/2/why');
    expect(why).toMatchObject({
      failed: [
        {
          task: 'unit',
          command: { text: 'bash test.sh', exit: 1 },
          tests: [{ name: 'price', group: 'board', standing: 'new', failedBefore: 0, seenBefore: 1 }],
        },
      ],
      skipped: ['after'],
      since: {
        run: 1,
        commits: [{ title: 'Lower the price' }],
        files: { paths: ['a.txt'], count: 1 },
        tools: [],
        variables: [],
      },
    });
    await checkout.commitAndPush({ 'a.txt': 'low full' }, 'Fill the seats');
    await ended('fixed', 3);
    why = await world.api().get<WhyRunView>('/api/projects/fixed/runs/3/why');
    expect(why.failed[0]?.tests.map((one) => [one.name, one.standing])).toEqual([
      ['price', 'known'],
      ['seat', 'new'],
    ]);
    expect(why.since?.commits.map((one) => one.title)).toEqual(['Fill the seats', 'Lower the price']);
    const told = await world.cli('why', 'run', '3', '--project', 'fixed');
    expect(told.out).toMatch(/failed board › seat \(new\)/);
    expect(told.out).toMatch(/failed board › price \(known: failed in 1 of the last 2\)/);
    expect(told.out).toContain('Since run 1 passed:');

    const { out } = await world.cli('run', 'again', '2', '--project', 'fixed');
    const number = Number(/run (\d+)/.exec(out)?.[1]);
    const rerun = await ended('fixed', number);
    expect(rerun.commit.id).toBe(failed.commit.id);
    expect(states(rerun)).toEqual({ unit: 'failed', after: 'skipped', other: 'reused' });
    const one = await world.api().post<Run>('/api/projects/fixed/runs/1/again', { task: 'other' });
    expect(states(await ended('fixed', one.number))).toMatchObject({ other: 'passed', unit: 'reused' });
    expect((await world.cli('run', 'again', '1', 'othr', '--project', 'fixed')).err).toContain('Did you mean `other`');
  });
});

describe('two runs that need the same at once', () => {
  const slow =
    "tsunagi: 1\ntasks:\n  slow: { reads: [a.txt], run: 'sleep 1.5; echo done once' }\n  last: { needs: [slow], reads: [b.txt], run: 'true' }\n";
  it('both hear of its end, also one that begins to share it while the end is being recorded', async () => {
    const checkout = await project(
      'late',
      `tsunagi: 1\ntasks:\n  slow: { reads: [a.txt], run: sleep ${Math.ceil(4 * world.pace)} }\n`,
    );
    const shares = (number: number, attempt?: string) =>
      until(`run ${number} has its attempt`, async () => {
        const run = await world.api().get<RunDetail>(`/api/projects/late/runs/${number}`);
        const [own] = run.taskList[0]?.attempts ?? [];
        return own && (attempt === undefined || own.id === attempt) && own.id;
      });
    const attempt = await shares(1);
    await checkout.push('HEAD:refs/heads/second');
    await shares(2, attempt);
    // The end waits for the second run, and knows already which runs share the attempt: the third one comes meanwhile.
    const holder = new pg.Client({ connectionString: world.house.database });
    await holder.connect();
    try {
      await holder.query('begin');
      await holder.query(
        `select 1 from runs where number = 2 and project_id = (select id from projects where name = 'late') for update`,
      );
      await until('the end waits', async () => {
        const { rows } = await holder.query('select 1 from pg_locks where not granted');
        return rows.length > 0;
      });
      await checkout.push('HEAD:refs/heads/third');
      await shares(3, attempt);
    } finally {
      await holder.query('rollback');
      await holder.end();
    }
    for (const number of [1, 2, 3]) expect((await ended('late', number)).state).toBe('passed');
  });

  it('share one attempt, which goes on when one of them is stopped', async () => {
    const checkout = await project('shared', slow);
    const first = await until('it runs', async () => {
      const run = await world.api().get<RunDetail>('/api/projects/shared/runs/1');
      return run.taskList[0]?.state === 'running' && run;
    });
    await checkout.git('push', '-q', 'origin', 'HEAD:refs/heads/second');
    const second = await until('it has joined', async () => {
      const run = await world.api().get<RunDetail>('/api/projects/shared/runs/2');
      return run.taskList[0]?.state === 'running' && run;
    });
    // What is said to run has its attempt beside it, whenever it is asked.
    expect(first.taskList[0]?.attempts).toHaveLength(1);
    expect(second.taskList[0]?.attempts[0]?.id).toBe(first.taskList[0]?.attempts[0]?.id);
    await world.api().post('/api/projects/shared/runs/1/stop');
    expect((await ended('shared', 1)).state).toBe('stopped');
    const whole = await ended('shared', 2);
    expect(whole.state).toBe('passed');
    expect(states(whole)).toEqual({ slow: 'passed', last: 'passed' });
    expect(whole.taskList[0]?.attempts).toHaveLength(1);
    expect(states(await startAndEnd('shared', 'second'))).toEqual({ slow: 'reused', last: 'reused' });
  });

  it('both fail when it fails, and an attempt that both let go is ended', async () => {
    const checkout = await project(
      'both',
      "tsunagi: 1\ntasks:\n  slow: { reads: [a.txt], run: 'sleep 1.2; exit 5' }\n",
    );
    await until(
      'it runs',
      async () => (await world.api().get<RunDetail>('/api/projects/both/runs/1')).taskList[0]?.state === 'running',
    );
    await checkout.git('push', '-q', 'origin', 'HEAD:refs/heads/second');
    const runs = await Promise.all([
      ended('both', 1),
      until(
        'joined',
        async () => (await world.api().get<{ items: Run[] }>('/api/runs?project=both')).items.length === 2,
      ).then(() => ended('both', 2)),
    ]);
    expect(runs.map((run) => [run.state, run.taskList[0]?.issue?.code])).toEqual([
      ['failed', 'command_failed'],
      ['failed', 'command_failed'],
    ]);
    await checkout.commitAndPush({ 'a.txt': 'next' }, 'next');
    await until(
      'it runs',
      async () => (await world.api().get<RunDetail>('/api/projects/both/runs/3')).taskList[0]?.state === 'running',
    );
    await world.api().post('/api/projects/both/runs/3/stop');
    const stopped = await ended('both', 3);
    expect([stopped.state, stopped.taskList[0]?.attempts[0]?.state]).toEqual(['stopped', 'stopped']);
  });
});
