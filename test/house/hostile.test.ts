/** What strangers and developers send to service and edge to stop them for everybody. Each was tried for real before. */
import { execFileSync } from 'node:child_process';
import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { connect, type Socket } from 'node:net';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import pg from 'pg';
import type { AddedToken } from '../../src/wire/people.js';
import type { Event } from '../../src/wire/overview.js';
import type { FoundLines } from '../../src/wire/logs.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import { api, app, type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let quiet: Checkout;
beforeAll(async () => {
  world = await openWorld({
    env: { TSUNAGI_BOUNDS: JSON.stringify({ perClient: 40, window: 1_000, leastBytes: 2_000 }) },
  });
  ({ checkout: quiet } = await world.hosted('quiet', {
    'a.txt': 'a',
    'tsunagi.yaml': "tsunagi: 1\ntasks:\n  t: { run: 'seq 20000' }\n",
  }));
  await quiet.push();
});
afterAll(() => world?.close());

const folderOf = (checkout: Checkout) => checkout.folder;
const git = (checkout: Checkout, args: string[], input?: string, env: Record<string, string> = {}) =>
  execFileSync('git', ['-C', folderOf(checkout), ...args], {
    encoding: 'utf8',
    input: input ?? '',
    env: {
      PATH: process.env.PATH,
      HOME: '/nonexistent',
      GIT_AUTHOR_NAME: 'Mika',
      GIT_AUTHOR_EMAIL: 'm@kohama.example',
      GIT_COMMITTER_NAME: 'Mika',
      GIT_COMMITTER_EMAIL: 'm@kohama.example',
      ...env,
    },
  }).trim();

/** Does something while others ask; everybody is answered all the while. */
async function meanwhile<T>(work: Promise<T>): Promise<T> {
  let over = false;
  const slow: number[] = [];
  const asking = (async () => {
    while (!over) {
      const began = performance.now();
      const answer = await fetch(`${world.url}/api/health`);
      expect(answer.status).toBe(200);
      slow.push(performance.now() - began);
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  })();
  const result = await work.finally(() => {
    over = true;
  });
  await asking;
  // Nobody waited for as long as the attack would take: minutes.
  expect(Math.max(...slow)).toBeLessThan(10_000);
  return result;
}

describe('a commit', () => {
  it('whose few trees name each other without end fails in words, and others go on', async () => {
    const { checkout } = await world.hosted('bomb', { 'a.txt': 'a' });
    const blob = git(checkout, ['hash-object', '-w', '--stdin'], 'x');
    let tree = git(
      checkout,
      ['mktree'],
      Array.from({ length: 10 }, (_, at) => `100644 blob ${blob}\tf${at}`).join('\n'),
    );
    for (let level = 0; level < 8; level++)
      tree = git(checkout, ['mktree'], Array.from({ length: 10 }, (_, at) => `040000 tree ${tree}\td${at}`).join('\n'));
    const yaml = git(checkout, ['hash-object', '-w', '--stdin'], "tsunagi: 1\ntasks:\n  t: { run: 'true' }\n");
    const root = git(checkout, ['mktree'], `040000 tree ${tree}\tdeep\n100644 blob ${yaml}\ttsunagi.yaml`);
    const commit = git(checkout, ['commit-tree', root, '-m', 'Ten to the ninth']);
    await checkout.git('push', '-q', 'origin', `${commit}:refs/heads/main`);
    const run = await meanwhile(world.waitRun('bomb', commit));
    expect([run.state, run.issue?.says]).toEqual([
      'failed',
      `The commit ${commit.slice(0, 7)} has more than 200,000 files and folders.`,
    ]);
    expect((await world.api().raw('GET', '/api/projects/bomb/plan?ref=main')).body.code).toBe('tree_too_large');
  });

  it('whose patterns are made to be compared for ever is planned at once', async () => {
    const { checkout } = await world.hosted('stars', { [`${'a'.repeat(200)}`]: 'a', [`${'a/'.repeat(60)}a`]: 'a' });
    const commit = await checkout.commitAndPush({
      'tsunagi.yaml': `tsunagi: 1\ntasks:\n  t: { reads: ["${'*a'.repeat(60)}b", "${'**/a/'.repeat(40)}b"], run: 'true' }\n`,
    });
    expect((await meanwhile(world.waitRun('stars', commit))).state).toBe('passed');
  });

  it('whose title and author are as long as they can be is recorded, cut', async () => {
    const { checkout } = await world.hosted('wordy', { 'a.txt': 'a' });
    writeFileSync(join(folderOf(checkout), '../message'), `A${' '.repeat(60_000)}B\n\nMore\n`);
    const env = { GIT_AUTHOR_NAME: `M${' '.repeat(60_000)}a`, GIT_AUTHOR_EMAIL: 'm@kohama.example' };
    git(
      checkout,
      ['commit', '-q', '--allow-empty', '--cleanup=verbatim', '-F', join(folderOf(checkout), '../message')],
      '',
      env,
    );
    await meanwhile(checkout.push());
    const commit = await checkout.git('rev-parse', 'HEAD');
    const run = await world.waitRun('wordy', commit);
    expect(run.commit.title.trimEnd()).toBe('A');
    expect(run.commit.author.length).toBeLessThanOrEqual(500);
  });

  it('whose definition, output and results have characters that no record can keep is told all the same', async () => {
    const { checkout } = await world.hosted('void', { 'tsunagi.yaml': 'tsunagi: 1\ntasks:\n  t: { run: "x\\0y" }\n' });
    await checkout.push();
    const broken = await world.waitRun('void', await checkout.git('rev-parse', 'HEAD'));
    expect(broken).toMatchObject({ state: 'failed', issue: { code: 'definition_invalid' } });
    const commit = await checkout.commitAndPush(
      {
        'tsunagi.yaml':
          'tsunagi: 1\ntasks:\n  t: { reads: [], run: "printf \'Error: a\\\\0b \\\\xed\\\\xa0\\\\x80\\\\n\' >&2; exit 3" }\n',
      },
      'prints it',
    );
    const run = await world.waitRun('void', commit);
    expect(run.taskList[0]).toMatchObject({ state: 'failed', attempts: [{ issue: { code: 'command_failed' } }] });
    expect((await world.api().raw('GET', '/api/projects/vo%00id')).status).toBe(404);
    expect((await world.api().raw('GET', '/api/find?q=a%00b')).status).toBeLessThan(500);
  });

  it('of many branches at once is refused in words', async () => {
    const { checkout } = await world.hosted('branchy', { 'a.txt': 'a' });
    for (let at = 0; at < 101; at++) await checkout.git('branch', `b${at}`);
    const said = await checkout
      .git('push', 'origin', 'refs/heads/b*:refs/heads/b*')
      .catch((error: { stderr: string }) => error.stderr);
    expect(said).toContain('A push may move 100 refs at most');
    expect((await world.api().get<PageOf<Run>>('/api/runs?project=branchy')).items).toEqual([]);
  });

  it('with a definition of brackets is refused at its line, by every way', async () => {
    for (const text of [
      '['.repeat(255_000),
      '{'.repeat(255_000),
      `a: ${'- '.repeat(100_000)}`,
      '"'.repeat(200_000),
      '!x '.repeat(80_000),
    ]) {
      const answer = await meanwhile(world.api().raw('POST', '/api/definitions/check', { body: { text } }));
      expect(answer.status).toBe(200);
      expect((answer.body.issues as object[]).length).toBeGreaterThan(0);
    }
    const { checkout } = await world.hosted('brackets', { 'a.txt': 'a' });
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': '{'.repeat(200_000) });
    const run = await meanwhile(world.waitRun('brackets', commit));
    expect(run.issue?.says).toContain('More than 64 brackets are open');
  });

  it('that ended the service while it was planned is not planned for ever', async () => {
    const { checkout } = await world.hosted('killer', { 'a.txt': 'a' });
    // As if planning it had ended the service each time: it dies right before its plan is recorded.
    const crash = join(world.folder, 'crash-at');
    writeFileSync(crash, 'run.planned:before');
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': "tsunagi: 1\ntasks:\n  t: { run: 'true' }\n" });
    for (let death = 1; death <= 3; death++) {
      await until(`death ${death}`, async () => readFileSync(crash, 'utf8') === '');
      if (death < 3) writeFileSync(crash, 'run.planned:before');
    }
    await until('it answers again', async () => (await fetch(`${world.url}/api/health`)).ok);
    const run = await world.waitRun('killer', commit);
    expect([run.state, run.issue?.code]).toEqual(['failed', 'run_hurts']);
  });
});

describe('git over HTTP', () => {
  const raw = (method: string, path: string, headers: Record<string, string>) => {
    const basic = Buffer.from(`x:${world.house.token}`).toString('base64');
    return request({
      host: '127.0.0.1',
      port: Number(new URL(world.url).port),
      method,
      path,
      agent: false,
      headers: { authorization: `Basic ${basic}`, ...headers },
    });
  };

  it('takes a head that comes byte by byte, and refuses one without an end', async () => {
    const call = raw('POST', '/git/quiet/git-receive-pack', {
      'content-type': 'application/x-git-receive-pack-request',
    });
    const answered = new Promise<number>((resolve, reject) =>
      call.on('response', (answer) => resolve(answer.resume().statusCode ?? 0)).on('error', reject),
    );
    const line = `0035shallow ${'a'.repeat(40)}\n`;
    call.flushHeaders();
    const dribble = (async () => {
      for (let at = 0; at < 400; at++) {
        for (const byte of at < 20 ? [...line] : [line]) call.write(byte);
        if (at % 20 === 0) await new Promise((resolve) => setImmediate(resolve));
      }
      for (let at = 0; at < 30_000 && !call.destroyed; at += 500) call.write(line.repeat(500));
      call.end();
    })();
    expect(await meanwhile(answered)).toBe(400);
    await dribble.catch(() => {});
  });

  it('ends with its reader: nothing of an abandoned fetch runs on', async () => {
    const { checkout } = await world.hosted('heavy', {
      'big.bin': Buffer.from(Array.from({ length: 4_000_000 }, () => Math.floor(Math.random() * 256))).toString(
        'latin1',
      ),
    });
    await checkout.push();
    const head = await checkout.git('rev-parse', 'HEAD');
    const packet = (text: string) => (text.length + 4).toString(16).padStart(4, '0') + text;
    const gits = () =>
      execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' })
        .split('\n')
        .filter((one) => one.includes('upload-pack') && one.includes(world.folder));
    for (let at = 0; at < 4; at++) {
      const call = raw('POST', '/git/heavy/git-upload-pack', {
        'content-type': 'application/x-git-upload-pack-request',
      });
      call.on('error', () => {});
      const gone = new Promise((resolve) => call.on('close', resolve));
      call.on('response', (answer) => answer.once('data', () => answer.destroy()));
      call.end(`${packet(`want ${head} side-band-64k\n`)}0000${packet('done\n')}`);
      await gone;
    }
    await until('no git is left', async () => gits().length === 0, 30_000);
  });
});

describe('the service', () => {
  it('answers what is no address and no origin without failing', async () => {
    const port = Number(new URL(world.url).port);
    const status = (path: string, headers: Record<string, string> = {}, method = 'GET') =>
      new Promise<number>((resolve, reject) => {
        const call = request({ host: '127.0.0.1', port, path, method, headers, agent: false }, (answer) =>
          resolve(answer.resume().statusCode ?? 0),
        );
        call.on('error', reject);
        call.end(method === 'POST' ? '{}' : undefined);
      });
    for (const path of ['//', '///x', '/\\..\\x', '//evil.example/', '/%', '/api/%ff'])
      expect(await status(path)).toBeLessThan(500);
    const json = { 'content-type': 'application/json' };
    expect(await status('/api/sign-in', { ...json, origin: 'null' }, 'POST')).toBe(403);
    expect(
      await status(
        '/api/projects',
        { ...json, origin: 'null', cookie: 'tsunagi=x', 'idempotency-key': 'a key of mine' },
        'POST',
      ),
    ).toBe(403);
  });

  it('records a stranger’s posts once, and does not tell by its answer which projects there are', async () => {
    await world
      .api()
      .post('/api/projects', {
        name: 'told',
        source: 'notified',
        url: 'http://127.0.0.1:1/told.git',
        allowPrivate: true,
      })
      .catch(() => {});
    const post = (name: string) =>
      fetch(`${world.url}/api/sources/${name}/events`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: '{}',
      });
    const answers = await Promise.all(Array.from({ length: 40 }, (_, at) => post(at % 2 ? 'quiet' : 'nobody')));
    const bodies = new Set(await Promise.all(answers.map((one) => one.text())));
    expect([...new Set(answers.map((one) => one.status)), bodies.size]).toEqual([401, 1]);
    await until('it is told', async () => (await world.events('type=intake.refused')).length > 0);
    expect((await world.events('type=intake.refused')).length).toBe(1);
  });

  it('keeps nothing that is shown once where others could read it', async () => {
    const made = await world
      .api()
      .post<AddedToken>('/api/tokens', { name: 'once', role: 'viewer' }, 'the key of this token');
    const again = await world
      .api()
      .post<AddedToken>('/api/tokens', { name: 'once', role: 'viewer' }, 'the key of this token');
    expect(again.token).toBe(made.token);
    const url = `postgres://tsunagi:${readFileSync(join(world.folder, 'house/records/password'), 'utf8')}@127.0.0.1:${world.house.ports.database}/tsunagi`;
    const client = new pg.Client({ connectionString: url });
    await client.connect();
    const { rows } = await client.query(
      'select answers::text as text from answers union all select tokens::text from tokens union all select sessions::text from sessions',
    );
    await client.end();
    expect(rows.length).toBeGreaterThan(0);
    for (const { text } of rows) expect(text).not.toMatch(/ts[uaec]_|eyJ|eventSecret/);
    expect(JSON.stringify(rows)).not.toContain(Buffer.from(made.token).toString('hex'));
    for (const name of ['service', 'records', 'agent/store'])
      expect(statSync(join(world.folder, 'house', name)).mode & 0o044).toBe(0);
  });

  it('searches logs apart from those who ask for something else, a few at a time', async () => {
    const run = (await world.api().get<PageOf<Run>>('/api/runs?project=quiet')).items[0] as Run;
    const detail = await world.waitRun('quiet', run.commit.id);
    const id = detail.taskList[0]?.attempts[0]?.id;
    const search = () => world.api().raw('GET', `/api/attempts/${id}/log/search?text=19999`);
    const answers = await meanwhile(Promise.all(Array.from({ length: 40 }, search)));
    const good = answers.filter((one) => one.status === 200);
    expect(good.length).toBeGreaterThan(0);
    for (const one of good)
      expect((one.body as unknown as FoundLines).found.map((line) => line.text)).toEqual(['19999']);
    expect(new Set(answers.filter((one) => one.status !== 200).map((one) => one.body.code))).toEqual(
      new Set(answers.length === good.length ? [] : ['busy']),
    );
  });
});

describe('a reader of a stream', () => {
  const open = (path: string, headers: Record<string, string>) =>
    new Promise<{ socket: Socket; status: string; ended: () => boolean }>((resolve, reject) => {
      const socket = connect(Number(new URL(world.url).port), '127.0.0.1');
      let over = false;
      socket.on('close', () => {
        over = true;
      });
      socket.on('end', () => {
        over = true;
      });
      socket.on('error', reject);
      socket.once('data', (chunk: Buffer) => {
        socket.off('error', reject).on('error', () => {});
        resolve({ socket, status: chunk.toString('latin1').split(' ')[1] ?? '', ended: () => over });
      });
      const lines = Object.entries({ host: 'x', connection: 'close', ...headers }).map(
        ([name, value]) => `${name}: ${value}`,
      );
      socket.write(`GET ${path} HTTP/1.1\r\n${lines.join('\r\n')}\r\n\r\n`);
    });
  const bearer = (token: string) => ({ authorization: `Bearer ${token}` });

  it('that reads nothing costs the service no memory, and has a few streams at most', async () => {
    const { checkout } = await world.hosted('long', {
      'a.txt': 'a',
      'tsunagi.yaml': "tsunagi: 1\ntasks:\n  t: { run: 'seq 3000000' }\n",
    });
    await checkout.push();
    const detail = await world.waitRun('long', await checkout.git('rev-parse', 'HEAD'));
    const id = detail.taskList[0]?.attempts[0]?.id as string;
    const resident = () =>
      Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${world.house.rooms.service.pid()}/status`, 'utf8'))?.[1]) /
      1024;
    const before = resident();
    const readers: { socket: Socket; status: string }[] = [];
    for (let at = 0; at < 26; at++) {
      const one = await open(`/api/attempts/${id}/log?follow=true`, bearer(world.house.token));
      one.socket.pause();
      readers.push(one);
    }
    expect(readers.map((one) => one.status)).toEqual([...Array.from({ length: 24 }, () => '200'), '429', '429']);
    await new Promise((resolve) => setTimeout(resolve, 1_500));
    // Each of 24 would have 20 MB of the log waiting for it.
    expect(resident() - before).toBeLessThan(250);
    for (const one of readers) one.socket.destroy();
    await until('they may open streams again', async () => {
      const one = await open('/api/feed', bearer(world.house.token));
      one.socket.destroy();
      return one.status === '200';
    });
  });

  it('is cut off when its token is removed, its person loses the role, or its session ends', async () => {
    const token = await world.api().post<AddedToken>('/api/tokens', { name: 'reader', role: 'viewer' });
    const byToken = await open('/api/feed', bearer(token.token));
    const signIn = await api(world.url, null).raw('POST', '/api/sign-in', { body: { token: token.token } });
    const cookie = (signIn.headers.get('set-cookie') as string).split(';')[0] as string;
    const bySession = await open('/api/feed', { cookie });
    const other = await open('/api/feed', bearer(world.house.token));
    expect([byToken.status, bySession.status, other.status]).toEqual(['200', '200', '200']);
    const sessions = await api(world.url, null).raw('GET', '/api/sessions', { headers: { cookie } });
    expect((sessions.body.items as { own: boolean }[]).some((one) => one.own)).toBe(true);
    await world.api().raw('DELETE', `/api/tokens/${token.id}`, { headers: { 'idempotency-key': crypto.randomUUID() } });
    await until('both are ended', async () => byToken.ended() && bySession.ended(), 30_000);
    expect(other.ended()).toBe(false);
    other.socket.destroy();
    expect((await api(world.url, null).raw('GET', '/api/me', { headers: { cookie } })).status).toBe(401);
  });

  it('ends a session by hand: its pages are signed out', async () => {
    const code = await world.house.signIn();
    const signIn = await api(world.url, null).raw('POST', '/api/sign-in', {
      body: { code },
      headers: { 'user-agent': 'A browser of the lane' },
    });
    const cookie = (signIn.headers.get('set-cookie') as string).split(';')[0] as string;
    const listed = (await world.cli('session', 'list')).out;
    expect(listed).toContain('A browser of the lane');
    const { items } = JSON.parse((await world.cli('session', 'list', '--json')).out) as {
      items: { id: string; client: string }[];
    };
    const id = items.find((one) => one.client === 'A browser of the lane')?.id as string;
    expect((await world.cli('session', 'end', id)).out).toContain('ended');
    expect((await api(world.url, null).raw('GET', '/api/me', { headers: { cookie } })).status).toBe(401);
    const { items: events } = await world
      .api()
      .get<{ items: { subject: string; data: object }[] }>('/api/events?type=session.ended');
    expect(events[0]).toMatchObject({ data: { client: 'A browser of the lane' } });
  });
});

describe('an address', () => {
  const host = 'shop-staging.localhost';
  beforeAll(async () => {
    const definition = `tsunagi: 1
tasks: { t: { run: "true" } }
release:
  needs: [t]
  parts:
    page: { kind: site, files: [web/], root: web }
    api: { kind: server, files: [server.js, package.json], start: node server.js, at: /api, ready: /api, instances: 1 }
environments:
  staging: { branch: main }
`;
    const server = `import { createServer } from 'node:http';
const server = createServer((request, response) => {
  if (request.url === '/api/large') return response.end('x'.repeat(5_000_000));
  const parts = [];
  request.on('data', (chunk) => parts.push(chunk));
  request.on('end', () => response.end(JSON.stringify({ url: request.url, headers: request.headers, body: Buffer.concat(parts).length })));
});
server.on('upgrade', (request, socket) => {
  if (request.headers['x-tide'] === 'low') return socket.end('HTTP/1.1 403 Forbidden\\r\\ncontent-length: 2\\r\\n\\r\\nno');
  socket.write('HTTP/1.1 101 Switching Protocols\\r\\nupgrade: websocket\\r\\nconnection: upgrade\\r\\n\\r\\n');
  socket.pipe(socket);
});
server.listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
    const { checkout, first } = await world.hosted('shop', {
      ...app('x'),
      'server.js': server,
      'tsunagi.yaml': definition,
    });
    await checkout.push();
    await world.waitLive('shop', 'staging', first);
  });

  const raw = (text: string, until: (answer: string) => boolean) =>
    new Promise<string>((resolve) => {
      const socket = connect(world.house.edgePort, '127.0.0.1', () => socket.write(text));
      let answer = '';
      socket.on('data', (chunk: Buffer) => {
        answer += chunk.toString('latin1');
        if (until(answer)) socket.destroy();
      });
      socket.on('error', () => {});
      socket.on('close', () => resolve(answer));
    });

  it('is answered while hundreds read and write it slowly; each has a few at most', async () => {
    const slow: Socket[] = [];
    for (let at = 0; at < 60; at++) {
      const socket = connect(world.house.edgePort, '127.0.0.1', () =>
        socket.write(
          at % 2
            ? `GET /api/large HTTP/1.1\r\nhost: ${host}\r\n\r\n`
            : `POST /api/slow HTTP/1.1\r\nhost: ${host}\r\ncontent-length: 100000\r\n\r\nx`,
        ),
      );
      socket.on('error', () => {});
      socket.pause();
      slow.push(socket);
    }
    const closed = () => slow.filter((one) => one.destroyed || one.readableEnded || one.closed).length;
    // One client has 40 requests open: another one is told so, at once.
    await until('another one is told so', async () => (await world.visit(host, '/api')).status === 429, 30_000);
    for (const one of slow) one.resume();
    await until(
      'the slow ones are cut off',
      async () => closed() === slow.length || (await world.visit(host, '/api')).status === 200,
      20_000,
    );
    expect((await world.visit(host, '/api')).status).toBe(200);
    for (const one of slow) one.destroy();
  });

  it('is no tunnel before the program has agreed', async () => {
    const smuggled = `GET /api/a HTTP/1.1\r\nhost: ${host}\r\nx-tide: low\r\nupgrade: websocket\r\nconnection: upgrade\r\n\r\nGET /secret HTTP/1.1\r\nhost: other\r\nx-forwarded-for: 9.9.9.9\r\n\r\n`;
    const answer = await raw(smuggled, () => false);
    expect(answer).toMatch(/^HTTP\/1\.1 403/);
    expect(answer.match(/HTTP\/1\.1/g)).toHaveLength(1);
    // Another protocol is none that the edge knows: an ordinary request, and what follows is another one, of the edge's own reading.
    const ignored = await raw(
      `GET /api/a HTTP/1.1\r\nhost: ${host}\r\nupgrade: something\r\nconnection: upgrade\r\n\r\nGET /secret HTTP/1.1\r\nhost: other\r\nconnection: close\r\n\r\n`,
      () => false,
    );
    expect(ignored.match(/HTTP\/1\.1 \d+/g)).toEqual(['HTTP/1.1 200', 'HTTP/1.1 404']);
    expect(ignored).not.toContain('secret');
    const tunnel = await raw(
      `GET /api/a HTTP/1.1\r\nhost: ${host}\r\nupgrade: websocket\r\nconnection: upgrade\r\n\r\nahoy`,
      (text) => text.endsWith('ahoy'),
    );
    expect(tunnel).toMatch(/^HTTP\/1\.1 101[\s\S]*ahoy$/);
  });

  it('gets one Host, no forwarded header of the client’s, and the path that it was chosen by', async () => {
    const ask = async (path: string, lines: string[]) => {
      const answer = await raw(
        `GET ${path} HTTP/1.1\r\nhost: ${host}\r\n${[...lines, 'x-last: 1'].join('\r\n')}\r\n\r\n`,
        (text) => text.includes('}'),
      );
      expect(answer).toContain('HTTP/1.1 200');
      return JSON.parse(answer.slice(answer.indexOf('{'), answer.lastIndexOf('}') + 1)) as {
        url: string;
        headers: Record<string, string>;
      };
    };
    const one = await ask('/api/x/../y?q=1', [
      'connection: host, cookie',
      'x-forwarded-for: 9.9.9.9',
      'forwarded: for=9.9.9.9',
      'cookie: a=b',
    ]);
    expect(one.url).toBe('/api/y?q=1');
    expect(one.headers).toMatchObject({ host, cookie: 'a=b', 'x-forwarded-for': '127.0.0.1' });
    expect(one.headers.forwarded).toBe(`for=127.0.0.1;host="${host}";proto=http`);
    expect((await ask('/api\\x', [])).url).toBe('/api/x');
    const outside = await raw(
      `GET /api/../index.html HTTP/1.1\r\nhost: ${host}\r\nconnection: close\r\n\r\n`,
      () => false,
    );
    expect(outside).toContain('<h1>x</h1>');
    for (const path of ['//', '//x/api', '*', 'http://[/', '/%zz']) {
      const answer = await raw(`GET ${path} HTTP/1.1\r\nhost: ${host}\r\nconnection: close\r\n\r\n`, () => false);
      expect(answer).toMatch(/^HTTP\/1\.1 [2-4]/);
    }
    expect((await world.visit(host, '/api')).status).toBe(200);
  });

  it('takes uploads of every size', async () => {
    for (const size of [0, 1, 70_000, 3_000_000]) {
      const answer = await new Promise<string>((resolve, reject) => {
        const call = request(
          {
            host: '127.0.0.1',
            port: world.house.edgePort,
            path: '/api/up',
            method: 'POST',
            headers: { host },
            agent: false,
          },
          (incoming) => {
            let text = '';
            incoming.on('data', (chunk: Buffer) => (text += chunk)).on('end', () => resolve(text));
          },
        );
        call.on('error', reject);
        call.end(Buffer.alloc(size, 'x'));
      });
      expect(JSON.parse(answer).body).toBe(size);
    }
  });
});

describe('an event of a person', () => {
  it('reaches a terminal as text, in colours at most', async () => {
    const { checkout } = await world.hosted('painter', {
      'a.txt': 'a',
      'tsunagi.yaml':
        'tsunagi: 1\ntasks:\n  t: { run: "printf \'\\\\033]0;owned\\\\007\\\\033[2J\\\\033[31mred\\\\033[0m\\\\033]8;;http://x\\\\033\\\\\\\\link\\\\n\'" }\n',
    });
    await checkout.push();
    const run = await world.waitRun('painter', await checkout.git('rev-parse', 'HEAD'));
    expect(run.state).toBe('passed');
    const { out } = await world.cli('run', 'log', String(run.number), 't', '--project', 'painter');
    expect(out).toBe('redlink\n');
  });
  it('is told to whoever follows, from where the list ended', async () => {
    const { items } = await world.api().get<PageOf<Event>>('/api/events?limit=1');
    expect(Number(items[0]?.sequence)).toBeGreaterThan(0);
    expect(readdirSync(world.folder)).toContain('house');
    const detail = await world.api().get<RunDetail>('/api/projects/quiet/runs/1');
    expect(detail.state).toBe('passed');
  });
});
