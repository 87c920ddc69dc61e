/** What an edge makes of bytes that are no plain request: ambiguous, too large, or an offer of another protocol. */
import { execFile } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import { connect as connectTcp, type AddressInfo, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { WebSocket, WebSocketServer } from 'ws';
import { watchFrames } from '../../src/edge/frames.js';
import { openOutlet, type Outlet } from './outlet.js';
import { routeWith, serverPath } from './routes.js';
import { until } from './world.js';

const port = 11_900 + Number(process.env.JEST_WORKER_ID ?? 1) * 10;
let outlet: Outlet;
let program: Server;
let sockets: WebSocketServer;
const seen: { method: string; url: string; headers: string[]; body: string }[] = [];

beforeAll(async () => {
  outlet = await openOutlet(port);
  program = createServer((request, response) => {
    let body = '';
    request.setEncoding('utf8').on('data', (more: string) => {
      body += more;
    });
    request.on('end', () => {
      seen.push({ method: request.method ?? '', url: request.url ?? '', headers: request.rawHeaders, body });
      if (request.url === '/hints') response.writeEarlyHints({ link: '</app.css>; rel=preload' });
      response.writeHead(200, { connection: 'x-hop, close', 'x-hop': 'of this connection', 'x-kept': 'yes' });
      response.end('answered');
    });
  });
  sockets = new WebSocketServer({ server: program });
  sockets.on('connection', (socket) => socket.on('message', (text) => socket.send(`heard ${text}`)));
  await new Promise<void>((resolve) => program.listen(0, '127.0.0.1', resolve));
  const place = { id: 'one', address: '127.0.0.1', port: (program.address() as AddressInfo).port };
  await outlet.give(routeWith([serverPath('/', [place])]));
});
afterAll(async () => {
  await outlet?.close();
  program?.closeAllConnections();
  program?.close();
});

/** Sends bytes as they are; gives what comes back until the other side ends, or nothing more comes. */
const send = (text: string, quietMs = 1_500): Promise<string> =>
  new Promise((resolve) => {
    const socket: Socket = connectTcp(port, '127.0.0.1', () => socket.write(text, 'latin1'));
    let answer = '';
    const done = () => {
      socket.destroy();
      resolve(answer);
    };
    socket.setTimeout(quietMs, done);
    socket.setEncoding('latin1').on('data', (more: string) => {
      answer += more;
    });
    socket.on('error', done).on('close', done);
  });
const host = 'Host: sailings-staging.localhost\r\n';

describe('a request', () => {
  it.each([
    ['with two hosts', `GET / HTTP/1.1\r\n${host}Host: other.localhost\r\n\r\n`, 400],
    ['without a host', 'GET / HTTP/1.1\r\n\r\n', 400],
    ['in another transfer coding', `POST / HTTP/1.1\r\n${host}Transfer-Encoding: gzip, chunked\r\n\r\n0\r\n\r\n`, 501],
    ['that is none', 'HELO harbour\r\n\r\n', 400],
    [
      'with a length and a coding',
      `POST / HTTP/1.1\r\n${host}Content-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n`,
      400,
    ],
    ['with headers of 40 kB', `GET / HTTP/1.1\r\n${host}X-Large: ${'x'.repeat(40_000)}\r\n\r\n`, 431],
  ])('%s is answered, and goes nowhere', async (_, text, status) => {
    const before = seen.length;
    expect(await send(text)).toMatch(new RegExp(`^HTTP/1.1 ${status} `));
    expect(seen.length).toBe(before);
  });

  it('that only offers another protocol is answered in this one, with its body', async () => {
    const offered = await send(
      `POST /offer HTTP/1.1\r\n${host}Connection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: AAMAAABkAAQAAP__\r\nContent-Length: 5\r\n\r\nwords`,
    );
    expect(offered).toMatch(/^HTTP\/1.1 200 [\s\S]*answered/);
    expect(seen.at(-1)).toMatchObject({ method: 'POST', url: '/offer', body: 'words' });
    expect(seen.at(-1)?.headers.join(' ').toLowerCase()).not.toMatch(/upgrade|http2-settings/);
    const chunked = await send(
      `POST /again HTTP/1.1\r\n${host}Connection: Upgrade\r\nUpgrade: TLS/1.3\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\nGET /next HTTP/1.1\r\n${host}\r\n`,
    );
    expect(chunked.match(/HTTP\/1.1 200/g)).toHaveLength(2);
    expect(
      seen
        .slice(-2)
        .map(({ url, body }) => [url, body])
        .sort(),
    ).toEqual([
      ['/again', 'abc'],
      ['/next', ''],
    ]);
  });

  it('of a client that offers HTTP/2 is answered with its body: curl, and the client of Java', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-clients-'));
    const name = host.trim();
    try {
      writeFileSync(
        join(folder, 'Post.java'),
        `import java.net.URI;
import java.net.http.*;
public class Post {
  public static void main(String[] words) throws Exception {
    var request = HttpRequest.newBuilder(URI.create(words[0])).header("Host", "${name.slice('Host: '.length)}")
      .POST(HttpRequest.BodyPublishers.ofString("from java")).build();
    System.out.print(HttpClient.newHttpClient().send(request, HttpResponse.BodyHandlers.ofString()).body());
  }
}
`,
      );
      const run = promisify(execFile);
      const url = `http://127.0.0.1:${port}/upgrade`;
      const java = ['-Djdk.httpclient.allowRestrictedHeaders=host', join(folder, 'Post.java'), url];
      const answers = [
        await run('curl', ['-s', '--http2', '-H', name, '-d', 'from curl', url]),
        await run('java', java),
      ];
      expect(answers.map(({ stdout }) => stdout)).toEqual(['answered', 'answered']);
      expect(seen.slice(-2).map(({ url: path, body }) => [path, body])).toEqual([
        ['/upgrade', 'from curl'],
        ['/upgrade', 'from java'],
      ]);
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  });

  it('says nothing to the program of who asked but what the edge saw', async () => {
    await send(
      `GET / HTTP/1.1\r\n${host}X-Real-IP: 10.0.0.1\r\nX_Forwarded_For: 10.0.0.2\r\nX-Forwarded-For: 10.0.0.3\r\nX_Real_Ip: 10.0.0.4\r\nX-Own: kept\r\nConnection: close\r\n\r\n`,
    );
    const told = seen.at(-1)?.headers.join('\n') ?? '';
    expect(told).not.toMatch(/10\.0\.0\./);
    expect(told).toMatch(/x-forwarded-for\n127\.0\.0\.1/i);
    expect(told).toMatch(/X-Own\nkept/);
  });
});

describe('an answer', () => {
  it('comes without what the program says of its own connection, and with its hints', async () => {
    const answer = await send(`GET /hints HTTP/1.1\r\n${host}Connection: close\r\n\r\n`);
    expect(answer).toMatch(/^HTTP\/1.1 103 Early Hints\r\nLink: <\/app\.css>; rel=preload\r\n\r\nHTTP\/1.1 200/i);
    expect(answer).toMatch(/x-kept: yes/i);
    expect(answer).not.toMatch(/x-hop/i);
  });
});

describe('a WebSocket', () => {
  it('hears that its server goes away when its program ends without a word', async () => {
    const socket = new WebSocket(`ws://127.0.0.1:${port}/socket`, { headers: { host: 'sailings-staging.localhost' } });
    const closed = new Promise<number>((resolve) => socket.on('close', resolve));
    const heard: string[] = [];
    socket.on('message', (text) => heard.push(String(text)));
    await new Promise((resolve) => socket.on('open', resolve));
    socket.send('x'.repeat(70_000));
    await until('it is heard', async () => heard.length === 1);
    for (const one of sockets.clients) (one as unknown as { _socket: Socket })._socket.destroy();
    expect(await closed).toBe(1001);
  });

  it('has its frames counted, in pieces of any size', () => {
    const frame = (size: number, code = 2): Buffer => {
      const head =
        size < 126
          ? Buffer.from([0x80 | code, size])
          : size < 65_536
            ? Buffer.from([0x80 | code, 126, size >> 8, size & 255])
            : Buffer.concat([
                Buffer.from([0x80 | code, 127, 0, 0, 0, 0]),
                Buffer.from([size >> 24, (size >> 16) & 255, (size >> 8) & 255, size & 255]),
              ]);
      return Buffer.concat([head, Buffer.alloc(size)]);
    };
    const ends = new Set<number>([0]);
    const parts = [frame(0), frame(5), frame(125), frame(126), frame(70_000), frame(3)];
    let total = 0;
    for (const part of parts) ends.add((total += part.length));
    const bytes = Buffer.concat(parts);
    for (const step of [1, 2, 3, 7, 1_000, bytes.length]) {
      const frames = watchFrames(Buffer.alloc(0));
      for (let at = 0; at < bytes.length; at += step) {
        frames.take(bytes.subarray(at, at + step));
        const now = Math.min(at + step, bytes.length);
        if (frames.between() !== ends.has(now)) throw new Error(`at ${now} in steps of ${step}`);
      }
      expect(frames.closed()).toBe(false);
      frames.take(frame(2, 8));
      expect([frames.closed(), frames.between()]).toEqual([true, true]);
    }
  });
});
