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
import * as grpc from '@grpc/grpc-js';
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

describe('a program that is asked in HTTP/1.1 by a client of HTTP/2', () => {
  /** A program that counts what it is asked; its place in a route. */
  async function older(handler: (request: IncomingMessage, response: ServerResponse) => void) {
    const server = createServer(handler);
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    path = serverPath('/', [{ id: 'older', address: '127.0.0.1', port: portOf(server) }]);
    return server;
  }
  const echo = (request: IncomingMessage, response: ServerResponse) => {
    const parts: Buffer[] = [];
    request.on('data', (chunk: Buffer) => parts.push(chunk));
    request.on('end', () =>
      response.end(JSON.stringify({ body: Buffer.concat(parts).toString(), headers: request.rawHeaders })),
    );
  };

  it('gets the body also where no length was named, small and large, and none where there is none', async () => {
    const server = await older(echo);
    const bodies = ['', 'words', 'x'.repeat(3_000_000)];
    for (const body of bodies) {
      const { text } = await call({ ':path': '/', ':method': 'POST' }, body);
      expect([body.length, (JSON.parse(text) as { body: string }).body === body]).toEqual([body.length, true]);
    }
    expect(JSON.parse((await call({ ':path': '/', ':method': 'GET' })).text)).toMatchObject({ body: '' });
    server.close();
  });

  it('gets the cookies of several lines as one', async () => {
    const server = await older(echo);
    const { text } = await call({ ':path': '/', cookie: ['a=1', 'tsunagi-visitor=x', 'b=2', 'c=3'] });
    const { headers } = JSON.parse(text) as { headers: string[] };
    expect(headers.flatMap((one, at) => (one.toLowerCase() === 'cookie' ? [headers[at + 1]] : []))).toEqual([
      'a=1; b=2; c=3',
    ]);
    server.close();
  });

  it('is asked once by a client that goes away: what may have been done is not done again', async () => {
    let [asked, ended] = [0, 0];
    const server = await older((request, response) => {
      asked++;
      request.resume();
      response.on('close', () => ended++);
    });
    for (const method of ['PUT', 'DELETE', 'GET']) {
      const before = asked;
      const stream = client.request({ ':path': '/', ':method': method }, { endStream: method !== 'PUT' });
      stream.on('error', () => {});
      if (method === 'PUT') stream.end('x');
      await until('the program is asked', async () => asked > before);
      stream.close(8);
      await until('the program hears of that', async () => ended === asked);
      await pause(200);
      expect([method, asked]).toEqual([method, before + 1]);
    }
    // As many resets as there are places leave every place free.
    for (let count = 0; count < defaultBounds.perInstance + 50; count++) {
      const stream = client.request({ ':path': '/' });
      stream.on('error', () => {});
      // Its head has gone out by then.
      await new Promise((resolve) => setImmediate(resolve));
      stream.close(8);
    }
    server.removeAllListeners('request');
    server.on('request', echo);
    await until('there is room', async () => (await call({ ':path': '/' })).status === 200);
    server.close();
  });

  it('is not asked again when it takes too long to answer', async () => {
    const slow = makeProxy({ ...defaultBounds, answerMs: 1_000 });
    let asked = 0;
    const server = await older(() => asked++);
    const at = { id: 'again', address: '127.0.0.1', port: portOf(server) };
    const own = createServer((request, response) =>
      slow.pass(serverPath('/', [at, { ...at, id: 'other' }]), '/', request, response, freshNote()),
    );
    await new Promise<void>((resolve) => own.listen(0, '127.0.0.1', resolve));
    const answer = await fetch(`http://127.0.0.1:${portOf(own)}/`);
    expect([answer.status, await answer.text(), asked]).toEqual([504, expect.stringContaining('in time'), 1]);
    own.close();
    server.closeAllConnections();
    server.close();
    await slow.close();
  });
});

describe('calls of gRPC', () => {
  const identity = (value: Buffer) => value;
  const method = (name: string, more: { requestStream?: boolean; responseStream?: boolean } = {}) => ({
    path: `/harbour.Quay/${name}`,
    requestStream: false,
    responseStream: false,
    requestSerialize: identity,
    requestDeserialize: identity,
    responseSerialize: identity,
    responseDeserialize: identity,
    ...more,
  });
  const service = { say: method('Say'), talk: method('Talk', { requestStream: true, responseStream: true }) };

  it('pass with their answers, their errors, and both ways for as long as they like', async () => {
    const server = new grpc.Server();
    server.addService(service, {
      say: (given: { request: Buffer }, done: (error: object | null, value?: Buffer) => void) =>
        given.request.toString() === 'fail'
          ? done({ code: grpc.status.NOT_FOUND, details: 'no such quay' })
          : done(null, Buffer.from(`said ${given.request}`)),
      talk: (both: grpc.ServerDuplexStream<Buffer, Buffer>) => {
        both.on('data', (chunk: Buffer) => both.write(Buffer.from(`heard ${chunk}`)));
        both.on('end', () => both.end());
      },
    });
    const port = await new Promise<number>((resolve, reject) =>
      server.bindAsync('127.0.0.1:0', grpc.ServerCredentials.createInsecure(), (error, at) =>
        error ? reject(error) : resolve(at),
      ),
    );
    leads({ id: 'grpc', address: '127.0.0.1', port });
    const Client = grpc.makeGenericClientConstructor(service, 'Quay');
    const peer = new Client(`127.0.0.1:${portOf(front)}`, grpc.credentials.createInsecure()) as unknown as {
      say(value: Buffer, done: (error: grpc.ServiceError | null, value: Buffer) => void): void;
      talk(): grpc.ClientDuplexStream<Buffer, Buffer>;
      close(): void;
    };
    const say = (text: string) =>
      new Promise<string>((resolve, reject) =>
        peer.say(Buffer.from(text), (error, value) => (error ? reject(error) : resolve(value.toString()))),
      );
    expect(await say('hello')).toBe('said hello');
    // An error is an answer of headers alone.
    await expect(say('fail')).rejects.toMatchObject({ code: grpc.status.NOT_FOUND, details: 'no such quay' });
    const both = peer.talk();
    const heard: string[] = [];
    both.on('data', (chunk: Buffer) => heard.push(chunk.toString()));
    for (const word of ['one', 'two']) {
      both.write(Buffer.from(word));
      await until(`${word} is heard`, async () => heard.includes(`heard ${word}`));
      await pause(300);
    }
    both.end();
    await new Promise((resolve) => both.on('end', resolve));
    peer.close();
    server.forceShutdown();
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
