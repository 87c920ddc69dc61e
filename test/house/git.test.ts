/** What is read through the git that stays open, against what git itself says of the same repository. */
import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { closeObjects, objectInfo, objectOf } from '../../src/git/objects.js';
import {
  commitFacts,
  hasCommit,
  isBranchName,
  listFiles,
  readFile,
  readFiles,
  resolve,
} from '../../src/git/repository.js';

let work: string;
let repository: string;
const git = (args: string[], options: { input?: Buffer | string; env?: Record<string, string> } = {}): Buffer =>
  execFileSync('git', ['-C', work, ...args], {
    input: options.input,
    env: {
      PATH: process.env.PATH,
      HOME: '/nonexistent',
      GIT_AUTHOR_NAME: 'Mika Ø',
      GIT_AUTHOR_EMAIL: 'm@kohama.example',
      GIT_COMMITTER_NAME: 'Aoi',
      GIT_COMMITTER_EMAIL: 'a@kohama.example',
      GIT_COMMITTER_DATE: '1790000000 +0900',
      ...options.env,
    },
  });
const text = (...args: string[]) => git(args).toString().trim();
const put = (path: string, body: string | Buffer) => {
  mkdirSync(dirname(join(work, path)), { recursive: true });
  writeFileSync(join(work, path), body);
};
const commit = (message: string | Buffer, env: Record<string, string> = {}, ...more: string[]): string => {
  git(['add', '-A']);
  git([...more, 'commit', '-q', '--allow-empty', '--cleanup=verbatim', '-F', '-'], { input: message, env });
  return text('rev-parse', 'HEAD');
};

let first: string;
beforeAll(() => {
  work = mkdtempSync(join(tmpdir(), 'tsunagi-git-'));
  repository = join(work, '.git');
  git(['init', '-q', '--initial-branch=main']);
  put('a.txt', 'a\n');
  put('web/index.html', '<p>');
  put('web.txt', 'sorts between');
  put('web/sub/深い/file with spaces & "quotes"\n.txt', 'deep');
  put(Buffer.from('odd/n\u00e9').toString(), 'x');
  put('bin/run', '#!/bin/sh\n');
  execFileSync('chmod', ['+x', join(work, 'bin/run')]);
  symlinkSync('../a.txt', join(work, 'web/link'));
  put('empty', '');
  put('large', Buffer.alloc(300_000, 'x'));
  first = commit('Begin\nthe line goes on\n\nand a body\n');
});
afterAll(() => {
  closeObjects(repository);
  rmSync(work, { recursive: true, force: true });
});

/** As `git ls-tree -r -z` says it, by latin1 so that nothing is lost. */
const listed = (ref: string) =>
  git(['ls-tree', '-r', '-z', '--full-tree', ref])
    .toString('latin1')
    .split('\0')
    .filter(Boolean)
    .map((line) => {
      const [, mode, , id, name] = /^(\d+) (\w+) ([0-9a-f]+)\t([\s\S]*)$/.exec(line) as RegExpExecArray;
      return `${mode} ${id} ${name}`;
    });
const own = async (ref: string, folder = '') =>
  (await listFiles(repository, ref, folder)).map(
    (one) => `${one.mode} ${one.id} ${Buffer.from(one.path ?? '', 'utf8').toString('latin1')}`,
  );

describe('a commit’s files', () => {
  it('are listed as git lists them, and those of a folder relative to it', async () => {
    expect(await own(first)).toEqual(listed(first));
    expect(await own(first, 'web')).toEqual(listed(`${first}:web`));
    expect(await own(first, 'web/sub')).toEqual(listed(`${first}:web/sub`));
    expect(await own(first, 'nowhere')).toEqual([]);
    expect(await own(first, 'a.txt')).toEqual([]);
    expect(await own('f'.repeat(40))).toEqual([]);
  });

  it('are listed anew when a commit has changed one of them, also one that was pushed later', async () => {
    put('web/index.html', '<p>changed');
    put('web/sub/new.txt', 'new');
    const next = commit('Change');
    expect(await own(next)).toEqual(listed(next));
    git(['repack', '-adq']);
    put('a.txt', 'b\n');
    const packed = commit('After a repack');
    expect(await own(packed)).toEqual(listed(packed));
    expect(await own(first)).toEqual(listed(first));
  });

  it('keep submodules and names that are no text', async () => {
    const blob = text('rev-parse', `${first}:a.txt`);
    const tree = git(['mktree', '-z', '--missing'], {
      input: Buffer.concat([
        Buffer.from(`100644 blob ${blob}\tb`),
        Buffer.from([0xff, 0]),
        Buffer.from(`160000 commit ${'1'.repeat(40)}\tother\0`),
        Buffer.from(`040000 tree ${text('rev-parse', `${first}:web`)}\tz`),
        Buffer.from([0xfe, 0]),
      ]),
    })
      .toString()
      .trim();
    const id = text('commit-tree', '-m', 'odd', tree);
    const files = await listFiles(repository, id, '');
    expect(files[0]).toMatchObject({ path: null, shown: 'b\\xff', mode: '100644' });
    expect(files[1]).toMatchObject({ path: 'other', mode: '160000' });
    expect(files.slice(2).map((one) => [one.path, one.shown.startsWith('z\\xfe/')])).toEqual(
      files.slice(2).map(() => [null, true]),
    );
  });

  it('are read by path: no links, no folders, nothing too large', async () => {
    expect((await readFile(repository, first, 'a.txt', 100))?.toString()).toBe('a\n');
    expect((await readFile(repository, first, 'web/index.html', 100))?.toString()).toBe('<p>');
    expect((await readFile(repository, first, 'empty', 0))?.toString()).toBe('');
    expect(await readFile(repository, first, 'large', 299_999)).toBe('too large');
    for (const path of [
      'web/link',
      'web',
      'web/',
      'nowhere',
      'nowhere/a',
      'a.txt/b',
      '',
      '../a.txt',
      'a.txt\ninfo HEAD',
    ])
      expect(await readFile(repository, first, path, 100)).toBeNull();
  });

  it('come in the order asked, few and many, small and large', async () => {
    const ids = (await listFiles(repository, first, '')).map((one) => one.id);
    const bodies = async (list: string[]) => {
      const all: number[] = [];
      for await (const { size, body } of readFiles(repository, list)) {
        let bytes = 0;
        for await (const piece of body) bytes += piece.length;
        expect(bytes).toBe(size);
        all.push(size);
      }
      return all;
    };
    const sizes = ids.map((id) => Number(text('cat-file', '-s', id)));
    expect(await bodies(ids)).toEqual(sizes);
    const many = Array.from({ length: 30 }, () => ids).flat();
    expect(await bodies(many)).toEqual(Array.from({ length: 30 }, () => sizes).flat());
    const large = text('rev-parse', `${first}:large`);
    expect(await bodies(Array.from({ length: 20 }, () => large))).toEqual(Array.from({ length: 20 }, () => 300_000));
    await expect(bodies([...ids, 'f'.repeat(40)])).rejects.toThrow(/not all/);
  });
});

describe('what a commit says of itself', () => {
  const same = async (id: string) => {
    const [author, parents, seconds, title] = git([
      'show',
      '-s',
      '--encoding=UTF-8',
      '--format=%an%x00%P%x00%ct%x00%s',
      id,
    ])
      .toString('utf8')
      .replace(/\n$/, '')
      .split('\0');
    expect(await commitFacts(repository, id)).toEqual({
      id,
      author,
      parents: parents ? parents.split(' ') : [],
      at: new Date(Number(seconds) * 1000),
      title: title?.slice(0, 500),
    });
  };

  it.each([
    ['a title of two lines', 'One\ntwo\n\nbody\n'],
    ['no body', 'One line'],
    ['nothing at all', ''],
    ['empty lines before it', '\n\nLate\n'],
    ['letters of any kind', 'Fähre 港 ⛴\n'],
    ['a very long line', `${'x'.repeat(3_000)}\n`],
  ])('is read with %s', async (_what, message) => {
    git(['commit', '-q', '--allow-empty', '--allow-empty-message', '--cleanup=verbatim', '-F', '-'], {
      input: message,
    });
    await same(text('rev-parse', 'HEAD'));
  });

  it('is read in another encoding, with a signature, and of a merge', async () => {
    const latin = commit(Buffer.from('F\u00e4hre\n', 'latin1'), {}, '-c', 'i18n.commitEncoding=ISO-8859-1');
    await same(latin);
    const body = git(['cat-file', 'commit', latin])
      .toString('latin1')
      .replace(
        'encoding ISO-8859-1\n',
        'gpgsig -----BEGIN SIGNATURE-----\n \n author nobody <x> 1 +0000\n -----END SIGNATURE-----\n',
      );
    const signed = git(['hash-object', '-t', 'commit', '-w', '--stdin'], { input: Buffer.from(body, 'latin1') })
      .toString()
      .trim();
    expect((await commitFacts(repository, signed))?.author).toBe('Mika Ø');
    const merge = text('commit-tree', '-p', latin, '-p', first, '-m', 'Merge', `${latin}^{tree}`);
    await same(merge);
    expect(await commitFacts(repository, text('rev-parse', `${first}^{tree}`))).toBeNull();
  });

  it('has no control characters in its title', async () => {
    const id = commit('Bell \u0007 and \u001b[31mred\n');
    expect((await commitFacts(repository, id))?.title).toBe('Bell   and  [31mred');
  });
});

describe('names', () => {
  it('are resolved: branches, whole ids and beginnings of ids', async () => {
    const head = text('rev-parse', 'HEAD');
    git(['branch', '-f', 'deadbeef', first]);
    git(['branch', '-f', 'feature/price', first]);
    expect(await resolve(repository, 'main')).toBe(head);
    expect(await resolve(repository, head)).toBe(head);
    expect(await resolve(repository, head.slice(0, 10))).toBe(head);
    expect(await resolve(repository, 'deadbeef')).toBe(first);
    expect(await resolve(repository, 'feature/price')).toBe(first);
    git(['branch', '-f', 'feature/price', head]);
    expect(await resolve(repository, 'feature/price')).toBe(head);
  });

  it.each([
    'HEAD',
    'main~1',
    'main^',
    '@',
    '@{-1}',
    'main:a.txt',
    ':/Begin',
    'main..main',
    '--all',
    '-q',
    '../HEAD',
    'a b',
    'main\ninfo HEAD',
    'a\0b',
    '',
    'x.lock',
    '/main',
    'main/',
  ])('that are expressions, options or more than one line mean nothing: %j', async (name) => {
    expect(await resolve(repository, name)).toBeNull();
  });

  it('of branches are those that git takes', () => {
    for (const name of [
      'main',
      'feature/x',
      'a.b',
      'ä',
      '港',
      'x@y',
      '-',
      '-x',
      'a..b',
      'a b',
      'a~',
      '.a',
      'a/.b',
      'a.lock',
      'a.lock/b',
      'a//b',
      'a/',
      'a@{b',
      'a\\b',
      'a[b',
      'a*',
    ]) {
      let takes = true;
      try {
        execFileSync('git', ['check-ref-format', '--branch', name], { stdio: 'ignore' });
      } catch {
        takes = false;
      }
      expect([name, isBranchName(name)]).toEqual([name, takes]);
    }
  });

  it('of commits are told from those of other objects', async () => {
    expect(await hasCommit(repository, first)).toBe(true);
    expect(await hasCommit(repository, text('rev-parse', `${first}^{tree}`))).toBe(false);
    expect(await hasCommit(repository, 'f'.repeat(40))).toBe(false);
    expect(await hasCommit(repository, 'HEAD')).toBe(false);
  });
});

describe('the git that stays open', () => {
  it('answers many at once, each with its own', async () => {
    const ids = (await listFiles(repository, first, '')).map((one) => one.id);
    const asked = Array.from({ length: 300 }, (_, at) =>
      at % 7 === 0 ? 'f'.repeat(40) : (ids[at % ids.length] as string),
    );
    const answers = await Promise.all(
      asked.map((id, at) => (at % 2 ? objectInfo(repository, id) : objectOf(repository, id, 'blob'))),
    );
    expect(answers.map((one) => one?.id ?? null)).toEqual(asked.map((id) => (id === 'f'.repeat(40) ? null : id)));
  });

  it('is started again when it was killed', async () => {
    await objectInfo(repository, first);
    const pids = execFileSync('ps', ['-eo', 'pid,args'], { encoding: 'utf8' })
      .split('\n')
      .filter((line) => line.includes(repository) && line.includes('--batch-command'))
      .map((line) => Number(line.trim().split(' ')[0]));
    expect(pids).toHaveLength(1);
    process.kill(pids[0] as number, 'SIGKILL');
    const during = await objectInfo(repository, first).catch((error: Error) => error.message);
    expect([first, 'git cat-file ended early']).toContain(typeof during === 'string' ? during : during?.id);
    expect((await objectInfo(repository, first))?.type).toBe('commit');
  });

  it('says that a repository is not there', async () => {
    await expect(objectInfo(join(work, 'nowhere'), first)).rejects.toThrow(/ended early/);
  });
});
