/** Logs sent on: to rsyslog over TCP and TLS, to a receiver of OTLP; through what is down, slow, and killed. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type IncomingMessage, type Server } from 'node:http';
import { type AddressInfo, createServer as createPlain } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Destination } from '../../src/wire/destinations.js';
import type { PageOf } from '../../src/wire/parts.js';
import { query, openRecords, type Records } from '../../src/records/database.js';
import { openWorld, root, until, type World } from './world.js';

interface Message {
  host: string;
  app: string;
  process: string;
  data: string;
  text: string;
}

const folder = mkdtempSync(join(tmpdir(), 'tsunagi-logs-'));
const base = 11_400 + (process.pid % 40) * 4;
const ports = { plain: base, tls: base + 1, late: base + 2 };
const servers: ChildProcess[] = [];
const template =
  'template(name="j" type="list" option.jsonf="on") { property(outname="host" name="hostname" format="jsonf") property(outname="app" name="app-name" format="jsonf") property(outname="process" name="procid" format="jsonf") property(outname="data" name="structured-data" format="jsonf") property(outname="text" name="msg" format="jsonf") }';

/** A syslog server as an operator would have it; what it took stands in a file, a document a line. */
function startRsyslog(name: string, port: number, tls: string): ChildProcess {
  const own = join(folder, name);
  mkdirSync(own, { recursive: true });
  writeFileSync(
    join(own, 'conf'),
    `global(workDirectory="${own}"${tls ? ` defaultNetstreamDriver="gtls" defaultNetstreamDriverCAFile="${folder}/ca.pem" defaultNetstreamDriverCertFile="${folder}/server.crt" defaultNetstreamDriverKeyFile="${folder}/server.key"` : ''})
module(load="imtcp"${tls})
input(type="imtcp" port="${port}" address="127.0.0.1")
${template}
action(type="omfile" file="${own}/got" template="j" asyncWriting="off" flushOnTXEnd="on")
`,
  );
  const server = spawn('/usr/sbin/rsyslogd', ['-n', '-f', join(own, 'conf'), '-i', join(own, 'pid')], {
    stdio: 'ignore',
  });
  servers.push(server);
  return server;
}

const gotBy = (name: string): Message[] => {
  const file = join(folder, name, 'got');
  if (!existsSync(file)) return [];
  return readFileSync(file, 'utf8')
    .split('\n')
    .filter(Boolean)
    .map((line) => JSON.parse(line) as Message);
};

/** A receiver of OTLP over HTTP. */
interface Receiver {
  url: string;
  bodies: string[];
  heads: IncomingMessage['headers'][];
  answer: { status: number; text: string };
}
async function startReceiver(): Promise<Receiver & { server: Server }> {
  const one = {
    bodies: [] as string[],
    heads: [] as IncomingMessage['headers'][],
    answer: { status: 200, text: '{}' },
  };
  const server = createServer((request, response) => {
    let body = '';
    request.on('data', (bytes: Buffer) => (body += bytes));
    request.on('end', () => {
      if (one.answer.status < 300) one.bodies.push(body);
      one.heads.push({ ...request.headers, path: request.url });
      response.writeHead(one.answer.status, { 'content-type': 'application/json' }).end(one.answer.text);
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return Object.assign(one, { server, url: `http://127.0.0.1:${(server.address() as AddressInfo).port}` });
}
const textsOf = ({ bodies }: Receiver): string[] =>
  bodies.flatMap((body) =>
    (
      JSON.parse(body) as { resourceLogs: { scopeLogs: { logRecords: { body: { stringValue: string } }[] }[] }[] }
    ).resourceLogs.flatMap((one) =>
      one.scopeLogs.flatMap((scope) => scope.logRecords.map((record) => record.body.stringValue)),
    ),
  );

let world: World;
let records: Records;
let receiver: Awaited<ReturnType<typeof startReceiver>>;
const host = 'pier-staging.localhost';
const say = (text: string) => world.visit(host, `/say?${encodeURIComponent(text)}`);
const list = async () => (await world.api().get<PageOf<Destination>>('/api/destinations')).items;
const named = async (name: string) => (await list()).find((one) => one.name === name) as Destination;
beforeAll(async () => {
  const local = (await import(join(root, 'dist/src/domains/local.js'))) as typeof import('../../src/domains/local.js');
  const authority = await local.makeRoot(Date.now());
  const certificate = await local.signLocally(authority, 'localhost', Date.now());
  writeFileSync(join(folder, 'ca.pem'), authority.root);
  writeFileSync(join(folder, 'server.crt'), certificate.chain);
  writeFileSync(join(folder, 'server.key'), certificate.key);
  startRsyslog('plain', ports.plain, '');
  startRsyslog('tls', ports.tls, ' StreamDriver.Name="gtls" StreamDriver.Mode="1" StreamDriver.AuthMode="anon"');
  receiver = await startReceiver();
  world = await openWorld({ env: { TSUNAGI_NETWORKS: '127.0.0.0/8' } });
  records = openRecords({ url: world.house.database, pool: 1 });
  const { checkout, first } = await world.hosted('pier', {
    'server.js': `import { createServer } from 'node:http';
console.log('the pier opens');
createServer((request, response) => {
  if (request.url.startsWith('/say')) console.log(decodeURIComponent(request.url.slice(5)));
  if (request.url.startsWith('/many')) for (let n = 1; n <= Number(request.url.slice(6)); n++) console.log('line', n, 'of many');
  response.end('pier');
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`,
    'package.json': '{ "type": "module" }\n',
    'tsunagi.yaml': `tsunagi: 1
release:
  parts:
    api: { kind: server, start: node server.js, at: / }
environments:
  staging: { branch: main }
`,
  });
  await checkout.push();
  await world.waitLive('pier', 'staging', first);
  await until(
    'rsyslog listens',
    async () => existsSync(join(folder, 'plain/pid')) && existsSync(join(folder, 'tls/pid')),
  );
});
afterAll(async () => {
  for (const one of servers) one.kill('SIGKILL');
  receiver?.server.close();
  await records?.close();
  await world?.close();
  rmSync(folder, { recursive: true, force: true });
});
const arrived = (text: string, name = 'plain') =>
  until(`${text} at ${name}`, async () => gotBy(name).find((one) => one.text.trim() === text));

describe('logs', () => {
  it('go on to a syslog server over TCP, with whose they are; what was printed before stays here', async () => {
    const added = await world.cli('destination', 'add', 'archive', '--syslog', `syslog://127.0.0.1:${ports.plain}`);
    expect(added).toMatchObject({ err: '', status: 0 });
    expect(added.out).toMatch(/goes on to syslog:\/\/127\.0\.0\.1:\d+ from now on; the test was taken/);
    await say('a boat, "quoted" ] ünd 船');
    expect(await arrived('a boat, "quoted" ] ünd 船')).toMatchObject({ host, app: 'api', process: 'api.1' });
    const [test, ...rest] = gotBy('plain');
    expect(test?.text).toContain('A test of the log destination archive');
    expect(rest[0]?.data).toContain('project="pier" environment="staging" part="api" release="r1" line="2"');
    expect(gotBy('plain').some((one) => one.text.includes('the pier opens'))).toBe(false);
    await until('it is counted', async () => (await named('archive')).sentLines === 1);
    expect(await named('archive')).toMatchObject({ kind: 'syslog', leftBytes: 0, issue: null });
  });

  it('go on over TLS to who proves that it is who it is', async () => {
    const to = `syslog+tls://localhost:${ports.tls}`;
    const refused = await world.cli('destination', 'add', 'safe', '--syslog', to);
    expect(refused).toMatchObject({ out: '', status: 1 });
    expect(refused.err).toMatch(/refused it: .*certificate/);
    const wrong = await world.cli(
      'destination',
      'add',
      'safe',
      '--syslog',
      to.replace('localhost', '127.0.0.1'),
      '--authorities',
      join(folder, 'ca.pem'),
    );
    expect(wrong.err).toMatch(/refused it/);
    expect(
      (await world.cli('destination', 'add', 'safe', '--syslog', to, '--authorities', join(folder, 'ca.pem'))).err,
    ).toBe('');
    await say('under a lock');
    await arrived('under a lock', 'tls');
  });

  it('go on as OTLP with a header that nobody is shown', async () => {
    const body = {
      name: 'collector',
      otlp: receiver.url,
      header: { name: 'x-key', value: 'open sesame' },
      project: 'pier',
      environment: 'staging',
    };
    const added = await world.api().post<Destination>('/api/destinations', body);
    expect(added).toMatchObject({
      url: `${receiver.url}/v1/logs`,
      header: 'x-key',
      project: 'pier',
      environment: 'staging',
    });
    expect(JSON.stringify(await list())).not.toContain('sesame');
    await say('for the collector');
    await until('it has come', async () => textsOf(receiver).includes('for the collector'));
    expect(receiver.heads.at(-1)).toMatchObject({
      'x-key': 'open sesame',
      path: '/v1/logs',
      'content-type': 'application/json',
    });
    expect(JSON.parse(receiver.bodies.at(-1) as string).resourceLogs[0].resource.attributes).toContainEqual({
      key: 'deployment.environment.name',
      value: { stringValue: 'staging' },
    });
    expect(world.serviceLog()).not.toContain('sesame');
    // Whoever rotates the key can still send.
    await world.api().post('/api/keys/rotate');
    await say('with another key');
    await until('it has come', async () => textsOf(receiver).includes('with another key'));
    expect(receiver.heads.at(-1)).toMatchObject({ 'x-key': 'open sesame' });
  });

  it('all of them, in order, however many', async () => {
    const before = textsOf(receiver).length;
    await world.visit(host, '/many?20000');
    const texts = await until('all have come', async () => {
      const found = textsOf(receiver).slice(before);
      return found.length >= 20_000 ? found : null;
    });
    expect(texts).toEqual(Array.from({ length: 20_000 }, (_, at) => `line ${at + 1} of many`));
    await until(
      'rsyslog has all',
      async () => gotBy('plain').filter((one) => one.text.includes('of many')).length === 20_000,
    );
  });
});

describe('a receiver that', () => {
  it('is away gets all of it when it is back, and is an alert meanwhile', async () => {
    receiver.answer = { status: 503, text: '' };
    await say('while it was away');
    await until('it is said', async () => (await named('collector')).issue?.code === 'channel_refused');
    await until('it is wrong', async () => {
      const { wrong } = await world.api().get<{ wrong: { topic: string; place: string }[] }>('/api/alerts');
      return wrong.some((one) => one.topic === 'destination-failing' && one.place === 'collector');
    });
    expect((await world.cli('destination', 'list')).out).toMatch(
      /collector: 127\.0\.0\.1:\d+ refused it: it answered 503/,
    );
    // Others have it: each is by itself.
    await arrived('while it was away');
    receiver.answer = { status: 200, text: '{}' };
    await query(records, `update destinations set due_at = now() where name = 'collector'`);
    await until('it has come', async () => textsOf(receiver).includes('while it was away'));
    await until('nothing is wrong with it', async () => (await named('collector')).issue === null);
  });

  it('refuses these very lines, or some of them, is not asked again: what was left out is counted and said', async () => {
    receiver.answer = { status: 400, text: '{"message":"<script>"}' };
    await say('never to be taken');
    await until('it is counted', async () => (await named('collector')).leftBytes > 0);
    receiver.answer = { status: 200, text: '{"partialSuccess":{"rejectedLogRecords":"1","errorMessage":"too old"}}' };
    await say('rejected alone');
    await until('it is said', async () => (await named('collector')).issue?.code === 'destination_rejected');
    receiver.answer = { status: 200, text: '{}' };
    await say('taken again');
    await until('it has come', async () => textsOf(receiver).includes('taken again'));
    expect(textsOf(receiver)).not.toContain('never to be taken');
    const events = await world.events('type=destination.left-out');
    expect(events.map((one) => one.data)).toContainEqual(
      expect.objectContaining({ bytes: 'never to be taken\n'.length }),
    );
  });

  it('ends the connection before it has all has taken nothing', async () => {
    let rude = true;
    let took = '';
    const server = createPlain((socket) => {
      socket.on('error', () => {});
      if (rude) return void socket.end();
      socket.on('data', (bytes: Buffer) => (took += bytes));
    }).listen(ports.late, '127.0.0.1');
    await query(
      records,
      `insert into destinations (id, name, kind, url, actor) values (gen_random_uuid(), 'rude', 'syslog', 'syslog://127.0.0.1:${ports.late}', 'test')`,
    );
    // Lines that go out in small pieces, too: an end that comes after them is no answer.
    await world.visit(host, '/many?3000');
    await until('it is said', async () => (await named('rude')).issue?.code === 'channel_refused');
    expect((await named('rude')).sentLines).toBe(0);
    rude = false;
    await query(records, `update destinations set due_at = now() where name = 'rude'`);
    await until('it has all', async () => took.includes('line 1 of many') && took.includes('line 3000 of many'));
    await world.api().raw('DELETE', '/api/destinations/rude', { headers: { 'idempotency-key': crypto.randomUUID() } });
    server.close();
  });

  it('takes a connection and says nothing holds nobody else up', async () => {
    const silent = createPlain(() => {}).listen(ports.late + 1, '127.0.0.1');
    await query(
      records,
      `insert into destinations (id, name, kind, url, actor) values (gen_random_uuid(), 'silent', 'syslog', 'syslog://127.0.0.1:${ports.late + 1}', 'test')`,
    );
    await say('past the silent one');
    await arrived('past the silent one');
    await until('it has come', async () => textsOf(receiver).includes('past the silent one'));
    await world
      .api()
      .raw('DELETE', '/api/destinations/silent', { headers: { 'idempotency-key': crypto.randomUUID() } });
    silent.close();
  });
});

describe('a service that dies', () => {
  it.each(['logs.sent:before', 'logs.sent:after', 'destination.added:before', 'destination.added:after'])(
    'at %s loses no line',
    async (point) => {
      const text = `through ${point}`;
      writeFileSync(join(world.folder, 'crash-at'), `${point}\n`);
      if (point.startsWith('destination')) {
        const name = point.replace(/[.:]/g, '-');
        const key = crypto.randomUUID();
        const ask = () => world.api().post<Destination>('/api/destinations', { name, otlp: receiver.url }, key);
        // Its answer is lost; whoever asks again with the same key is given it.
        const added = await until('it is added', () =>
          ask().catch(async (error) => {
            // It may be asked a few times a minute.
            await new Promise((resolve) => setTimeout(resolve, 2_000));
            throw error;
          }),
        );
        expect(added.name).toBe(name);
        expect((await list()).filter((one) => one.name === name)).toHaveLength(1);
      }
      await say(text);
      await until('it has come', async () => textsOf(receiver).includes(text));
      await arrived(text);
    },
  );

  it('and is stopped meanwhile goes on where it was', async () => {
    const before = textsOf(receiver).filter((one) => one === 'over the night').length;
    await say('over the night');
    await until('it is kept', async () => (await world.cli('logs', 'pier/staging')).out.includes('over the night'));
    await world.restart();
    await until('it has come', async () => textsOf(receiver).filter((one) => one === 'over the night').length > before);
    await arrived('over the night');
  });
});

describe('bad input', () => {
  it('is refused in words, and nothing is kept', async () => {
    const add = async (body: object) =>
      (
        await world.api().raw('POST', '/api/destinations', {
          body: { name: 'odd', ...body },
          headers: { 'idempotency-key': crypto.randomUUID() },
        })
      ).body.code;
    const syslog = `syslog://127.0.0.1:${ports.plain}`;
    expect(await add({})).toBe('destination_target');
    expect(await add({ syslog, otlp: receiver.url })).toBe('destination_target');
    expect(await add({ syslog, header: { name: 'a', value: 'b' } })).toBe('destination_header');
    for (const url of ['nonsense', 'http://127.0.0.1', 'syslog://', 'syslog://a:b@127.0.0.1:1', 'file:///etc/passwd'])
      expect([url, await add({ syslog: url })]).toEqual([url, 'url_refused']);
    expect(await add({ otlp: 'ftp://127.0.0.1' })).toBe('url_refused');
    expect(await add({ otlp: receiver.url, header: { name: 'a', value: 'b\r\nx: y' } })).toBe('body_invalid');
    expect(await add({ otlp: receiver.url, header: { name: 'a b', value: 'b' } })).toBe('body_invalid');
    expect(await add({ syslog, authorities: 'nonsense' })).toBe('body_invalid');
    expect(await add({ syslog: 'syslog://10.1.2.3:514' })).toBe('network_private');
    expect(await add({ syslog: 'syslog://127.0.0.1:1' })).toBe('channel_refused');
    expect(await add({ name: 'archive', syslog })).toBe('name_taken');
    expect(await add({ syslog, project: 'nowhere' })).toBe('not_found');
    expect((await list()).some((one) => one.name === 'odd')).toBe(false);
    expect((await world.cli('destination', 'test', 'nowhere')).err).toMatch(/no log destination nowhere/);
  });

  it('nothing goes on any more to one that is removed', async () => {
    expect((await world.cli('destination', 'test', 'archive')).out).toBe('accepted\n');
    expect((await world.cli('destination', 'remove', 'archive')).status).toBe(0);
    await say('after the end');
    await until('it has come', async () => textsOf(receiver).includes('after the end'));
    expect(gotBy('plain').some((one) => one.text.includes('after the end'))).toBe(false);
  });
});
