/** exec and shell: in a sandbox of their own and beside a program; who may, what they see, how they end, and what is left. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { WebSocket } from 'ws';
import type { Terminal, TerminalAsk, TerminalAsked } from '../../src/wire/environments/terminals.js';
import type { AddedToken } from '../../src/wire/people.js';
import type { PageOf } from '../../src/wire/parts.js';
import { ledger, ledgerDefinition } from './ledger.js';
import { api, openWorld, root, until, type World } from './world.js';

let world: World;
let own: Record<string, string>;
const path = '/api/projects/books/environments/staging/terminals';
beforeAll(async () => {
  world = await openWorld({ timing: { idle: 12_000 } });
  own = { TSUNAGI_URL: world.url, TSUNAGI_TOKEN: world.house.token };
  const { checkout, first } = await world.hosted('books', {
    ...ledger(),
    'count.js': `import pg from './driver.js';
const client = new pg.Client({ connectionString: process.env.DATABASE_URL });
await client.connect();
console.log((await client.query('select count(*)::int as count from notes')).rows[0].count);
await client.end();
`,
    'tsunagi.yaml': ledgerDefinition(),
  });
  await checkout.push();
  await world.waitLive('books', 'staging', first);
});
afterAll(() => world?.close());

/** The command line with input, as in a pipe. */
function piped(args: string[], input: Buffer | null): Promise<{ out: Buffer; err: string; status: number | null }> {
  return new Promise((resolve) => {
    const child = spawn(join(root, 'tsunagi'), args, {
      env: { PATH: process.env.PATH ?? '', HOME: '/nonexistent', ...own },
      stdio: ['pipe', 'pipe', 'pipe'],
    });
    const out: Buffer[] = [];
    let err = '';
    child.stdout.on('data', (bytes: Buffer) => out.push(bytes));
    child.stderr.on('data', (bytes: Buffer) => (err += bytes));
    child.on('close', (status) => resolve({ out: Buffer.concat(out), err, status }));
    if (input) child.stdin.end(input);
  });
}

/** The command line in a real terminal of 97 by 31: what it types when it has seen something. */
function typed(
  command: string,
  steps: [seen: RegExp, type: string][],
): Promise<{ text: string; status: number | null }> {
  return new Promise((resolve) => {
    const line = `stty columns 97 rows 31; exec ${join(root, 'tsunagi')} ${command}`;
    const child = spawn('script', ['-qef', '-c', line, '/dev/null'], {
      env: { PATH: process.env.PATH ?? '', HOME: '/nonexistent', TERM: 'xterm-256color', SHELL: '/bin/sh', ...own },
      stdio: ['pipe', 'pipe', 'pipe'],
    });
    let came = '';
    let text = '';
    let seen = 0;
    child.stdout.on('data', (bytes: Buffer) => {
      came += bytes.toString();
      // A terminal in a terminal: each adds its own returns; and the shell says how it takes what is pasted.
      // biome-ignore lint/suspicious/noControlCharactersInRegex: it is the terminal's own
      text = came.replace(/\r|\u001b\[\?2004[hl]/g, '');
      const [next] = steps;
      // Half a sequence is waited for to its end.
      // biome-ignore lint/suspicious/noControlCharactersInRegex: it is the terminal's own
      if (!next || /\u001b[^A-Za-z]*$/.test(text) || !next[0].test(text.slice(seen))) return;
      seen = text.length;
      steps.shift();
      child.stdin.write(next[1]);
    });
    child.on('close', (status) => resolve({ text, status }));
  });
}

/** A person's stream, without the command line. */
async function raw(ask: Partial<TerminalAsk>, { token = world.house.token, size = [80, 24], ticket = '' } = {}) {
  const asked = await world.api().post<TerminalAsked>(path, { command: ['cat'], tty: false, ...ask });
  return { asked, ...(await joined(asked.stream, { ticket: ticket || asked.ticket, size, term: 'xterm' }, token)) };
}

async function joined(stream: string, hello: unknown, token: string) {
  const socket = new WebSocket(world.url.replace('http', 'ws') + stream, {
    headers: { authorization: `Bearer ${token}` },
  });
  const got = {
    out: '',
    err: '',
    ended: null as { why: string; exit: number | null; says: string | null } | null,
    begun: false,
  };
  const closed = new Promise<number>((resolve) => socket.once('close', resolve));
  socket.on('error', () => {});
  socket.on('message', (data: Buffer, binary) => {
    if (binary) got[data[0] === 1 ? 'out' : 'err'] += data.subarray(1).toString();
    else {
      const told = JSON.parse(data.toString());
      if (told.ended) got.ended = told.ended;
      if (told.begun) got.begun = true;
    }
  });
  await new Promise((resolve, reject) => {
    socket.once('open', resolve);
    socket.once('unexpected-response', (_request, response) => reject(new Error(`refused: ${response.statusCode}`)));
  });
  socket.send(typeof hello === 'string' ? hello : JSON.stringify(hello));
  return {
    socket,
    got,
    closed,
    input: (text: string) => socket.send(Buffer.concat([Buffer.of(0), Buffer.from(text)])),
  };
}

const listed = async () => (await world.api().get<PageOf<Terminal>>(path)).items;
const ended = (id: string) =>
  until(`the terminal ${id} has ended`, async () =>
    (await listed()).find((one) => one.id === id && one.state === 'ended'),
  );
/** Processes of this machine with a word among their arguments. */
const running = (word: string): number =>
  readdirSync('/proc').filter((pid) => {
    try {
      return /^\d+$/.test(pid) && readFileSync(`/proc/${pid}/cmdline`, 'utf8').split('\0').includes(word);
    } catch {
      return false;
    }
  }).length;

describe('exec', () => {
  it('has the files, variables and resources of what is live, and the exit status of its program', async () => {
    await world.visit('books-staging.localhost', '/api/notes/one', { method: 'POST' });
    expect(await world.cli('exec', 'books/staging', '--', 'node', 'count.js')).toEqual({
      out: '1\n',
      err: '',
      status: 0,
    });
    const told = await world.cli(
      'exec',
      'books/staging',
      '--',
      'bash',
      '-c',
      'echo "$TSUNAGI_RELEASE in $TSUNAGI_ENVIRONMENT"; echo wrong >/dev/stderr; exit 7',
    );
    expect(told).toEqual({ out: 'r1 in staging\n', err: 'wrong\n', status: 7 });
  });

  it('reaches the environment’s own address', async () => {
    const line =
      'fetch(process.env.TSUNAGI_ENVIRONMENT_URL + "/api/notes").then(async (answer) => console.log(answer.status))';
    expect((await world.cli('exec', 'books/staging', '--', 'node', '-e', line)).out).toBe('200\n');
  });

  it('passes bytes both ways, as they are and to their end', async () => {
    const bytes = randomBytes(5_000_000);
    const { out, status } = await piped(['exec', 'books/staging', '--', 'cat'], bytes);
    expect(status).toBe(0);
    expect(createHash('sha256').update(out).digest('hex')).toBe(createHash('sha256').update(bytes).digest('hex'));
    const beside = await piped(['exec', 'books/staging', '--in', 'api.1', '--', 'sha256sum'], bytes);
    expect(beside.out.toString()).toBe(`${createHash('sha256').update(bytes).digest('hex')}  -\n`);
  });

  it('is one document with --json', async () => {
    const { out, status } = await world.cli(
      'exec',
      'books/staging',
      '--json',
      '--',
      'bash',
      '-c',
      'echo a; echo b >&2; exit 4',
    );
    expect(JSON.parse(out)).toMatchObject({ exit: 4, why: 'exit', output: 'a\n', errors: 'b\n', cut: false });
    expect(status).toBe(4);
  });

  it('changes nothing of the release, and leaves nothing behind', async () => {
    await world.cli('exec', 'books/staging', '--', 'bash', '-c', 'echo mine >server.js; rm count.js');
    expect((await world.cli('exec', 'books/staging', '--', 'node', 'count.js')).status).toBe(0);
    const work = join(world.folder, 'house/agent/work');
    await until('its folders are gone', async () => !readdirSync(work).some((name) => name.startsWith('t-')));
    expect(existsSync(join(world.folder, 'house/agent/live'))).toBe(true);
  });

  it('says what is wrong', async () => {
    for (const [args, code] of [
      [['--part', 'nope', '--', 'ls'], /runs no part nope.\nName one of these: api\./],
      [['--in', 'api.9', '--', 'ls'], /no instance api\.9 that is ready\.\nThese are: api\.1\./],
    ] as const)
      expect((await world.cli('exec', 'books/staging', ...args)).err).toMatch(code);
    expect(await world.cli('exec', 'books/staging', '--', 'nonesuch')).toEqual({
      out: '',
      err: 'nonesuch: there is no such program in this sandbox\n',
      status: 127,
    });
    expect((await world.cli('exec', 'books/production', '--', 'ls')).err).toMatch(
      /Nothing is live in books\/production/,
    );
    expect((await world.cli('shell', 'books/staging')).err).toMatch(/needs a terminal on both sides/);
    for (const command of [['a\0b'], ['']])
      expect((await world.api().raw('POST', path, { body: { command, tty: false } })).body.code).toBe('body_invalid');
  });
});

describe('shell', () => {
  it('is a real terminal: its size, interrupts, and its exit status', async () => {
    const { text, status } = await typed('shell books/staging', [
      [/\$ $/, 'stty size; tty\r'],
      [/31 97\n\/dev\/pts\/\d+\n.*\$ $/s, 'echo up; sleep 60\r'],
      [/\nup\n/, '\x03'],
      [/\$ $/, 'echo "was $?"\r'],
      [/was 130/, 'exit 5\r'],
    ]);
    expect(text).toContain('books/staging /project $');
    expect([text, status]).toEqual([text, 5]);
  });

  it('beside a program: its processes, port and files, with its rights and no more', async () => {
    const { text, status } = await typed('shell books/staging --in api.1', [
      [/\$ $/, 'ps -eo args | grep -c "^node server.js"; echo "port $PORT"\r'],
      [/port \d+/, 'grep -E "^(CapEff|NoNewPrivs|Seccomp):" /proc/self/status; id -u\r'],
      [/\n1000\n/, 'echo x >/project/x; echo y >/run/tsunagi-hands/y; exit 0\r'],
    ]);
    expect(status).toBe(0);
    expect(text).toMatch(/\n1\nport \d+/);
    expect(text).toMatch(/CapEff:\s+0000000000000000\n/);
    expect(text).toMatch(/NoNewPrivs:\s+1\n/);
    if (existsSync(join(world.folder, 'house/agent/bin/seccomp'))) expect(text).toMatch(/Seccomp:\s+2\n/);
    expect(text.match(/Read-only file system/g)).toHaveLength(2);
    // The program has not noticed.
    expect((await world.visit('books-staging.localhost', '/api/notes')).status).toBe(200);
  });

  it('follows the size of the window', async () => {
    const { socket, got, input, closed } = await raw({ command: ['bash'], tty: true });
    await until('it has begun', async () => got.out.includes('$ '));
    input('stty size\r');
    await until('its first size', async () => got.out.includes('24 80'));
    socket.send(JSON.stringify({ size: [101, 43] }));
    await until('its second size', async () => {
      input('stty size\r');
      await new Promise((resolve) => setTimeout(resolve, 200));
      return got.out.includes('43 101');
    });
    input('exit\r');
    await closed;
    expect(got.ended).toMatchObject({ why: 'exit', exit: 0 });
  });

  it('is recorded: who, where, what, how long, how it ended; and nothing of what was typed', async () => {
    const { out } = await world.cli('shell', 'books/staging', '--list');
    expect(out).toMatch(/^WHO +WHERE +WHAT +SINCE +FOR +ENDED$/m);
    expect(out).toMatch(/^owner +api\.1 +a shell .* exit 0$/m);
    expect(out).toMatch(/^owner +api +node count\.js .* exit 0$/m);
    const events = await world.events('type=terminal.ended');
    expect(events.map((one) => one.data)).toContainEqual(
      expect.objectContaining({ command: 'a shell', beside: true, why: 'exit', exit: 0, part: 'api' }),
    );
    expect(JSON.stringify(events)).not.toContain('CapEff');
    expect(world.serviceLog()).not.toContain('CapEff');
  });
});

describe('a program that lets nobody in', () => {
  it('has that said, and its agent goes on', async () => {
    // What waits for people is of the program's own account: it may end it.
    const pid = world.house.rooms.agent.pid();
    const kill =
      'for pid in /proc/[0-9]*; do tr "\\0" " " <$pid/cmdline | grep -q "^bash -c # Inside an instance" && kill -KILL ${pid#/proc/}; done; true';
    await world.cli('exec', 'books/staging', '--in', 'api.1', '--', 'bash', '-c', kill);
    const { err, status } = await world.cli('exec', 'books/staging', '--in', 'api.1', '--', 'true');
    expect(status).toBe(255);
    expect(err).toMatch(/The terminal has ended: /);
    // Longer than it is waited for.
    await new Promise((resolve) => setTimeout(resolve, 12_000));
    expect(world.house.rooms.agent.pid()).toBe(pid);
    expect((await world.visit('books-staging.localhost', '/api/notes')).status).toBe(200);
    await world.cli('restart', 'books/staging');
    await until(
      'another one lets people in',
      async () => (await world.cli('exec', 'books/staging', '--in', 'api.1', '--', 'true')).status === 0,
    );
  });
});

describe('its end', () => {
  it('when its person leaves: the processes end too, beside a program as well', async () => {
    for (const beside of [undefined, 'api.1']) {
      const word = `30${Math.floor(Math.random() * 1e6)}`;
      const one = await raw({ command: ['sleep', word], tty: beside === undefined, ...(beside ? { beside } : {}) });
      await until('it runs', async () => running(word) > 0);
      one.socket.terminate();
      await until('its processes are gone', async () => running(word) === 0);
      expect(await ended(one.asked.terminal.id)).toMatchObject({ why: 'left', exit: null });
    }
    expect((await world.visit('books-staging.localhost', '/api/notes')).status).toBe(200);
  });

  it('when nothing is typed or printed for too long', async () => {
    const { err, status } = await piped(['exec', 'books/staging', '--', 'sleep', '120'], null);
    expect(err).toContain('nothing was typed or printed for too long');
    expect(status).toBe(255);
  });

  it('by somebody else’s hand', async () => {
    const one = await raw({ command: ['bash'], tty: true });
    await until('it has begun', async () => one.got.begun);
    const { id } = one.asked.terminal;
    const end = () =>
      world.api().raw('DELETE', `${path}/${id}`, { headers: { 'idempotency-key': crypto.randomUUID() } });
    expect((await end()).status).toBe(202);
    await one.closed;
    expect(one.got.ended?.why).toBe('by hand');
    expect(await ended(id)).toMatchObject({ why: 'by hand' });
    expect((await end()).body.code).toBe('terminal_gone');
  });

  it('when its person may no longer', async () => {
    const added = await world.api().post<AddedToken>('/api/tokens', { name: 'for a while', role: 'releaser' });
    const asked = await api(world.url, added.token).post<TerminalAsked>(path, { command: ['bash'], tty: true });
    const one = await joined(asked.stream, { ticket: asked.ticket, size: [80, 24], term: 'xterm' }, added.token);
    await until('it has begun', async () => one.got.begun);
    await world.api().raw('DELETE', `/api/tokens/${added.id}`, { headers: { 'idempotency-key': crypto.randomUUID() } });
    await one.closed;
    expect(await ended(asked.terminal.id)).toMatchObject({ why: 'by hand' });
  });

  it('when its program is killed', async () => {
    const { status } = await world.cli('exec', 'books/staging', '--', 'bash', '-c', 'kill -KILL $$');
    expect(status).toBe(137);
  });
});

describe('a stranger', () => {
  const hello = (ticket: string) => ({ ticket, size: [80, 24], term: 'xterm' });
  const refused = async (
    one: { closed: Promise<number>; got: { ended: { says: string | null } | null } },
    words: RegExp,
  ) => {
    await one.closed;
    expect(one.got.ended?.says).toMatch(words);
  };

  it('a viewer or developer gets neither a ticket nor a stream', async () => {
    const asked = await world.api().post<TerminalAsked>(path, { command: ['id'], tty: false });
    for (const role of ['viewer', 'developer']) {
      const { token } = await world.api().post<AddedToken>('/api/tokens', { name: role, role });
      expect((await api(world.url, token).raw('POST', path, { body: { command: [], tty: true } })).status).toBe(403);
      await expect(joined(asked.stream, hello(asked.ticket), token)).rejects.toThrow('refused: 403');
    }
    await expect(joined(asked.stream, hello(asked.ticket), 'tsu_wrong')).rejects.toThrow('refused: 401');
  });

  it('a ticket is good once, for who asked, for its own terminal', async () => {
    const { token } = await world.api().post<AddedToken>('/api/tokens', { name: 'another', role: 'releaser' });
    const asked = await world.api().post<TerminalAsked>(path, { command: ['true'], tty: false });
    const other = await world.api().post<TerminalAsked>(path, { command: ['true'], tty: false });
    const own = world.house.token;
    await refused(await joined(asked.stream, hello(asked.ticket), token), /ticket/);
    await refused(await joined(other.stream, hello(asked.ticket), own), /ticket/);
    await refused(await joined(asked.stream, hello(`${asked.ticket}x`), own), /ticket/);
    const good = await joined(asked.stream, hello(asked.ticket), own);
    await good.closed;
    expect(good.got.ended).toMatchObject({ why: 'exit', exit: 0 });
    await refused(await joined(asked.stream, hello(asked.ticket), own), /ticket/);
    // Whoever knocks with a wrong one meanwhile takes nothing from who is inside.
    const inside = await raw({});
    await until('it has begun', async () => inside.got.begun);
    await refused(await joined(inside.asked.stream, hello('wrong'), own), /ticket/);
    inside.input('here\n');
    await until('it answers', async () => inside.got.out === 'here\n');
    inside.socket.send('{"eof":true}');
    await inside.closed;
    expect(inside.got.ended).toMatchObject({ why: 'exit', exit: 0 });
    await world
      .api()
      .raw('DELETE', `${path}/${other.terminal.id}`, { headers: { 'idempotency-key': crypto.randomUUID() } });
  });

  it('a page of another site opens no stream with a person’s cookie', async () => {
    const signedIn = await fetch(`${world.url}/api/sign-in`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ token: world.house.token }),
    });
    const cookie = signedIn.headers.get('set-cookie')?.split(';')[0] as string;
    const asked = await world.api().post<TerminalAsked>(path, { command: ['id'], tty: false });
    const open = (origin: string | undefined) =>
      new Promise<number>((resolve) => {
        const socket = new WebSocket(world.url.replace('http', 'ws') + asked.stream, {
          headers: { cookie, ...(origin ? { origin } : {}) },
        });
        socket.on('error', () => {});
        socket.once('open', () => {
          resolve(101);
          socket.terminate();
        });
        socket.once('unexpected-response', (_request, response) => resolve(response.statusCode ?? 0));
      });
    expect(await open('http://evil.example')).toBe(403);
    expect(await open(undefined)).toBe(403);
    expect(await open('null')).toBe(403);
    expect(await open(world.url)).toBe(101);
  });

  it('messages of no known shape end nothing else', async () => {
    const { token } = world.house;
    const ask = () => world.api().post<TerminalAsked>(path, { command: ['cat'], tty: false });
    for (const first of ['{', '[]', '{"ticket":1}', 'x'.repeat(60_000)]) {
      const asked = await ask();
      await refused(await joined(asked.stream, first, token), /first message/);
      await world
        .api()
        .raw('DELETE', `${path}/${asked.terminal.id}`, { headers: { 'idempotency-key': crypto.randomUUID() } });
    }
    const one = await raw({});
    await until('it has begun', async () => one.got.begun);
    for (const message of [
      '{"over":"exit"}',
      '{"ended":{"why":"exit","exit":0,"says":null}}',
      '{"size":[0,-1]}',
      'nonsense',
    ])
      one.socket.send(message);
    one.socket.send(Buffer.from([1, 65]));
    one.socket.send(Buffer.from([9]));
    one.socket.send(Buffer.alloc(0));
    one.input('still here\n');
    await until('it answers', async () => one.got.out === 'still here\n');
    // Longer than a message may be.
    one.socket.send(Buffer.alloc(70_000));
    expect(await one.closed).toBe(1009);
    await ended(one.asked.terminal.id);
  });

  it('has a few at a time', async () => {
    const { token } = await world.api().post<AddedToken>('/api/tokens', { name: 'many', role: 'releaser' });
    const many = api(world.url, token);
    const ask = () =>
      many.raw('POST', path, {
        body: { command: ['id'], tty: false },
        headers: { 'idempotency-key': crypto.randomUUID() },
      });
    for (let n = 0; n < 8; n++) expect((await ask()).status).toBe(201);
    expect((await ask()).body.code).toBe('terminal_many');
  });
});

describe('a side that is killed', () => {
  it('the agent: it is said, and nothing of it goes on', async () => {
    const one = await raw({ command: ['sleep', '4242'], tty: true });
    await until('it runs', async () => running('4242') > 0);
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    await one.closed;
    expect(one.got.ended?.why).toBe('lost');
    expect(await ended(one.asked.terminal.id)).toMatchObject({ why: 'lost' });
    await until('its processes are gone', async () => running('4242') === 0);
    await until('another one works', async () => (await world.cli('exec', 'books/staging', '--', 'true')).status === 0);
  });

  it('the service: its agent ends the program, and tells the next one', async () => {
    const one = await raw({ command: ['sleep', '4343'], tty: true });
    await until('it runs', async () => running('4343') > 0);
    process.kill(world.house.rooms.service.pid() as number, 'SIGKILL');
    await one.closed;
    await until('its processes are gone', async () => running('4343') === 0);
    // Its agent says that its person left; a service that is back late has counted that agent lost by then.
    expect(['left', 'lost']).toContain((await ended(one.asked.terminal.id)).why);
  });
});
