/** Tasks that end in every way there is, next to one that has nothing to do with them: it runs once, and the agent stays. */
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { AlertPage } from '../../src/wire/alerts.js';
import type { RunDetail } from '../../src/wire/runs.js';
import { type Checkout, openWorld, recordsOf, until, type World } from './world.js';

let world: World;
let checkout: Checkout;

/** Name → what it runs, how it ends, and its keys beside `run`. */
const ways: Record<string, { run: string; state: 'passed' | 'failed'; code?: string; more?: string }> = {
  exits: { run: 'exit 3', state: 'failed', code: 'command_failed' },
  'kills-all': { run: 'kill -9 -1', state: 'failed', code: 'sandbox_killed' },
  'kills-all-while-writing': {
    run: 'yes | head -c 5000000 & sleep 0.2; kill -9 -1',
    state: 'failed',
    code: 'sandbox_killed',
  },
  'kills-all-with-outputs': {
    run: 'mkdir out; head -c 3000000 /dev/zero > out/a; kill -9 -1',
    state: 'failed',
    code: 'sandbox_killed',
    more: 'makes: [out/]',
  },
  'kills-all-with-results': { run: 'kill -9 -1', state: 'failed', code: 'sandbox_killed', more: 'results: report.xml' },
  'kills-itself': { run: 'kill -9 $$', state: 'failed', code: 'command_killed' },
  'ends-by-term': { run: 'kill -TERM $$', state: 'failed', code: 'command_killed' },
  aborts: { run: 'kill -ABRT $$', state: 'failed', code: 'command_killed' },
  'is-late': { run: 'sleep 60', state: 'failed', code: 'task_timeout', more: 'timeout: 1s' },
  'is-late-and-ignores-term': {
    run: 'trap "" TERM; while true; do sleep 1; done',
    state: 'failed',
    code: 'task_timeout',
    more: 'timeout: 1s',
  },
  'is-late-with-outputs': {
    run: 'mkdir out; trap "" TERM; while true; do sleep 1; done',
    state: 'failed',
    code: 'task_timeout',
    more: 'timeout: 1s, makes: [out/]',
  },
  'leaves-processes': { run: 'sleep 300 & setsid sleep 300 & true', state: 'passed' },
  'closes-its-output': { run: 'exec 1>&- 2>&-; sleep 0.2', state: 'passed' },
  'writes-to-closed-pipe': { run: 'yes | head -1; true', state: 'failed', code: 'pipe_ended' },
  'misses-outputs': { run: 'true', state: 'failed', code: 'output_missing', more: 'makes: [nowhere/]' },
  'misses-results': { run: 'true', state: 'failed', code: 'results_missing', more: 'results: nowhere.xml' },
  'makes-a-socket': {
    run: `mkdir out; node -e 'require("net").createServer().listen("out/s", () => process.kill(process.pid, 9))' || true`,
    state: 'failed',
    code: 'output_unsafe',
    more: 'makes: [out/]',
  },
  'prints-bytes': { run: 'head -c 400000 /dev/urandom', state: 'passed' },
  'writes-to-descriptors': {
    run: 'for d in 3 4 5 6 7; do echo x >&$d; done 2>/dev/null; exit 4',
    state: 'failed',
    code: 'command_failed',
  },
  'forks-much': { run: 'for i in $(seq 300); do sleep 30 & done; kill -9 -1', state: 'failed', code: 'sandbox_killed' },
};

beforeAll(async () => {
  world = await openWorld();
  const tasks = Object.entries(ways).map(
    ([name, { run, more }]) => `  ${name}: { run: ${JSON.stringify(run)}${more ? `, ${more}` : ''} }`,
  );
  ({ checkout } = await world.hosted('ends', {
    'tsunagi.yaml': `tsunagi: 1\ntasks:\n  bystander: { run: "sleep 25; echo done" }\n${tasks.join('\n')}\n`,
  }));
});
afterAll(() => world?.close());

describe('a run that no agent can take', () => {
  it('says so where it is followed, is wrong after a minute, and ends after a day', async () => {
    const definition = `tsunagi: 1\ntools: { node: '>=99' }\ntasks:\n  unit: { run: "true" }\n`;
    const file = join(world.folder, 'tsunagi.yaml');
    writeFileSync(file, definition);
    const says = /No agent has node >=99; the agents have [0-9.]+\./;
    expect((await world.cli('check', file)).out).toMatch(says);
    await world.hosted('later', { 'tsunagi.yaml': definition }).then(({ checkout: own }) => own.push());
    const following = world.cli('follow', '1', '--project', 'later');
    const run = () => world.api().get<RunDetail>('/api/projects/later/runs/1');
    await until('it says why it waits', async () => says.test((await run()).issue?.says ?? ''));
    const longer = (time: string) =>
      recordsOf(
        world,
        `update runs set unplaced_at = unplaced_at - interval '${time}', due_at = now() where unplaced_at is not null`,
      );
    const wrong = async () =>
      (await world.api().get<AlertPage>('/api/alerts')).wrong.find((one) => one.topic === 'run-unplaced');
    expect(await wrong()).toBeUndefined();
    await longer('1 minute');
    expect(await until('it is wrong', wrong)).toMatchObject({ place: 'later', says: expect.stringMatching(says) });
    await longer('1 day');
    const { out, status } = await following;
    expect([status, out]).toEqual([1, expect.stringMatching(says)]);
    expect(out).toContain('No agent could take this run for a day');
    expect(await run()).toMatchObject({ state: 'failed', issue: { code: 'no_agent_came' } });
    await until('nothing is wrong', async () => (await wrong()) === undefined);
  });
});

describe('a task', () => {
  it('that ends in whatever way ends for itself alone, and says what happened', async () => {
    const agent = world.house.rooms.agent.pid();
    await checkout.push();
    const run = await until('all of them have ended', async () => {
      const one = await world.api().get<RunDetail>('/api/projects/ends/runs/1');
      return one.endedAt === null ? null : one;
    });
    const ends = Object.fromEntries(
      run.taskList.map((task) => [task.name, [task.state, task.attempts.at(-1)?.issue?.code ?? null]]),
    );
    expect(ends).toEqual({
      bystander: ['passed', null],
      ...Object.fromEntries(Object.entries(ways).map(([name, { state, code }]) => [name, [state, code ?? null]])),
    });
    expect(run.taskList.find(({ name }) => name === 'bystander')?.attempts).toHaveLength(1);
    expect(run.taskList.filter(({ attempts }) => attempts.some(({ state }) => state === 'lost'))).toEqual([]);
    expect(world.house.rooms.agent.pid()).toBe(agent);
  });

  it('uses up no try when its agent is restarted, however often', async () => {
    await checkout.commitAndPush({ 'tsunagi.yaml': 'tsunagi: 1\ntasks:\n  long: { run: "sleep 8" }\n' }, 'A long one');
    const long = () => world.api().get<RunDetail>('/api/projects/ends/runs/2');
    const started = (count: number) =>
      until(`attempt ${count} runs`, async () => {
        const [task] = (await long()).taskList;
        return task?.attempts.length === count && task.attempts.at(-1)?.state === 'running';
      });
    for (let restarts = 0; restarts < 6; restarts++) {
      await started(restarts + 1);
      process.kill(world.house.rooms.agent.pid() as number, 'SIGTERM');
    }
    const run = await until('it has passed', async () => {
      const one = await long();
      return one.endedAt === null ? null : one;
    });
    expect(run.state).toBe('passed');
    const lost = run.taskList[0]?.attempts.filter(({ state }) => state === 'lost') ?? [];
    expect(lost.map(({ issue }) => issue?.code)).toEqual(Array(6).fill('agent_left'));
  });
});
