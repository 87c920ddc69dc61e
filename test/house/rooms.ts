/** Another room beside those of a house. */
import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { findProcessAccount, runAs } from '../../src/cli/serve/accounts.js';
import { root, until, type World } from './world.js';

/** A second service on the house's database and data. */
export async function startRoom(
  world: World,
  name: 'service',
  offset: number,
): Promise<{ url: string; end(): Promise<void> }> {
  const { ports } = world.house;
  const port = ports.console + offset * 100;
  const house = join(world.folder, 'house');
  const database = `postgres://tsunagi:${readFileSync(join(house, 'records/password'), 'utf8')}@127.0.0.1:${ports.database}/tsunagi`;
  const env = {
    PATH: process.env.PATH ?? '',
    TSUNAGI_DATABASE: database,
    TSUNAGI_DATA: join(house, 'service'),
    TSUNAGI_PORT: String(port),
    TSUNAGI_EDGE_PORT: String(ports.edge),
    TSUNAGI_LOG_LEVEL: 'warn',
    TSUNAGI_TIMING: JSON.stringify({ lease: 3_000, sweep: 1_000, ready: 20_000 }),
  };
  const entry = join(root, 'dist/rooms/enter.js');
  const found = findProcessAccount(name, entry);
  const before = found && 'account' in found ? runAs(found.account) : [];
  const child = spawn('/usr/bin/env', [...before, process.execPath, entry, name], {
    env,
    stdio: ['ignore', 'inherit', 'inherit'],
  });
  const url = `http://127.0.0.1:${port}`;
  await until('the second service answers', async () => (await fetch(`${url}/api/health`)).ok);
  return {
    url,
    end: () =>
      new Promise((resolve) => {
        child.once('exit', () => resolve());
        child.kill('SIGTERM');
      }),
  };
}

/** A second agent on this machine, with a token of its own. */
export async function startAgent(
  world: World,
  name: string,
  takes: string,
): Promise<{ kill(): void; again(): Promise<void>; end(): Promise<void> }> {
  const { token } = await world.api().post<{ token: string }>('/api/tokens', {
    name,
    kind: 'agent',
    takes: takes.split(','),
    address: '127.0.0.1',
    ports: { from: 32_000, to: 32_400 },
  });
  const folder = join(world.folder, name);
  const start = () =>
    // What it mounts goes with it, as in a house.
    spawn(
      '/usr/bin/env',
      [
        ...(process.getuid?.() === 0 ? ['unshare', '--mount', '--propagation', 'slave'] : []),
        process.execPath,
        join(root, 'dist/rooms/enter.js'),
        'agent',
      ],
      {
        env: {
          PATH: process.env.PATH ?? '',
          TSUNAGI_URL: world.url,
          TSUNAGI_TOKEN: token,
          TSUNAGI_NAME: name,
          TSUNAGI_DATA: folder,
          TSUNAGI_SLOTS: '0',
          TSUNAGI_LOG_LEVEL: 'warn',
        },
        stdio: ['ignore', 'inherit', 'inherit'],
      },
    );
  let child = start();
  const alive = () =>
    until('the second agent registers', async () => {
      const { items } = await world.api().get<{ items: { name: string; alive: boolean }[] }>('/api/agents');
      return items.some((one) => one.name === name && one.alive);
    });
  await alive();
  return {
    /** The same one, after it was killed. */
    async again() {
      child = start();
      await alive();
    },
    kill: () => void child.kill('SIGKILL'),
    /** With all that it left behind: its instances outlive it. */
    async end() {
      if (child.exitCode !== null || child.signalCode !== null) child = start();
      await new Promise((resolve) => setTimeout(resolve, 1_000));
      await new Promise<void>((resolve) => {
        child.once('exit', () => resolve());
        child.kill('SIGINT');
      });
    },
  };
}
