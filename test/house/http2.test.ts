/** Programs that are asked in HTTP/2: by an edge's proxy alone, with streams both ways; and in an environment. */
import { createServer, request as ask, type Server } from 'node:http';
import {
  type ClientHttp2Session,
  connect,
  createServer as createHttp2,
  type Http2Server,
  type IncomingHttpHeaders,
  type OutgoingHttpHeaders,
  type ServerHttp2Session,
  type ServerHttp2Stream,
} from 'node:http2';
import type { AddressInfo } from 'node:net';
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, afterEach, beforeAll, describe, expect, it } from '@jest/globals';
import type { IncomingMessage, ServerResponse } from 'node:http';
import type { ServerPath } from '../../src/core/cutover/route.js';
import { defaultBounds } from '../../src/edge/bounds.js';
import { freshNote } from '../../src/edge/count.js';
import { makeProxy, type ServerProxy } from '../../src/edge/proxy.js';
import { serverPath } from './routes.js';
import { openWorld, until, type World } from './world.js';

type Handler = (stream: ServerHttp2Stream, headers: IncomingHttpHeaders) => void;
const programs: Http2Server[] = [];
const sessions: ServerHttp2Session[] = [];
const portOf = (server: { address(): unknown }) => (server.address() as AddressInfo).port;

/** A program that speaks HTTP/2; its place in a route. */
async function program(id: string, handler: Handler) {
  const server = createHttp2();
  server.on('stream', (stream, headers) => {
    stream.on('error', () => {});
    handler(stream, headers);
  });
  server.on('session', (session) => sessions.push(session));
  programs.push(server);
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return { id, address: '127.0.0.1', port: portOf(server), server };
}

let proxy: ServerProxy;
let path: ServerPath;
/** Fronts through which clients come, in either version. */
let plain: Server;
let front: Http2Server;
let client: ClientHttp2Session;
const serve = (request: IncomingMessage, response: ServerResponse) => {
  response.on('error', () => {});
  proxy.pass(path, request.url ?? '/', request, response, freshNote());
};
beforeAll(async () => {
  plain = createServer(serve);
  front = createHttp2((request, response) => serve(request as never, response as never));
  await Promise.all([plain, front].map((one) => new Promise<void>((resolve) => one.listen(0, '127.0.0.1', resolve))));
  client = connect(`http://127.0.0.1:${portOf(front)}`);
  proxy = makeProxy(defaultBounds);
});
afterEach(() => {
  for (const session of sessions.splice(0)) session.destroy();
  for (const one of programs.splice(0)) one.close();
});
afterAll(async () => {
  client.destroy();
  await proxy.close();
  plain.closeAllConnections();
  plain.close();
  front.close();
});
const leads = (...places: { id: string; address: string; port: number }[]) => {
  path = serverPath('/', places, { http2: true });
};

/** A call over HTTP/2, with its trailers. */
function call(headers: OutgoingHttpHeaders, body: string | null = null) {
  const stream = client.request(headers, { endStream: body === null });
  return new Promise<{ status: number; text: string; headers: IncomingHttpHeaders; trailers: IncomingHttpHeaders }>(
    (resolve, reject) => {
      let [text, found, trailers] = ['', {} as IncomingHttpHeaders, {} as IncomingHttpHeaders];
      stream.on('response', (got) => {
        found = got;
      });
      stream.on('trailers', (got) => {
        trailers = got;
      });
      stream.setEncoding('utf8').on('data', (more: string) => {
        text += more;
      });
      stream.on('end', () => resolve({ status: Number(found[':status']), text, headers: found, trailers }));
      stream.on('error', reject);
      if (body !== null) stream.end(body);
    },
  );
}
/** The same over HTTP/1.1. */
function call1(method: string, to: string, body: string | null = null, headers: Record<string, string> = {}) {
  return new Promise<{ status: number; text: string; trailers: Record<string, string | undefined> }>(
    (resolve, reject) => {
      const asked = ask(
        { host: '127.0.0.1', port: portOf(plain), method, path: to, headers, agent: false },
        (answer) => {
          let text = '';
          answer.setEncoding('utf8').on('data', (more: string) => {
            text += more;
          });
          answer.on('error', reject);
          answer.on('end', () => resolve({ status: answer.statusCode ?? 0, text, trailers: answer.trailers }));
        },
      );
      asked.on('error', reject);
      asked.end(body ?? undefined);
    },
  );
}

describe('a program that is asked in HTTP/2', () => {
  it('hears who asks for what, in the words of HTTP/2', async () => {
    const one = await program('a', (stream, headers) => {
      let text = '';
      stream.setEncoding('utf8').on('data', (more: string) => {
        text += more;
      });
      stream.on('end', () => {
        stream.respond({ ':status': 201, 'x-own': 'yes' });
        stream.end(JSON.stringify({ ...headers, text }));
      });
    });
    leads(one);
    const { status, text } = await call1('POST', '/list?a=1', 'words', {
      host: 'pier.localhost',
      te: 'trailers',
      'x-forwarded-for': '10.0.0.1',
    });
    const heard = JSON.parse(text) as Record<string, string>;
    expect([status, heard.text]).toEqual([201, 'words']);
    expect(heard).toMatchObject({
      ':method': 'POST',
      ':path': '/list?a=1',
      ':authority': 'pier.localhost',
      te: 'trailers',
      'x-forwarded-for': '127.0.0.1',
      forwarded: expect.stringContaining('host="pier.localhost"'),
    });
    expect(heard.host).toBeUndefined();
    expect(heard.connection).toBeUndefined();
    expect((await call1('GET', '/')).text).toContain('"text":""');
  });

  it('answers with trailers, to whoever can have them', async () => {
    const one = await program('a', (stream) => {
      stream.respond({ ':status': 200, 'content-type': 'application/grpc' }, { waitForTrailers: true });
      stream.on('wantTrailers', () => stream.sendTrailers({ 'grpc-status': '0', 'x-sum': 'abc' }));
      stream.end('body');
    });
    leads(one);
    const two = await call({ ':path': '/', ':method': 'POST', te: 'trailers' }, 'asked');
    expect([two.status, two.text, two.trailers['grpc-status'], two.trailers['x-sum']]).toEqual([
      200,
      'body',
      '0',
      'abc',
    ]);
    const older = await call1('GET', '/');
    expect([older.text, older.trailers['x-sum']]).toEqual(['body', 'abc']);
  });

  it('is heard while it is still being asked', async () => {
    const one = await program('a', (stream) => {
      stream.respond({ ':status': 200 });
      stream.setEncoding('utf8').on('data', (more: string) => stream.write(`heard ${more}. `));
      stream.on('end', () => stream.end('over'));
    });
    leads(one);
    const stream = client.request({ ':path': '/', ':method': 'POST' }, { endStream: false });
    let text = '';
    stream.setEncoding('utf8').on('data', (more: string) => {
      text += more;
    });
    stream.write('one');
    await until('the first is heard', async () => text === 'heard one. ');
    stream.write('two');
    await until('the second is heard', async () => text === 'heard one. heard two. ');
    stream.end();
    await until('it is over', async () => text.endsWith('over'));
  });

  it('hears that whoever asked has gone, and holds nobody else up', async () => {
    let over: number | null = null;
    const one = await program('a', (stream, headers) => {
      if (headers[':path'] === '/quick') return stream.respond({ ':status': 204 }, { endStream: true });
      stream.respond({ ':status': 200 });
      stream.write('begun');
      stream.on('close', () => {
        over = stream.rstCode ?? -1;
      });
    });
    leads(one);
    const stream = client.request({ ':path': '/slow' });
    stream.on('error', () => {});
    await new Promise((resolve) => stream.once('data', resolve));
    expect((await call1('GET', '/quick')).status).toBe(204);
    stream.close(8);
    await until('it has ended there', async () => over !== null);
    expect(over).toBe(8);
    // One connection carried both.
    expect(sessions).toHaveLength(1);
  });

  it('writes no more than a slow reader takes', async () => {
    let written = 0;
    const piece = Buffer.alloc(64 * 1024, 1);
    const one = await program('a', (stream) => {
      stream.respond({ ':status': 200 });
      const go = () => {
        while (written < 200 * 1024 * 1024) {
          written += piece.length;
          if (!stream.write(piece)) return void stream.once('drain', go);
        }
        stream.end();
      };
      go();
    });
    leads(one);
    const asked = ask({ host: '127.0.0.1', port: portOf(plain), path: '/', agent: false });
    asked.on('error', () => {});
    await new Promise<void>((resolve) => {
      asked.on('response', (answer) => {
        answer.pause();
        resolve();
      });
      asked.end();
    });
    // What fits between the two is on its way for a moment, longer where the machine is busy.
    await until('nothing more is written', async () => {
      const now = written;
      await pause(500);
      return now > 0 && written === now;
    });
    expect(written).toBeLessThan(40 * 1024 * 1024);
    asked.destroy();
  });

  it('that is gone is followed by the next where nothing was sent, and said where something was', async () => {
    const gone = await program('gone', () => {});
    await new Promise<void>((resolve) => gone.server.close(() => resolve()));
    programs.splice(0);
    const here = await program('here', (stream) => {
      stream.respond({ ':status': 200 });
      stream.end('here');
    });
    leads(gone, here);
    for (let count = 0; count < 4; count++) expect((await call1('GET', '/')).text).toBe('here');
    const posts = [await call1('POST', '/', 'x'), await call1('POST', '/', 'x')];
    expect(posts.map((one) => one.status).sort()).toEqual([200, 502]);
    expect(posts.find((one) => one.status === 502)?.text).toContain('ended the connection');
    leads(gone);
    expect((await call1('GET', '/')).status).toBe(502);
    leads();
    expect((await call1('GET', '/')).status).toBe(503);
  });

  it('that breaks off in the midst of an answer is not taken for one that has ended', async () => {
    const one = await program('a', (stream, headers) => {
      stream.respond({ ':status': 200 });
      stream.write('half');
      if (headers[':path'] === '/broken') setTimeout(() => stream.destroy(new Error('it broke')), 50);
      else setTimeout(() => stream.session?.destroy(), 50);
    });
    leads(one);
    await expect(call1('GET', '/broken')).rejects.toThrow();
    await expect(call1('GET', '/ended')).rejects.toThrow();
  });

  it('that tells a connection to go is asked by another one, and ends what it has begun', async () => {
    let finish = () => {};
    const one = await program('a', (stream, headers) => {
      stream.respond({ ':status': 200 });
      if (headers[':path'] === '/long') {
        finish = () => stream.end('whole');
        stream.write('');
      } else stream.end('next');
    });
    leads(one);
    const long = call1('GET', '/long');
    await until('it was begun', async () => sessions.length === 1 && finish.toString() !== '() => { }');
    await pause(50);
    sessions[0]?.goaway();
    await until('the next is answered', async () => (await call1('GET', '/').catch(() => null))?.text === 'next');
    finish();
    expect((await long).text).toBe('whole');
    expect(sessions.length).toBeGreaterThanOrEqual(2);
  });
});

describe('in an environment', () => {
  let world: World;
  beforeAll(async () => {
    world = await openWorld();
  });
  afterAll(() => world?.close());

  it('a server that says so is looked at, and asked, in HTTP/2 alone', async () => {
    const { checkout, first } = await world.hosted('calls', {
      'package.json': '{ "type": "module" }\n',
      'server.js': `import { createServer } from 'node:http2';
const server = createServer();
server.on('stream', (stream, headers) => {
  stream.respond({ ':status': headers[':path'] === '/none' ? 404 : 200 });
  stream.end(JSON.stringify({ path: headers[':path'], host: headers[':authority'] }));
});
server.listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`,
      'tsunagi.yaml': `tsunagi: 1
release:
  parts:
    api: { kind: server, start: node server.js, ready: /ready, http2: true, strip: true, at: /api, instances: 2 }
environments:
  staging: { branch: main }
`,
    });
    await checkout.push();
    await world.waitLive('calls', 'staging', first);
    const { status, text } = await world.visit('calls-staging.localhost', '/api/list');
    expect([status, JSON.parse(text)]).toEqual([
      200,
      { path: '/list', host: `calls-staging.localhost:${world.house.edgePort}` },
    ]);
    expect((await world.visit('calls-staging.localhost', '/api/none')).status).toBe(404);
    // Fresh programs, and no request is lost.
    const codes = new Set<number>();
    let on = true;
    const asking = (async () => {
      while (on) codes.add((await world.visit('calls-staging.localhost', '/api/list')).status);
    })();
    expect((await world.cli('restart', 'calls/staging')).status).toBe(0);
    on = false;
    await asking;
    expect([...codes]).toEqual([200]);
  });
});
