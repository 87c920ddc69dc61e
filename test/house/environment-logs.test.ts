/** What an environment's programs print, together: by time, part and text, also of those that have ended. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { EnvironmentLines } from '../../src/wire/logs.js';
import { openWorld, until, type World } from './world.js';

let world: World;
const path = '/api/projects/talk/environments/staging/logs';
const lines = (query: Record<string, string> = {}) =>
  world.api().get<EnvironmentLines>(`${path}?${new URLSearchParams(query)}`);
beforeAll(async () => {
  world = await openWorld();
  const { checkout, first } = await world.hosted('talk', {
    'package.json': '{ "type": "module" }',
    'server.js': `import { createServer } from 'node:http';
console.log('begun', process.pid);
createServer((request, response) => {
  const [, word, times] = request.url.split('/');
  for (let n = 1; n <= Number(times ?? 1); n++) console.log(word, n);
  response.end('said');
}).listen(process.env.PORT);
process.on('SIGTERM', () => { console.log('farewell'); process.exit(0); });
`,
    'tsunagi.yaml': `tsunagi: 1
release:
  parts:
    api: { kind: server, start: node server.js, at: /, instances: 2 }
    bell: { kind: worker, start: "printf 'Ding\\\\n\\\\033[31mred\\\\033[0m \\\\033]0;title\\\\007end\\\\nunfinished'; exec sleep 100000" }
environments:
  staging: { branch: main }
`,
  });
  await checkout.push();
  await world.waitLive('talk', 'staging', first);
});
afterAll(() => world?.close());

describe('the logs of an environment', () => {
  it('are those of all its programs, in the order in which they came in', async () => {
    await world.visit('talk-staging.localhost', '/hello/3');
    const found = await until('all of them', async () => {
      const now = await lines();
      return now.lines.filter((one) => one.text.startsWith('hello')).length === 3 && now;
    });
    expect([...new Set(found.lines.map((one) => one.instance))].sort()).toEqual(['api.1', 'api.2', 'bell.1']);
    const times = found.lines.map((one) => Date.parse(one.at));
    expect([...times].sort((a, b) => a - b)).toEqual(times);
    expect(found.lines.filter((one) => one.text.startsWith('hello')).map((one) => one.text)).toEqual([
      'hello 1',
      'hello 2',
      'hello 3',
    ]);
    expect(found.more).toBe(false);
    // A line that has no end yet is shown too.
    expect(found.lines.at(-1) && found.lines.some((one) => one.text === 'unfinished')).toBe(true);
  });
  it('are found by text, whatever the case, by part and by time', async () => {
    expect((await lines({ find: 'ding' })).lines.map((one) => one.text)).toEqual(['Ding']);
    expect((await lines({ part: 'bell', find: 'hello' })).lines).toEqual([]);
    expect((await lines({ since: new Date(Date.now() + 60_000).toISOString() })).lines).toEqual([]);
    await world.visit('talk-staging.localhost', '/many/700');
    await until('they are there', async () => (await lines({ find: 'many 700' })).lines.length === 1);
    const first = await lines({ find: 'many', limit: '100' });
    expect([first.lines.length, first.more]).toEqual([100, true]);
    expect((await world.api().raw('GET', `${path}?since=yesterday`)).status).toBe(400);
    expect((await world.api().raw('GET', `${path}?limit=100000`)).status).toBe(400);
  });
  it('are printed by the command line as text, those of ended programs too', async () => {
    await world.cli('restart', 'talk/staging', '--part', 'api');
    await until('the old ones have said farewell', async () => (await lines({ find: 'farewell' })).lines.length === 2);
    const { out, status } = await world.cli('logs', 'talk/staging', '--since', '1h', '--find', 'farewell');
    expect(status).toBe(0);
    expect(out.trim().split('\n')).toHaveLength(2);
    expect(out).toMatch(/^\d\d:\d\d:\d\d api\.[12] +farewell$/m);
    const bell = await world.cli('logs', 'talk/staging', '--part', 'bell', '--since', '1h');
    expect(bell.out).toMatch(/bell\.1 +red end$/m);
    expect((await world.cli('logs', 'talk/staging', '--since', 'soon')).status).toBe(2);
    expect((await world.cli('logs', 'talk/staging', '--find', 'nobody says this')).out).toContain('No such line.');
  });
});
