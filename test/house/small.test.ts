import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, describe, expect, it } from '@jest/globals';
import { Type } from '@sinclair/typebox';
import { wordsOf } from '../../src/channels/words.js';
import { openCaches } from '../../src/agent/attempts/caches.js';
import { makeLogSender } from '../../src/agent/log/log.js';
import { findLimits } from '../../src/agent/sandbox/host.js';
import { groupOf, makeGroup } from '../../src/agent/sandbox/limits.js';
import {
  childrenOf,
  descendantsOf,
  listeningPorts,
  nameOf,
  programOf,
  signal,
  startTime,
} from '../../src/agent/sandbox/processes.js';
import { parseEvents } from '../../src/cli/api.js';
import { numberOf } from '../../src/cli/commands/shared.js';
import { ago, bytes, exitStatus, plain, table } from '../../src/cli/print.js';
import { keepRunning } from '../../src/cli/serve/supervise.js';
import { CodedError } from '../../src/core/errors/errors.js';
import { startLoop } from '../../src/engine/loop.js';
import { makeHub } from '../../src/service/hub.js';
import { addressesDelay } from '../../src/service/delays.js';
import { type Client, mayRetry, untilDone } from '../../src/wire/rooms/client.js';
import { readKept, writeKept } from '../../src/wire/rooms/kept.js';
import { figure, median } from '../../bench/harness.js';
import { until } from './world.js';

const quiet = { info: () => {}, warn: () => {}, error: () => {} };
const soon = (ms = 20) => new Promise((resolve) => setTimeout(resolve, ms));

describe('a loop', () => {
  it('works until there is nothing to do, and again when it is woken', async () => {
    let left = 3;
    let steps = 0;
    const loop = startLoop({
      name: 'test',
      step: async () => {
        steps++;
        return left-- > 0;
      },
      sweepMs: 60_000,
      log: quiet,
    });
    await until('it has worked', async () => steps === 4);
    await soon(30);
    expect(steps).toBe(4);
    left = 1;
    loop.wake();
    await until('it has worked again', async () => steps === 6);
    await loop.stop();
  });

  it('does not miss being woken while it works', async () => {
    let steps = 0;
    let wake = () => {};
    const loop = startLoop({
      name: 'test',
      step: async () => {
        await soon(5);
        steps++;
        if (steps === 1) wake();
        return false;
      },
      sweepMs: 60_000,
      log: quiet,
    });
    wake = loop.wake;
    await until('the second step', async () => steps === 2);
    await loop.stop();
  });

  it('goes on after a failure, and wakes by itself when something is due', async () => {
    let steps = 0;
    const failures: string[] = [];
    const loop = startLoop({
      name: 'test',
      step: async () => {
        if (++steps === 1) throw new Error('once');
        return false;
      },
      nextDue: async () => 10,
      sweepMs: 60_000,
      log: { ...quiet, error: (_data, text) => failures.push(text) },
    });
    await until('it goes on', async () => steps >= 4);
    expect(failures).toEqual(['the loop test failed and goes on']);
    await loop.stop();
    const before = steps;
    await soon(50);
    expect(steps).toBe(before);
  });
});

describe('the hub', () => {
  it('wakes who waits for a topic, all for `*`, nobody else', async () => {
    const hub = makeHub();
    const signal = new AbortController().signal;
    const woken: string[] = [];
    const waits = ['a', 'b'].map((name) =>
      hub.wait((topic) => topic === name, 60_000, signal).then(() => woken.push(name)),
    );
    hub.heard('a');
    await waits[0];
    expect(woken).toEqual(['a']);
    hub.heard('*');
    await waits[1];
    expect(woken).toEqual(['a', 'b']);
  });
  it('ends waiting in time, and when it is aborted', async () => {
    const hub = makeHub();
    await hub.wait(() => true, 5, new AbortController().signal);
    const gone = new AbortController();
    const waiting = hub.wait(() => true, 60_000, gone.signal);
    gone.abort();
    await waiting;
    await hub.wait(() => true, 60_000, gone.signal);
  });
});

describe('a room that is kept running', () => {
  const script = (text: string) => () => spawn(process.execPath, ['-e', text], { stdio: 'ignore' });

  it('is started again when it dies, and ended when asked', async () => {
    const said: string[] = [];
    const kept = await keepRunning(
      { name: 'room', start: script('setInterval(() => {}, 1000)'), signal: 'SIGTERM' },
      (text) => said.push(text),
    );
    const first = kept.pid() as number;
    process.kill(first, 'SIGKILL');
    await until('it is started again', async () => kept.pid() !== first);
    expect(said).toEqual(['room ended (SIGKILL) and is started again']);
    const second = kept.pid() as number;
    await kept.end();
    expect(startTime(second)).toBeNull();
  });
  it('that can’t be used after its first start is ended, and started no more', async () => {
    let child: ChildProcess | null = null;
    const start = keepRunning(
      {
        name: 'room',
        start: () => (child = script('setInterval(() => {}, 1000)')()),
        ready: () => Promise.reject(new Error('it does not answer')),
        signal: 'SIGTERM',
      },
      () => {},
    );
    await expect(start).rejects.toThrow('it does not answer');
    expect((child as ChildProcess | null)?.signalCode).toBe('SIGTERM');
  });
  it('that ends at its first start is an error, not a circle', async () => {
    const start = keepRunning(
      { name: 'room', start: script('process.exit(3)'), ready: () => new Promise(() => {}), signal: 'SIGTERM' },
      () => {},
    );
    await expect(start).rejects.toThrow('room ended with 3 at its start');
  });
});

describe('a log on its way', () => {
  const fake = (take: (path: string, bytes: Buffer) => Promise<{ position: number }>): Client =>
    ({ postBytes: take }) as unknown as Client;

  it('arrives in order, a batch for each command, by position', async () => {
    const sent: [number, number, string][] = [];
    const client = fake(async (path, chunk) => {
      const query = new URL(path, 'http://x').searchParams;
      sent.push([Number(query.get('position')), Number(query.get('command')), chunk.toString()]);
      return { position: Number(query.get('position')) + chunk.length };
    });
    const log = makeLogSender(client, '/log', '7', 0, () => false);
    for (const [text, command] of [
      ['a\n', 0],
      ['b\n', 0],
      ['c\n', 1],
    ] as const)
      log.write(Buffer.from(text), command);
    await log.flush();
    expect(sent).toEqual([
      [0, 0, 'a\nb\n'],
      [4, 1, 'c\n'],
    ]);
    expect([log.lines(), log.acknowledged()]).toEqual([3, 6]);
  });
  it('is sent again when the service was away', async () => {
    let calls = 0;
    const log = makeLogSender(
      fake(async (_path, chunk) => {
        if (++calls < 3) throw new Error('ECONNREFUSED');
        return { position: chunk.length };
      }),
      '/log',
      '7',
      0,
      () => false,
    );
    log.write(Buffer.from('price\n'), 0);
    await log.flush();
    expect([calls, log.acknowledged()]).toEqual([3, 6]);
  });
  it('asks its source to pause when too much waits', async () => {
    let open = () => {};
    const gate = new Promise<void>((resolve) => {
      open = resolve;
    });
    const log = makeLogSender(
      fake(async (path, chunk) => {
        await gate;
        return { position: Number(new URL(path, 'http://x').searchParams.get('position')) + chunk.length };
      }),
      '/log',
      '7',
      0,
      () => false,
    );
    expect(log.write(Buffer.alloc(1024 * 1024), 0)).toBe(true);
    expect(log.write(Buffer.alloc(4 * 1024 * 1024), 0)).toBe(false);
    let drained = false;
    const waiting = log.drained().then(() => {
      drained = true;
    });
    await soon();
    expect(drained).toBe(false);
    open();
    await waiting;
    await log.flush();
    expect(log.acknowledged()).toBe(5 * 1024 * 1024);
  });
  it('is dropped when the work belongs to someone else', async () => {
    const log = makeLogSender(
      fake(async () => {
        throw new CodedError('fence_old');
      }),
      '/log',
      '7',
      0,
      () => false,
    );
    log.write(Buffer.from('x'), 0);
    await log.flush();
    expect([log.acknowledged(), log.write(Buffer.from('y'), 0)]).toEqual([0, true]);
  });
});

describe('trying again', () => {
  it('helps where the service is away, not where it has refused', async () => {
    expect(mayRetry(new Error('ECONNRESET'))).toBe(true);
    expect(mayRetry(new CodedError('unavailable', { detail: '' }))).toBe(true);
    expect(mayRetry(new CodedError('fence_old'))).toBe(false);
    let tries = 0;
    const work = async () => {
      if (++tries < 3) throw new Error('away');
      return tries;
    };
    expect(await untilDone(work, () => false)).toBe(3);
    await expect(
      untilDone(
        async () => Promise.reject(new Error('away')),
        () => true,
      ),
    ).rejects.toThrow('away');
  });
});

describe('processes', () => {
  const left: number[] = [];
  afterEach(() => {
    for (const pid of left.splice(0)) signal(pid, 'SIGKILL');
  });

  it('are found by their parents, past the shell that waits for them', async () => {
    const child = spawn('bash', ['-c', 'bash -c "sleep 98.7; true"; true'], { stdio: 'ignore' });
    left.push(child.pid as number);
    const deepest = await until('all of it runs', async () =>
      descendantsOf(child.pid as number).find((pid) => nameOf(pid) === 'sleep'),
    );
    expect(childrenOf(child.pid as number)).toHaveLength(1);
    expect(programOf(child.pid as number)).toBe(deepest);
    expect(startTime(child.pid as number)).toMatch(/^[0-9a-f]{8}\.\d+$/);
    signal(deepest, 'SIGKILL');
    await until('it has ended', async () => startTime(deepest) === null);
    expect(startTime(2 ** 22 - 1)).toBeNull();
  });

  it('show the ports on which they listen', async () => {
    const server = createServer();
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.address() as { port: number };
    expect(listeningPorts(process.pid)).toContain(port);
    await new Promise<void>((resolve) => server.close(() => resolve()));
    expect(listeningPorts(process.pid)).not.toContain(port);
    expect(listeningPorts(2 ** 22 - 1)).toEqual([]);
  });

  it('in a group end together, whatever they do about it', async () => {
    const way = findLimits();
    const group = makeGroup(way, 'test-group', { memory: 256 * 1024 * 1024, processes: 50, cpu: null, weight: 512 });
    if (way === 'none') return expect(group.entries).toEqual([]);
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-group-'));
    const child = spawn(
      'bash',
      [
        '-c',
        `for f in ${group.entries.join(' ')}; do echo $$ > $f; done; touch ${folder}/in; trap '' TERM; setsid bash -c "trap '' TERM; sleep 98.6" & sleep 98.5`,
      ],
      { stdio: 'ignore' },
    );
    await until(
      'they run',
      async () => existsSync(join(folder, 'in')) && descendantsOf(child.pid as number).length >= 2,
    );
    const pids = descendantsOf(child.pid as number);
    await groupOf(way, 'test-group').remove();
    await until('all have ended', async () => pids.every((pid) => startTime(pid) === null));
    expect(existsSync(join(group.entries[0] as string, '..'))).toBe(false);
    rmSync(folder, { recursive: true });
  });
});

describe('words for a terminal', () => {
  it('stand in columns, without control characters of others', () => {
    expect(
      table(
        ['A', 'LONG'],
        [
          ['one', 'x'],
          ['three', ''],
        ],
      ),
    ).toBe('A      LONG\none    x\nthree');
    expect(plain('a\u001b[31mb\u0007\nc')).toBe('ab  c');
    expect([bytes(12), bytes(2048), bytes(5 * 1024 ** 2)]).toEqual(['12 B', '2.0 KiB', '5.0 MiB']);
    expect(ago(new Date(Date.now() - 7_200_000).toISOString())).toBe('2 h ago');
    expect(ago(null)).toBe('');
  });
  it('name releases and deployments by letter and number', () => {
    expect([
      numberOf('r42', 'r'),
      numberOf('42', 'r'),
      numberOf('r0', 'r'),
      numberOf('d4', 'r'),
      numberOf('r4; id', 'r'),
      numberOf('7', ''),
    ]).toEqual([42, 42, null, null, null, 7]);
  });
  it('end with a status that says how', () => {
    const of = (code: ConstructorParameters<typeof CodedError>[0]) => exitStatus(new CodedError(code));
    expect([
      of('not_promotable'),
      of('not_found'),
      of('usage'),
      of('no_project'),
      of('unreachable'),
      of('internal'),
      exitStatus(new Error('x')),
    ]).toEqual([1, 1, 2, 2, 3, 3, 3]);
  });
  it('come from a stream of events, wherever it is cut', async () => {
    const text = 'id: 7\nevent: chunk\ndata: {"text":"é"}\n\n: still here\n\nevent: end\ndata: {}\n\n';
    for (const size of [1, 2, 5, 1000]) {
      const all = Buffer.from(text);
      const cut = (async function* () {
        for (let at = 0; at < all.length; at += size) yield all.subarray(at, at + size);
      })();
      const found = [];
      for await (const event of parseEvents(cut)) found.push(event);
      expect(found).toEqual([
        { id: '7', event: 'chunk', data: '{"text":"é"}' },
        { id: null, event: 'end', data: '{}' },
      ]);
    }
  });
  it('say which edge delays an ending', () => {
    const edge = (name: string, acknowledged: number, alive: boolean) => ({
      id: name,
      name,
      acknowledged,
      alive,
      without: {},
      seen_at: new Date(),
      address: null,
    });
    expect(addressesDelay([edge('a', 5, true)], { table_version: 5 })).toBeNull();
    expect(addressesDelay([edge('a', 4, true)], { table_version: 5 })).toContain('has yet to take over');
    expect(addressesDelay([edge('a', 4, false), edge('b', 5, true)], { table_version: 5 })).toContain('a is silent');
  });
});

describe('a figure', () => {
  it('is a median with its spread, held against its baseline and goal', () => {
    expect(median([3, 1, 2])).toBe(2);
    const goal = { text: '≤ 2 ×', met: (_value: number, ratio: number | null) => (ratio ?? 9) <= 2 };
    expect(figure('f', 'ms', [10, 20, 30], [10, 10, 10], goal)).toMatchObject({
      value: 20,
      baseline: 10,
      ratio: 2,
      met: true,
      spread: 0.25,
    });
    expect(figure('f', 'ms', [30], [], goal)).toMatchObject({ baseline: null, ratio: null, met: false });
  });
});

describe('a file that is kept on the machine', () => {
  it('is believed only when it is whole and has the shape that is expected', () => {
    const file = join(mkdtempSync(join(tmpdir(), 'tsunagi-kept-')), 'kept.json');
    const Shape = Type.Object({ name: Type.String(), count: Type.Integer() });
    expect(readKept(file, Shape)).toBeNull();
    writeKept(file, { name: 'a', count: 2 });
    expect(readKept(file, Shape)).toEqual({ name: 'a', count: 2 });
    expect(statSync(file).mode & 0o777).toBe(0o600);
    for (const text of ['', '{"name":"a"', '{"name":"a"}', '{"name":"a","count":1.5}', 'null', '[]']) {
      writeFileSync(file, text);
      expect([text, readKept(file, Shape)]).toEqual([text, null]);
    }
  });
});

describe('a cache that is removed', () => {
  it('is not given to an attempt that begins meanwhile', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-caches-'));
    try {
      const caches = openCaches(folder, null);
      const first = caches.take('p own', ['node_modules']);
      const from = first.binds[0]?.from as string;
      for (let at = 0; at < 200; at++) writeFileSync(join(from, `${at}`), 'x');
      first.giveBack();
      // While it is removed.
      const removing = caches.tidy(-1_000);
      const second = caches.take('p own', ['node_modules']);
      expect(second.binds[0]?.from).not.toBe(from);
      await removing;
      expect([existsSync(from), existsSync(second.binds[0]?.from as string)]).toEqual([false, true]);
      second.giveBack();
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  });
});

describe('why a connection failed', () => {
  it.each([
    [
      {
        code: 'EPROTO',
        message: 'write EPROTO 0:error:0A00010B:SSL routines:ssl3_get_record:wrong version number:../x.c:354:',
      },
      'it does not speak TLS on that port',
    ],
    [
      { message: '40B7:error:0A000152:SSL routines:final_renegotiate:unsafe legacy renegotiation disabled:x.c:1:' },
      'unsafe legacy renegotiation disabled',
    ],
    [{ code: 'CERT_HAS_EXPIRED', message: 'certificate has expired' }, 'its certificate has expired'],
    [{ code: 'ECONNREFUSED', message: 'connect ECONNREFUSED 192.0.2.1:25' }, 'nothing listens on that port'],
    [{ message: '550 5.1.1 No such user\nmore' }, '550 5.1.1 No such user'],
    ['text', 'text'],
  ])('%j', (error, words) => expect(wordsOf(error)).toBe(words));
});
