/** Addresses for real: a name server on loopback, an authority that speaks ACME (pebble), TLS with HTTP/1.1 and HTTP/2. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { type ChildProcess, spawn } from 'node:child_process';
import { chmodSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { connect as connect2 } from 'node:http2';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type TLSSocket } from 'node:tls';
import type { Address } from '../../src/wire/environments/addresses.js';
import type { PageOf } from '../../src/wire/parts.js';
import { inTurn } from './turn.js';
import { type Checkout, openWorld, root, until, type World } from './world.js';

const built = async <T>(path: string): Promise<T> => (await import(join(root, 'dist', path))) as T;

const definition = `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web }
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /api, sticky: true }
  variables:
    URL: { from: environment.url }
environments:
  staging: { branch: main }
`;
const server = `import { createServer } from 'node:http';
createServer((request, response) => {
  if (request.url === '/api/large') return response.end(Buffer.alloc(8_000_000, 'x'));
  if (request.url === '/api/taken') return void request.resume().on('end', () => response.end('taken'));
  if (request.url === '/api/slow') return setTimeout(() => response.end('late'), 300);
  response.end(JSON.stringify({ url: process.env.URL, headers: request.headers }));
}).on('upgrade', (request, socket) => {
  socket.write('HTTP/1.1 101 Switching Protocols\\r\\nconnection: upgrade\\r\\nupgrade: websocket\\r\\n\\r\\n');
  socket.pipe(socket);
}).listen(process.env.PORT);
`;

let world: World;
let checkout: Checkout;
let names: Awaited<ReturnType<typeof import('../../demo/nameserver/nameserver.js').startNameServer>>;
let pebble: ChildProcess;
let folder: string;
let rootOfPebble = '';
const ports = { pebble: 11_850 + (process.pid % 20) * 4 };
const own = 'departures.kohama.test';
const given = 'dock-staging.localhost';

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-addresses-'));
  // The account of the service reads the authority's root and the operator's certificates.
  chmodSync(folder, 0o755);
  names = await (
    await built<typeof import('../../demo/nameserver/nameserver.js')>('demo/nameserver/nameserver.js')
  ).startNameServer();
  const local = await built<typeof import('../../src/domains/local.js')>('src/domains/local.js');
  const authority = await local.makeRoot(Date.now());
  const certificate = await local.signLocally(authority, 'localhost', Date.now());
  writeFileSync(join(folder, 'authority.pem'), authority.root);
  writeFileSync(join(folder, 'pebble.crt'), certificate.chain);
  writeFileSync(join(folder, 'pebble.key'), certificate.key);
  mkdirSync(join(folder, 'operator'));
  world = await openWorld({
    env: {
      TSUNAGI_RESOLVERS: names.address,
      TSUNAGI_ACME: JSON.stringify({
        directory: `https://localhost:${ports.pebble}/dir`,
        contact: 'o@kohama.example',
        root: join(folder, 'authority.pem'),
      }),
      TSUNAGI_CERTIFICATES: join(folder, 'operator'),
      TSUNAGI_BOUNDS: JSON.stringify({ window: 1_000, leastBytes: 2_000 }),
    },
  });
  writeFileSync(
    join(folder, 'pebble.json'),
    JSON.stringify({
      pebble: {
        listenAddress: `127.0.0.1:${ports.pebble}`,
        managementListenAddress: `127.0.0.1:${ports.pebble + 1}`,
        certificate: join(folder, 'pebble.crt'),
        privateKey: join(folder, 'pebble.key'),
        httpPort: world.house.edgePort,
        tlsPort: world.house.ports.tls,
      },
    }),
  );
  pebble = spawn('pebble', ['-config', join(folder, 'pebble.json'), '-dnsserver', names.address], {
    env: { PATH: process.env.PATH, PEBBLE_VA_NOSLEEP: '1' },
    stdio: 'ignore',
  });
  let first: string;
  ({ checkout, first } = await world.hosted('dock', {
    'web/index.html': '<h1>dock</h1>',
    'server.js': server,
    'package.json': '{ "type": "module" }',
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await world.waitLive('dock', 'staging', first);
});
afterAll(async () => {
  pebble?.kill();
  names?.close();
  await world?.close();
  rmSync(folder, { recursive: true, force: true });
});

const list = async (project = 'dock') =>
  (await world.api().get<PageOf<Address>>(`/api/projects/${project}/environments/staging/addresses`)).items;
const at = async (host: string, project = 'dock') => (await list(project)).find((one) => one.host === host);
const check = (host: string) => world.cli('address', 'check', 'dock/staging', host);
const waitState = (host: string, state: Address['state'], project = 'dock') =>
  until(`${host} ${state}`, async () => {
    const one = await at(host, project);
    if (one?.state === state) return one;
    throw new Error(`${one?.state} ${one?.issue?.says ?? ''}`);
  });

/** A connection over TLS as a client makes it: with this name, trusting pebble's root. */
const secure = (name: string | null, more: object = {}): Promise<TLSSocket> =>
  new Promise((resolve, reject) => {
    const socket = connect({
      host: '127.0.0.1',
      port: world.house.ports.tls,
      ca: [rootOfPebble],
      ...(name === null ? {} : { servername: name }),
      ...more,
    });
    socket.once('secureConnect', () => resolve(socket)).once('error', reject);
  });
const raw = async (socket: TLSSocket, text: string): Promise<string> => {
  socket.write(text);
  let found = '';
  for await (const chunk of socket) found += chunk;
  return found;
};

describe('a name of one’s own', () => {
  it('is asked for with the record that proves it, and says what was found instead', async () => {
    names.set(own, { A: ['127.0.0.1'] });
    const added = await world.cli('address', 'add', 'dock/staging', 'Departures.Kohama.test');
    const { proof } = (await at(own)) as Address;
    expect(proof?.record).toBe(`_tsunagi.${own}`);
    expect(added.out).toContain(
      `The TXT record _tsunagi.${own} should say “${proof?.value}”; found was no such record.`,
    );
    expect((await world.visit(own)).status).toBe(404);
    names.set(`_tsunagi.${own}`, { TXT: ['v=spf1 -all'] });
    const looked = await check(own);
    expect([looked.status, looked.out]).toEqual([1, expect.stringContaining('found was “v=spf1 -all”')]);
    names.away(true);
    await check(own);
    await until('said', async () => (await at(own))?.issue?.code === 'name_server_away');
    names.away(false);
    expect((await world.cli('address', 'add', 'dock/staging', own)).err).toContain(
      'is an address of dock/staging already',
    );
  });

  it('is proven, certified by an authority over ACME, and answered under TLS, over HTTP/1.1 and HTTP/2', async () => {
    const { proof } = (await at(own)) as Address;
    names.set(`_tsunagi.${own}`, { TXT: ['something else', proof?.value as string] });
    await check(own);
    const one = await waitState(own, 'certified');
    expect(one).toMatchObject({ main: true, issue: null, certificate: { source: 'acme' }, kind: 'own' });
    expect(one.url).toBe(`https://${own}:${world.house.ports.tls}`);
    const authority = await fetch(`http://127.0.0.1:${ports.pebble + 1}/roots/0`).catch(() => null);
    rootOfPebble = authority?.ok ? await authority.text() : await pebbleRoot();
    const socket = await until('the edge has the certificate', () => secure(own, { ALPNProtocols: ['http/1.1'] }));
    expect([socket.getProtocol(), socket.alpnProtocol, socket.authorized]).toEqual(['TLSv1.3', 'http/1.1', true]);
    const plain = await raw(socket, `GET / HTTP/1.1\r\nHost: ${own}\r\nConnection: close\r\n\r\n`);
    expect(plain).toContain('<h1>dock</h1>');
    const two = connect2(`https://${own}`, {
      createConnection: () =>
        connect({
          host: '127.0.0.1',
          port: world.house.ports.tls,
          servername: own,
          ca: [rootOfPebble],
          ALPNProtocols: ['h2'],
        }),
    });
    const answers = await Promise.all(
      ['/', '/api/list', '/api/slow', '/none'].map((path) => ask2(two, { ':path': path })),
    );
    expect(answers.map((answer) => answer.status)).toEqual([200, 200, 200, 404]);
    const { headers } = JSON.parse(answers[1]?.text ?? '') as { headers: Record<string, string> };
    expect(headers).toMatchObject({
      host: expect.stringContaining(own),
      'x-forwarded-proto': 'https',
      forwarded: expect.stringContaining('proto=https'),
    });
    expect(Object.keys(headers).filter((name) => name.startsWith(':'))).toEqual([]);
    expect(answers[1]?.cookie).toContain('; Secure');
    // A connection is for the hosts of its certificate alone.
    expect((await ask2(two, { ':path': '/', ':authority': given })).status).toBe(421);
    two.close();
  });

  it('leads plain requests to TLS, but an authority to its answer, and tells programs where people are', async () => {
    expect(await leadsTo(own, '/a?b=1')).toEqual([308, `https://${own}:${world.house.ports.tls}/a?b=1`]);
    expect((await world.visit(own, '/.well-known/acme-challenge/none')).status).toBe(404);
    // The name that the service has given is answered as before.
    expect((await world.visit(given)).status).toBe(200);
    const { number } = await world.act('dock', 'staging', { kind: 'deploy', release: 1 });
    await world.waitDeployment('dock', number);
    expect(JSON.parse((await world.visit(given, '/api/x')).text).url).toBe(`https://${own}:${world.house.ports.tls}`);
    expect((await world.environment('dock', 'staging')).url).toBe(`https://${own}:${world.house.ports.tls}`);
  });

  it('has a slow reader and a slow writer over HTTP/2 cut off, and nobody else of their connection', async () => {
    const session = connect2(`https://${own}`, {
      createConnection: () =>
        connect({
          host: '127.0.0.1',
          port: world.house.ports.tls,
          servername: own,
          ca: [rootOfPebble],
          ALPNProtocols: ['h2'],
        }),
    });
    session.on('error', () => {});
    const ended = (stream: ReturnType<typeof session.request>) =>
      new Promise<boolean>((resolve) => {
        stream.on('error', () => {});
        stream.once('close', () => resolve(stream.rstCode !== 0));
      });
    // Nobody reads the one: its window is full after 64 KiB. The other says that more comes, and nothing does.
    const reading = session.request({ ':path': '/api/large' });
    const writing = session.request({ ':path': '/api/taken', ':method': 'POST', 'content-length': '100000' });
    writing.write('x');
    const over = [ended(reading), ended(writing)];
    let cut = 0;
    for (const one of over) void one.then((was) => (cut += was ? 1 : 0));
    let good = 0;
    await until(
      'both are cut off',
      async () => {
        // The connection is as busy as can be meanwhile.
        const busy = await ask2(session, { ':path': '/api/large' });
        if (busy.status === 200 && busy.text.length === 8_000_000) good++;
        return cut === 2;
      },
      20_000,
    );
    expect(good).toBeGreaterThan(0);
    expect((await ask2(session, { ':path': '/' })).status).toBe(200);
    session.close();
  });

  it('counts as what it is, in the figures of its environment', async () => {
    await until('counted', async () => {
      const { series } = await world
        .api()
        .get<{ series: { part: string; requests: (number | null)[] }[] }>(
          '/api/projects/dock/environments/staging/figures',
        );
      return series.some((one) => one.part === 'api' && one.requests.some((value) => (value ?? 0) > 0));
    });
  });

  it('has its upgrades passed on, and what is wrong of them refused', async () => {
    const socket = await secure(own, { ALPNProtocols: ['http/1.1'] });
    socket.write(`GET /api/ws HTTP/1.1\r\nHost: ${own}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n`);
    await new Promise<void>((resolve) =>
      socket.once('data', (bytes) => {
        expect(String(bytes)).toContain('101 Switching Protocols');
        socket.write('hello');
        socket.once('data', (echo) => {
          expect(String(echo)).toBe('hello');
          socket.destroy();
          resolve();
        });
      }),
    );
    const other = await secure(own, { ALPNProtocols: ['http/1.1'] });
    expect(
      await raw(other, `GET /api/ws HTTP/1.1\r\nHost: ${given}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n`),
    ).toContain('421');
  });

  it('is shown to nobody who asks for another name, none, or an old protocol', async () => {
    await expect(secure('somebody.kohama.test')).rejects.toThrow();
    await expect(secure(null)).rejects.toThrow();
    await expect(secure(own, { maxVersion: 'TLSv1.1', minVersion: 'TLSv1' })).rejects.toThrow();
    const wrong = await secure(own, { ALPNProtocols: ['http/1.1'] });
    expect(await raw(wrong, `GET / HTTP/1.1\r\nHost: somebody.kohama.test\r\nConnection: close\r\n\r\n`)).toContain(
      '421',
    );
  });

  it('has its key in files of this account alone, and encrypted everywhere else', async () => {
    const place = join(world.folder, 'house/edge/certificates');
    const files = readdirSync(place);
    expect(files.length).toBeGreaterThanOrEqual(2);
    for (const file of files) expect(statSync(join(place, file)).mode & 0o777).toBe(0o600);
    const own = files.find((one) => one.endsWith('.json')) as string;
    const { key } = JSON.parse(readFileSync(join(place, own), 'utf8')) as { key: string };
    const answer = await world.api().raw('GET', '/api/projects/dock/environments/staging/addresses');
    expect(JSON.stringify(answer.body)).not.toContain(key.split('\n')[1]);
    expect(world.serviceLog()).not.toContain(key.split('\n')[1]);
  });

  it('goes on while the service is away, and after the edge was started anew', async () => {
    process.kill(world.house.rooms.service.pid() as number, 'SIGSTOP');
    try {
      process.kill(world.house.rooms.edge.pid() as number, 'SIGKILL');
      const socket = await until('answered', () => secure(own, { ALPNProtocols: ['http/1.1'] }));
      expect(await raw(socket, `GET / HTTP/1.1\r\nHost: ${own}\r\nConnection: close\r\n\r\n`)).toContain(
        '<h1>dock</h1>',
      );
    } finally {
      process.kill(world.house.rooms.service.pid() as number, 'SIGCONT');
    }
  });
});

describe('an address', () => {
  it('may have another first label; the one before leads there too until it is removed', async () => {
    const renamed = await world.cli('address', 'rename', 'dock/staging', 'pier');
    expect(renamed.out).toContain('pier.localhost');
    for (const host of ['pier.localhost', given])
      await until(`${host} answers`, async () => (await world.visit(host)).status === 200);
    // What is deployed next goes to all of them at once.
    const commit = await checkout.commitAndPush({ 'web/index.html': '<h1>pier</h1>' }, 'Pier');
    await world.waitLive('dock', 'staging', commit);
    for (const host of ['pier.localhost', given])
      await until(`${host} is the new one`, async () => (await world.visit(host)).text === '<h1>pier</h1>');
    expect((await world.cli('address', 'remove', 'dock/staging', 'pier.localhost')).err).toContain('address rename');
    await world.cli('address', 'remove', 'dock/staging', given);
    await until('gone', async () => (await world.visit(given)).status === 404);
    expect((await world.cli('address', 'rename', 'dock/staging', 'a.b')).err).toContain('one label');
    await world.hosted('other', { 'tsunagi.yaml': definition, 'server.js': server });
  });

  it('is not taken from whoever proves it still, and lost by whoever does not', async () => {
    const { first, checkout: others } = await world.hosted('ferry', {
      'web/index.html': '<h1>ferry</h1>',
      'server.js': server,
      'package.json': '{ "type": "module" }',
      'tsunagi.yaml': definition.replace('branch: main', `branch: main, addresses: [${own}]`),
    });
    await others.push();
    await world.waitLive('ferry', 'staging', first);
    const theirs = await until('declared', () => at(own, 'ferry'));
    expect(theirs?.declared).toBe(true);
    const mine = (await at(own))?.proof?.value as string;
    expect(theirs?.proof?.value).not.toBe(mine);
    // Both records stand: it stays where it is.
    names.set(`_tsunagi.${own}`, { TXT: [mine, theirs?.proof?.value as string] });
    await world.cli('address', 'check', 'ferry/staging', own);
    expect((await waitState(own, 'failed', 'ferry')).issue?.code).toBe('address_taken');
    names.set(`_tsunagi.${own}`, { TXT: [theirs?.proof?.value as string] });
    await world.cli('address', 'check', 'ferry/staging', own);
    await waitState(own, 'certified', 'ferry');
    expect((await at(own))?.state).toBe('wanted');
    expect((await world.events('type=address.lost')).map((one) => one.subject)).toEqual(['dock/staging']);
    await until('moved', async () => {
      const socket = await secure(own, { ALPNProtocols: ['http/1.1'] });
      return (await raw(socket, `GET / HTTP/1.1\r\nHost: ${own}\r\nConnection: close\r\n\r\n`)).includes('ferry');
    });
    expect((await world.cli('address', 'remove', 'ferry/staging', own)).err).toContain('stands in the definition');
    await others.commitAndPush({ 'tsunagi.yaml': definition }, 'Without the name');
    await until('gone with the definition', async () => (await at(own, 'ferry')) === undefined);
  });

  it.each(
    inTurn([
      'address.added:after',
      'address.prove:before',
      'address.prove:after',
      'address.answer:after',
      'address.certify:before',
      'address.certify:after',
    ]),
  )('is certified all the same where the service dies at %s', async (point) => {
    const host = `${point.replace(/[.:]/g, '-')}.kohama.test`;
    names.set(host, { A: ['127.0.0.1'] });
    const path = '/api/projects/dock/environments/staging/addresses';
    // Asked for with a key, and again with it where the answer was lost: it is added once.
    const key = crypto.randomUUID();
    if (point.startsWith('address.added')) writeFileSync(join(world.folder, 'crash-at'), `${point}\n`);
    const added = await until('it is added', () => world.api().post<Address>(path, { host }, key));
    names.set(added.proof?.record as string, { TXT: [added.proof?.value as string] });
    if (!point.startsWith('address.added')) writeFileSync(join(world.folder, 'crash-at'), `${point}\n`);
    await until('it is looked at', async () => {
      await world.api().post(`${path}/${host}/check`);
      return true;
    });
    await waitState(host, 'certified');
    await until('it is shown', () => secure(host, { ALPNProtocols: ['http/1.1'] }));
    expect((await list()).filter((one) => one.host === host)).toHaveLength(1);
    await until(
      'nothing that an authority asked for is left',
      async () => (await world.visit(host, '/.well-known/acme-challenge/x')).status === 404,
    );
    await world.cli('address', 'remove', 'dock/staging', host);
  });

  it('is certified by what an operator has put into a folder, and loses that with it', async () => {
    const local = await built<typeof import('../../src/domains/local.js')>('src/domains/local.js');
    const authority = await local.makeRoot(Date.now());
    const one = await local.signLocally(authority, 'pier.localhost', Date.now());
    writeFileSync(join(folder, 'operator/pier.crt'), one.chain);
    writeFileSync(join(folder, 'operator/pier.key'), one.key);
    await world.restart();
    expect((await waitState('pier.localhost', 'certified')).certificate?.source).toBe('operator');
    const socket = await until('shown', () =>
      secure('pier.localhost', { ca: [authority.root], ALPNProtocols: ['http/1.1'] }),
    );
    expect(await raw(socket, `GET / HTTP/1.1\r\nHost: pier.localhost\r\nConnection: close\r\n\r\n`)).toContain('pier');
    // Everyone trusts it, so that plain requests are led to TLS: what reaches the environment from inside does so there, too.
    const line = `const { get } = require('node:https');
fetch(process.env.TSUNAGI_ENVIRONMENT_URL, { redirect: 'manual' }).then((led) => {
  console.log(led.status);
  get(led.headers.get('location'), { rejectUnauthorized: false }, (answer) => (answer.resume(), console.log(answer.statusCode)));
});`;
    const inside = await world.cli('exec', 'dock/staging', '--', 'node', '-e', line);
    expect([inside.out, inside.err]).toEqual(['308\n200\n', '']);
    rmSync(join(folder, 'operator/pier.crt'));
    // A key without its certificate is nothing; a certificate that can't be read takes nothing away.
    await world.restart();
    await until('gone', async () => (await at('pier.localhost'))?.certificate === null);
  });

  it('is for releasers to change, and for everyone to see', async () => {
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'dev', role: 'developer' });
    const dev = world.api(token);
    const path = '/api/projects/dock/environments/staging/addresses';
    expect((await dev.raw('GET', path)).status).toBe(200);
    const key = { 'idempotency-key': 'addresses-1' };
    expect((await dev.raw('POST', path, { body: { host: 'a.kohama.test' }, headers: key })).status).toBe(403);
    for (const [host, code] of [
      ['*.kohama.test', 'address_refused'],
      ['x.localhost', 'address_refused'],
      ['127.0.0.1', 'address_refused'],
    ])
      expect(
        (await world.api().raw('POST', path, { body: { host }, headers: { 'idempotency-key': crypto.randomUUID() } }))
          .body.code,
      ).toBe(code);
  });
});

/** Status and Location of a plain answer. */
const leadsTo = (host: string, path: string): Promise<[number | undefined, string | undefined]> =>
  new Promise((resolve, reject) => {
    request({ host: '127.0.0.1', port: world.house.edgePort, path, agent: false, headers: { host } }, (answer) => {
      answer.resume();
      resolve([answer.statusCode, answer.headers.location]);
    })
      .on('error', reject)
      .end();
  });

async function ask2(
  session: ReturnType<typeof connect2>,
  headers: Record<string, string>,
): Promise<{ status: number; text: string; cookie: string }> {
  const stream = session.request(headers);
  let [status, text, cookie] = [0, '', ''];
  stream.on('response', (answer) => {
    status = Number(answer[':status']);
    cookie = String(answer['set-cookie'] ?? '');
  });
  for await (const chunk of stream) text += chunk;
  return { status, text, cookie };
}

/** Its management answers over TLS. */
async function pebbleRoot(): Promise<string> {
  const { Agent, fetch } = await import('undici');
  const agent = new Agent({ connect: { ca: readFileSync(join(folder, 'authority.pem')) } });
  const answer = await fetch(`https://localhost:${ports.pebble + 1}/roots/0`, { dispatcher: agent });
  const text = await answer.text();
  await agent.close();
  return text;
}
