/** Who asks an edge behind a balancer: by headers or by the PROXY protocol of proxies that are trusted, and of no one else. */
import { connect } from 'node:net';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { clientKey, forwardedBy, inRanges, readProxyHeader } from '../../src/edge/callers.js';
import { type RunningEdge, startEdge } from '../../src/edge/edge.js';
import type { AddedToken } from '../../src/wire/people.js';
import { openWorld, until, type World } from './world.js';

/** A header of version 2 (2.2) for an address of IPv4 or IPv6. */
function second(family: number, address: number[], { command = 1, more = 0 } = {}): Buffer {
  const size = address.length * 2 + 4 + more;
  const head = Buffer.from([
    0x0d,
    0x0a,
    0x0d,
    0x0a,
    0,
    0x0d,
    0x0a,
    0x51,
    0x55,
    0x49,
    0x54,
    0x0a,
    0x20 | command,
    family,
  ]);
  const length = Buffer.alloc(2);
  length.writeUInt16BE(size);
  return Buffer.concat([head, length, Buffer.from([...address, ...address, 0, 80, 0, 80]), Buffer.alloc(more)]);
}

describe('the header of a connection', () => {
  const v6 = [0x20, 1, 0xd, 0xb8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 7];
  it.each([
    ['version 1', Buffer.from('PROXY TCP4 192.0.2.9 192.0.2.1 5000 80\r\n'), '192.0.2.9'],
    ['version 1, IPv6', Buffer.from('PROXY TCP6 2001:db8::9 2001:db8::1 5000 80\r\n'), '2001:db8::9'],
    ['version 1, unknown', Buffer.from('PROXY UNKNOWN\r\n'), null],
    ['version 2', second(0x11, [192, 0, 2, 9]), '192.0.2.9'],
    ['version 2 with more fields', second(0x11, [192, 0, 2, 9], { more: 40 }), '192.0.2.9'],
    ['version 2, IPv6', second(0x21, v6), '2001:db8::7'],
    ['version 2, of the proxy itself', second(0x11, [192, 0, 2, 9], { command: 0 }), null],
  ] as [string, Buffer, string | null][])('is read: %s', (_what, bytes, address) => {
    const found = readProxyHeader(Buffer.concat([bytes, Buffer.from('GET / HTTP/1.1\r\n')]));
    expect(found).toEqual({ kind: 'read', length: bytes.length, address });
    // Cut anywhere it is waited for, never misread.
    for (let at = 1; at < bytes.length; at++)
      expect([at, readProxyHeader(bytes.subarray(0, at)).kind]).toEqual([at, 'more']);
  });

  it.each([
    ['GET / HTTP/1.1\r\n'],
    ['PROXY TCP4 nobody 192.0.2.1 1 2\r\n'],
    ['PROXY TCP4 2001:db8::9 2001:db8::1 1 2\r\n'],
    [`PROXY ${'x'.repeat(120)}\r\n`],
    ['\r\n\r\n\0\r\nQUIT\n\x31\x11\0\x0c'],
    ['\r\n\r\n\0\r\nQUIT\n\x21\x11\xff\xff'],
  ])('is refused: %j', (text) => expect(readProxyHeader(Buffer.from(text, 'latin1')).kind).toBe('wrong'));

  it('never throws, whatever comes', () => {
    fc.assert(
      fc.property(
        fc.uint8Array({ maxLength: 300 }),
        fc.constantFrom('', 'PROXY ', '\r\n\r\n\0\r\nQUIT\n'),
        (bytes, head) => {
          const found = readProxyHeader(Buffer.concat([Buffer.from(head, 'latin1'), Buffer.from(bytes)]));
          expect(['read', 'more', 'wrong']).toContain(found.kind);
        },
      ),
    );
  });
});

describe('addresses', () => {
  it('of IPv6 count by their /64, those of IPv4 each', () => {
    expect(clientKey('2001:db8:1:2:aaaa::1')).toBe(clientKey('2001:db8:1:2:ffff:1:2:3'));
    expect(clientKey('2001:db8:1:2::1')).not.toBe(clientKey('2001:db8:1:3::1'));
    expect(clientKey('192.0.2.1')).not.toBe(clientKey('192.0.2.2'));
  });

  it('are those before the trusted proxies, from the right', () => {
    const ranges = ['10.0.0.0/8', '2001:db8::/32'];
    expect(inRanges('::ffff:10.1.2.3', ranges)).toBe(true);
    expect(inRanges('nonsense', ranges)).toBe(false);
    expect(forwardedBy('198.51.100.1, 203.0.113.5, 10.0.0.2', ranges)).toBe('203.0.113.5');
    // What a client writes in front counts for nothing.
    expect(forwardedBy('1.2.3.4, 203.0.113.5', ranges)).toBe('203.0.113.5');
    expect(forwardedBy('[2001:db9::1]:443, 10.0.0.2', ranges)).toBe('2001:db9::1');
    expect(forwardedBy('203.0.113.5:4711', ranges)).toBe('203.0.113.5');
    expect(forwardedBy('garbage', ranges)).toBeNull();
    expect(forwardedBy('10.0.0.3, 10.0.0.2', ranges)).toBe('10.0.0.3');
  });
});

describe('an edge behind a balancer', () => {
  let world: World;
  const edges: Record<string, { edge: RunningEdge; port: number }> = {};
  const host = 'echo-staging.localhost';
  beforeAll(async () => {
    world = await openWorld();
    const { checkout, first } = await world.hosted('echo', {
      'package.json': '{}\n',
      'server.js':
        'require("node:http").createServer((q, r) => q.resume().on("end", () => r.end(JSON.stringify(q.headers)))).listen(process.env.PORT);\n',
      'tsunagi.yaml': `tsunagi: 1
release: { parts: { api: { kind: server, at: /, files: [server.js, package.json], start: node server.js } } }
environments: { staging: { branch: main } }
`,
    });
    await checkout.push();
    await world.waitLive('echo', 'staging', first);
    for (const [at, [name, trusted, speaks]] of (
      [
        ['headers', ['127.0.0.0/8'], false],
        ['protocol', ['loopback'], true],
        ['trusting-no-one', ['192.0.2.0/24'], false],
      ] as [string, string[], boolean][]
    ).entries()) {
      const { token } = await world.api().post<AddedToken>('/api/tokens', { name, kind: 'edge' });
      const port = world.house.edgePort + 40 + at;
      const edge = await startEdge({
        url: world.url,
        token,
        name,
        folder: join(world.folder, name),
        host: '127.0.0.1',
        port,
        logLevel: 'silent',
        trustedProxies: trusted,
        proxyProtocol: speaks,
        bounds: { perClient: 2 },
      });
      edges[name] = { edge, port };
    }
  });
  afterAll(async () => {
    for (const { edge } of Object.values(edges)) await edge.close();
    await world?.close();
  });

  /** Sends bytes as they are; resolves with what came back when the connection has ended. */
  const raw = (name: string, ...pieces: (string | Buffer)[]) =>
    new Promise<string>((resolve) => {
      const socket = connect(edges[name]?.port as number, '127.0.0.1');
      let text = '';
      socket.on('data', (chunk: Buffer) => (text += chunk));
      socket.on('error', () => {});
      socket.on('close', () => resolve(text));
      void (async () => {
        for (const piece of pieces) {
          socket.write(piece);
          await new Promise((done) => setTimeout(done, 30));
        }
      })();
    });
  const ask = (...headers: string[]) =>
    ['GET / HTTP/1.1', `Host: ${host}`, 'Connection: close', ...headers, '', ''].join('\r\n');
  const seen = (text: string) => JSON.parse(/\{.*\}/s.exec(text)?.[0] ?? '{}') as Record<string, string>;

  it('takes the word of a trusted proxy in headers, and says it to programs', async () => {
    const text = await until('it has the table', async () => {
      const found = await raw('headers', ask('X-Forwarded-For: 198.51.100.9, 203.0.113.5', 'X-Forwarded-Proto: https'));
      return found.startsWith('HTTP/1.1 200') && found;
    });
    expect(seen(text)).toMatchObject({
      'x-forwarded-for': '203.0.113.5',
      'x-forwarded-proto': 'https',
      forwarded: `for=203.0.113.5;host="${host}";proto=https`,
    });
  });

  it('believes no one else', async () => {
    const text = await until('it has the table', async () => {
      const found = await raw('trusting-no-one', ask('X-Forwarded-For: 203.0.113.5', 'X-Real-IP: 203.0.113.5'));
      return found.startsWith('HTTP/1.1 200') && found;
    });
    expect(seen(text)).toMatchObject({ 'x-forwarded-for': '127.0.0.1', 'x-forwarded-proto': 'http' });
    expect(seen(text)['x-real-ip']).toBeUndefined();
    // A header of the PROXY protocol is no request.
    expect(await raw('trusting-no-one', 'PROXY TCP4 203.0.113.5 127.0.0.1 1 2\r\n', ask())).toMatch(/^HTTP\/1.1 400/);
  });

  it('reads the PROXY protocol, in pieces too, and closes what does not speak it', async () => {
    const first = await until('it has the table', async () => {
      const found = await raw('protocol', 'PROXY TCP4 203.0.1', '13.5 127.0.0.1 50000 80\r\n', ask());
      return found.startsWith('HTTP/1.1 200') && found;
    });
    expect(seen(first)['x-forwarded-for']).toBe('203.0.113.5');
    // What is asked and the header in one piece; what a client says of itself counts for nothing.
    const both = Buffer.concat([second(0x11, [203, 0, 113, 6]), Buffer.from(ask('X-Forwarded-For: 1.2.3.4'))]);
    expect(seen(await raw('protocol', both))['x-forwarded-for']).toBe('203.0.113.6');
    expect(await raw('protocol', ask())).toBe('');
  });

  it('counts the requests of each visitor, not those of the balancer', async () => {
    const slow = (from: string) =>
      new Promise<{ text: string; end(): void }>((resolve) => {
        const socket = connect(edges.protocol?.port as number, '127.0.0.1');
        let text = '';
        socket.on('data', (chunk: Buffer) => (text += chunk));
        socket.on('error', () => {});
        socket.write(`PROXY TCP4 ${from} 127.0.0.1 50000 80\r\n`);
        socket.write(`POST / HTTP/1.1\r\nHost: ${host}\r\nContent-Length: 100\r\n\r\nx`);
        setTimeout(
          () =>
            resolve({
              get text() {
                return text;
              },
              end: () => socket.destroy(),
            }),
          300,
        );
      });
    const open = await Promise.all(['203.0.113.1', '203.0.113.1', '203.0.113.2', '203.0.113.3'].map(slow));
    try {
      const third = await slow('203.0.113.1');
      open.push(third);
      expect(third.text).toMatch(/^HTTP\/1.1 429/);
      expect(open.slice(0, 4).map((one) => /429/.test(one.text))).toEqual([false, false, false, false]);
    } finally {
      for (const one of open) one.end();
    }
  });
});
