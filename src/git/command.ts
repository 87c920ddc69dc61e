/** Runs the system's git, away from the settings of whoever started us, and with transports that are named. */
import { type ChildProcess, type ChildProcessWithoutNullStreams, spawn } from 'node:child_process';

const environment = (config: readonly [string, string][]): NodeJS.ProcessEnv => ({
  PATH: process.env.PATH,
  HOME: '/nonexistent',
  LC_ALL: 'C',
  GIT_CONFIG_NOSYSTEM: '1',
  GIT_CONFIG_GLOBAL: '/dev/null',
  GIT_TERMINAL_PROMPT: '0',
  GIT_ALLOW_PROTOCOL: 'http:https',
  // An id means the object that has it: neither a replacement (git-replace(1)) nor another list of parents.
  GIT_NO_REPLACE_OBJECTS: '1',
  GIT_GRAFT_FILE: '/dev/null',
  // What a repository lacks is not fetched from a place that the repository itself names.
  GIT_NO_LAZY_FETCH: '1',
  // By the environment, not as arguments, which other users of the machine can see.
  GIT_CONFIG_COUNT: String(always.length + config.length),
  ...Object.fromEntries(
    [...always, ...config].flatMap(([key, value], at) => [
      [`GIT_CONFIG_KEY_${at}`, key],
      [`GIT_CONFIG_VALUE_${at}`, value],
    ]),
  ),
});

const always: [string, string][] = [
  ['safe.directory', '*'],
  ['http.followRedirects', 'false'],
];

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

/** What git ends with whenever it could not read from elsewhere says nothing. */
const lastWords = (errors: string): string =>
  errors
    .split('\n')
    .filter(
      (line) =>
        line.trim() !== '' &&
        !/^(Please make sure you have the correct access rights|and the repository exists\.)/.test(line),
    )
    .slice(-3)
    .join(' ');

/** Starts git in a bare repository. */
export function startGit(
  repository: string,
  args: readonly string[],
  env: NodeJS.ProcessEnv = {},
  config: readonly [string, string][] = [],
): ChildProcessWithoutNullStreams {
  return spawn('git', [`--git-dir=${repository}`, ...args], {
    env: { ...environment(config), ...env },
    stdio: 'pipe',
    // A process group of its own: git starts helpers that keep its pipes open, and all of them must end with it.
    detached: true,
  });
}

/** Kills a git with all helpers that it has started. */
export function endGit(child: Pick<ChildProcess, 'pid'>): void {
  if (child.pid === undefined) return;
  try {
    process.kill(-child.pid, 'SIGKILL');
  } catch (error) {
    // The whole group has ended.
    if ((error as NodeJS.ErrnoException).code !== 'ESRCH') throw error;
  }
}

export interface GitOptions {
  /** What is written to its standard input. */
  input?: string | Buffer;
  /** Milliseconds after which it is ended; default two minutes. */
  timeout?: number;
  /** Milliseconds without a word on standard error after which it is ended; default none. For commands that report their progress there. */
  stall?: number;
  /** Further settings of git, and of its environment. */
  config?: readonly [string, string][];
  env?: NodeJS.ProcessEnv;
  /** Exit statuses that are an answer, not an error; default 0 alone. */
  expect?: readonly number[];
}

/** Runs git and gives its whole output; anything but an expected exit status throws a `GitError` with its last words. */
export async function git(
  repository: string,
  args: readonly string[],
  options: GitOptions = {},
): Promise<{ out: Buffer; exit: number }> {
  const child = startGit(repository, args, options.env, options.config);
  const out: Buffer[] = [];
  let errors = '';
  child.stdout.on('data', (chunk: Buffer) => out.push(chunk));
  let late: 'it took too long' | 'it made no progress' | null = null;
  const end = (why: typeof late): void => {
    late ??= why;
    endGit(child);
  };
  const stalled = options.stall ? setTimeout(() => end('it made no progress'), options.stall) : null;
  child.stderr.on('data', (chunk: Buffer) => {
    stalled?.refresh();
    // Progress overwrites its line with a carriage return.
    errors = (errors + chunk.toString('utf8').replace(/[^\n]*\r(?!\n)/g, '')).slice(-2000);
  });
  child.stdin.on('error', () => {});
  child.stdin.end(options.input ?? '');
  const timer = setTimeout(() => end('it took too long'), options.timeout ?? 120_000);
  const exit = await new Promise<number | null>((resolve, reject) => {
    child.on('error', reject);
    child.on('close', (code) => resolve(code));
  }).finally(() => {
    clearTimeout(timer);
    if (stalled) clearTimeout(stalled);
  });
  if (late !== null || exit === null || !(options.expect ?? [0]).includes(exit))
    throw new GitError(args, exit, late ?? (exit === null ? 'it was killed' : lastWords(errors)));
  return { out: Buffer.concat(out), exit };
}
