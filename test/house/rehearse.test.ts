import { execFileSync } from 'node:child_process';
import { chmodSync, existsSync, mkdirSync, mkdtempSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { RunDetail } from '../../src/wire/runs.js';
import { cli, openWorld, until, type World } from './world.js';

let folder: string;
const git = (...args: string[]) =>
  execFileSync('git', ['-C', folder, '-c', 'user.name=Mika', '-c', 'user.email=mika@kohama.example', ...args], {
    encoding: 'utf8',
  });
const write = (files: Record<string, string>) => {
  for (const [path, text] of Object.entries(files)) {
    mkdirSync(dirname(join(folder, path)), { recursive: true });
    writeFileSync(join(folder, path), text);
  }
};
const rehearse = (...args: string[]) => cli(['rehearse', ...args], {}, folder);

interface Told {
  commit: string;
  changed: number;
  differs: string[];
  tasks: { name: string; state: string; fingerprint: string | null; issue: { code: string } | null }[];
}
const told = async (...args: string[]): Promise<Told> => JSON.parse((await rehearse('--json', ...args)).out) as Told;
const states = (one: Told) => Object.fromEntries(one.tasks.map((task) => [task.name, task.state]));

const definition = `tsunagi: 1
tools: { node: ">=20" }
tasks:
  web: { reads: [web/], run: 'mkdir -p dist && cp web/* dist/', makes: [dist/] }
  unit: { needs: [web], reads: [test.js], run: node test.js, results: out.xml }
  level: { reads: [], each: { L: [a, b] }, run: 'echo $L' }
`;
const files = {
  'tsunagi.yaml': definition,
  'web/index.html': '<h1>price</h1>\n',
  'test.js':
    "require('node:fs').writeFileSync('out.xml', '<testsuite><testcase name=\"a\"/></testsuite>');\nconsole.log(require('node:fs').readFileSync('dist/index.html', 'utf8').trim());\n",
  '.gitignore': 'ignored/\n',
};

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-copy-'));
  chmodSync(folder, 0o755);
  git('init', '-q', '-b', 'main');
  write(files);
  git('add', '-A');
  git('commit', '-q', '-m', 'first');
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

describe('a rehearsal', () => {
  it('runs the tasks of the working copy in their order, with no service', async () => {
    const { out, err, status } = await rehearse('--log');
    expect([status, err]).toEqual([0, '']);
    expect(out).toMatch(/unit │ <h1>price<\/h1>/);
    expect(out).toMatch(/^4 passed$/m);
    expect(out.indexOf('passed   web')).toBeLessThan(out.indexOf('passed   unit'));
  });

  it('does nothing twice, and sees what is not committed, new files too', async () => {
    expect(states(await told())).toEqual({ web: 'reused', unit: 'reused', 'level[a]': 'reused', 'level[b]': 'reused' });
    write({ 'web/more.html': 'more', 'ignored/x': 'x' });
    const changed = await told();
    expect(changed.changed).toBe(1);
    expect(states(changed)).toEqual({ web: 'passed', unit: 'passed', 'level[a]': 'reused', 'level[b]': 'reused' });
    expect((await rehearse()).out).toContain('(with 1 file that is not committed)');
    expect(states(await told('--without-reuse', 'level'))).toEqual({ 'level[a]': 'passed', 'level[b]': 'passed' });
    rmSync(join(folder, 'web/more.html'));
    expect(states(await told())).toMatchObject({ web: 'reused', unit: 'reused' });
  });

  it('runs the named tasks with what they need, and knows no others', async () => {
    expect(Object.keys(states(await told('unit')))).toEqual(['web', 'unit']);
    expect(Object.keys(states(await told('level[b]')))).toEqual(['level[b]']);
    expect(await rehearse('unti')).toMatchObject({ status: 1, err: expect.stringContaining('Did you mean `unit`') });
  });

  it('says what failed, with the end of its output, and skips what needs it', async () => {
    write({
      'test.js': "console.log('before it breaks');\nprocess.exit(7);\n",
      'tsunagi.yaml': `${definition}  last: { needs: [unit], run: 'true' }\n`,
    });
    const { out, status } = await rehearse('last');
    expect(status).toBe(1);
    expect(out).toMatch(/failed {3}unit/);
    expect(out).toContain('The command `node test.js` ended with exit status 7.');
    expect(out).toContain('│ before it breaks');
    expect(out).toMatch(/skipped {2}last/);
    write({ 'tsunagi.yaml': `${definition}  last: { needs: [nit], run: 'true' }\n` });
    expect((await rehearse()).err).toContain('There is no task `nit`');
    write(files);
  });

  it('gives a task its database, links and modes as a commit would have them, and says what may differ', async () => {
    symlinkSync('test.js', join(folder, 'link.js'));
    write({ 'tool.sh': '#!/bin/sh\necho tool\n' });
    chmodSync(join(folder, 'tool.sh'), 0o755);
    write({
      'tsunagi.yaml': `tsunagi: 1
tasks:
  look: { reads: [tool.sh, link.js, test.js], run: ['./tool.sh', 'test "$(readlink link.js)" = test.js', '! test -e web'] }
  db: { reads: [], resources: { db: { kind: postgres } }, variables: { U: { from: db.url }, C: { from: run.commit } }, run: 'test "$(psql -At "$U" -c "select 40 + 2")" = 42' }
  net: { reads: [], network: true, run: 'true' }
`,
    });
    const one = await told();
    expect(states(one)).toEqual({ look: 'passed', db: 'passed', net: 'passed' });
    expect(one.differs).toEqual([
      expect.stringMatching(/^db: run\.commit is that of HEAD/),
      expect.stringMatching(/^net: an agent passes/),
    ]);
    rmSync(join(folder, 'link.js'));
    rmSync(join(folder, 'tool.sh'));
    write(files);
  });

  it('needs a checkout and a definition', async () => {
    const bare = mkdtempSync(join(tmpdir(), 'tsunagi-bare-'));
    expect(await cli(['rehearse'], {}, bare)).toMatchObject({ err: expect.stringContaining('has no tsunagi.yaml') });
    writeFileSync(join(bare, 'tsunagi.yaml'), definition);
    expect(await cli(['rehearse'], {}, bare)).toMatchObject({
      status: 2,
      err: expect.stringContaining('not in a git checkout'),
    });
    rmSync(bare, { recursive: true });
  });

  it('offers a definition where there is none, and writes it when told to', async () => {
    const bare = mkdtempSync(join(tmpdir(), 'tsunagi-offer-'));
    chmodSync(bare, 0o755);
    writeFileSync(
      join(bare, 'package.json'),
      '{ "name": "prices", "version": "1.0.0", "scripts": { "test": "node --check index.js", "start": "node index.js" } }\n',
    );
    writeFileSync(
      join(bare, 'index.js'),
      "require('node:http').createServer((q, r) => r.end('price')).listen(process.env.PORT);\n",
    );
    const git = (...args: string[]) =>
      execFileSync('git', ['-C', bare, ...args], {
        env: {
          PATH: process.env.PATH,
          HOME: '/nonexistent',
          GIT_AUTHOR_NAME: 'M',
          GIT_AUTHOR_EMAIL: 'm@k',
          GIT_COMMITTER_NAME: 'M',
          GIT_COMMITTER_EMAIL: 'm@k',
        },
      });
    git('init', '-q');
    git('add', '-A');
    git('commit', '-qm', 'First');
    const offered = await cli(['rehearse'], {}, bare);
    expect(offered).toMatchObject({
      status: 1,
      out: expect.stringContaining('tsunagi: 1'),
      err: expect.stringContaining('rehearse --write'),
    });
    expect(existsSync(join(bare, 'tsunagi.yaml'))).toBe(false);
    const written = await cli(['rehearse', '--write'], { XDG_DATA_HOME: join(bare, '..') }, bare);
    expect([written.status, existsSync(join(bare, 'tsunagi.yaml'))]).toEqual([0, true]);
    expect(written.out).toContain('passed');
    rmSync(bare, { recursive: true });
  });
});

describe('the fingerprints of a rehearsal', () => {
  let world: World;
  beforeAll(async () => {
    world = await openWorld();
  });
  afterAll(() => world?.close());

  it('are those of a run of the same files', async () => {
    const { checkout } = await world.hosted('copy', files);
    await checkout.push();
    const run = await until('it has ended', async () => {
      const detail = await world.api().get<RunDetail>('/api/projects/copy/runs/1');
      return detail.endedAt ? detail : null;
    });
    const rehearsed = await told('--project', 'copy');
    expect(rehearsed.tasks.map((task) => [task.name, task.fingerprint])).toEqual(
      run.taskList.map((task) => [task.name, task.fingerprint]),
    );
  });
});
