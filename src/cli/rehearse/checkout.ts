/** The working copy as a commit would have it: its files as objects of a repository of our own, so that the checkout is not touched. */
import { execFileSync, spawnSync } from 'node:child_process';
import { lstatSync, readlinkSync } from 'node:fs';
import { join, relative } from 'node:path';
import { CodedError } from '../../core/errors/errors.js';
import type { ListedFile } from '../../core/plan/plan.js';
import { makeRepository } from '../../git/repository.js';

export interface WorkingCopy {
  /** The project's folder: where tsunagi.yaml is. */
  folder: string;
  /** The same from the repository's root, `''` at the root. */
  inside: string;
  files: ListedFile[];
  commit: string;
  branch: string | null;
  /** Files that differ from the commit, or are new. */
  changed: number;
}

const git = (cwd: string, ...args: string[]): string =>
  execFileSync('git', ['-C', cwd, ...args], {
    encoding: 'utf8',
    maxBuffer: 256 * 1024 * 1024,
    stdio: ['ignore', 'pipe', 'ignore'],
  });

/** Throws `no_checkout` outside one. Ignored files are left out, as a commit would leave them out; new ones are in. */
export async function readWorkingCopy(folder: string, objects: string): Promise<WorkingCopy> {
  let root: string;
  let commit: string;
  try {
    root = git(folder, 'rev-parse', '--show-toplevel').trim();
    commit = git(folder, 'rev-parse', 'HEAD').trim();
  } catch {
    throw new CodedError('no_checkout', { folder });
  }
  await makeRepository(objects, 'main');
  const paths = [
    ...new Set(git(folder, 'ls-files', '-z', '--cached', '--others', '--exclude-standard').split('\0').filter(Boolean)),
  ];
  const plain: { path: string; mode: string }[] = [];
  const files: ListedFile[] = [];
  for (const path of paths) {
    const stat = lstatSync(join(folder, path), { throwIfNoEntry: false });
    if (!stat) continue;
    if (stat.isSymbolicLink())
      files.push(listed(path, '120000', hash(objects, ['--stdin'], readlinkSync(join(folder, path)))[0] as string));
    else if (stat.isFile()) plain.push({ path, mode: stat.mode & 0o100 ? '100755' : '100644' });
  }
  const ids = plain.length
    ? hash(objects, ['--stdin-paths'], `${plain.map((one) => join(folder, one.path)).join('\n')}\n`)
    : [];
  plain.forEach((one, at) => {
    files.push(listed(one.path, one.mode, ids[at] as string));
  });
  const branch = git(folder, 'rev-parse', '--abbrev-ref', 'HEAD').trim();
  return {
    folder,
    inside: relative(root, folder),
    files,
    commit,
    branch: branch === 'HEAD' ? null : branch,
    changed: git(folder, 'status', '--porcelain', '-z', '--', '.').split('\0').filter(Boolean).length,
  };
}

const listed = (path: string, mode: string, id: string): ListedFile => ({ path, shown: path, mode, id });

function hash(objects: string, how: string[], input: string): string[] {
  const { stdout, status, stderr } = spawnSync(
    'git',
    [`--git-dir=${objects}`, 'hash-object', '-w', '--no-filters', ...how],
    {
      input,
      encoding: 'utf8',
      maxBuffer: 256 * 1024 * 1024,
    },
  );
  if (status !== 0) throw new Error(`git hash-object: ${stderr}`);
  return stdout.split('\n').filter(Boolean);
}
