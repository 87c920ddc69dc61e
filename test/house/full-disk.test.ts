/** An agent whose disk is full: programs go on, what was written most of it is ended first, and nothing is forgotten. */
import { execFileSync } from 'node:child_process';
import { appendFileSync, existsSync, mkdtempSync, rmSync, statfsSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { openFloor, openReserve, type Taking } from '../../src/agent/files/floor.js';
import { openWorld, until, type World } from './world.js';

const MiB = 1024 ** 2;
const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));

describe('the floor', () => {
  it('ends what has taken most, one at a time, and nothing while there is room', async () => {
    let free = 1_000;
    const ended: string[] = [];
    let refilled = 0;
    const reserve = { release: () => true, refill: () => void refilled++ };
    const floor = openFloor({ bytes: 100, reserve, free: async () => free }, 20);
    const leave = new Map<string, () => void>();
    const add = (name: string, bytes: number) => {
      const one: Taking = { bytes: () => bytes, end: (left) => void ended.push(`${name} at ${left}`) };
      leave.set(name, floor.add(one));
    };
    add('small', 1);
    add('large', 90);
    add('middle', 50);
    await pause(80);
    expect([ended, refilled > 0]).toEqual([[], true]);
    free = 40;
    await pause(150);
    // It is still ending: the next one waits.
    expect(ended).toEqual(['large at 40']);
    leave.get('large')?.();
    // Its files have not gone yet.
    await pause(40);
    expect(ended).toEqual(['large at 40']);
    await pause(150);
    expect(ended).toEqual(['large at 40', 'middle at 40']);
    free = 1_000;
    leave.get('middle')?.();
    await pause(200);
    expect(ended).toHaveLength(2);
    floor.close();
  });
});

const isRoot = process.getuid?.() === 0;
(isRoot ? describe : describe.skip)('a disk that is full', () => {
  let world: World;
  let live: string;
  const mounts: string[] = [];
  const mount = (folder: string, size: string) => {
    const { mode, uid, gid } = statSync(folder);
    const options = `size=${size},mode=${(mode & 0o7777).toString(8)},uid=${uid},gid=${gid}`;
    execFileSync('mount', ['-t', 'tmpfs', '-o', options, 'tmpfs', folder]);
    mounts.push(folder);
  };
  /** Takes all that is left. */
  const fill = (folder: string): string => {
    const file = join(folder, 'fill');
    for (const piece of [256 * 1024, 4 * 1024])
      try {
        for (;;) appendFileSync(file, Buffer.alloc(piece));
      } catch {
        // What fits of it is there.
      }
    expect(statfsSync(folder).bavail).toBe(0);
    return file;
  };
  beforeAll(async () => {
    world = await openWorld();
    live = join(world.folder, 'house/agent/live');
  });
  const unmount = () => {
    for (const folder of mounts.splice(0)) execFileSync('umount', ['-l', folder]);
  };
  afterAll(async () => {
    unmount();
    await world?.close();
  });

  it('has a reserve, so that what is small can be written all the same', () => {
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-full-'));
    mount(folder, '8m');
    const reserve = openReserve(folder, 2 * MiB);
    expect(statSync(join(folder, 'reserve')).size).toBe(2 * MiB);
    const file = fill(folder);
    expect(() => writeFileSync(join(folder, 'state'), Buffer.alloc(9_000))).toThrow('ENOSPC');
    expect([reserve.release(), reserve.release()]).toEqual([true, false]);
    writeFileSync(join(folder, 'state'), Buffer.alloc(9_000));
    // While there is no room it takes none, not even a part of it.
    fill(folder);
    reserve.refill();
    expect(existsSync(join(folder, 'reserve'))).toBe(false);
    rmSync(file);
    reserve.refill();
    expect(statSync(join(folder, 'reserve')).size).toBe(2 * MiB);
  });

  it('ends no program that prints: it answers on, as the same process, and is logged again when there is room', async () => {
    mount(live, '48m');
    const { checkout, first } = await world.hosted('loud', {
      'package.json': '{}\n',
      'server.js': `const line = 'x'.repeat(999);
require('node:http').createServer((request, response) => {
  for (let at = 0; at < 400; at++) console.log(line);
  console.log('seen ' + request.url);
  response.end(String(process.pid) + ' ' + Math.round(process.uptime() * 1000));
}).listen(process.env.PORT);
`,
      'tsunagi.yaml': `tsunagi: 1
release: { parts: { api: { kind: server, at: /, files: [server.js, package.json], start: node server.js } } }
environments: { staging: { branch: main } }
`,
    });
    await checkout.push();
    await world.waitLive('loud', 'staging', first);
    const ask = async (path: string) => Number((await world.visit('loud-staging.localhost', path)).text.split(' ')[1]);
    const begun = await ask('/before');
    const [instance] = (await world.environment('loud', 'staging')).instanceList;
    const file = fill(live);
    // More than a pipe holds, again and again.
    for (let at = 0; at < 8; at++) {
      expect(await ask('/full')).toBeGreaterThan(begun);
      await pause(300);
    }
    rmSync(file);
    const later = await until('it answers', async () => (await ask('/after')) || null);
    expect(later).toBeGreaterThan(begun + 2_000);
    const [now] = (await world.environment('loud', 'staging')).instanceList;
    expect([now?.id, now?.state, now?.restarts]).toEqual([instance?.id, 'ready', 0]);
    await until('its log goes on', async () => {
      await ask('/logged');
      const { out } = await world.cli('logs', 'loud/staging', '--since', '10m', '--find', '/logged');
      return out.includes('seen /logged');
    });
  });

  it('ends the attempt that has written most, in words; another one next to it is left alone', async () => {
    const { bavail, bsize } = statfsSync(join(world.folder, 'house/agent'));
    unmount();
    await world.close();
    world = await openWorld({ env: { TSUNAGI_FLOOR: String(bavail * bsize - 200 * MiB), TSUNAGI_MIN_FREE: '1' } });
    const { checkout, first } = await world.hosted('greedy', {
      'tsunagi.yaml': `tsunagi: 1
tasks:
  takes: { run: 'head -c 600M /dev/zero > large; sleep 60' }
  modest: { run: 'for at in $(seq 1 12); do echo $at > small; sleep 1; done' }
`,
    });
    await checkout.push();
    const run = await world.waitRun('greedy', first);
    const [takes, modest] = ['takes', 'modest'].map((name) => run.taskList.find((one) => one.name === name));
    expect(takes).toMatchObject({ state: 'failed', issue: { code: 'agent_disk_low' } });
    expect(takes?.issue?.says).toMatch(/had only .* left\. This work had written most of what was taken: \d+/);
    expect(modest?.state).toBe('passed');
  });
});
