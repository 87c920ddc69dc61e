/** What edges count and agents see, as people find it: once, by part and instance, over time. */
import { spawnSync } from 'node:child_process';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { FigureLines } from '../../src/wire/environments/figures.js';
import { openRecords } from '../../src/records/database.js';
import { addFigures, makeFigureTables, readFigures, rolledUp, rollOn } from '../../src/records/figures/figures.js';
import { openWorld, until, type World } from './world.js';

let world: World;
const host = 'counted-staging.localhost';
const path = '/api/projects/counted/environments/staging';
beforeAll(async () => {
  world = await openWorld();
  const { checkout, first } = await world.hosted('counted', {
    'package.json': '{ "type": "module" }',
    'server.js': `import { createServer } from 'node:http';
createServer((request, response) => {
  if (request.url === '/api/slow') return setTimeout(() => response.end('slow'), 300);
  if (request.url === '/api/cut') return request.socket.destroy();
  if (request.url === '/api/die') return console.log('out of coal') ?? process.exit(3);
  response.statusCode = request.url === '/api/wrong' ? 500 : request.url === '/api/none' ? 404 : 200;
  response.end('here');
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`,
    'web/index.html': '<h1>Counted</h1>',
    'tsunagi.yaml': `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web }
    api: { kind: server, start: node server.js, at: /api, instances: 2 }
environments:
  staging: { branch: main }
`,
  });
  await checkout.push();
  await world.waitLive('counted', 'staging', first);
});
afterAll(() => world?.close());

const lines = (query = '') => world.api().get<FigureLines>(`${path}/figures?${query}`);
const total = (line: (number | null)[], widthMs: number) =>
  Math.round(line.reduce<number>((sum, one) => sum + (one ?? 0) * (widthMs / 1_000), 0));

describe('figures', () => {
  it('count what was answered, what failed, and how long it took, for each part and instance', async () => {
    for (let n = 0; n < 20; n++) await world.visit(host, '/api/fast');
    await Promise.all(Array.from({ length: 4 }, () => world.visit(host, '/api/slow')));
    for (const where of ['/api/wrong', '/api/wrong', '/api/none', '/api/cut', '/', '/index.html'])
      await world.visit(host, where).catch(() => null);
    const found = await until('all of it is counted', async () => {
      const now = await lines();
      const api = now.series.find((one) => one.part === 'api');
      return api && total(api.requests, now.widthMs) === 28 && api.memory.some(Boolean) && now;
    });
    const api = found.series.find((one) => one.part === 'api') as FigureLines['series'][number];
    const page = found.series.find((one) => one.part === 'page') as FigureLines['series'][number];
    expect(total(page.requests, found.widthMs)).toBe(2);
    // A 404 is an answer; a 500 and a connection that was cut are errors.
    const errors = api.errors.reduce<number>(
      (sum, share, at) => sum + (share ?? 0) * (api.requests[at] ?? 0) * (found.widthMs / 1_000),
      0,
    );
    expect(Math.round(errors)).toBe(3);
    const slowest = Math.max(...api.p99.map((one) => one ?? 0));
    expect(slowest).toBeGreaterThan(200);
    expect(slowest).toBeLessThan(500);
    expect(Math.max(...api.memory.map((one) => one ?? 0))).toBeGreaterThan(10 * 1024 ** 2);
    expect(found.marks).toMatchObject([{ release: 1, deployment: 1 }]);
    const each = await lines('by=instance');
    expect(each.series.map((one) => one.instance)).toEqual(['api.1', 'api.2']);
    expect((await lines('part=page')).series.map((one) => one.part)).toEqual(['page']);
  });
  it('are shown by the command line', async () => {
    const { out, status } = await world.cli('metrics', 'counted/staging');
    expect(status).toBe(0);
    expect(out).toMatch(/PART +REQUESTS +ERRORS +P50 +P95 +P99 +CORES +MEMORY +RESTARTS/);
    expect(out).toMatch(/api +[\d.]+\/s .* MiB/);
    expect((await world.cli('metrics', 'counted/staging', '--for', 'soon')).status).toBe(2);
  });
  it('say which programs ended by themselves, and why', async () => {
    expect((await lines()).restarts).toEqual([]);
    // A GET would be asked again of the other one.
    await world.visit(host, '/api/die', { method: 'POST' }).catch(() => null);
    const [one] = await until('it is said', async () => {
      const { restarts } = await lines();
      return restarts.length === 1 && restarts;
    });
    expect(one).toMatchObject({ part: 'api', instance: expect.stringMatching(/^api\.[12]$/) });
    expect(one?.issue?.says).toMatch(/3/);
    const { out } = await world.cli('metrics', 'counted/staging');
    expect(out).toMatch(/api\.[12] was started again .*: .*3/);
    // Of other parts there are none, and none in a time before.
    expect((await lines('part=page')).restarts).toEqual([]);
    const long = new Date(Date.now() - 86_400_000).toISOString();
    expect((await lines(`from=${long}&until=${new Date(Date.now() - 3_600_000).toISOString()}`)).restarts).toEqual([]);
  });
  it('are taken in once, from whoever may send them', async () => {
    const token = await world.api().post<{ token: string }>('/api/tokens', { name: 'edge-9', kind: 'edge' });
    const edge = world.api(token.token);
    const at = Math.floor(Date.now() / 10_000) * 10 - 60;
    const one = { at, host, deployment: 1, part: 'page', instance: '', requests: 7, errors: 0, bytes: 1, times: [7] };
    const send = (batch: number, figures: object[] = [one], name = 'edge-9') =>
      edge.raw('POST', '/api/edge/figures', {
        body: { boot: '00000000-0000-4000-8000-000000000001', batch, name, figures },
      });
    const before = await lines('part=page');
    expect((await send(1)).status).toBe(204);
    expect((await send(1)).status).toBe(204);
    const after = await lines('part=page');
    const sum = (of: FigureLines) => total(of.series[0]?.requests ?? [], of.widthMs);
    expect(sum(after) - sum(before)).toBe(7);
    // Another edge's name, a host of nobody, the far past, and what is no figure.
    expect((await send(2, [one], 'edge-1')).status).toBe(403);
    expect(
      (
        await send(3, [
          { ...one, host: 'nobody.localhost' },
          { ...one, at: 10 },
        ])
      ).status,
    ).toBe(204);
    expect((await send(4, [{ ...one, requests: -1 }])).status).toBe(400);
    expect((await send(5, [{ ...one, times: Array(65).fill(1) }])).status).toBe(400);
    expect(sum(await lines('part=page'))).toBe(sum(after));
    expect((await world.api().raw('POST', '/api/edge/figures', { body: {} })).status).toBe(403);
    const long = await world.api().raw('GET', `${path}/figures?from=2020-01-01T00:00:00Z`);
    expect(long.status).toBe(400);
  });
  it('are rolled up without loss, what comes late too', async () => {
    const records = openRecords({ url: world.house.database });
    try {
      const now = Math.floor(Date.now() / 1_000);
      await makeFigureTables(records, now);
      const { environment } = (await readFigures(records, 10, null, now - 3_600, now + 60))[0] as {
        environment: string;
      };
      const minute = await rolledUp(records, 10);
      const late = {
        at: minute - 120,
        environment,
        deployment: 99,
        part: 'late',
        instance: '',
        requests: 5,
        errors: 1,
        bytes: 10,
        times: [5],
        cpu: 0,
        memory: 0,
      };
      for (let n = 0; n < 2; n++) await records.transition('test', (db) => addFigures(db, [late]));
      // What is not rolled up yet comes with the next round.
      const fresh = { ...late, at: Math.max(minute, Math.floor(now / 60) * 60 - 60), part: 'fresh' };
      await records.transition('test', (db) => addFigures(db, [fresh]));
      await until('it is rolled up', async () => {
        await records.transition('test', (db) => rollOn(db, 10, Math.floor(Date.now() / 60_000) * 60, 7_200));
        return (await rolledUp(records, 10)) > fresh.at;
      });
      const minutes = await readFigures(records, 60, environment, minute - 3_600, now + 120);
      const sum = (part: string) =>
        minutes.filter((one) => one.part === part).reduce((all, one) => all + one.requests, 0);
      expect([sum('late'), sum('fresh')]).toEqual([10, 5]);
      expect(minutes.find((one) => one.part === 'late')).toMatchObject({ errors: 2, times: [10] });
    } finally {
      await records.close();
    }
  });
});

describe('a scraper', () => {
  it('with a token reads them as OpenMetrics, bounded', async () => {
    const ask = (token: string | null, accept = 'application/openmetrics-text') =>
      fetch(`${world.url}/metrics`, { headers: { accept, ...(token ? { authorization: `Bearer ${token}` } : {}) } });
    expect((await ask(null)).status).toBe(401);
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'scraper', role: 'viewer' });
    const answer = await ask(token);
    expect(answer.headers.get('content-type')).toContain('application/openmetrics-text; version=1.0.0');
    const text = await answer.text();
    expect(text.endsWith('# EOF\n')).toBe(true);
    const sample = /^tsunagi_requests_total\{project="counted",environment="staging",part="api"\} (\d+)$/m.exec(text);
    expect(Number(sample?.[1])).toBeGreaterThanOrEqual(28);
    expect(text).toMatch(/^tsunagi_request_errors_total\{.*part="api"\} [3-9]/m);
    expect(text).toMatch(/^tsunagi_agents\{alive="true"\} 1$/m);
    expect(text).toMatch(/^tsunagi_instances\{state="ready"\} 2$/m);
    // Each family is said once, before its samples (OpenMetrics 1.0, 3.3).
    const families = [...text.matchAll(/^# TYPE (\S+) (\S+)$/gm)].map((one) => one[1] as string);
    expect(new Set(families).size).toBe(families.length);
    for (const line of text.split('\n').filter((one) => one && !one.startsWith('#'))) {
      const name = /^[a-zA-Z_:][\w:]*/.exec(line)?.[0] ?? '';
      expect([line, families.some((one) => name === one || name.startsWith(`${one}_`))]).toEqual([line, true]);
      expect(line).toMatch(/^[a-zA-Z_:][\w:]*(\{([a-z_]+="(\\.|[^"\\])*",?)*\})? [-+0-9.eE]+$/);
    }
    // The format before it is judged by the scraper's own tool.
    const plain = await ask(token, 'text/plain');
    expect(plain.headers.get('content-type')).toContain('text/plain; version=0.0.4');
    const judged = spawnSync('promtool', ['check', 'metrics'], {
      input: await plain.text(),
      encoding: 'utf8',
    });
    expect([judged.status, judged.stdout, judged.stderr]).toEqual([0, '', '']);
    const bound = await world
      .api()
      .post<{ token: string }>('/api/tokens', { name: 'bound', role: 'viewer', project: 'counted' });
    expect((await ask(bound.token)).status).toBe(403);
  });
});
