/** What a client sends to an edge before it is understood: frames of HTTP/2, and the header of the PROXY protocol. */
import { createServer } from 'node:http';
import { connect as connectHttp2 } from 'node:http2';
import { type AddressInfo, connect, type Server, type Socket } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { openCallers, readProxyHeader } from '../../src/edge/callers.js';
import { openTls } from '../../src/edge/tls.js';
import { makeRoot, signLocally } from '../../src/domains/local.js';
import { createSecureContext } from 'node:tls';
import { connect as connectTls } from 'node:tls';
import { budget, ends, mutated, patience, pieces } from './budget.js';

const preface = Buffer.from('PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n');
/** A frame (RFC 9113, 4.1). */
function frame(type: number, flags: number, stream: number, payload: Buffer): Buffer {
  const head = Buffer.alloc(9);
  head.writeUIntBE(payload.length, 0, 3);
  head[3] = type;
  head[4] = flags;
  head.writeUInt32BE(stream >>> 0, 5);
  return Buffer.concat([head, payload]);
}
const anyFrame = fc
  .record({
    type: fc.nat(12),
    flags: fc.nat(255),
    stream: fc.oneof(fc.nat(9), fc.nat(0xffffffff)),
    payload: fc.uint8Array({ maxLength: 200 }),
  })
  .map((one) => frame(one.type, one.flags, one.stream, Buffer.from(one.payload)));
/** SETTINGS, then GET / of the host in literal fields without an index (RFC 7541, 6.2.2). */
const field = (name: string, value: string) =>
  Buffer.concat([Buffer.of(0, name.length), Buffer.from(name), Buffer.of(value.length), Buffer.from(value)]);
const good = Buffer.concat([
  preface,
  frame(4, 0, 0, Buffer.alloc(0)),
  frame(
    1,
    5,
    1,
    Buffer.concat([
      field(':method', 'GET'),
      field(':scheme', 'https'),
      field(':path', '/'),
      field(':authority', 'pier.kohama.test'),
    ]),
  ),
]);

let plain: Server;
let tls: { close(): void };
let port: number;
let answered = 0;
beforeAll(async () => {
  const authority = await makeRoot(Date.now());
  const { chain, key } = await signLocally(authority, 'pier.kohama.test', Date.now());
  const context = createSecureContext({ cert: chain, key });
  const handle = (_request: unknown, response: { end(text: string): void }) => {
    answered++;
    response.end('here');
  };
  plain = createServer(handle as never);
  port = 24_000 + (process.pid % 900);
  tls = await openTls({
    host: '127.0.0.1',
    port,
    certificates: { context: () => context } as never,
    plain: plain as never,
    handle: handle as never,
    guard: openCallers(['127.0.0.0/8'], false).guard,
  });
});
afterAll(() => tls?.close());

/** Sends these bytes over TLS with ALPN h2; resolves when the other side has closed, or a moment after all was sent. */
const send = (bytes: Buffer, sizes: readonly number[]) =>
  new Promise<void>((resolve) => {
    const socket: Socket = connectTls({
      host: '127.0.0.1',
      port,
      servername: 'pier.kohama.test',
      rejectUnauthorized: false,
      ALPNProtocols: ['h2'],
    });
    const end = () => {
      socket.destroy();
      resolve();
    };
    socket.on('error', end);
    socket.on('close', end);
    socket.on('data', () => {});
    socket.once('secureConnect', () => {
      for (const piece of pieces(bytes, sizes)) if (!socket.destroyed) socket.write(piece);
      setTimeout(end, 15);
    });
  });
const asks = () =>
  new Promise<string>((resolve, reject) => {
    const client = connectHttp2(`https://127.0.0.1:${port}`, {
      rejectUnauthorized: false,
      servername: 'pier.kohama.test',
    });
    client.on('error', reject);
    const stream = client.request({ ':path': '/', ':authority': 'pier.kohama.test' });
    let text = '';
    stream.setEncoding('utf8');
    stream.on('data', (chunk: string) => (text += chunk));
    stream.on('error', reject);
    stream.on('end', () => {
      client.close();
      resolve(text);
    });
    stream.end();
  });

describe('frames of HTTP/2', () => {
  it(
    'of any kind, changed, cut and in any pieces end one connection at most: others are answered',
    async () => {
      await send(good, [100_000]);
      expect(answered).toBeGreaterThan(0);
      const bytes = fc.oneof(
        mutated(good),
        fc.array(anyFrame, { maxLength: 12 }).map((all) => Buffer.concat([preface, ...all])),
        fc.array(anyFrame, { maxLength: 6 }).map((all) => Buffer.concat([good, ...all])),
        fc.uint8Array({ maxLength: 400 }).map((all) => Buffer.concat([preface, Buffer.from(all)])),
      );
      await fc.assert(
        fc.asyncProperty(bytes, fc.array(fc.integer({ min: 1, max: 60 }), { maxLength: 4 }), async (sent, sizes) => {
          await ends(send(sent, sizes));
          expect(await ends(asks())).toBe('here');
        }),
        budget,
      );
    },
    patience,
  );
});

describe('the header of the PROXY protocol', () => {
  it(
    'is read the same in any pieces, and never past its end',
    async () => {
      const texts = ['PROXY TCP4 192.0.2.9 192.0.2.1 5000 80\r\n', 'PROXY TCP6 2001:db8::9 ::1 5000 80\r\n'];
      const second = Buffer.concat([
        Buffer.from([0x0d, 0x0a, 0x0d, 0x0a, 0, 0x0d, 0x0a, 0x51, 0x55, 0x49, 0x54, 0x0a, 0x21, 0x11, 0, 12]),
        Buffer.from([192, 0, 2, 9, 192, 0, 2, 1, 0, 80, 0, 80]),
      ]);
      const bytes = fc.oneof(...[...texts.map((one) => Buffer.from(one)), second].map((one) => mutated(one)));
      fc.assert(
        fc.property(bytes, fc.uint8Array({ maxLength: 40 }), (header, rest) => {
          const whole = Buffer.concat([header, Buffer.from(rest)]);
          const found = readProxyHeader(whole);
          if (found.kind !== 'read') return;
          expect(found.length).toBeLessThanOrEqual(whole.length);
          // Nothing that comes later changes what was read, and less was not enough.
          expect(readProxyHeader(whole.subarray(0, found.length))).toEqual(found);
          for (let at = 1; at < found.length; at++) expect(readProxyHeader(whole.subarray(0, at)).kind).toBe('more');
        }),
        budget,
      );
    },
    patience,
  );

  it('is taken off a real connection before the server reads it', async () => {
    const seen: string[] = [];
    const callers = openCallers(['loopback'], true);
    const server = createServer((request, response) => {
      seen.push(callers.addressOf(request));
      response.end();
    });
    callers.guard(server as never);
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    try {
      for (let size = 1; size < 60; size += 7)
        await new Promise<void>((resolve) => {
          const socket = connect((server.address() as AddressInfo).port, '127.0.0.1');
          const sent = Buffer.from(
            'PROXY TCP4 192.0.2.9 192.0.2.1 5000 80\r\nGET / HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n',
          );
          socket.on('data', () => {});
          socket.on('close', () => resolve());
          for (const piece of pieces(sent, [size])) socket.write(piece);
        });
      expect(seen).toEqual(Array.from({ length: 9 }, () => '192.0.2.9'));
    } finally {
      server.close();
    }
  });
});
