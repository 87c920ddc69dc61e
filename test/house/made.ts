/**
 * Clusters of databases with the tables made, once for all suites of a run: each house begins with a copy of them instead of
 * making its own. A suite that is run without `scripts/test.mjs` makes its own, as a house does at its first start.
 */
import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as pause } from 'node:timers/promises';

const names = ['records', 'resources', 'standing', 'review', 'untrusted'] as const;

/** Two workers of Jest may come at once: who makes the folder first makes them. */
async function made(folder: string, port: number): Promise<string> {
  const done = join(folder, 'done');
  if (existsSync(done)) return folder;
  try {
    mkdirSync(folder, { mode: 0o711 });
  } catch {
    for (let tries = 0; !existsSync(done); tries++) {
      if (tries > 2_000) throw new Error(`the clusters in ${folder} are not made`);
      await pause(100);
    }
    return folder;
  }
  const { prepareCluster, startCluster, openDatabase } = (await import(
    join(process.cwd(), 'dist/src/cli/serve/postgres.js')
  )) as typeof import('../../src/cli/serve/postgres.js');
  const { openRecords } = (await import(
    join(process.cwd(), 'dist/src/records/database.js')
  )) as typeof import('../../src/records/database.js');
  const { migrate } = (await import(
    join(process.cwd(), 'dist/src/records/migrate.js')
  )) as typeof import('../../src/records/migrate.js');
  try {
    const first = prepareCluster(join(folder, 'records'), port);
    for (const name of names.slice(1)) prepareCluster(join(folder, name), port, { like: first });
    const server = startCluster(first, 2);
    const ended = new Promise((resolve) => server.once('exit', resolve));
    const records = openRecords({ url: await openDatabase(first, 'tsunagi'), pool: 1 });
    await migrate(records);
    await records.close();
    server.kill('SIGINT');
    await ended;
    writeFileSync(done, '');
  } catch (error) {
    rmSync(folder, { recursive: true, force: true });
    throw error;
  }
  return folder;
}

/** Puts the made clusters where a house keeps its own, if this run has them. `port`: a free one. */
export async function copyMade(data: string, port: number): Promise<void> {
  const folder = process.env.TSUNAGI_TEST_MADE;
  if (!folder) return;
  const from = await made(folder, port);
  mkdirSync(data, { recursive: true, mode: 0o711 });
  for (const name of names) {
    const { status, stderr } = spawnSync('cp', ['-a', join(from, name), join(data, name)], { encoding: 'utf8' });
    if (status !== 0) throw new Error(stderr);
  }
}
