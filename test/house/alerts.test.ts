/** Who is told of what is wrong: by mail through a real SMTP server, and by signed events. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { createServer as createHttp, type Server } from 'node:http';
import { type AddressInfo, createServer, type Server as NetServer } from 'node:net';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { buffer } from 'node:stream/consumers';
import { SMTPServer } from 'smtp-server';
import { checkEvent } from '../../src/keys/webhooks.js';
import type { AddedAlert, AlertDetail, AlertPage, OwnAlert } from '../../src/wire/alerts.js';
import { type Checkout, openWorld, until, type World } from './world.js';

const definition = `tsunagi: 1
tasks:
  unit: { reads: [a.txt], run: test "$(cat a.txt)" != bad }
release:
  needs: [unit]
  parts:
    api: { kind: server, files: [server.js], start: node server.js, at: / }
environments:
  staging: { branch: main }
`;
const good = `require('node:http').createServer((_, response) => response.end('ok')).listen(process.env.PORT);\n`;

let world: World;
let checkout: Checkout;
const mails: { to: string[]; text: string }[] = [];
/** What the mail server does with the next messages. */
let refusing: { code: number; left: number } = { code: 0, left: 0 };
const smtp = new SMTPServer({
  authOptional: true,
  disabledCommands: ['STARTTLS', 'AUTH'],
  onRcptTo: (_address, _session, done) =>
    refusing.left-- > 0 ? done(Object.assign(new Error('not now'), { responseCode: refusing.code })) : done(),
  onData: (stream, session, done) => {
    buffer(stream).then((bytes) => {
      mails.push({ to: session.envelope.rcptTo.map((one) => one.address), text: bytes.toString('utf8') });
      done();
    }, done);
  },
});
let receiver: Server;
let silent: NetServer;
const events: { headers: Record<string, string>; body: string }[] = [];
let status = 200;
let endless = false;
const portOf = (server: { address(): unknown }) => (server.address() as AddressInfo).port;
const heads = () =>
  mails.flatMap((one) => /^Subject: (.*(?:\r\n .*)*)/m.exec(one.text)?.[1]?.replace(/\r\n /g, ' ') ?? []);
const textOf = (mail: string) => mail.replace(/=\r\n/g, '').replace(/=3D/g, '=');

beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  receiver = createHttp(async (request, response) => {
    const body = (await buffer(request)).toString('utf8');
    if (status < 300) events.push({ headers: request.headers as Record<string, string>, body });
    response.writeHead(status);
    if (!endless) return void response.end('x'.repeat(100_000));
    const timer = setInterval(() => response.write('x'.repeat(10_000)), 5);
    response.on('close', () => clearInterval(timer));
  }).listen(0, '127.0.0.1');
  silent = createServer(() => {}).listen(0, '127.0.0.1');
  world = await openWorld({
    env: {
      TSUNAGI_MAIL: JSON.stringify({ host: '127.0.0.1', port: portOf(smtp.server), from: 'tsunagi@kohama.example' }),
      TSUNAGI_PATIENCE: JSON.stringify({ poorMs: 500, calmMs: 300, mailMs: 1_500 }),
      TSUNAGI_NETWORKS: '127.0.0.1/32',
    },
  });
  let first: string;
  ({ checkout, first } = await world.hosted('buoy', {
    'a.txt': 'good',
    'server.js': good,
    'tsunagi.yaml': definition,
  }));
  await checkout.push();
  await world.waitLive('buoy', 'staging', first);
});
afterAll(async () => {
  await world?.close();
  receiver?.closeAllConnections();
  receiver?.close();
  silent?.close();
  await new Promise<void>((resolve) => smtp.close(() => resolve()));
});

/** Pushed as soon as the service is there. */
const change = async (text: string) => {
  await checkout.commit({ 'a.txt': text }, text);
  await until('it is pushed', () => checkout.push('HEAD:refs/heads/main').then(() => true));
};
const add = (body: object) =>
  world.api().raw('POST', '/api/alerts', { body, headers: { 'idempotency-key': crypto.randomUUID() } });
const hook = () => `http://127.0.0.1:${portOf(receiver)}/events`;

describe('an alert', () => {
  it('is tried before it is kept, and says how that went', async () => {
    const added = await world.cli('alert', 'add', 'on-call', '--mail', 'on-call@kohama.example');
    expect([added.err, added.out]).toEqual(['', expect.stringContaining('the test: accepted')]);
    expect(mails[0]).toMatchObject({ to: ['on-call@kohama.example'], text: expect.stringContaining('a test') });
    refusing = { code: 550, left: 1 };
    expect((await add({ name: 'nobody', mail: 'nobody@kohama.example' })).body.code).toBe('channel_gone');
    expect((await add({ name: 'shut', webhook: `http://127.0.0.1:${1}/` })).body.code).toBe('channel_refused');
    for (const [body, code] of [
      [{ name: 'x' }, 'alert_target'],
      [{ name: 'x', mail: 'a@b, c@d' }, 'mail_address'],
      [{ name: 'x', mail: 'a@b\r\nBcc: c@d' }, 'mail_address'],
      [{ name: 'x', webhook: 'ftp://a' }, 'url_refused'],
      [{ name: 'x', webhook: 'http://a:b@kohama.example/' }, 'url_refused'],
      [{ name: 'x', webhook: 'http://10.1.2.3/' }, 'network_private'],
      [{ name: 'x', mail: 'a@kohama.example', topics: ['weather'] }, 'alert_topic'],
      [{ name: 'x', mail: 'a@kohama.example', project: 'nothing' }, 'not_found'],
      [{ name: 'on-call', mail: 'a@kohama.example' }, 'name_taken'],
    ] as const)
      expect([body, (await add(body)).body.code]).toEqual([body, code]);
    expect((await world.api().get<AlertPage>('/api/alerts')).items.map((one) => one.name)).toEqual(['on-call']);
  });

  it('asked for twice with one key is one, with the same secret, and tried once', async () => {
    const headers = { 'idempotency-key': crypto.randomUUID() };
    const ask = () => world.api().raw('POST', '/api/alerts', { body: { name: 'twice', webhook: hook() }, headers });
    const first = await ask();
    expect(first.status).toBe(201);
    expect(await ask()).toMatchObject({ status: 201, body: { secret: first.body.secret, test: 'accepted' } });
    await world.cli('alert', 'remove', 'twice');
    expect(events).toHaveLength(1);
    events.length = 0;
  });

  it('is told when the main branch fails, and when it passes again', async () => {
    await checkout.commitAndPush({ 'a.txt': 'bad' }, 'Breaks it');
    await until('the beginning is told', async () => heads().includes('buoy: the main branch fails'));
    const wrong = await world.api().get<AlertPage>('/api/alerts');
    expect(wrong.wrong).toMatchObject([{ topic: 'main-failed', place: 'buoy', told: true }]);
    expect((await world.cli('alert', 'list')).out).toMatch(/Wrong now\n +buoy +main-failed/);
    await checkout.commitAndPush({ 'a.txt': 'better' }, 'Mends it');
    await until('the end is told', async () => heads().includes('buoy: the main branch passes again'));
    const mail = mails.at(-1)?.text ?? '';
    expect(mail).toContain('Auto-Submitted: auto-generated');
    expect(textOf(mail)).toMatch(/It lasted [\d.]+ s\./);
  });

  it('is told of a deployment that fails, once for each, with its cause, by mail and by a signed event', async () => {
    status = 401;
    const answer = await add({
      name: 'hook',
      webhook: hook(),
      topics: ['deployment-failed'],
      project: 'buoy',
      environment: 'staging',
    });
    const { secret, test } = answer.body as unknown as AddedAlert;
    expect([answer.status, test]).toEqual([201, expect.stringContaining('cannot check yet')]);
    status = 200;
    await checkout.commitAndPush({ 'server.js': 'process.exit(3)\n' }, 'Dies');
    const told = await until('the event comes', async () => events.at(-1));
    expect(checkEvent(secret as string, told?.headers ?? {}, told?.body ?? '', Date.now())).toBe('good');
    const event = JSON.parse(told?.body ?? '{}') as { type: string; data: { items: { says: string; url: string }[] } };
    expect(event).toMatchObject({
      type: 'dev.tsunagi.alert',
      data: { alert: 'hook', subject: 'buoy/staging: a deployment failed' },
    });
    expect(event.data.items[0]?.says).toContain('3');
    expect(event.data.items[0]?.url).toMatch(/\/buoy\/deployments\/\d+$/);
    await until('the mail comes', async () => heads().some((one) => one.includes('buoy/staging: a deployment failed')));
    expect(await world.cli('alert', 'test', 'hook')).toMatchObject({ status: 0, out: 'accepted\n' });
  });

  it('is told all of it in order when its receiver was away, and says meanwhile why it is not', async () => {
    status = 503;
    const before = events.length;
    await checkout.commitAndPush({ 'server.js': `${good}// again\n` }, 'Lives');
    const shown = () => world.api().get<AlertDetail>('/api/alerts/hook');
    await until('it is said', async () => (await shown()).issue?.code === 'channel_refused');
    expect((await world.cli('alert', 'test', 'hook')).status).toBe(1);
    process.kill(world.house.rooms.service.pid() as number, 'SIGKILL');
    status = 200;
    await until('it is told', async () => events.length > before);
    expect(JSON.parse(events.at(-1)?.body ?? '{}').data.items[0]).toMatchObject({
      ended: true,
      topic: 'deployment-failed',
    });
    await until('it is well', async () => (await shown()).issue === null);
    expect((await shown()).deliveries.map((one) => one.state)).toEqual(['delivered', 'delivered']);
    const ids = events.slice(before).map((one) => one.headers['webhook-id']);
    expect(new Set(ids).size).toBe(1);
  });

  it.each([
    'delivery.gathered:before',
    'delivery.gathered:after',
    'delivery.settled:before',
    'conditions.watched:after',
  ])('is told once, in order, where the service dies at %s', async (point) => {
    const added = await add({ name: 'main', webhook: hook(), topics: ['main-failed'] });
    expect(added.status).toBe(201);
    const before = events.length;
    const told = () => {
      const fresh = events
        .slice(before)
        .map((one) => JSON.parse(one.body) as { id: string; data: { items: { topic: string; ended: boolean }[] } });
      // What came twice came under the same id.
      const once = [...new Map(fresh.map((one) => [one.id, one])).values()];
      return once
        .flatMap((one) => one.data.items)
        .filter((one) => one.topic === 'main-failed')
        .map((one) => one.ended);
    };
    await change('bad');
    writeFileSync(join(world.folder, 'crash-at'), `${point}\n`);
    await until('its beginning is told', async () => told().length === 1);
    await change(`good at ${point}`);
    await until('its end is told', async () => told().length === 2);
    expect(told()).toEqual([false, true]);
    await until('it is up', async () => (await world.cli('alert', 'remove', 'main')).status === 0);
  });

  it('whose receiver hangs, or answers without an end, holds up no other', async () => {
    endless = true;
    expect(await world.cli('alert', 'test', 'hook')).toMatchObject({ status: 0 });
    endless = false;
    const hung = await add({ name: 'hung', webhook: `http://127.0.0.1:${portOf(silent)}/` });
    expect(hung.body.code).toBe('channel_silent');
    expect((await fetch(`${world.url}/api/health`)).ok).toBe(true);
  });

  it('is given up where it is refused for good, and the next one is told', async () => {
    const before = mails.length;
    refusing = { code: 550, left: 1 };
    await checkout.commitAndPush({ 'a.txt': 'bad' }, 'Breaks it again');
    const shown = () => world.api().get<AlertDetail>('/api/alerts/on-call');
    await until('it is given up', async () => (await shown()).deliveries[0]?.state === 'given up');
    expect((await world.cli('alert', 'show', 'on-call')).out).toContain('given up');
    await checkout.commitAndPush({ 'a.txt': 'fine' }, 'Mends it again');
    await until('the end is told', async () => mails.length > before);
  });

  it('tells each person what they chose of their own', async () => {
    const mine = await world.cli('alert', 'mine', '--mail', 'owner@kohama.example', '--on', 'my-run-failed');
    expect(mine.out).toContain('You are told at owner@kohama.example: my-run-failed.');
    await world.cli('alert', 'remove', 'on-call');
    const own = () => mails.filter((one) => one.to.includes('owner@kohama.example'));
    const commit = await checkout.commitAndPush({ 'a.txt': 'bad' }, 'I break it', 'topic');
    const run = await world.waitRun('buoy', commit, 'topic');
    expect(run.actor).toBe('owner');
    // The first was the test.
    const mail = await until('it is told', async () => own()[1]);
    expect(textOf(mail?.text ?? '')).toContain(`/buoy/runs/${run.number}`);
    expect(mail?.text).toContain('your run failed');
    expect((await world.api().get<OwnAlert>('/api/me/alerts')).alert?.topics).toEqual(['my-run-failed']);
    await world.cli('alert', 'mine', '--none');
    expect((await world.api().get<OwnAlert>('/api/me/alerts')).alert).toBeNull();
  });

  it('is for releasers to change, and shows nobody a secret', async () => {
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'dev', role: 'developer' });
    const dev = world.api(token);
    expect(JSON.stringify((await dev.raw('GET', '/api/alerts/hook')).body)).not.toContain('whsec_');
    const headers = { 'idempotency-key': 'alerts-1234' };
    expect((await dev.raw('POST', '/api/alerts/hook/test', { body: {}, headers })).status).toBe(403);
    expect((await dev.raw('DELETE', '/api/alerts/hook', { headers })).status).toBe(403);
    expect((await world.cli('alert', 'show', 'nothing')).err).toContain('There is no alert nothing');
  });
});
