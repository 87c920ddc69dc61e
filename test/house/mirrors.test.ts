/** Copies of requests beside their originals: what comes of them, and when they stop. Real sockets, no house. */
import { afterAll, afterEach, beforeAll, describe, expect, it, jest } from '@jest/globals';
import { createHash } from 'node:crypto';
import { createServer, type IncomingMessage, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { addMirrored, type Mirrored } from '../../src/core/cutover/mirrored.js';
import type { Mirror } from '../../src/core/cutover/route.js';
import { type Copied, type Copies, openCopies } from '../../src/edge/cutover/copies.js';
import { freshNote } from '../../src/edge/count.js';
import { type MirrorRoom, openMirror } from '../../src/edge/cutover/mirror.js';

/** All that could be faked. */
const clocks = [
  'Date',
  'hrtime',
  'nextTick',
  'performance',
  'queueMicrotask',
  'setImmediate',
  'clearImmediate',
  'setInterval',
  'clearInterval',
  'setTimeout',
  'clearTimeout',
] as const;
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));
let server: Server;
let port: number;
/** Connections that a test has told to say nothing. */
let silent = 0;

beforeAll(async () => {
  server = createServer((request, response) => {
    const { url = '' } = request;
    if (url === '/long') return void response.end(Buffer.alloc(9 * 1024 * 1024, 'a'));
    if (url === '/broken') {
      response.writeHead(200, { 'content-length': 100 });
      response.write('begun');
      return void setTimeout(() => response.destroy(), 20);
    }
    if (url === '/never') return void silent++;
    if (url === '/half') {
      response.writeHead(200);
      return void response.write('and then');
    }
    response.writeHead(url === '/gone' ? 410 : 200, { 'content-type': 'text/plain; charset=utf-8' });
    response.end('seven');
  }).listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
  port = (server.address() as AddressInfo).port;
});
afterAll(() => {
  server.closeAllConnections();
  return new Promise((resolve) => server.close(resolve));
});

describe('a copy', () => {
  let copies: Copies;
  beforeAll(() => {
    copies = openCopies();
  });
  afterAll(() => copies.close());
  const ask = (path: string, { hash = false, method = 'GET' as const, at = port } = {}) => {
    const said: (Copied | null)[] = [];
    return new Promise<Copied | null>((resolve, reject) => {
      copies.ask(
        { origin: `http://127.0.0.1:${at}`, path, method, headers: ['host', 'a.localhost'], hash },
        (copied) => {
          said.push(copied);
          if (said.length > 1) reject(new Error('it was said twice'));
          else setTimeout(() => resolve(copied), 50);
        },
      );
    });
  };

  it('says what came: status, kind, length, time, and the digest of its body where that is wanted', async () => {
    expect(await ask('/')).toEqual({
      status: 200,
      kind: 'text/plain; charset=utf-8',
      bytes: 5,
      ms: expect.any(Number),
      body: null,
      whole: true,
    });
    const digest = createHash('sha256').update('seven').digest('hex');
    expect(await ask('/gone', { hash: true })).toMatchObject({ status: 410, bytes: 5, body: digest });
  });

  it('reads no more than eight mebibytes, and says that this is not the whole', async () => {
    const long = await ask('/long', { hash: true });
    expect(long).toMatchObject({ status: 200, whole: false });
    expect(long?.bytes).toBeGreaterThan(8 * 1024 * 1024);
    expect(long?.bytes).toBeLessThan(9 * 1024 * 1024);
  });

  it('is none where it breaks off, and where nobody listens', async () => {
    expect(await ask('/broken')).toBeNull();
    expect(await ask('/', { at: 1 })).toBeNull();
  });

  it('is given up after ten seconds, whether or not an answer has begun', async () => {
    const began = Date.now();
    const given = await Promise.all([ask('/never'), ask('/half'), ask('/', {})]);
    expect(given).toEqual([null, null, expect.objectContaining({ status: 200 })]);
    expect(Date.now() - began).toBeGreaterThan(9_500);
    expect(silent).toBe(1);
  });

  it('that waits for its turn behind such ones is given up, too, and does not go afterwards', async () => {
    silent = 0;
    const given = await Promise.all(Array.from({ length: 12 }, () => ask('/never')));
    expect(given).toEqual(Array.from({ length: 12 }, () => null));
    // Eight connections at a time. Those that were given up a moment later than the first may still have got one that was free by then.
    const asked = silent;
    expect(asked).toBeGreaterThanOrEqual(8);
    await pause(500);
    expect(silent).toBe(asked);
  });
});

describe('a mirror', () => {
  let room: MirrorRoom | null = null;
  let told: Mirrored | null = null;
  const open = () => {
    told = null;
    room = openMirror((all) => {
      for (const { mirrored } of all) told = addMirrored(told, mirrored);
    });
  };
  // Slices are over when the tests say so; all else takes the time that it takes.
  const faked = new Set<string>(['setInterval', 'clearInterval']);
  beforeAll(() => void jest.useFakeTimers({ doNotFake: clocks.filter((one) => !faked.has(one)) }));
  afterAll(() => void jest.useRealTimers());
  const turn = async () => {
    await pause(300);
    jest.advanceTimersByTime(5_000);
  };
  const all = (): Mirrored | null => told;
  afterEach(async () => {
    await room?.close();
    room = null;
  });
  let away = false;
  const to = (same: string[] = []): Mirror => ({
    stage: 'd2 0',
    target: {
      deployment: 'd2',
      release: 'r2',
      commit: 'c',
      paths: [
        {
          at: '/',
          kind: 'server',
          part: 'api',
          strip: false,
          sticky: null,
          instances: away ? [] : [{ id: 'i', address: '127.0.0.1', port }],
        },
      ],
    },
    paths: [],
    same,
  });
  const copy = (
    path: string,
    ms: number,
    { same = [], body = 'seven', bytes = 5 }: { same?: string[]; body?: string; bytes?: number } = {},
  ) => {
    const note = { ...freshNote(), bytes, kind: 'text/plain' };
    if (room?.hashes(to(same), path)) note.digest = createHash('sha256').update(body);
    const request = {
      method: 'GET',
      url: path,
      headers: { host: 'a.localhost' },
      rawHeaders: ['Host', 'a.localhost'],
      socket: { remoteAddress: '127.0.0.1' },
    } as unknown as IncomingMessage;
    room?.copy('a.localhost', to(same), request, { path, note, status: 200, ms, visible: () => path });
  };
  const burst = async (count: number, ms: number) => {
    for (let at = 0; at < count; at++) {
      copy('/', ms);
      if (at % 10 === 9) await pause(2);
    }
  };

  it('copies where one request comes in a while: a host is not forgotten between two of them', async () => {
    open();
    for (let at = 0; at < 5; at++) {
      copy('/', 5);
      for (let slice = 0; slice < 3; slice++) await turn();
    }
    // The first one is in the slice without copies.
    expect(all()?.compared).toBe(4);
  });

  it('says nothing of the length or the body of an answer that is longer than what is read', async () => {
    open();
    copy('/', 5);
    await turn();
    copy('/long', 5, { same: ['/long'], bytes: 9 * 1024 * 1024, body: 'it is another one' });
    copy('/', 5, { same: ['/'], body: 'eight' });
    // The long one takes as long as it takes.
    for (let slice = 0; slice < 30 && (all()?.compared ?? 0) < 2; slice++) await turn();
    expect(all()).toMatchObject({ compared: 2, length: 0, same: 1, differ: 1, status: 0 });
  });

  it('counts as an error of the new release that none of its servers is there', async () => {
    open();
    copy('/', 5);
    await turn();
    away = true;
    copy('/', 5);
    away = false;
    await turn();
    expect(all()).toMatchObject({ compared: 1, oldErrors: 0, nowErrors: 1, status: 1 });
  });

  it('stops while the originals take longer, and measures anew what they take without copies', async () => {
    open();
    const compared = async (ms: number) => {
      const before = all()?.compared ?? 0;
      await burst(60, ms);
      await turn();
      return (all()?.compared ?? 0) - before;
    };
    // A slice without copies, then some that are as fast: they go on.
    expect(await compared(10)).toBe(0);
    expect(await compared(10)).toBeGreaterThan(0);
    expect(await compared(12)).toBeGreaterThan(0);
    expect(all()?.rested).toBe(0);
    // From now on they take three times as long, copies or not: it stops for three slices.
    expect(await compared(30)).toBeGreaterThan(0);
    expect(all()?.rested).toBe(1);
    for (let slice = 0; slice < 3; slice++) expect(await compared(30)).toBe(0);
    // It was no better without copies: that is what they take now, and it does not stop again.
    for (let slice = 0; slice < 3; slice++) expect(await compared(30)).toBeGreaterThan(0);
    expect(all()?.rested).toBe(1);
  });

  it('takes its measure later where too few came at first', async () => {
    open();
    for (let slice = 0; slice < 2; slice++) {
      copy('/', 10);
      await turn();
    }
    expect(all()?.compared).toBe(1);
    // Now there are many: the slice after that is without copies, and then it knows when they take longer.
    await burst(60, 10);
    await turn();
    const before = all()?.compared;
    await burst(60, 10);
    await turn();
    expect(all()?.compared).toBe(before);
    expect(all()?.rested).toBe(0);
    await burst(60, 40);
    await turn();
    expect(all()?.rested).toBe(1);
  });
});
