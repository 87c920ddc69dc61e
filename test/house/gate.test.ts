/** Who may look at a review: nobody, people who are signed in, whoever has a link; tried by programs, a browser and a stranger. */
import { createHash, randomBytes } from 'node:crypto';
import { type IncomingHttpHeaders, request } from 'node:http';
import { connect } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Browser } from 'playwright-core';
import type { GateWay, MadeLink, ReviewLink } from '../../src/wire/environments/reviews.js';
import type { AddedToken } from '../../src/wire/people.js';
import type { PageOf } from '../../src/wire/parts.js';
import { openBrowser, signedIn } from './browser.js';
import { api, type Checkout, openWorld, until, type World } from './world.js';

/** Says what reaches it: nothing of the gate may. */
const server = `import { createServer } from 'node:http';
const server = createServer((request, response) => {
  response.setHeader('content-type', 'text/html');
  if (request.url === '/steal') response.setHeader('set-cookie', ['tsunagi-pass=mine; Path=/', 'own=1; Path=/']);
  response.end('<h1>Departures</h1><p id="heard">' + JSON.stringify([request.url, request.headers.cookie ?? null, request.headers['tsunagi-pass'] ?? null]) + '</p>');
}).listen(process.env.PORT);
server.on('upgrade', (request, socket) => { socket.write('HTTP/1.1 101 Switching Protocols\\r\\nupgrade: echo\\r\\nconnection: upgrade\\r\\n\\r\\n'); socket.on('error', () => {}); });
process.on('SIGTERM', () => process.exit(0));
`;
const definition = (access: string) => `tsunagi: 1
release:
  parts:
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /, ready: / }
    page: { kind: site, files: [web/], root: web, at: /page }
environments:
  review: { for: pull requests, access: ${access} }
  staging: { branch: main, verify: { run: 'curl -s "$TSUNAGI_ENVIRONMENT_URL/"' } }
`;

let world: World;
let checkout: Checkout;
let browser: Browser;
const name = 'on-winter';
const host = 'on-winter-shop.review.localhost';
const navigation = { accept: 'text/html', 'sec-fetch-mode': 'navigate' };
interface Answer {
  status: number;
  text: string;
  headers: IncomingHttpHeaders;
  /** Name → value of the cookies that it sets. */
  cookies: Record<string, string>;
}
const ask = (path: string, headers: Record<string, string> = {}, { method = 'GET', at = host } = {}): Promise<Answer> =>
  new Promise((resolve, reject) => {
    const port = world.house.edgePort;
    const call = request(
      { host: '127.0.0.1', port, path, method, headers: { ...headers, host: `${at}:${port}` }, agent: false },
      (answer) => {
        const parts: Buffer[] = [];
        answer.on('data', (chunk: Buffer) => parts.push(chunk));
        answer.on('end', () =>
          resolve({
            status: answer.statusCode ?? 0,
            text: Buffer.concat(parts).toString('utf8'),
            headers: answer.headers,
            cookies: Object.fromEntries(
              (answer.headers['set-cookie'] ?? []).map((one) => {
                const [pair = ''] = one.split(';');
                return [pair.slice(0, pair.indexOf('=')), pair.slice(pair.indexOf('=') + 1)];
              }),
            ),
          }),
        );
        answer.on('error', reject);
      },
    );
    call.on('error', reject);
    call.end();
  });
const pathOf = (url: string) => new URL(url).pathname + new URL(url).search;
/** What main says is known to the edge. */
async function main(access: string): Promise<void> {
  await checkout.git('checkout', '-q', 'main');
  await checkout.commit({ 'tsunagi.yaml': definition(access) }, `Access ${access}`);
  await checkout.push();
  await until('main says so', async () => (await world.environment('shop', name)).review?.access === access);
}
/** A session at the console, as a browser has it. */
async function session(token = world.house.token): Promise<{ cookie: string; origin: string }> {
  const answer = await fetch(`${world.url}/api/sign-in`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', origin: world.url },
    body: JSON.stringify({ token }),
  });
  return { cookie: (answer.headers.get('set-cookie') ?? '').split(';')[0] ?? '', origin: world.url };
}
const wayIn = async (who: Record<string, string>, body: object) => {
  const answer = await fetch(`${world.url}/api/gate`, {
    method: 'POST',
    headers: { 'content-type': 'application/json', ...who },
    body: JSON.stringify(body),
  });
  return { status: answer.status, body: (await answer.json()) as GateWay & { code: string } };
};

beforeAll(async () => {
  world = await openWorld();
  ({ checkout } = await world.hosted('shop', {
    'server.js': server,
    'package.json': '{ "type": "module" }\n',
    'web/index.html': '<h1>A page</h1>\n',
    'tsunagi.yaml': definition('open'),
  }));
  await checkout.push();
  await until('staging is live', async () => (await world.environment('shop', 'staging').catch(() => null))?.live);
  await checkout.git('checkout', '-qb', 'winter');
  const commit = await checkout.commit({ 'server.js': `${server}// winter\n` }, 'Winter');
  await checkout.push('winter');
  await world.api().post('/api/projects/shop/reviews', { branch: 'winter' });
  await world.waitLive('shop', name, commit);
});
afterAll(async () => {
  await browser?.close();
  await world?.close();
});

describe('a review for people who are signed in', () => {
  it('is open until main says otherwise, and guarded at once then, without a deployment', async () => {
    expect((await ask('/')).status).toBe(200);
    const deployments = (await world.environment('shop', name)).history.length;
    await main('signed-in');
    await until('it is guarded', async () => (await ask('/')).status === 401);
    expect((await world.environment('shop', name)).history).toHaveLength(deployments);
    // Its programs, its files, upgrades, whatever the method: all of it.
    for (const [path, method] of [
      ['/', 'POST'],
      ['/page/', 'GET'],
      ['/page/index.html', 'HEAD'],
      ['/_tsunagi/wake', 'POST'],
      ['/x', 'OPTIONS'],
    ] as const)
      expect([path, (await ask(path, {}, { method })).status]).toEqual([path, 401]);
    const upgraded = await new Promise<string>((resolve) => {
      const socket = connect(world.house.edgePort, '127.0.0.1', () =>
        socket.write(`GET / HTTP/1.1\r\nHost: ${host}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n`),
      );
      socket.once('data', (data) => {
        resolve(data.toString().split('\r\n')[0] ?? '');
        socket.destroy();
      });
    });
    expect(upgraded).toBe('HTTP/1.1 401 Unauthorized');
    expect((await ask('/', {}, { at: 'shop-staging.localhost' })).status).toBe(200);
  });

  it('leads a browser to the console and back: by a code that is good once, there alone', async () => {
    const out = await ask('/berths?day=2', navigation);
    const to = new URL(out.headers.location ?? '');
    expect([out.status, to.origin, to.pathname]).toEqual([303, world.url, '/gate']);
    const asked = Object.fromEntries(to.searchParams) as { host: string; door: string; to: string };
    expect([asked.host, asked.to]).toEqual([host, '/berths?day=2']);
    const door = out.cookies['tsunagi-door'] ?? '';
    expect(createHash('sha256').update(door).digest('base64url')).toBe(asked.door);
    expect(out.headers['set-cookie']?.[0]).toMatch(/; Path=\/; HttpOnly; SameSite=Lax; Max-Age=600$/);

    const who = await session();
    const { body } = await wayIn(who, asked);
    expect(new URL(body.url).host).toMatch(new RegExp(`^${host}`));
    const cookie = `tsunagi-door=${door}`;
    // Without the door, with another, at another host, changed: nothing.
    const others = [
      {},
      { cookie: 'tsunagi-door=other' },
      { cookie: `tsunagi-door=${randomBytes(24).toString('base64url')}` },
    ];
    for (const headers of others) {
      const refused = await ask(pathOf(body.url), { ...navigation, ...headers } as Record<string, string>);
      expect([refused.status, refused.cookies['tsunagi-pass']]).toEqual([403, undefined]);
      expect(refused.text).toContain('for another browser, or too old');
    }
    const bent = pathOf(body.url).replace(/code=..../, 'code=AAAA');
    expect((await ask(bent, { ...navigation, cookie })).status).toBe(403);

    const entered = await ask(pathOf(body.url), { ...navigation, cookie });
    expect([entered.status, entered.headers.location]).toEqual([303, '/berths?day=2']);
    expect(entered.headers['referrer-policy']).toBe('no-referrer');
    const pass = entered.cookies['tsunagi-pass'] ?? '';
    expect(pass).toMatch(/^tsp_/);
    const again = await ask(pathOf(body.url), { ...navigation, cookie });
    expect([again.status, again.text]).toEqual([403, expect.stringContaining('used already')]);

    const seen = await ask('/berths', {
      cookie: `own=2; tsunagi-pass=${pass}; tsunagi-door=x`,
      'tsunagi-pass': 'mine',
    });
    expect(seen.status).toBe(200);
    // Of all that nothing reaches the program.
    expect(seen.text).toContain(JSON.stringify(['/berths', 'own=2', null]));
    expect((await ask('/page/', { cookie: `tsunagi-pass=${pass}` })).text).toContain('A page');
    // Somebody who sets a cookie of the name beside it locks nobody out.
    expect((await ask('/', { cookie: `tsunagi-pass=${'x'.repeat(43)}; tsunagi-pass=${pass}` })).status).toBe(200);
    // It is of this host alone.
    expect((await ask('/', { cookie: `tsunagi-pass=${pass}` }, { at: 'shop-staging.localhost' })).status).toBe(200);

    // With the session at the console it ends, at the latest when the edge asks again.
    await fetch(`${world.url}/api/sign-out`, { method: 'POST', headers: who });
    process.kill(world.house.rooms.edge.pid() as number, 'SIGKILL');
    await until('the edge is there again, and asks', async () => {
      const { status } = await ask('/', { cookie: `tsunagi-pass=${pass}` }).catch(() => ({ status: 0 }));
      return status === 401;
    });
    expect((await world.api().raw('POST', '/api/edge/gate', { body: {} })).status).toBe(403);
  });

  it('never leads elsewhere, and shows what came from outside as text', async () => {
    for (const to of [
      '//evil.example/',
      '/\\evil.example',
      'https://evil.example/',
      '/\u0000x',
      'javascript:alert(1)',
    ]) {
      const out = await ask(`/_tsunagi/gate?to=${encodeURIComponent(to)}`, navigation);
      expect(new URL(out.headers.location ?? '').origin).toBe(world.url);
      expect(new URL(out.headers.location ?? '').searchParams.get('to')).toBe('/');
    }
    const bad = await ask('/_tsunagi/gate?code=%3Cscript%3E', navigation);
    expect([bad.status, bad.text.includes('<script')]).toEqual([403, false]);
    expect(bad.headers['content-security-policy']).toContain("default-src 'none'");
    expect((await ask('/_tsunagi/gate', {}, { method: 'POST' })).status).toBe(405);
    const who = await session();
    const door = randomBytes(32).toString('base64url');
    expect((await wayIn(who, { host: 'evil.example', door, to: '/' })).status).toBe(404);
    expect((await wayIn(who, { host, door: 'short', to: '/' })).status).toBe(400);
    // Another site's page can't ask for a way in, nor can a token: it is no browser that is signed in.
    expect((await wayIn({ ...who, origin: 'https://evil.example' }, { host, door, to: '/' })).status).toBe(403);
    const token = { authorization: `Bearer ${world.house.token}` };
    expect((await wayIn(token, { host, door, to: '/' })).body.code).toBe('gate_session');
  });

  it('lets its own programs look: verify and terminals have a pass', async () => {
    const inside = await world.cli(
      'exec',
      `shop/${name}`,
      '--',
      'bash',
      '-c',
      'curl -s -H "Tsunagi-Pass: $TSUNAGI_PASS" "$TSUNAGI_ENVIRONMENT_URL/"; echo; curl -s "$TSUNAGI_ENVIRONMENT_URL/"',
    );
    expect(inside.out).toContain('<h1>Departures</h1>');
    expect(inside.out).toContain('asks who looks');
    const shown = await world.cli('exec', `shop/${name}`, '--', 'bash', '-c', 'echo "$TSUNAGI_PASS"');
    const pass = shown.out.trim();
    expect((await ask('/', { 'tsunagi-pass': pass })).status).toBe(200);
    const [, until = ''] = pass.split('.');
    expect((await ask('/', { 'tsunagi-pass': pass.replace(until, String(Number(until) + 86_400_000)) })).status).toBe(
      401,
    );
    expect((await ask('/', { 'tsunagi-pass': `${pass.slice(0, -1)}${pass.endsWith('0') ? '1' : '0'}` })).status).toBe(
      401,
    );
  });

  it('opens in a real browser for whoever is signed in there', async () => {
    browser = await openBrowser();
    const errors: string[] = [];
    const page = await signedIn(browser, world, errors);
    await page.getByRole('link', { name: 'Board' }).first().waitFor();
    await page.goto(`http://${host}:${world.house.edgePort}/berths`);
    await page.getByRole('heading', { name: 'Departures' }).waitFor();
    expect(new URL(page.url()).pathname).toBe('/berths');
    expect(await page.evaluate('document.cookie')).toBe('');
    expect(errors).toEqual([]);
    // Whoever is not signs in first, and comes back.
    const other = await (await browser.newContext()).newPage();
    const seen: string[] = [];
    other.on('request', (one) => {
      if (one.url().endsWith('/api/gate')) seen.push(one.method());
    });
    await other.goto(`http://${host}:${world.house.edgePort}/tides`);
    await other.getByLabel('Token').fill(world.house.token);
    await other.getByRole('button', { name: 'Sign in' }).click();
    await other.getByRole('heading', { name: 'Departures' }).waitFor();
    expect(new URL(other.url()).pathname).toBe('/tides');
    expect(seen).toEqual(['POST']);
  });
});

describe('a review that opens with a link', () => {
  const links = `/api/projects/shop/environments/${name}/links`;
  beforeAll(async () => {
    const needless = await world.cli('review', 'link', `shop/${name}`);
    expect(needless.err).toContain('its `access` is signed-in');
    await main('link');
    await until('it is guarded so', async () => (await ask('/', navigation)).text.includes('opens with a link'));
  });

  it('lets in whoever has it until its time is over; nobody sees it twice', async () => {
    const made = await world.cli('review', 'link', `shop/${name}`, '--for', '2h');
    expect([made.status, made.err]).toEqual([0, expect.stringContaining('Good in')]);
    const url = made.out.trim();
    expect(new URL(url).searchParams.get('link')).toMatch(/^tsl_/);
    const listed = await world.cli('review', 'link', `shop/${name}`, '--list');
    expect(listed.out).toMatch(/owner\s+\S.*never/);
    expect(JSON.stringify([await world.api().get(links), await world.events('project=shop')])).not.toContain('tsl_');
    const entered = await ask(`${pathOf(url)}&to=/berths`, navigation);
    expect([entered.status, entered.headers.location]).toEqual([303, '/berths']);
    const cookie = `tsunagi-pass=${entered.cookies['tsunagi-pass']}`;
    expect((await ask('/', { cookie })).status).toBe(200);
    const [one] = (await world.api().get<PageOf<ReviewLink>>(links)).items;
    expect(one?.usedAt).not.toBeNull();
    for (const link of ['tsl_nothing', '', 'x'.repeat(150)])
      expect((await ask(`/_tsunagi/gate?link=${link}`, navigation)).status).toBe(403);
    // A link that is longer than any, or good for too long.
    expect((await ask(`/_tsunagi/gate?link=${'x'.repeat(5_000)}`, navigation)).status).toBe(503);
    expect((await world.cli('review', 'link', `shop/${name}`, '--for', '1000d')).status).not.toBe(0);
    expect((await ask('/', navigation)).text).toContain('I am signed in to Tsunagi');
  });

  it('is taken back: at once for whoever comes by it, and for whoever came', async () => {
    const { url, id } = await world.api().post<MadeLink>(links, { ms: 3_600_000 });
    const pass = (await ask(pathOf(url), navigation)).cookies['tsunagi-pass'] ?? '';
    const ended = await world.cli('review', 'link', `shop/${name}`, '--end', id.slice(-8));
    expect(ended.out).toContain('Taken back: 1 of');
    expect((await ask(pathOf(url), navigation)).status).toBe(403);
    // Not seen before, so asked at once.
    expect((await ask('/', { cookie: `tsunagi-pass=${pass}` })).status).toBe(401);
    expect((await world.cli('review', 'link', `shop/${name}`, '--end')).out).toContain('Taken back: 1 of');
    expect((await world.cli('review', 'link', `shop/${name}`, '--end')).out).toContain('None of');
  });

  it('is a developer’s to give; a review has fifty at most', async () => {
    const token = await world.api().post<AddedToken>('/api/tokens', { name: 'viewer', role: 'viewer' });
    expect((await api(world.url, token.token).raw('POST', links, { body: { ms: 60_000 } })).status).toBe(403);
    expect((await api(world.url, token.token).raw('GET', links)).status).toBe(403);
    for (let made = 0; made < 50; made++) await world.api().post(links, { ms: 60_000 });
    expect((await world.cli('review', 'link', `shop/${name}`)).err).toContain('50 links that are good already');
  });

  it('lets go on whoever was let in while the service is away, and nobody else', async () => {
    await world.cli('review', 'link', `shop/${name}`, '--end');
    const { url } = await world.api().post<MadeLink>(links, { ms: 3_600_000 });
    const cookie = `tsunagi-pass=${(await ask(pathOf(url), navigation)).cookies['tsunagi-pass']}`;
    expect((await ask('/', { cookie })).status).toBe(200);
    process.kill(world.house.rooms.service.pid() as number, 'SIGSTOP');
    try {
      expect((await ask('/', { cookie })).status).toBe(200);
    } finally {
      process.kill(world.house.rooms.service.pid() as number, 'SIGCONT');
    }
  });

  it('goes with its review: nothing of before opens the next one', async () => {
    const { url } = await world.api().post<MadeLink>(links, { ms: 3_600_000 });
    const pass = (await ask(pathOf(url), navigation)).cookies['tsunagi-pass'] ?? '';
    const before = (await world.environment('shop', name)).review?.openedAt;
    await world.cli('review', 'reset', `shop/${name}`, '--yes');
    await until('it is there again', async () => {
      const one = await world.environment('shop', name);
      return one.live !== null && one.moving === null && one.review?.openedAt !== before;
    });
    expect((await ask(pathOf(url), navigation)).status).toBe(403);
    expect((await ask('/', { cookie: `tsunagi-pass=${pass}` })).status).toBe(401);
    await main('open');
    await until('it is open', async () => (await ask('/')).status === 200);
  });
});
