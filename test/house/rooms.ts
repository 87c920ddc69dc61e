/** Another room beside those of a house. */
import { spawn } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
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
  const child = spawn(process.execPath, [join(root, 'dist/src/cli/serve/room.js'), name], {
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
