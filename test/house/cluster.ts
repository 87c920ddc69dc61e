/** A PostgreSQL of its own for tests of records and engine, with its tables made. */
import type { ChildProcess } from 'node:child_process';
import { chmodSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openRecords, type Records } from '../../src/records/database.js';
import { migrate } from '../../src/records/migrate.js';
import { addProject, type NewProject, type ProjectRow } from '../../src/records/projects/projects.js';
import { addRun } from '../../src/records/projects/sources.js';
import { root } from './world.js';

export interface Cluster {
  folder: string;
  records: Records;
  /** Makes a database of this name; gives its address. */
  openNamed(name: string): Promise<string>;
  url: string;
  close(): Promise<void>;
}

/** `range` keeps the ports of test files apart: 0, 1, 2 … */
export async function openCluster(range: number): Promise<Cluster> {
  const { prepareCluster, startCluster, openDatabase } = (await import(
    join(root, 'dist/src/cli/serve/postgres.js')
  )) as typeof import('../../src/cli/serve/postgres.js');
  const folder = mkdtempSync(join(tmpdir(), 'tsunagi-records-'));
  chmodSync(folder, 0o711);
  const cluster = prepareCluster(join(folder, 'records'), 9_000 + range * 900 + (process.pid % 900));
  const server: ChildProcess = startCluster(cluster, 2);
  const openNamed = (name: string) => openDatabase(cluster, name);
  const url = await openNamed('records');
  const records = openRecords({ url });
  await migrate(records);
  return {
    folder,
    records,
    openNamed,
    url,
    async close() {
      await records.close();
      server.kill('SIGINT');
      await new Promise((resolve) => server.once('exit', resolve));
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** A project of the records alone. */
export async function recordProject(
  records: Records,
  name: string,
  change: Partial<NewProject> = {},
): Promise<ProjectRow> {
  const plain: NewProject = {
    name,
    source: 'hosted',
    mainBranch: 'main',
    folder: '',
    url: null,
    eventSecret: null,
    credential: null,
    privateAllowed: false,
    draft: null,
    beginning: null,
  };
  const row = await addProject(records, { ...plain, ...change }, 'test');
  if (!row) throw new Error(`the name ${name} is taken`);
  return row;
}

/** A run of main's newest push, of the records alone. */
export const recordRun = (records: Records, project: string, line = 'own'): Promise<{ id: string; number: number }> =>
  addRun(records, {
    project,
    commit: 'c',
    branch: 'main',
    pullRequest: null,
    line,
    cause: 'push',
    actor: 'test',
    allowed: true,
  });
