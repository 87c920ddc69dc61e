import { chmodSync, mkdtempSync, rmSync } from 'node:fs';
import { createServer, type IncomingMessage, request, type Server, type ServerResponse } from 'node:http';
import { connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { pack } from 'tar-stream';
import type { Route, ServerPath, SitePath } from '../../src/core/cutover/route.js';
import { type RunningEdge, startEdge } from '../../src/edge/edge.js';
import { allEnd, budget, ends, mutated, patience, pieces } from '../fuzz/budget.js';
import { type Place, routeWith, serverPath, sitePath } from './routes.js';
import { until, visit } from './world.js';

const edgePort = 11_950 + (process.pid % 40);
const host = 'sailings-staging.localhost';
const bytes = `sha256:${'a'.repeat(64)}`;
const layer = `sha256:${'b'.repeat(64)}`;

let folder: string;
let edge: RunningEdge;
let service: Server;
/** What the stand-in service knows: routes with their versions, and what the edge has said it has. */
let routes: { host: string; version: number; body: Route | null }[] = [];
let have = -1;
let away = false;
let without: { host: string; version: number; issue: { code: string } | null }[] = [];
/** Bytes that are no site, by digest. */
const badLayers: Record<string, Buffer> = {};
let fetched = 0;
/** Answers questions about who may look, in their order. */
const questions: (() => void)[] = [];

const site = (): Readable => {
  const tar = pack();
  tar.entry({ name: 'web/index.html' }, '<h1>home</h1>');
  tar.entry({ name: 'web/a b.txt' }, 'spaced');
  tar.entry({ name: 'web/big.txt' }, 'x'.repeat(100_000));
  tar.entry({ name: 'web/.hidden' }, 'hidden');
  tar.entry({ name: 'outside.txt' }, 'outside');
  tar.entry({ name: 'web/passwd', type: 'symlink', linkname: '/etc/passwd' });
  tar.finalize();
  return tar as unknown as Readable;
};

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-edge-'));
  chmodSync(folder, 0o711);
  service = createServer((incoming, response) => answerAsService(incoming, response));
  await new Promise<void>((resolve) => service.listen(0, '127.0.0.1', resolve));
  edge = await open();
});
afterAll(async () => {
  await edge?.close();
  service?.closeAllConnections();
  service?.close();
  rmSync(folder, { recursive: true, force: true });
});

const open = () => {
  const { port } = service.address() as { port: number };
  return startEdge({
    url: `http://127.0.0.1:${port}`,
    token: 'tse_x',
    name: 'outlet',
    folder: join(folder, 'edge'),
    host: '127.0.0.1',
    port: edgePort,
    logLevel: 'silent',
  });
};

function answerAsService(incoming: IncomingMessage, response: ServerResponse): void {
  if (away) return void incoming.socket.destroy();
  if (incoming.url?.startsWith('/api/edge/blobs/')) {
    fetched++;
    const bad = badLayers[incoming.url.slice('/api/edge/blobs/'.length)];
    if (bad) return void response.end(bad);
    site().pipe(response);
    return;
  }
  if (incoming.url === '/api/edge/gate') {
    incoming.resume();
    questions.push(() => {
      response.setHeader('content-type', 'application/json');
      response.end(JSON.stringify({ goodMs: 60_000, pass: null, passSeconds: 0, why: null }));
    });
    return;
  }
  const parts: Buffer[] = [];
  incoming.on('data', (chunk: Buffer) => parts.push(chunk));
  incoming.on('end', async () => {
    const body = JSON.parse(Buffer.concat(parts).toString()) as {
      have: number;
      waitMs: number;
      without: typeof without;
    };
    have = body.have;
    without = body.without;
    const newer = () => routes.filter((route) => route.version > body.have);
    for (let waited = 0; waited < body.waitMs && newer().length === 0 && !away; waited += 20)
      await new Promise((resolve) => setTimeout(resolve, 20));
    response.setHeader('content-type', 'application/json');
    response.end(JSON.stringify({ routes: newer() }));
  });
}

let version = 0;
/** Gives the edge a route and waits until it says that it has it. */
async function give(body: Route | null, to = host): Promise<void> {
  version++;
  routes = [...routes.filter((route) => route.host !== to), { host: to, version, body }];
  await until('the edge has the route', async () => have >= version);
}

const servers: Server[] = [];
/** A program on a port of its own. */
async function program(
  handler: (incoming: IncomingMessage, response: ServerResponse) => void,
): Promise<{ id: string; address: string; port: number; server: Server }> {
  const server = createServer(handler);
  servers.push(server);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return {
    id: String(servers.length),
    address: '127.0.0.1',
    port: (server.address() as { port: number }).port,
    server,
  };
}
afterAll(() => {
  for (const server of servers) {
    server.closeAllConnections();
    server.close();
  }
});

const paths = (...instances: Place[]): [ServerPath, SitePath] => [
  serverPath('/api', instances),
  sitePath('/', bytes, [layer], { root: 'web', fallback: 'index.html' }),
];
const route = (...instances: Place[]): Route => routeWith(paths(...instances));

describe('a host that is written in capitals', () => {
  it('is the same, and its program gets it in small letters', async () => {
    const one = await program((incoming, response) =>
      response.end(`${incoming.headers.host} ${incoming.headers['x-forwarded-host']}`),
    );
    await give(route(one));
    const { text } = await visit(edgePort, 'Sailings-STAGING.localhost', '/api');
    const small = `sailings-staging.localhost:${edgePort}`;
    expect(text).toBe(`${small} ${small}`);
  });
});

describe('a client that leaves while the service is asked whether it may look', () => {
  it('is inside no more: the environment may fall asleep', async () => {
    const awake: Route = {
      ...route(),
      uses: { requests: true, connections: true, except: { paths: [], headers: {} } },
      gate: { access: 'signed-in', console: 'http://console.localhost' },
    };
    await give(awake, 'left.localhost');
    const leaving = request({
      host: '127.0.0.1',
      port: edgePort,
      headers: { host: 'left.localhost', 'tsunagi-pass': 'p'.repeat(40) },
    });
    leaving.on('error', () => {});
    leaving.end();
    const answer = await until('the service is asked', async () => questions.shift());
    leaving.destroy();
    await pause(100);
    answer();
    await pause(100);
    await give({ ...awake, asleep: true }, 'left.localhost');
    await until('it has let everybody go', async () => !without.some((one) => one.host === 'left.localhost'), 5_000);
    await give(null, 'left.localhost');
  });
});

describe('a site', () => {
  beforeEach(() => give(route()));

  it('serves files of its root, and the fallback for what is none', async () => {
    expect(await visit(edgePort, host, '/')).toEqual({ status: 200, text: '<h1>home</h1>' });
    expect((await visit(edgePort, host, '/a%20b.txt')).text).toBe('spaced');
    const page = { headers: { accept: 'text/html,*/*' } };
    expect(await visit(edgePort, host, '/sailings/today', page)).toEqual({ status: 200, text: '<h1>home</h1>' });
    expect((await visit(edgePort, host, '/sailings/today')).status).toBe(404);
  });

  it('serves nothing of its links, its hidden files, or beyond its root', async () => {
    for (const path of [
      '/passwd',
      '/.hidden',
      '/../outside.txt',
      '/%2e%2e/outside.txt',
      '/..%2foutside.txt',
      '//etc/passwd',
    ]) {
      const { text } = await visit(edgePort, host, path);
      expect([path, text.includes('root:'), text === 'hidden', text === 'outside']).toEqual([
        path,
        false,
        false,
        false,
      ]);
    }
  });

  it('can only be read', async () => {
    expect((await visit(edgePort, host, '/', { method: 'POST' })).status).toBe(405);
    expect(await visit(edgePort, host, '/', { method: 'HEAD' })).toEqual({ status: 200, text: '' });
  });

  it('answers ranges and conditions, and keeps its time while the bytes are the same', async () => {
    expect((await visit(edgePort, host, '/big.txt', { headers: { range: 'bytes=0-9' } })).text).toBe('x'.repeat(10));
    const etag = await new Promise<string>((resolve) => {
      request({ host: '127.0.0.1', port: edgePort, path: '/big.txt', headers: { host } }, (answer) => {
        answer.resume();
        resolve(String(answer.headers.etag));
      }).end();
    });
    expect((await visit(edgePort, host, '/big.txt', { headers: { 'if-none-match': etag } })).status).toBe(304);
  });

  it('is fetched once for the same bytes', async () => {
    const before = fetched;
    await give(routeWith(paths(), 'd2'));
    expect(fetched).toBe(before);
  });
});

describe('a server', () => {
  it('gets the request whole: method, path, query, body and who asked', async () => {
    const one = await program((incoming, response) => {
      const parts: Buffer[] = [];
      incoming.on('data', (chunk: Buffer) => parts.push(chunk));
      incoming.on('end', () =>
        response.end(
          JSON.stringify({
            method: incoming.method,
            url: incoming.url,
            headers: incoming.headers,
            body: Buffer.concat(parts).toString(),
          }),
        ),
      );
    });
    await give(route(one));
    const answer = await fetch(`http://127.0.0.1:${edgePort}/api/x?y=1`, {
      method: 'PUT',
      body: 'price',
      headers: { 'x-forwarded-for': '6.6.6.6', connection: 'close' },
    }).catch(() => null);
    expect(answer?.status).toBe(404);
    const whole = await new Promise<string>((resolve, reject) => {
      const call = request(
        {
          host: '127.0.0.1',
          port: edgePort,
          path: '/api/x?y=1',
          method: 'PUT',
          headers: { host, 'x-forwarded-for': '6.6.6.6', 'x-mine': 'kept' },
        },
        (incoming) => {
          let text = '';
          incoming.on('data', (chunk: Buffer) => {
            text += chunk.toString();
          });
          incoming.on('end', () => resolve(text));
        },
      );
      call.on('error', reject);
      call.end('price');
    });
    expect(JSON.parse(whole)).toMatchObject({
      method: 'PUT',
      url: '/api/x?y=1',
      body: 'price',
      headers: {
        'x-mine': 'kept',
        'x-forwarded-for': '127.0.0.1',
        'x-forwarded-host': host,
        'x-forwarded-proto': 'http',
        forwarded: `for=127.0.0.1;host="${host}";proto=http`,
        'x-request-id': expect.stringMatching(/^[0-9a-f-]{36}$/),
      },
    });
  });

  it('shares requests among its instances', async () => {
    const counts = [0, 0];
    const two = await Promise.all(
      [0, 1].map((at) =>
        program((_incoming, response) => {
          counts[at] = (counts[at] ?? 0) + 1;
          response.end('ok');
        }),
      ),
    );
    await give(route(...two));
    for (let n = 0; n < 10; n++) expect((await visit(edgePort, host, '/api')).status).toBe(200);
    expect(counts).toEqual([5, 5]);
  });

  it('that is gone is passed over for one that answers', async () => {
    const gone = await program((_incoming, response) => response.end('never'));
    const good = await program((_incoming, response) => response.end('good'));
    gone.server.close();
    await give(route(gone, good));
    for (let n = 0; n < 6; n++) expect(await visit(edgePort, host, '/api')).toEqual({ status: 200, text: 'good' });
  });

  it('that ends the connection is asked again, where the method allows it', async () => {
    let calls = 0;
    const one = await program((incoming, response) => {
      calls++;
      if (calls % 2) incoming.socket.destroy();
      else response.end('second try');
    });
    await give(route(one));
    expect(await visit(edgePort, host, '/api')).toEqual({ status: 200, text: 'second try' });
    calls = 0;
    expect((await visit(edgePort, host, '/api', { method: 'POST' })).status).toBe(502);
    expect(calls).toBe(1);
  });

  it('that is missing is said with 503 and when to try again', async () => {
    await give(route());
    expect(await visit(edgePort, host, '/api')).toMatchObject({
      status: 503,
      text: expect.stringContaining('Nothing is ready'),
    });
  });

  it('streams its answer while it is made', async () => {
    const one = await program((_incoming, response) => {
      response.write('first\n');
      setTimeout(() => response.end('last\n'), 150);
    });
    await give(route(one));
    const times = await new Promise<number[]>((resolve) => {
      const seen: number[] = [];
      request({ host: '127.0.0.1', port: edgePort, path: '/api', headers: { host } }, (incoming) => {
        incoming.on('data', () => seen.push(performance.now()));
        incoming.on('end', () => resolve(seen));
      }).end();
    });
    expect(times.length).toBe(2);
    expect((times[1] as number) - (times[0] as number)).toBeGreaterThan(50);
  });

  it('is told when the reader goes away', async () => {
    let closed = false;
    const one = await program((_incoming, response) => {
      response.write('begun');
      response.on('close', () => {
        closed = true;
      });
    });
    await give(route(one));
    const call = request({ host: '127.0.0.1', port: edgePort, path: '/api', headers: { host } }, (incoming) =>
      incoming.once('data', () => call.destroy()),
    );
    call.on('error', () => {});
    call.end();
    await until('the program is told', async () => closed);
  });

  it('can take a connection over', async () => {
    const one = await program(() => {});
    one.server.on('upgrade', (_incoming, socket) => {
      socket.write('HTTP/1.1 101 Switching Protocols\r\nupgrade: websocket\r\nconnection: upgrade\r\n\r\n');
      socket.pipe(socket);
    });
    await give(route(one));
    const heard = await new Promise<string>((resolve) => {
      const socket = connect(edgePort, '127.0.0.1', () =>
        socket.write(`GET /api HTTP/1.1\r\nhost: ${host}\r\nupgrade: websocket\r\nconnection: upgrade\r\n\r\n`),
      );
      let text = '';
      socket.on('data', (chunk: Buffer) => {
        text += chunk.toString();
        if (text.endsWith('\r\n\r\n')) socket.write('ahoy');
        if (text.endsWith('ahoy')) {
          socket.destroy();
          resolve(text);
        }
      });
    });
    expect(heard).toMatch(/^HTTP\/1\.1 101[\s\S]*ahoy$/);
  });
});

describe('the table', () => {
  it('leads nowhere for an unknown host, and for one that was taken away', async () => {
    expect(await visit(edgePort, 'nowhere.localhost', '/')).toMatchObject({
      status: 404,
      text: expect.stringContaining('No environment'),
    });
    await give(route(), 'pr-1-sailings.review.localhost');
    expect((await visit(edgePort, 'pr-1-sailings.review.localhost', '/')).status).toBe(200);
    await give(null, 'pr-1-sailings.review.localhost');
    expect((await visit(edgePort, 'pr-1-sailings.review.localhost', '/')).status).toBe(404);
  });

  it('does not care about the case or the port of a host', async () => {
    expect((await visit(edgePort, host.toUpperCase(), '/')).status).toBe(200);
  });

  it('stays as it was while the service is away, also after a start', async () => {
    away = true;
    service.closeAllConnections();
    expect((await visit(edgePort, host, '/')).status).toBe(200);
    await edge.close();
    edge = await open();
    expect((await visit(edgePort, host, '/')).text).toBe('<h1>home</h1>');
    away = false;
    await give(routeWith(paths(), 'd9'));
  });

  it('takes each host by itself: one that cannot be served stays as it was, is named, and holds up nobody else, also after a start', async () => {
    const bytesOf = async (...entries: Parameters<ReturnType<typeof pack>['entry']>[0][]) => {
      const tar = pack();
      for (const header of entries) tar.entry(header, header.type ? '' : 'x'.repeat(3_000));
      tar.finalize();
      const parts: Buffer[] = [];
      for await (const chunk of tar) parts.push(chunk as Buffer);
      return Buffer.concat(parts);
    };
    const digests = ['1', '2', '3'].map((digit) => `sha256:${digit.repeat(64)}`) as [string, string, string];
    badLayers[digests[0]] = (await bytesOf({ name: 'web/index.html' }, { name: 'web/more.html' })).subarray(0, 2_000);
    badLayers[digests[1]] = await bytesOf({ name: 'web/index.html' }, { name: 'web/pipe', type: 'fifo' });
    badLayers[digests[2]] = Buffer.from('no archive at all '.repeat(100));
    const bad = 'sailings-bad.localhost';
    await give(route(), bad);
    for (const digest of digests) {
      const [server, page] = paths();
      await give(routeWith([server, { ...page, bytes: digest, layers: [digest] }]), bad);
      await until('it is named', async () =>
        without.some((one) => one.host === bad && /^output_/.test(one.issue?.code ?? '')),
      );
      expect((await visit(edgePort, bad, '/')).text).toBe('<h1>home</h1>');
      await give(routeWith(paths(), 'd12'));
      expect((await visit(edgePort, host, '/')).status).toBe(200);
      await edge.close();
      edge = await open();
      await until('it is named again', async () => without.some((one) => one.host === bad));
      expect([(await visit(edgePort, host, '/')).status, (await visit(edgePort, bad, '/')).status]).toEqual([200, 200]);
    }
    await give(route(), bad);
    await until('it is taken', async () => without.length === 0);
  });

  it('moves without losing a request', async () => {
    const texts = ['one', 'two'];
    const [one, two] = await Promise.all(
      texts.map((text) => program((_incoming, response) => setTimeout(() => response.end(text), 5))),
    );
    let lost = 0;
    let sent = 0;
    let going = true;
    const load = Promise.all(
      Array.from({ length: 8 }, async () => {
        while (going) {
          sent++;
          const { status, text } = await visit(edgePort, host, '/api').catch(() => ({ status: 0, text: '' }));
          if (status !== 200 || !texts.includes(text)) lost++;
        }
      }),
    );
    await give(route(one as never));
    sent = 0;
    lost = 0;
    for (let round = 0; round < 10 || sent <= 50; round++) await give(route((round % 2 ? one : two) as never));
    going = false;
    await load;
    expect([lost, sent > 50]).toEqual([0, true]);
  });
});

describe('what comes to an address, whatever it is', () => {
  const requests = [
    `GET /api/one?x=1 HTTP/1.1\r\nhost: ${host}\r\nx-forwarded-for: 9.9.9.9\r\nforwarded: for=9.9.9.9\r\nconnection: keep-alive, x-gone\r\nx-gone: 1\r\n\r\n`,
    `POST /api/two HTTP/1.1\r\nhost: ${host}\r\ncontent-length: 5\r\n\r\nahoy!GET /a%20b.txt HTTP/1.1\r\nhost: ${host}\r\nrange: bytes=1-2\r\n\r\n`,
    `PUT /api/three HTTP/1.1\r\nhost: ${host}\r\ntransfer-encoding: chunked\r\n\r\n5\r\nahoy!\r\n0\r\nx-after: 1\r\n\r\n`,
    `GET /api/../web/../big.txt HTTP/1.1\r\nhost: ${host}\r\nexpect: 100-continue\r\nte: trailers\r\n\r\n`,
    `GET /api HTTP/1.1\r\nhost: ${host}\r\nupgrade: websocket\r\nconnection: upgrade\r\n\r\nGET /elsewhere HTTP/1.1\r\nhost: other\r\n\r\n`,
  ].map((text) => Buffer.from(text));

  it(
    'is answered in HTTP or cut off; a program hears only of its own paths, under its host, and the next visitor is served',
    async () => {
      const heard: IncomingMessage[] = [];
      const one = await program((incoming, response) => {
        heard.push(incoming);
        incoming.resume().on('end', () => response.end('heard'));
        incoming.on('error', () => {});
      });
      one.server.on('upgrade', (incoming, socket) => {
        heard.push(incoming);
        socket.on('error', () => {}).end('HTTP/1.1 403 Forbidden\r\ncontent-length: 2\r\n\r\nno');
      });
      await give(route(one));
      const send = (parts: Buffer[]) =>
        new Promise<string>((resolve) => {
          const socket = connect(edgePort, '127.0.0.1', () => {
            for (const part of parts) socket.write(part);
            socket.end();
          });
          let answer = '';
          socket.on('data', (chunk: Buffer) => (answer += chunk.toString('latin1')));
          socket.on('error', () => {});
          socket.on('close', () => resolve(answer));
        });
      await fc.assert(
        fc.asyncProperty(
          fc
            .constantFrom(...requests)
            .chain((whole) =>
              fc.oneof({ weight: 5, arbitrary: mutated(whole) }, { weight: 1, arbitrary: fc.constant(whole) }),
            ),
          fc.array(fc.integer({ min: 1, max: 80 }), { maxLength: 5 }),
          async (bytes, sizes) => {
            heard.length = 0;
            const answer = await ends(send(pieces(bytes, sizes)));
            expect(answer === '' || /^HTTP\/1\.1 [1-5]\d\d /.test(answer)).toBe(true);
            for (const { url, headers } of heard) {
              expect(url).toMatch(/^\/api($|[/?])/);
              expect([headers.host, headers.forwarded, headers['x-forwarded-for']]).toEqual([
                host,
                `for=127.0.0.1;host="${host}";proto=http`,
                '127.0.0.1',
              ]);
            }
            expect((await visit(edgePort, host, '/')).text).toBe('<h1>home</h1>');
          },
        ),
        budget,
      );
      await allEnd();
    },
    patience,
  );
});
