/** Why a program fails, each cause proven by a program that really does: the same in the API and on the command line. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { EnvironmentDetail } from '../../src/wire/environments/environments.js';
import type { RunDetail } from '../../src/wire/runs.js';
import { openWorld, until, type World } from './world.js';

let world: World;
beforeAll(async () => {
  // Longer than npm takes to start on a busy machine: what is wrong is to be told, not that it was slow.
  world = await openWorld({ timing: { ready: 9_000 } });
});
afterAll(() => world?.close());

let count = 0;
const http = "const server = require('node:http').createServer((q, r) => r.end('x'));\n";

interface Failing {
  files?: Record<string, string>;
  start?: string;
  ready?: string;
  more?: string;
  part?: string;
}

/** Deploys a part that can't get ready, and gives why. */
async function failureOf({ files = {}, start = 'node server.js', ready, more = '', part = '' }: Failing) {
  const name = `agent-${++count}`;
  const definition = `tsunagi: 1\nrelease:\n  parts:\n    api: { kind: server, start: ${JSON.stringify(start)}${ready ? `, ready: ${ready}` : ''}${part} }\n${more}environments:\n  staging: { branch: main }\n`;
  const { checkout } = await world.hosted(name, { 'server.js': http, ...files, 'tsunagi.yaml': definition });
  await checkout.push();
  const failed = await until(`${name} has failed`, async () => {
    const one = await world
      .api()
      .get<EnvironmentDetail>(`/api/projects/${name}/environments/staging`)
      .catch(() => null);
    return one?.failed?.failure ? one : null;
  });
  const why = failed.failed?.failure;
  const told = await world.cli('environment', 'show', `${name}/staging`);
  expect(told.out).toContain(why?.says.slice(0, 40));
  expect(why?.next.length).toBeGreaterThan(10);
  return { code: why?.code, ...why?.data, says: why?.says, next: why?.next } as Record<string, unknown>;
}

/** Runs one task that fails, and gives why. */
async function taskFailure(run: string, more = '', files: Record<string, string> = {}) {
  const name = `edge-${++count}`;
  const { checkout, first } = await world.hosted(name, {
    'a.txt': 'a',
    ...files,
    'tsunagi.yaml': `tsunagi: 1\ntasks:\n  unit: { run: ${JSON.stringify(run)}${more} }\n`,
  });
  await checkout.push();
  const done: RunDetail = await world.waitRun(name, first);
  const why = done.taskList[0]?.issue;
  expect((await world.cli('why', 'run', String(done.number), '--project', name)).out).toContain(why?.says.slice(0, 40));
  return { code: why?.code, ...why?.data, says: why?.says, next: why?.next } as Record<string, unknown>;
}

describe('a server that does not get ready', () => {
  it.each([
    [
      'listens on a port of its own',
      { files: { 'server.js': `${http}server.listen(8000);` } },
      { code: 'listens_elsewhere', ports: '8000' },
    ],
    [
      'listens on one address alone',
      { files: { 'server.js': `${http}server.listen(process.env.PORT, '::1');` }, ready: '/ready' },
      { code: 'listens_one_address', address: '::1' },
    ],
    [
      'ends at once with its own error',
      { files: { 'server.js': "throw new Error('the price is out');" } },
      { code: 'ended_at_once', exit: 1, line: 'Error: the price is out' },
    ],
    [
      'has no such script',
      { start: 'npm run start:api', files: { 'package.json': '{ "scripts": { "serve": "node server.js" } }' } },
      { code: 'start_script_missing', script: 'start:api' },
    ],
    [
      'is a command that is not there',
      { start: 'nod server.js' },
      { code: 'command_missing', name: 'nod', near: ' Did you mean node?' },
    ],
    [
      'is a file that is not there',
      { start: 'node srver.js' },
      { code: 'file_missing', path: 'srver.js', near: ' Did you mean server.js?' },
    ],
    [
      'is a Python file that is not there',
      { start: 'python3 ap.py', files: { 'app.py': '' } },
      { code: 'file_missing', path: 'ap.py', near: ' Did you mean app.py?' },
    ],
    [
      'wants a package that is not installed',
      { files: { 'server.js': "require('fastbox');" } },
      { code: 'package_missing', name: 'fastbox' },
    ],
    [
      'wants a variable',
      { files: { 'server.js': "if (!process.env.REGION_URL) throw new Error('REGION_URL is not set');" } },
      { code: 'variable_missing', name: 'REGION_URL' },
    ],
    [
      'wants a variable in Python',
      { start: 'python3 app.py', files: { 'app.py': "import os\nos.environ['REGION_URL']\n" } },
      { code: 'variable_missing', name: 'REGION_URL' },
    ],
    [
      'wants a variable in the shell',
      { start: 'set -u; echo $REGION_URL' },
      { code: 'variable_missing', name: 'REGION_URL' },
    ],
    [
      'wants another version of its tool',
      {
        start: 'npm start',
        files: {
          'package.json':
            '{ "engines": { "node": ">=99" }, "scripts": { "start": "npm install --engine-strict" }, "name": "x", "version": "1.0.0" }',
        },
      },
      { code: 'tool_version', tool: 'node', wants: '>=99' },
    ],
    [
      'does not answer well',
      {
        files: {
          'server.js':
            'require("node:http").createServer((q, r) => { r.statusCode = 503; r.end(); }).listen(process.env.PORT);',
        },
        ready: '/ready',
      },
      { code: 'not_ready', answer: '503', path: '/ready' },
    ],
    [
      'reads what nobody gives, in the shell',
      { start: 'read -r answer; node server.js' },
      { code: 'waits_for_input', line: 'read -r answer' },
    ],
    ['does not listen', { files: { 'server.js': 'setInterval(() => {}, 1000);' } }, { code: 'not_listening' }],
    [
      'writes to the folder of the project',
      { start: 'node make.js', files: { 'make.js': "require('node:fs').mkdirSync('./uploads');\n" } },
      { code: 'folder_read_only', path: './uploads' },
    ],
    [
      'runs a script that reads what no one gives',
      { start: 'bash migrate.sh', files: { 'migrate.sh': 'set -e\nread -r answer\necho "$answer"\n' } },
      { code: 'waits_for_input', line: 'read -r answer' },
    ],
    [
      'waits for input',
      { start: 'python3 ask.py', files: { 'ask.py': "input('Which region? ')\n" } },
      { code: 'waits_for_input' },
    ],
    [
      'needs too much memory',
      { files: { 'server.js': "const all = []; setInterval(() => { all.push(Buffer.alloc(200e6, 'x')); }, 10);" } },
      { code: 'instance_memory', limit: '1 GiB' },
    ],
    [
      'reads a file of the repository that its part does not have',
      {
        part: ', files: [server.js]',
        files: { 'server.js': "require('node:fs').readFileSync('prices.json');", 'prices.json': '{}' },
      },
      { code: 'file_undeclared', path: 'prices.json', key: '`files` of api' },
    ],
  ] as [string, Failing, Record<string, unknown>][])('because it %s', async (_why, failing, expected) => {
    expect(await failureOf(failing)).toMatchObject(expected);
  });
});

describe('a site below a path', () => {
  it.each([
    ['of the commit', '    page: { kind: site, files: [web/], root: web, at: /board }\n', ''],
    [
      'that is built',
      '    page: { kind: site, needs: [build], root: out, at: /board }\n',
      'tasks:\n  build: { reads: [web/], run: "cp -r web out", makes: [out/] }\n',
    ],
  ])('%s whose pages ask for / says so on its run', async (_what, part, tasks) => {
    const name = `jetty-${++count}`;
    const page =
      '<link rel="icon" href="data:,"><script src="https://cdn.kohama.example/x.js"></script><script type=module src="/assets/app.js"></script><a href="/elsewhere">';
    const { checkout, first } = await world.hosted(name, {
      'web/index.html': page,
      'web/app.js': '',
      'tsunagi.yaml': `tsunagi: 1\n${tasks}release:\n  parts:\n${part}environments: { staging: { branch: main } }\n`,
    });
    await checkout.push();
    await world.waitLive(name, 'staging', first);
    const run = await world.waitRun(name, first);
    expect(run.warnings).toMatchObject([
      { code: 'site_below', data: { part: 'page', at: '/board', ref: '/assets/app.js' } },
    ]);
    expect((await world.cli('run', 'show', '1', '--project', name)).out).toContain('ask for /assets/app.js');
    await checkout.commitAndPush({ 'web/index.html': page.replaceAll('"/assets', '"/board/assets') }, 'Fixed');
    const next = await until('the next run', async () => {
      const one = await world
        .api()
        .get<RunDetail>(`/api/projects/${name}/runs/2`)
        .catch(() => null);
      return one?.endedAt && one.release ? one : null;
    });
    expect(next.warnings).toEqual([]);
  });
});

describe('a task that fails', () => {
  it('by a pipe whose reader has read enough says so, and what to write', async () => {
    expect(await taskFailure('seq 1000000 | head -n 1')).toMatchObject({
      code: 'pipe_ended',
      says: expect.stringContaining('(signal 13)'),
      next: expect.stringContaining('sed -n 1p'),
    });
  });

  it.each([
    [
      'reads a file that it does not declare',
      ['cat b.txt', ', reads: [a.txt]', { 'b.txt': 'b' }],
      { code: 'file_undeclared', path: 'b.txt', key: 'its `reads`' },
    ],
    [
      'reads a file that is not there',
      ['cat b.txtt', '', { 'b.txt': 'b' }],
      { code: 'file_missing', path: 'b.txtt', near: ' Did you mean b.txt?' },
    ],
    [
      'has no network',
      ['node -e "fetch(\'http://prices.kohama.example/\').catch((e) => { throw e.cause })"', '', {}],
      { code: 'network_closed', host: 'prices.kohama.example' },
    ],
    [
      'asks for a tool',
      ['jva -version', '', {}],
      { code: 'command_missing', name: 'jva', near: ' Did you mean java?' },
    ],
    [
      'reads in its script',
      ['bash ask.sh', '', { 'ask.sh': 'read answer\n' }],
      { code: 'waits_for_input', line: 'read answer' },
    ],
    ['asks a question', ['printf "Go on? [y/N] "; exit 1', '', {}], { code: 'waits_for_input' }],
    ['says nothing that is known', ['echo odd; exit 7', '', {}], { code: 'command_failed', exit: 7 }],
  ] as [string, [string, string, Record<string, string>], Record<string, unknown>][])(
    'because it %s',
    async (_why, [run, more, files], expected) => {
      expect(await taskFailure(run, more, files)).toMatchObject(expected);
    },
  );
});
