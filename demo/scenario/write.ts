/** Writes the history of a made-up repository with git, commit by commit, with fixed authors and times. */
import { execFile } from 'node:child_process';
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { promisify } from 'node:util';

export interface Change {
  title: string;
  author: string;
  /** Path → new text; null removes. */
  files: Record<string, string | null>;
}

const run = promisify(execFile);

/** Runs git in a checkout. Never waited for in a blocking way: the code host answers from this very process. */
export async function git(folder: string, ...args: string[]): Promise<string> {
  return gitAs({}, folder, ...args);
}

async function gitAs(who: Record<string, string>, folder: string, ...args: string[]): Promise<string> {
  const env = {
    PATH: process.env.PATH,
    HOME: '/nonexistent',
    GIT_CONFIG_NOSYSTEM: '1',
    GIT_TERMINAL_PROMPT: '0',
    LC_ALL: 'C.UTF-8',
    ...who,
  };
  const { stdout } = await run(
    'git',
    ['-C', folder, '-c', 'core.hooksPath=/dev/null', '-c', 'commit.gpgsign=false', ...args],
    { encoding: 'utf8', env },
  );
  return stdout.trim();
}

export async function startCheckout(folder: string, remote: string): Promise<void> {
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  await git(folder, 'init', '-q', '--initial-branch=main');
  await git(folder, 'remote', 'add', 'origin', remote);
}

/** Commits a change; `minute` counts from the beginning of the scenario. */
export async function commit(folder: string, change: Change, minute: number): Promise<string> {
  for (const [path, text] of Object.entries(change.files)) {
    const place = join(folder, path);
    if (text === null) rmSync(place);
    else {
      mkdirSync(dirname(place), { recursive: true });
      writeFileSync(place, text);
    }
  }
  await git(folder, 'add', '-A');
  const at = `${1_790_000_000 + minute * 60} +0000`;
  const mail = `${change.author.toLowerCase()}@kohama.example`;
  const who = {
    GIT_AUTHOR_NAME: change.author,
    GIT_AUTHOR_EMAIL: mail,
    GIT_AUTHOR_DATE: at,
    GIT_COMMITTER_NAME: change.author,
    GIT_COMMITTER_EMAIL: mail,
    GIT_COMMITTER_DATE: at,
  };
  await gitAs(who, folder, 'commit', '-q', '-m', change.title);
  return git(folder, 'rev-parse', 'HEAD');
}
