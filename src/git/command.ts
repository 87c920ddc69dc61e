/** Runs the system's git, away from the settings of whoever started us, and with transports that are named. */
import { type ChildProcessWithoutNullStreams, spawn } from 'node:child_process';

const environment = (): NodeJS.ProcessEnv => ({
  PATH: process.env.PATH,
  HOME: '/nonexistent',
  LC_ALL: 'C',
  GIT_CONFIG_NOSYSTEM: '1',
  GIT_CONFIG_GLOBAL: '/dev/null',
  GIT_TERMINAL_PROMPT: '0',
  GIT_ALLOW_PROTOCOL: 'http:https',
  GIT_CONFIG_COUNT: '2',
  GIT_CONFIG_KEY_0: 'safe.directory',
  GIT_CONFIG_VALUE_0: '*',
  GIT_CONFIG_KEY_1: 'http.followRedirects',
  GIT_CONFIG_VALUE_1: 'false',
});

export class GitError extends Error {
  constructor(
    readonly args: readonly string[],
    readonly exit: number | null,
    readonly detail: string,
  ) {
    super(`git ${args[0]} ended with ${exit}: ${detail}`);
    this.name = 'GitError';
  }
}

/** Starts git in a bare repository. */
export function startGit(repository: string, args: readonly string[], env: NodeJS.ProcessEnv = {}): ChildProcessWithoutNullStreams {
  return spawn('git', [`--git-dir=${repository}`, ...args], { env: { ...environment(), ...env }, stdio: 'pipe' });
}

export interface GitOptions {
  /** What is written to its standard input. */
  input?: string | Buffer;
  /** Milliseconds after which it is ended; default two minutes. */
  timeout?: number;
  /** Exit statuses that are an answer, not an error; default 0 alone. */
  expect?: readonly number[];
}

/** Runs git and gives its whole output; anything but an expected exit status throws a `GitError` with its last words. */
export async function git(repository: string, args: readonly string[], options: GitOptions = {}): Promise<{ out: Buffer; exit: number }> {
  const child = startGit(repository, args);
  const out: Buffer[] = [];
  let errors = '';
  child.stdout.on('data', (chunk: Buffer) => out.push(chunk));
  child.stderr.on('data', (chunk: Buffer) => {
    errors = (errors + chunk.toString('utf8')).slice(-2000);
  });
  child.stdin.on('error', () => {});
  child.stdin.end(options.input ?? '');
  const timer = setTimeout(() => child.kill('SIGKILL'), options.timeout ?? 120_000);
  const exit = await new Promise<number | null>((resolve, reject) => {
    child.on('error', reject);
    child.on('close', (code) => resolve(code));
  }).finally(() => clearTimeout(timer));
  if (exit === null || !(options.expect ?? [0]).includes(exit))
    throw new GitError(args, exit, exit === null ? 'it took too long' : errors.trim().split('\n').slice(-3).join(' '));
  return { out: Buffer.concat(out), exit };
}
