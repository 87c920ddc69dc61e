/** Small hands of git and agent: a file committed without a checkout, differences, masked logs, what a program saw. */
import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { KeptLog } from '../../src/agent/log/keptlog.js';
import { maskEnded, maskerOf, maskIssue, maskLog } from '../../src/agent/log/masked.js';
import { makeTail, seenFiles } from '../../src/agent/attempts/seen.js';
import { issue } from '../../src/core/errors/errors.js';
import { commitFacts, makeRepository, readFile } from '../../src/git/repository.js';
import { unifiedDifference } from '../../src/core/difference.js';
import { commitFiles, moveBranch } from '../../src/git/write.js';

let folder: string;
let repository: string;
beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-hands-'));
  repository = join(folder, 'r.git');
  await makeRepository(repository, 'main');
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

const who = { name: 'Mika', email: 'm@kohama.example' };
const git = (...args: string[]) => execFileSync('git', ['--git-dir', repository, ...args], { encoding: 'utf8' }).trim();

describe('a file committed without a checkout', () => {
  it('stands on top of what was there, and the first one on nothing', async () => {
    const first = await commitFiles(repository, null, { 'a.txt': 'a\n' }, 'Begin\n', who);
    expect(await moveBranch(repository, 'main', first, null)).toBe(true);
    const second = await commitFiles(
      repository,
      first,
      { 'web/tsunagi.yaml': 'tsunagi: 1\n' },
      'Define\n\nand why\n',
      who,
    );
    expect(await moveBranch(repository, 'main', second, first)).toBe(true);
    expect(git('ls-tree', '-r', '--name-only', 'main')).toBe('a.txt\nweb/tsunagi.yaml');
    expect(await commitFacts(repository, second)).toMatchObject({ title: 'Define', author: 'Mika', parents: [first] });
    expect((await readFile(repository, second, 'web/tsunagi.yaml', 100))?.toString()).toBe('tsunagi: 1\n');
    const third = await commitFiles(repository, second, { 'a.txt': 'b\n' }, 'Change\n', who);
    expect(git('diff', '--stat', second, third)).toContain('1 file changed');
  });

  it('moves a branch only from where it was seen', async () => {
    const head = git('rev-parse', 'main');
    const one = await commitFiles(repository, head, { x: '1' }, 'One\n', who);
    const two = await commitFiles(repository, head, { x: '2' }, 'Two\n', who);
    expect(await moveBranch(repository, 'main', one, head)).toBe(true);
    expect(await moveBranch(repository, 'main', two, head)).toBe(false);
    expect(await moveBranch(repository, 'main', two, null)).toBe(false);
    expect(git('rev-parse', 'main')).toBe(one);
  });
});

describe('a difference', () => {
  it('is one that others can apply', async () => {
    const text = unifiedDifference('dir/tsunagi.yaml', 'a\nb\nc\n', 'a\nB\nc\n');
    expect(text).toBe('--- a/dir/tsunagi.yaml\n+++ b/dir/tsunagi.yaml\n@@ -1,3 +1,3 @@\n a\n-b\n+B\n c\n');
    const place = join(folder, 'apply');
    mkdirSync(join(place, 'dir'), { recursive: true });
    writeFileSync(join(place, 'dir/tsunagi.yaml'), 'a\nb\nc\n');
    execFileSync('git', ['apply', '--unsafe-paths', '-'], { cwd: place, input: text });
    expect(execFileSync('cat', [join(place, 'dir/tsunagi.yaml')], { encoding: 'utf8' })).toBe('a\nB\nc\n');
  });
  it('of a new file begins with nothing, and there is none between equal texts', async () => {
    expect(unifiedDifference('t', null, 'x\n')).toBe('--- /dev/null\n+++ b/t\n@@ -0,0 +1,1 @@\n+x\n');
    expect(unifiedDifference('t', 'x\n', 'x\n')).toBe('');
  });
});

describe('a masked log', () => {
  function kept() {
    const written: [string, number][] = [];
    let flushed = 0;
    const log: KeptLog = {
      write: (bytes, command) => {
        if (bytes.length) written.push([bytes.toString(), command]);
        return true;
      },
      drained: async () => {},
      lines: () => written.length,
      flush: async () => void flushed++,
    };
    return {
      log,
      written,
      flushes: () => flushed,
      text: (command: number) =>
        written
          .filter(([, of]) => of === command)
          .map(([text]) => text)
          .join(''),
    };
  }
  const work = { variables: { KEY: 'hunter-two', LEVEL: 'info' }, secret: ['KEY', 'NOT_THERE'] };

  it('lets nothing through, wherever the bytes are cut', async () => {
    const { log, text, flushes } = kept();
    const masked = maskLog(log, maskerOf(work));
    for (const one of 'the key is hunter-two, level info; hunter-tw') masked.write(Buffer.from(one), 0);
    expect(text(0)).toBe('the key is ‹KEY›, level info; ');
    await masked.flush();
    expect(text(0)).toBe('the key is ‹KEY›, level info; hunter-tw');
    expect(flushes()).toBe(1);
    expect(masked.lines()).toBe(log.lines());
    await masked.drained();
  });

  it('gives what a command held back to that command, not to the next one', async () => {
    const { log, text } = kept();
    const masked = maskLog(log, maskerOf(work));
    masked.write(Buffer.from('ends with hunt'), 0);
    masked.write(Buffer.from('er-two begins'), 1);
    await masked.flush();
    expect([text(0), text(1)]).toEqual(['ends with hunt', 'er-two begins']);
  });

  it('goes together with masked words of what failed, whose code stays', () => {
    const masker = maskerOf({ variables: { KEY: 'ended_at_once' }, secret: ['KEY'] });
    const why = maskIssue(issue('ended_at_once', { part: 'api', exit: 1, line: 'said ended_at_once' }), masker);
    expect(why).toEqual({ code: 'ended_at_once', data: { part: 'api', exit: 1, line: 'said ‹KEY›' } });
    const ended = { what: 'ended' as const, state: 'passed' as const, issue: null, output: null, tests: null };
    expect(maskEnded(ended, masker)).toEqual(ended);
  });
});

describe('what a program saw', () => {
  it('is named once, the nearest to the top first, without what was installed', () => {
    const [lower, upper] = [join(folder, 'lower'), join(folder, 'upper')];
    for (const [place, path] of [
      [lower, 'server.js'],
      [lower, 'src/deep/prices.js'],
      [lower, 'node_modules/x/index.js'],
      [upper, 'server.js'],
      [upper, 'out/made.txt'],
    ] as const) {
      mkdirSync(join(place, path, '..'), { recursive: true });
      writeFileSync(join(place, path), '');
    }
    expect(seenFiles([lower, upper, join(folder, 'nowhere')])).toEqual([
      'server.js',
      'out/made.txt',
      'src/deep/prices.js',
    ]);
  });

  it('ends with its last lines, however much it printed', () => {
    const tail = makeTail(1_000);
    for (let n = 0; n < 5_000; n++) tail.push(Buffer.from(`line ${n}\n`));
    const lines = tail.lines();
    expect(lines.slice(-2)).toEqual(['line 4999', '']);
    expect(lines.length).toBeLessThanOrEqual(80);
    tail.push(Buffer.alloc(50_000, 'x'));
    expect(tail.lines().join('').length).toBeLessThanOrEqual(1_000);
    tail.clear();
    expect(tail.lines()).toEqual(['']);
  });
});
