import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
beforeAll(async () => {
  world = await openWorld();
});
afterAll(() => world?.close());

const get = (name: string, number: number) => world.api().get<RunDetail>(`/api/projects/${name}/runs/${number}`);
const ended = (name: string, number: number) =>
  until(`run ${number} of ${name} has ended`, async () => {
    const run = await get(name, number);
    return run.endedAt ? run : null;
  });
const running = (name: string, number: number) =>
  until(`run ${number} of ${name} runs`, async () => {
    const run = await get(name, number);
    return run.taskList[0]?.state === 'running' ? run : null;
  });
const recorded = (name: string, count: number) =>
  until(
    `${count} runs of ${name}`,
    async () => (await world.api().get<{ items: Run[] }>(`/api/runs?project=${name}&limit=100`)).items.length === count,
  );

const taken = (seconds: number) => `tsunagi: 1
tasks:
  slow: { reads: [a.txt], run: sleep ${seconds} }
release:
  needs: [slow]
  parts:
    page: { kind: site, files: [web/], root: web }
environments:
  staging: { branch: main }
`;

describe('pushes after one another', () => {
  let checkout: Checkout;
  const push = async (text: string, branch = 'main') => {
    await checkout.commit({ 'a.txt': text }, text);
    await checkout.push(`HEAD:refs/heads/${branch}`);
  };

  it('to a branch that an environment takes: the run that runs finishes, and of those that wait the newest stays', async () => {
    ({ checkout } = await world.hosted('taken', { 'a.txt': '1', 'web/index.html': 'x', 'tsunagi.yaml': taken(0.1) }));
    await checkout.push();
    await ended('taken', 1);
    await checkout.commit({ 'tsunagi.yaml': taken(Math.round(7 * world.pace)) }, 'slower');
    await checkout.push();
    await running('taken', 2);
    await push('3');
    await recorded('taken', 3);
    const waiting = await until('it says what it waits for', async () => {
      const run = await get('taken', 3);
      return run.issue ? run : null;
    });
    expect(waiting).toMatchObject({
      state: 'waiting',
      issue: { code: 'waits_for_run', says: 'It waits until run 2 has ended.' },
    });
    await push('4');
    await push('5');
    expect((await ended('taken', 2)).state).toBe('passed');
    expect(await ended('taken', 3)).toMatchObject({
      state: 'superseded',
      issue: { code: 'superseded_by' },
      taskList: [],
    });
    expect((await ended('taken', 4)).state).toBe('superseded');
    const last = await ended('taken', 5);
    expect([last.state, last.release]).toEqual(['passed', expect.any(Number)]);
    await world.waitLive('taken', 'staging', last.commit.id);
  });

  it('to any other branch: the newest takes the place of all before it, and their processes end', async () => {
    await push('b1', 'topic');
    await recorded('taken', 6);
    await running('taken', 6);
    await push('b2', 'topic');
    const replaced = await ended('taken', 6);
    expect(replaced).toMatchObject({ state: 'superseded', issue: { says: 'run 7 of a newer push took its place.' } });
    expect(replaced.taskList.map((one) => [one.state, one.attempts.at(-1)?.state])).toEqual([
      ['superseded', 'stopped'],
    ]);
    expect((await ended('taken', 7)).state).toBe('passed');
    const { out } = await world.cli('run', 'show', '6', '--project', 'taken');
    expect(out).toContain('superseded');
  });

  it('leave the runs of other branches alone, and those that a person asked for', async () => {
    await push('c1', 'one');
    await running('taken', 8);
    await world.api().post('/api/projects/taken/runs', { ref: 'topic', reuse: false });
    await push('c2', 'two');
    await push('c3', 'topic');
    expect(await Promise.all([8, 9, 10, 11].map(async (number) => (await ended('taken', number)).state))).toEqual([
      'passed',
      'passed',
      'passed',
      'passed',
    ]);
  });
});

describe('the agents’ slots', () => {
  const many = (name: string, seconds: number) =>
    `tsunagi: 1\ntasks:\n  w: { shards: 8, run: 'sleep ${seconds}; echo ${name}' }\n`;

  /** How many tasks of the large run had begun when the quick one did, by the order of the record. */
  const begunBefore = async (project: string, subject = 'run 1', large = 'large'): Promise<number> => {
    const of = async (name: string, run: string) =>
      (await world.events(`type=attempt.started&project=${name}&subject=${encodeURIComponent(run)}`)).map((one) =>
        Number(one.sequence),
      );
    const quick = await until('it is told', async () => (await of(project, subject))[0]);
    return (await of(large, 'run 1')).filter((one) => one < quick).length;
  };

  it('go to projects in turns: a small one does not wait for all of a large one', async () => {
    const { checkout: large } = await world.hosted('large', {
      'a.txt': '1',
      'tsunagi.yaml': many('large', 0.7 * world.pace),
    });
    const { checkout: small } = await world.hosted('small', {
      'a.txt': '1',
      'tsunagi.yaml': "tsunagi: 1\ntasks:\n  quick: { run: 'true' }\n",
    });
    await large.push();
    await running('large', 1);
    await small.push();
    const quick = await ended('small', 1);
    expect(quick.state).toBe('passed');
    await ended('large', 1);
    expect(await begunBefore('small')).toBeLessThan(5);
  });

  it('go to the main branch before other branches of a project', async () => {
    const { checkout } = await world.hosted('first', { 'a.txt': '1', 'tsunagi.yaml': many('first', 1.2 * world.pace) });
    await checkout.push('HEAD:refs/heads/topic');
    await running('first', 1);
    await checkout.commit({ 'tsunagi.yaml': "tsunagi: 1\ntasks:\n  quick: { run: 'true' }\n" }, 'quick');
    await checkout.push();
    await ended('first', 2);
    await ended('first', 1);
    expect(await begunBefore('first', 'run 2', 'first')).toBeLessThan(5);
  });
});
