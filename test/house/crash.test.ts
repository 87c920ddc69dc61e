/**
 * Kills at random points. Each round pushes a commit of 40 tasks and kills service, agent or PostgreSQL, one to three of them, while
 * its run goes on. `npm run crash` plays 50 rounds; TSUNAGI_SEED and TSUNAGI_CRASHES choose others. A round's name tells its seed:
 * with it and one round the same kills are drawn again.
 */
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import { allEvents, type Checkout, openWorld, until, type World } from './world.js';

const seed = Number(process.env.TSUNAGI_SEED ?? Date.now() % 1_000_000);
const rounds = Array.from({ length: Number(process.env.TSUNAGI_CRASHES ?? 3) }, (_, at) => seed + at);
const levels = 4;
const width = 10;
const lines = 25;

/** Numbers from 0 up to 1, the same for the same seed. */
function drawing(from: number): () => number {
  let drawn = 0;
  return () => createHash('sha256').update(`${from}/${drawn++}`).digest().readUInt32BE() / 2 ** 32;
}

/** 40 tasks on four levels. Each counts its lines, and hands on how many tasks stand behind it, itself among them. */
function definition(draw: () => number): { text: string; behind: Map<string, number> } {
  const behind = new Map<string, number>();
  const tasks: string[] = [];
  for (let level = 0; level < levels; level++)
    for (let at = 0; at < width; at++) {
      const name = `t${level}-${at}`;
      const needs =
        level === 0 ? [] : [...new Set([at, Math.floor(draw() * width)])].map((one) => `t${level - 1}-${one}`);
      behind.set(name, 1 + needs.reduce((sum, need) => sum + (behind.get(need) ?? 0), 0));
      const sum = ['1', ...needs.map((need) => `$(cat out/${need}/count)`)].join(' + ');
      tasks.push(`  ${name}:
    reads: [round.txt]
    needs: [${needs.join(', ')}]
    makes: [out/${name}/]
    run: |
      for n in $(seq ${lines}); do echo "${name} line $n"; [ $((n % 5)) != 0 ] || sleep 0.015; done
      mkdir -p out/${name}; echo $((${sum})) > out/${name}/count; cat out/${name}/count`);
    }
  const last = Array.from({ length: width }, (_, at) => `t${levels - 1}-${at}`);
  const text = `tsunagi: 1\ntasks:\n${tasks.join('\n')}\nrelease:\n  needs: [${last.join(', ')}]\n  parts:\n    counts: { kind: site, needs: [${last.join(', ')}], files: [${last.map((one) => `out/${one}/`).join(', ')}], root: out }\n`;
  return { text, behind };
}

let world: World;
let checkout: Checkout;
beforeAll(async () => {
  world = await openWorld({ timing: { lease: 2_000 } });
  ({ checkout } = await world.hosted('shop', { 'round.txt': 'none\n' }));
});
afterAll(() => world?.close());

/** Reads what a reader is shown of every attempt, until it is stopped. A line that was shown has been acknowledged. */
function watch(commit: string) {
  const shown = new Map<string, string>();
  let on = true;
  const look = async () => {
    const { items } = await world.api().get<{ items: Run[] }>('/api/runs?project=shop&limit=5');
    const run = items.find((one) => one.commit.id === commit);
    if (!run) return;
    const detail = await world.api().get<RunDetail>(`/api/projects/shop/runs/${run.number}`);
    const open = detail.taskList.flatMap((task) => task.attempts).filter((one) => one.state !== 'passed');
    for (const one of open) shown.set(one.id, await world.log(one.id));
  };
  const done = (async () => {
    while (on) {
      await look().catch(() => {});
      await new Promise((resolve) => setTimeout(resolve, 60));
    }
  })();
  return {
    shown,
    stop: async () => {
      on = false;
      await done;
    },
  };
}

describe('a run of 40 tasks, killed at random points', () => {
  it.each(rounds)('seed %i', async (round) => {
    const draw = drawing(round);
    const { text, behind } = definition(draw);
    const victims = (['service', 'agent', 'database'] as const)
      .map((room) => ({ room, weight: draw(), at: Math.floor(draw() * 4_000) }))
      .sort((a, b) => a.weight - b.weight)
      .slice(0, 1 + Math.floor(draw() * 3));
    const commit = await checkout.commit({ 'round.txt': `${round}\n`, 'tsunagi.yaml': text }, `Round ${round}`);
    await until('the push is answered', async () => {
      await checkout.push();
      return true;
    });
    const watching = watch(commit);
    const kills = victims.map(
      ({ room, at }) =>
        new Promise<void>((resolve) =>
          setTimeout(() => {
            const pid = world.house.rooms[room].pid();
            try {
              if (pid) process.kill(pid, 'SIGKILL');
            } catch {
              // It has just ended with another one's death.
            }
            resolve();
          }, at),
        ),
    );
    await Promise.all(kills);
    const run = await world.waitRun('shop', commit);
    await watching.stop();

    expect([run.state, run.issue?.says, run.taskList.find((task) => task.issue)?.issue?.says]).toEqual([
      'passed',
      undefined,
      undefined,
    ]);
    expect(run.taskList.map((task) => task.name).sort()).toEqual([...behind.keys()].sort());
    const attempts: RunDetail['taskList'][number]['attempts'] = [];
    for (const task of run.taskList) {
      const passed = task.attempts.filter((one) => one.state === 'passed');
      expect(passed).toHaveLength(1);
      expect(task.attempts.filter((one) => one.state !== 'passed' && one.state !== 'lost')).toEqual([]);
      const said = [
        ...Array.from({ length: lines }, (_, n) => `${task.name} line ${n + 1}`),
        String(behind.get(task.name)),
      ].join('\n');
      expect((await world.log(passed[0]?.id as string)).trimEnd()).toBe(said);
      attempts.push(...task.attempts);
    }
    for (const [id, text] of watching.shown) {
      expect(attempts.map((one) => one.id)).toContain(id);
      expect((await world.log(id)).startsWith(text)).toBe(true);
    }
    const runs = (await world.api().get<{ items: Run[] }>('/api/runs?project=shop&limit=200')).items;
    expect(runs.filter((one) => one.commit.id === commit)).toHaveLength(1);
    const releases = (await world.api().get<{ items: { run: number }[] }>('/api/projects/shop/releases?limit=200'))
      .items;
    expect(releases.filter((one) => one.run === run.number)).toHaveLength(1);
    await until(
      'nothing of it runs on',
      async () => !/ line \$n/.test(execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' })),
      5_000,
    );
  });

  it('is told by events without a gap, each end once', async () => {
    const all = await allEvents(world);
    expect(all.map((one) => Number(one.sequence))).toEqual(all.map((_, at) => at + 1));
    for (const type of ['dev.tsunagi.run.ended', 'dev.tsunagi.attempt.ended', 'dev.tsunagi.release.made']) {
      const subjects = all
        .filter((one) => one.type === type)
        .map((one) => `${one.subject} ${one.data.task ?? ''} ${one.data.attempt ?? ''}`);
      expect(subjects.length).toBeGreaterThan(0);
      expect(subjects.filter((one, at) => subjects.indexOf(one) !== at)).toEqual([]);
    }
  });
});
