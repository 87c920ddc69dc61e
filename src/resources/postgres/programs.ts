/** PostgreSQL's own programs: found on this machine, and run with a login in their environment, never in their arguments. */
import { type ChildProcess, spawn, spawnSync } from 'node:child_process';
import { existsSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { CodedError } from '../../core/errors/errors.js';

const installed = '/usr/lib/postgresql';

/** The folder of the programs of the newest version that has `program`; '' where the shell finds it. Throws `tool_missing`. */
export function programsOf(program: string): string {
  const versions = existsSync(installed)
    ? readdirSync(installed).filter((name) => existsSync(join(installed, name, 'bin', program)))
    : [];
  const newest = versions.sort((a, b) => Number(b) - Number(a))[0];
  if (newest) return join(installed, newest, 'bin');
  if (spawnSync('sh', ['-c', `command -v ${program}`]).status === 0) return '';
  throw new CodedError('tool_missing', { tool: 'PostgreSQL', command: 'apt-get install -y postgresql' });
}

export interface Place {
  host: string;
  port: number;
  user: string;
  password: string;
  database: string;
}

/** Bytes of what a program says on its standard error that are kept. */
const saidBytes = 4_000;

/** A program at work on a database: its streams, and its end, which throws what it said. */
export function runProgram(
  program: 'pg_dump' | 'pg_restore',
  args: readonly string[],
  at: Place,
  options: string,
): { child: ChildProcess; done: Promise<void> } {
  const child = spawn(join(programsOf(program), program), args, {
    cwd: '/',
    stdio: ['pipe', 'pipe', 'pipe'],
    env: {
      PATH: process.env.PATH,
      LC_ALL: 'C.UTF-8',
      PGHOST: at.host,
      PGPORT: String(at.port),
      PGUSER: at.user,
      PGPASSWORD: at.password,
      PGDATABASE: at.database,
      PGCONNECT_TIMEOUT: '5',
      PGOPTIONS: options,
      // Nothing of whoever runs the service is read.
      PGPASSFILE: '/nonexistent',
      PGSYSCONFDIR: '/nonexistent',
      HOME: '/nonexistent',
    },
  });
  let said = '';
  child.stderr?.on('data', (chunk: Buffer) => {
    if (said.length < saidBytes) said += chunk.toString('utf8');
  });
  // What it no longer reads, or nobody takes from it, is told by its end.
  child.stdin?.on('error', () => {});
  const done = new Promise<void>((resolve, reject) => {
    child.once('error', reject);
    child.once('close', (status, signal) =>
      status === 0
        ? resolve()
        : reject(new Error(said.trim().split('\n')[0] || `${program} ended with ${signal ?? `status ${status}`}`)),
    );
  });
  // It is waited for when its streams have ended; until then nobody else hears of it.
  done.catch(() => {});
  return { child, done };
}
