/** Reviews sleep when nobody looks, and wake with whoever comes. */
import { connect, type Socket } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { EnvironmentDetail } from '../../src/wire/environments/environments.js';
import { type Checkout, cli, openWorld, until, type World } from './world.js';

/** A server that remembers in memory when it began and what it was asked; a worker that ticks; a job. */
const files = (text: string): Record<string, string> => ({
  'server.js': `import { createServer } from 'node:http';
const began = Date.now() + ':' + process.pid; let asked = 0; let broken = false;
const server = createServer((request, response) => {
  if (request.url === '/ready') return response.end('ready');
  if (request.url.startsWith('/slow')) return void setTimeout(() => response.end('slow'), Number(request.url.slice(5)));
  if (request.url === '/events') { response.writeHead(200, { 'content-type': 'text/event-stream' }); return void response.write('data: one\\n\\n'); }
  let body = ''; request.on('data', (part) => { body += part; }).on('end', () => {
    asked++; response.end(JSON.stringify({ text: ${JSON.stringify(text)}, began, asked, body }));
  });
}).listen(process.env.PORT);
server.on('upgrade', (request, socket) => {
  socket.write('HTTP/1.1 101 Switching Protocols\\r\\nupgrade: websocket\\r\\nconnection: upgrade\\r\\n\\r\\n');
  socket.on('data', (data) => socket.write(data)); socket.on('error', () => {});
});
process.on('SIGTERM', () => process.exit(0));
if (process.env.FAILS) { console.log('there is no key'); process.exit(3); }
`,
  'worker.js': "setInterval(() => console.log('tick', Date.now()), 100);\n",
  'package.json': '{ "type": "module" }\n',
  'web/index.html': `<h1>${text}</h1>\n`,
});
const definition = (idle: string) => `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web }
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /api, strip: true, ready: /ready }
    bell: { kind: worker, files: [worker.js, package.json], start: node worker.js }
environments:
  review: { for: pull requests, idle: ${idle} }
  staging: { branch: main }
`;

let world: World;
let checkout: Checkout;
const name = 'on-winter';
const host = 'on-winter-shop.review.localhost';
const browser = { accept: 'text/html', 'sec-fetch-mode': 'navigate' };

beforeAll(async () => {
  world = await openWorld({ timing: { awake: 1_000 } });
  let first: string;
  ({ checkout, first } = await world.hosted('shop', {
    ...files('main'),
    'tsunagi.yaml': definition('{ except: { paths: [/api/health], headers: { user-agent: "*monitor*" } } }'),
  }));
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
  await checkout.git('checkout', '-qb', 'winter');
  const commit = await checkout.commit(files('winter'), 'Winter');
  await checkout.push('winter');
  await world.waitRun('shop', commit, 'winter');
  const opened = await world.cli('review', 'open', 'winter', '--project', 'shop');
  expect(opened).toMatchObject({ status: 0, err: '' });
  expect(opened.out).toContain(host);
  await world.waitLive('shop', name, commit);
});
afterAll(async () => {
  await world?.close();
});

const review = () => world.environment('shop', name);
const ask = async (path = '/api/', options: Parameters<World['visit']>[2] = {}) => world.visit(host, path, options);
const told = async (): Promise<{ began: string; asked: number }> => JSON.parse((await ask()).text);
const inState = (state: string) =>
  until(`it is ${state}`, async () => {
    const one = await review();
    return one.state === state ? one : null;
  });
const programs = (one: EnvironmentDetail) =>
  one.instanceList.filter((item) => item.wanted).map((item) => `${item.part} ${item.state}`);
const sleep = async (depth = 'frozen'): Promise<EnvironmentDetail> => {
  const done = await world.cli('review', 'sleep', `shop/${name}`);
  expect(done).toMatchObject({ status: 0, out: `shop/${name} is asleep, ${depth}.\n` });
  return review();
};

describe('a review that nobody looks at', () => {
  it('stands still with all that it has in memory, and goes on where it was with the next request', async () => {
    const before = await told();
    expect(programs(await sleep())).toEqual(expect.arrayContaining(['api frozen', 'bell frozen']));
    const after = await told();
    expect(after).toMatchObject({ began: before.began, asked: before.asked + 1 });
    const awake = await inState('live');
    await until('its worker goes on', async () => programs(await review()).includes('bell ready'));
    expect(awake.review).toMatchObject({ depth: null, wakeIssue: null });
    const types = (await world.events(`subject=shop/${name}`)).map((one) => one.type.replace('dev.tsunagi.', ''));
    expect(types).toEqual(expect.arrayContaining(['environment.wished', 'environment.asleep', 'environment.awake']));
  });

  it('wakes once for two hundred who ask at once, and answers each of them; a body comes whole', async () => {
    const { asked } = await told();
    await sleep();
    const answers = await Promise.all(
      Array.from({ length: 200 }, (_, at) => ask('/api/', at % 2 ? {} : { method: 'POST' })),
    );
    expect(answers.map((one) => one.status)).toEqual(answers.map(() => 200));
    expect((await told()).asked).toBe(asked + 201);
    await sleep();
    const woken = (await world.events(`type=environment.awake&subject=shop/${name}`)).length;
    const body = 'x'.repeat(300_000);
    const answer = await fetch(`http://127.0.0.1:${world.house.edgePort}/api/`, {
      method: 'POST',
      body,
      headers: { host },
    })
      .then((one) => one.text())
      .catch(String);
    // fetch does not set Host: the edge knows no such address, and that wakes nobody.
    expect(answer).toContain('No environment');
    const whole = await post(body);
    expect(JSON.parse(whole)).toMatchObject({ body });
    const wakes = async () => (await world.events(`type=environment.awake&subject=shop/${name}`)).length;
    await until('the wake is told', async () => (await wakes()) === woken + 1);
  });

  it('shows a browser a page at once, which wakes it by its script alone', async () => {
    await sleep();
    const page = await ask('/api/', { headers: browser });
    expect(page.status).toBe(503);
    expect(page.text).toContain(`shop/${name} was asleep`);
    // Whoever only looks, as previews of links do, wakes nobody; nor does a page of somebody else.
    await ask('/api/', { headers: browser });
    expect((await ask('/_tsunagi/wake', { method: 'POST', headers: { 'sec-fetch-site': 'cross-site' } })).status).toBe(
      403,
    );
    expect(JSON.parse((await ask('/_tsunagi/wake')).text)).toMatchObject({ state: 'asleep' });
    expect((await review()).state).toBe('asleep');
    const waking = await ask('/_tsunagi/wake', { method: 'POST', headers: { 'sec-fetch-site': 'same-origin' } });
    expect(JSON.parse(waking.text)).toMatchObject({ state: 'waking' });
    await until('the page goes on', async () => JSON.parse((await ask('/_tsunagi/wake')).text).state === 'awake');
    expect((await ask('/api/', { headers: browser })).status).toBe(200);
  });

  it('serves its files while it sleeps, and leads a browser without scripts back to where it was', async () => {
    await sleep();
    expect(await ask('/', { headers: browser })).toMatchObject({ status: 200, text: '<h1>winter</h1>\n' });
    expect((await review()).state).toBe('asleep');
    const headers = { ...browser, 'sec-fetch-site': 'same-origin' };
    const away = await raw(`POST /_tsunagi/wake?to=%2Fapi%2F HTTP/1.1\r\n${lines(headers)}content-length: 0\r\n\r\n`);
    expect(away).toMatch(/^HTTP\/1\.1 303 [\s\S]*\r\nlocation: \/api\/\r\n/i);
    const evil = await raw(
      `POST /_tsunagi/wake?to=%2F%2Fevil.example HTTP/1.1\r\n${lines(headers)}content-length: 0\r\n\r\n`,
    );
    expect(evil).toMatch(/\r\nlocation: \/\r\n/i);
    await inState('live');
  });

  it('is not woken by what is no use of it', async () => {
    await sleep();
    expect((await ask('/api/health')).status).toBe(503);
    expect((await ask('/api/', { headers: { 'user-agent': 'Some-MONITOR/2.0' } })).status).toBe(503);
    expect((await review()).state).toBe('asleep');
    expect((await ask()).status).toBe(200);
  });

  it('lets what is open come to its end first, and ends what would never', async () => {
    await told();
    const socket = await tunnel();
    const events = await stream();
    const slow = ask('/api/slow1500');
    const began = Date.now();
    await sleep();
    expect(await slow).toMatchObject({ status: 200, text: 'slow' });
    expect(Date.now() - began).toBeGreaterThan(1_000);
    // A frame that says that the server goes away (1001), then the end.
    expect((await socket.over).toString('hex')).toBe('880203e9');
    await events.over;
    // The next one wakes it.
    const again = await tunnel();
    again.socket.destroy();
    await inState('live');
  });

  it('wakes for whoever has something to do inside', async () => {
    await sleep();
    const inside = await world.cli('exec', `shop/${name}`, '--', 'node', '-p', '6 * 7');
    expect(inside).toMatchObject({ status: 0, out: '42\n' });
    expect((await review()).state).toBe('live');
    // Developers have put there what is in it; of what stands only releasers see the inside.
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'dev', role: 'developer' });
    const as = (place: string) => cli(['exec', place, '--', 'true'], { TSUNAGI_URL: world.url, TSUNAGI_TOKEN: token });
    expect(await as(`shop/${name}`)).toMatchObject({ status: 0, err: '' });
    expect((await as('shop/staging')).err).toContain('releaser');
  });

  it('takes a push while it sleeps, and is live with that', async () => {
    await sleep();
    const commit = await checkout.commit(files('second'), 'Second');
    await checkout.push('winter');
    await world.waitLive('shop', name, commit);
    expect(JSON.parse((await ask()).text)).toMatchObject({ text: 'second', asked: 1 });
    expect((await review()).state).toBe('live');
  });
});

describe('a review that sleeps by itself', () => {
  it('does when nobody has used it for so long, sleeps deep after a time, and starts anew with the next request', async () => {
    const commit = await declare('{ sleep: 3s, end: 3s }');
    const before = await told();
    const asleep = await inState('asleep');
    expect(asleep.review?.closesAt).not.toBeNull();
    await until('its programs have ended', async () => {
      const one = await review();
      return one.review?.depth === 'ended' && programs(one).length === 0;
    });
    // Nothing of it is left but rows: no process, no group of processes.
    const answer = await told();
    expect(answer.began).not.toBe(before.began);
    expect(answer.asked).toBe(1);
    await until('its worker runs again', async () => programs(await review()).includes('bell ready'));
    expect((await review()).live?.commit.id).toBe(commit);
  });

  it('does not while a connection is open that counts, nor while its worker works where that counts', async () => {
    const socket = await tunnel();
    const began = Date.now();
    const timer = setInterval(() => socket.socket.write('x'), 500);
    // Longer than it would be awake without.
    await new Promise((resolve) => setTimeout(resolve, 6_000 - (Date.now() - began)));
    // What edges count comes every ten seconds: it may have fallen asleep by then, and is woken by whoever still talks.
    clearInterval(timer);
    socket.socket.destroy();
    await inState('asleep');
  });

  it('says why when it can’t be woken, to people and to programs; a push mends it', async () => {
    // Long enough for a push to be live on a busy machine.
    const limit = Date.now() + 25_000;
    await declare('{ sleep: 3s, end: 3s }', { 'server.js': failsAfter(limit) });
    await until('it sleeps deep, and its time is over', async () => {
      const one = await review();
      return Date.now() > limit && one.state === 'asleep' && one.review?.depth === 'ended';
    });
    const answer = await ask();
    expect(answer.status).toBe(503);
    expect(answer.text).toContain('could not be woken');
    const failed = await review();
    expect(failed.review?.wakeIssue?.says).toContain('there is no key');
    expect(JSON.parse((await ask('/_tsunagi/wake')).text)).toMatchObject({
      state: 'asleep',
      issue: { says: expect.stringContaining('there is no key') },
    });
    const tried = await world.cli('review', 'wake', `shop/${name}`);
    expect(tried.status).toBe(1);
    expect(tried.out).toContain('could not be woken');
    const commit = await checkout.commit(files('mended'), 'Mended');
    await checkout.push('winter');
    await world.waitLive('shop', name, commit);
    expect(JSON.parse((await ask()).text)).toMatchObject({ text: 'mended' });
    expect((await review()).review?.wakeIssue).toBeNull();
  });

  it('sleeps though it is asked, and though connections are open, where only workers count; a request still wakes it', async () => {
    await declare('{ sleep: 4s, count: workers }', { 'worker.js': 'setInterval(() => {}, 60000);\n' });
    const socket = await tunnel();
    const asking = setInterval(() => void ask().catch(() => {}), 300);
    const asleep = async () => (await world.events(`type=environment.asleep&subject=shop/${name}`)).length;
    const before = await asleep();
    try {
      await until('it has slept', async () => (await asleep()) > before);
    } finally {
      clearInterval(asking);
    }
    // The connection does not count: it was ended, and another one wakes nobody.
    expect((await socket.over).toString('hex')).toContain('880203e9');
    await inState('asleep');
    await expect(tunnel()).rejects.toThrow();
    expect((await review()).state).toBe('asleep');
    expect((await ask()).status).toBe(200);
  });

  it('is put to sleep for another one when more are awake than may be', async () => {
    await declare('{ awake_limit: 1 }');
    await told();
    await checkout.git('checkout', '-qb', 'autumn');
    const commit = await checkout.commit(files('autumn'), 'Autumn');
    await checkout.push('autumn');
    await world.cli('review', 'open', 'autumn', '--project', 'shop');
    await world.waitLive('shop', 'on-autumn', commit);
    await until('one of them sleeps', async () => (await review()).state === 'asleep');
    expect((await world.environment('shop', 'on-autumn')).state).toBe('live');
    // Whoever is asked for is awake, and the other one makes room.
    expect((await ask()).status).toBe(200);
    await until('the other one sleeps', async () => (await world.environment('shop', 'on-autumn')).state === 'asleep');
    expect((await review()).state).toBe('live');
  });

  it('closes when nobody has used it, and not before the day until which somebody keeps it', async () => {
    // Said before: five seconds are short where much is going on.
    const kept = await world.cli('review', 'extend', `shop/${name}`, '--by', '1h');
    expect(kept).toMatchObject({ status: 0, err: '' });
    await declare('{ close: 5s }');
    await until(
      'the other one is closed',
      async () => (await world.environment('shop', 'on-autumn')).state === 'closed',
    );
    expect((await review()).state).not.toBe('closed');
    const closed = await world.cli('review', 'close', `shop/${name}`);
    expect(closed).toMatchObject({ status: 0, out: `shop/${name} is closed.\n` });
    expect((await ask()).status).toBe(404);
  });
});

/** Puts what main says of reviews, and a fresh commit on the branch; gives that when it is live. */
async function declare(idle: string, more: Record<string, string> = {}): Promise<string> {
  const accepted = async () => (await world.events('type=definition.accepted&project=shop')).length;
  const before = await accepted();
  await checkout.git('checkout', '-q', 'main');
  await checkout.commitAndPush({ 'tsunagi.yaml': definition(idle) }, `Reviews: ${idle}`);
  await checkout.git('checkout', '-q', 'winter');
  const commit = await checkout.commit({ ...files(idle), ...more }, `With ${idle}`);
  await until('the definition counts', async () => (await accepted()) > before);
  await checkout.push('winter');
  await world.waitLive('shop', name, commit);
  return commit;
}

/** A server that does not start after a time. */
const failsAfter = (time: number): string =>
  `if (Date.now() > ${time}) { console.log('there is no key'); process.exit(3); }\n${files('x')['server.js']}`;

const lines = (headers: Record<string, string>): string =>
  `host: ${host}\r\n${Object.entries(headers)
    .map(([key, value]) => `${key}: ${value}\r\n`)
    .join('')}`;

function opened(): Promise<Socket> {
  return new Promise((resolve, reject) => {
    const socket = connect(world.house.edgePort, '127.0.0.1', () => resolve(socket));
    socket.once('error', reject);
  });
}

/** All that comes back until the other side is done, or the answer is whole. */
async function raw(text: string): Promise<string> {
  const socket = await opened();
  socket.write(text);
  return new Promise((resolve) => {
    let all = '';
    socket.on('data', (data) => {
      all += data.toString('latin1');
      if (all.includes('\r\n\r\n')) {
        socket.destroy();
        resolve(all);
      }
    });
    socket.on('close', () => resolve(all));
  });
}

async function post(body: string): Promise<string> {
  const socket = await opened();
  socket.write(`POST /api/ HTTP/1.1\r\n${lines({})}connection: close\r\ncontent-length: ${body.length}\r\n\r\n${body}`);
  const parts: Buffer[] = [];
  for await (const part of socket) parts.push(part as Buffer);
  const text = Buffer.concat(parts).toString('latin1');
  return text.slice(text.indexOf('{'), text.lastIndexOf('}') + 1);
}

/** A WebSocket that is open; `over`: all that came after that, when it has ended. */
async function tunnel(): Promise<{ socket: Socket; over: Promise<Buffer> }> {
  const socket = await opened();
  socket.on('error', () => {});
  socket.write(`GET /api/ws HTTP/1.1\r\n${lines({ upgrade: 'websocket', connection: 'upgrade' })}\r\n`);
  const first = await new Promise<Buffer>((resolve) => socket.once('data', resolve));
  expect(first.toString()).toContain('101 Switching');
  const parts: Buffer[] = [];
  socket.on('data', (part) => parts.push(part));
  return { socket, over: new Promise((resolve) => socket.once('close', () => resolve(Buffer.concat(parts)))) };
}

async function stream(): Promise<{ over: Promise<void> }> {
  const socket = await opened();
  socket.on('error', () => {});
  socket.write(`GET /api/events HTTP/1.1\r\n${lines({ accept: 'text/event-stream' })}\r\n`);
  await new Promise((resolve) => socket.once('data', resolve));
  return { over: new Promise((resolve) => socket.once('close', () => resolve())) };
}
