import { brotliDecompressSync, gunzipSync } from 'node:zlib';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { allTraffic, type SitePath } from '../../src/core/cutover/route.js';
import { openOutlet, type Outlet } from './outlet.js';
import { routeWith, serverPath, sitePath, target } from './routes.js';
import { until } from './world.js';

const page = { accept: 'text/html,*/*;q=0.8' };
const script = `const all = [${'"sailing", '.repeat(400)}];\n`;
const files = {
  'web/index.html': '<h1>home</h1>',
  'web/gone.html': '<h1>not here</h1>',
  'web/docs/index.html': '<h1>docs</h1>',
  'web/assets/app-0f3a9c21.js': script,
  'web/assets/logo.svg': `<svg>${'<g/>'.repeat(500)}</svg>`,
  'web/assets/noise.bin': 'x'.repeat(3_000),
  'web/.well-known/security.txt': 'Contact: mailto:x@kohama.example',
  'web/.env': 'SECRET=1',
};

let outlet: Outlet;
let layer: string;
const bytes = `sha256:${'a'.repeat(64)}`;
const site = (more: Partial<SitePath> = {}) =>
  sitePath('/', bytes, [layer], { root: 'web', fallback: 'index.html', ...more });

beforeAll(async () => {
  outlet = await openOutlet(12_000 + (process.pid % 40));
  layer = await outlet.layer(files);
  await outlet.give(routeWith([site()]));
});
afterAll(() => outlet?.close());

describe('a file', () => {
  it('has its type, a tag of its content, and stays with a reader as long as its name says', async () => {
    const home = await outlet.ask('/');
    expect(home).toMatchObject({ status: 200, text: '<h1>home</h1>' });
    expect(home.headers).toMatchObject({ 'content-type': 'text/html; charset=utf-8', 'cache-control': 'no-cache' });
    const asset = await outlet.ask('/assets/app-0f3a9c21.js');
    expect(asset.headers).toMatchObject({
      'content-type': 'text/javascript; charset=utf-8',
      'cache-control': 'public, max-age=31536000, immutable',
      vary: 'accept-encoding',
      'accept-ranges': 'bytes',
    });
    const { etag = '' } = asset.headers;
    expect(etag).toMatch(/^"[0-9a-f]{32}"$/);
    for (const known of [etag, `W/${etag}`, `"x", ${etag}`, '*'])
      expect(await outlet.ask('/assets/app-0f3a9c21.js', { 'if-none-match': known })).toMatchObject({
        status: 304,
        text: '',
      });
    expect((await outlet.ask('/assets/app-0f3a9c21.js', { 'if-none-match': '"other"' })).status).toBe(200);
    // The same content has the same tag in other bytes.
    const other = `sha256:${'b'.repeat(64)}`;
    await outlet.give(routeWith([{ ...site(), bytes: other }]));
    expect((await outlet.ask('/assets/app-0f3a9c21.js')).headers.etag).toBe(etag);
    await outlet.give(routeWith([site()]));
  });

  it('comes smaller to who takes it so, with a tag of its own, once that is made', async () => {
    const path = '/assets/app-0f3a9c21.js';
    const coded = async (accepted: string) => outlet.ask(path, { 'accept-encoding': accepted });
    await until('it is made', async () => (await coded('br')).headers['content-encoding'] === 'br');
    await until('it is made', async () => (await coded('gzip')).headers['content-encoding'] === 'gzip');
    const [br, gzip, plain] = await Promise.all([
      coded('gzip, deflate, br'),
      coded('gzip;q=0.5, br;q=0'),
      coded('identity'),
    ]);
    expect([
      br.headers['content-encoding'],
      gzip.headers['content-encoding'],
      plain.headers['content-encoding'],
    ]).toEqual(['br', 'gzip', undefined]);
    expect([brotliDecompressSync(br.bytes).toString(), gunzipSync(gzip.bytes).toString(), plain.text]).toEqual([
      script,
      script,
      script,
    ]);
    expect(new Set([br, gzip, plain].map((one) => one.headers.etag)).size).toBe(3);
    expect(br.bytes.length).toBeLessThan(script.length / 10);
    expect(
      (await outlet.ask(path, { 'accept-encoding': 'br', 'if-none-match': br.headers.etag as string })).status,
    ).toBe(304);
    // What is no text, and what was asked for in part, comes as it is.
    expect(
      (await outlet.ask('/assets/noise.bin', { 'accept-encoding': 'br' })).headers['content-encoding'],
    ).toBeUndefined();
    const part = await outlet.ask(path, { 'accept-encoding': 'br', range: 'bytes=0-4' });
    expect(part).toMatchObject({ status: 206, text: script.slice(0, 5) });
    // It is there again after a start, and not made anew.
    await outlet.restart();
    expect((await coded('br')).headers['content-encoding']).toBe('br');
  });

  it('comes in part, also under the condition that it is still the same', async () => {
    const path = '/assets/noise.bin';
    const { etag = '', ...headers } = (await outlet.ask(path)).headers;
    // No time is known of a file: one that is made up would call a changed file unchanged.
    expect(headers['last-modified']).toBeUndefined();
    const time = 'Fri, 01 Jan 2100 00:00:00 GMT';
    expect((await outlet.ask(path, { 'if-modified-since': time })).status).toBe(200);
    const part = (more: Record<string, string>) => outlet.ask(path, { range: 'bytes=10-19', ...more });
    expect(await part({})).toMatchObject({ status: 206, headers: { 'content-range': 'bytes 10-19/3000' } });
    expect((await part({ 'if-range': etag })).status).toBe(206);
    expect((await part({ 'if-range': '"other"' })).status).toBe(200);
    expect((await part({ 'if-range': time })).status).toBe(200);
    expect(await outlet.ask(path, { range: 'bytes=5000-' })).toMatchObject({
      status: 416,
      headers: { 'cache-control': 'no-store' },
    });
    expect((await outlet.ask(path, { 'if-match': '"other"' })).status).toBe(412);
    expect(await outlet.ask(path, {}, 'HEAD')).toMatchObject({
      status: 200,
      text: '',
      headers: { 'content-length': '3000' },
    });
  });

  it('is only what belongs to the site: nothing hidden, nothing that can not be meant', async () => {
    expect((await outlet.ask('/.well-known/security.txt')).status).toBe(200);
    for (const path of ['/.env', '/%2eenv', '/assets/%00', '/%ff', '/assets/..%2f.env', '/index.html/', '/assets'])
      expect([path, (await outlet.ask(path)).status]).toEqual([path, 404]);
  });
});

describe('where there is no file', () => {
  it('a visitor gets the fallback, and a page that asks for a file is told so', async () => {
    expect(await outlet.ask('/today', page)).toMatchObject({ status: 200, text: '<h1>home</h1>' });
    expect((await outlet.ask('/today', { 'sec-fetch-mode': 'navigate' })).status).toBe(200);
    const missing = await outlet.ask('/assets/old.js', { ...page, 'sec-fetch-mode': 'no-cors' });
    expect(missing).toMatchObject({ status: 404, headers: { 'cache-control': 'no-store' } });
    expect((await outlet.ask('/docs?x=1', page)).headers.location).toBe('/docs/?x=1');
  });

  it('a site shows its own page, as 404', async () => {
    await outlet.give(routeWith([site({ fallback: null, missing: 'gone.html' })]));
    const asked: Record<string, string>[] = [{}, { range: 'bytes=0-1' }, { 'if-none-match': '*' }];
    for (const headers of asked)
      expect(await outlet.ask('/nowhere', { ...page, ...headers })).toMatchObject({
        status: 404,
        text: '<h1>not here</h1>',
        headers: { 'cache-control': 'no-store' },
      });
  });

  it('files of the release before are answered to pages that are open, also where its bytes came late or never', async () => {
    const old = `sha256:${'c'.repeat(64)}`;
    const lost = `sha256:${'d'.repeat(64)}`;
    const before = await outlet.layer({ 'web/assets/old-1a2b3c4d.js': 'old', 'web/index.html': 'old home' });
    const gone = await outlet.layer({ 'web/x': 'x' });
    outlet.lose(gone);
    const replaced = (digest: string, from: string, deployment: string) =>
      target([sitePath('/', digest, [from], { root: 'web' })], { deployment, share: 0, until: 1 });
    await outlet.give({
      environment: 'sailings/staging',
      targets: [target([site()]), replaced(lost, gone, 'd0'), replaced(old, before, 'd00')],
    });
    await until('it is here', async () => (await outlet.ask('/assets/old-1a2b3c4d.js')).text === 'old');
    expect((await outlet.ask('/')).text).toBe('<h1>home</h1>');
    expect((await outlet.ask('/x')).status).toBe(404);
  });
});

describe('what a site says besides', () => {
  it('moves paths, adds headers, and answers its settings from the environment', async () => {
    await outlet.give(
      routeWith([
        site({
          redirects: [
            { from: '/old', to: '/docs/', permanent: true },
            { from: '/trips/', to: '/sailings/', permanent: false },
          ],
          headers: [{ at: '/assets/', set: { 'Cache-Control': 'max-age=60', 'X-Served': 'ferry' } }],
          settings: { at: '/settings.json', values: { PUBLIC_API: 'http://x/api', 'A"B': '</script>' } },
        }),
      ]),
    );
    expect(await outlet.ask('/old?a=1')).toMatchObject({ status: 308, headers: { location: '/docs/?a=1' } });
    expect(await outlet.ask('/trips/7')).toMatchObject({
      status: 307,
      headers: { location: '/sailings/7', 'cache-control': 'no-store' },
    });
    const asset = await outlet.ask('/assets/app-0f3a9c21.js');
    expect(asset.headers).toMatchObject({ 'cache-control': 'max-age=60', 'x-served': 'ferry' });
    const settings = await outlet.ask('/settings.json');
    expect(settings.headers).toMatchObject({
      'content-type': 'application/json; charset=utf-8',
      'cache-control': 'no-store',
    });
    expect(JSON.parse(settings.text)).toEqual({ PUBLIC_API: 'http://x/api', 'A"B': '</script>' });
    expect((await outlet.ask('/settings.json', {}, 'POST')).status).toBe(405);
  });
});

describe('a server', () => {
  it('sees its paths as they are asked for, or without its own', async () => {
    const one = await outlet.program('one');
    await outlet.give(routeWith([serverPath('/raw', [one]), serverPath('/api', [one], { strip: true }), site()]));
    const seen = async (path: string) => (JSON.parse((await outlet.ask(path)).text) as { url: string }).url;
    expect(await Promise.all(['/raw/a?b=c', '/api/a?b=c', '/api', '/api?x', '/api//evil.example/x'].map(seen))).toEqual(
      ['/raw/a?b=c', '/a?b=c', '/', '/?x', '//evil.example/x'],
    );
  });

  it('keeps a visitor where that is asked, by a cookie that nobody else can make and no program sees', async () => {
    const programs = await Promise.all(['one', 'two', 'three'].map((name) => outlet.program(name)));
    const sticky = 'k'.repeat(64);
    const give = (list: typeof programs, deployment = 'd1') =>
      outlet.give(routeWith([serverPath('/api', list, { sticky }), site()], deployment));
    await give(programs);
    const visit = async (cookie?: string) => {
      const answer = await outlet.ask('/api', cookie ? { cookie } : {});
      const [set] = answer.headers['set-cookie'] ?? [];
      return { ...(JSON.parse(answer.text) as { name: string; cookie: string | null }), set: set ?? null };
    };
    const first = await visit();
    expect(first.set).toMatch(/^tsunagi-instance=[\w-]{12}\.[\w-]{22}; Path=\/api; HttpOnly; SameSite=Lax$/);
    const cookie = (first.set as string).split(';')[0] as string;
    for (let n = 0; n < 5; n++)
      expect(await visit(`a=b; ${cookie}; c=d`)).toMatchObject({ name: first.name, cookie: 'a=b; c=d', set: null });
    // One that was made up, or names what is gone, counts for nothing and is replaced.
    expect((await visit(`${cookie.slice(0, -1)}_`)).set).not.toBeNull();
    expect((await visit('tsunagi-instance=')).cookie).toBeNull();
    expect((await visit(`${cookie.slice(0, -1)}\u00e9`)).set).not.toBeNull();
    await give(
      programs.filter((one) => one.id !== first.name),
      'd2',
    );
    const moved = await visit(cookie);
    expect([moved.name !== first.name, moved.set !== null]).toEqual([true, true]);
  });

  it('gets all traffic of a host as one target has it', async () => {
    const [one, two] = await Promise.all(['one', 'two'].map((name) => outlet.program(name)));
    const half = (place: typeof one, deployment: string, share: number) =>
      target([serverPath('/api', [place as never])], { deployment, share });
    const count = async () => {
      const names = await Promise.all(Array.from({ length: 60 }, () => outlet.ask('/api')));
      return names.filter((answer) => answer.text.includes('"one"')).length;
    };
    await outlet.give({ environment: 'e', targets: [half(one, 'd1', allTraffic), half(two, 'd2', 0)] });
    expect(await count()).toBe(60);
    await outlet.give({ environment: 'e', targets: [half(one, 'd1', 0), half(two, 'd2', allTraffic)] });
    expect(await count()).toBe(0);
    await outlet.give({
      environment: 'e',
      targets: [half(one, 'd1', allTraffic / 2), half(two, 'd2', allTraffic / 2)],
    });
    const shared = await count();
    expect([shared > 5, shared < 55]).toEqual([true, true]);
  });
});
