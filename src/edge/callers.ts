/**
 * Who asks, behind proxies that the operator trusts: by the PROXY protocol (version 1 and 2 of its specification by HAProxy
 * Technologies, 2020) for each connection, or by X-Forwarded-For and X-Forwarded-Proto for each request. Of any other peer neither is
 * believed.
 */
import type { IncomingMessage } from 'node:http';
import type { Server, Socket } from 'node:net';
import ipaddr from 'ipaddr.js';

export interface Callers {
  /** Address of who asks, without what maps IPv4 into IPv6. */
  addressOf(request: IncomingMessage): string;
  /** Whether it came over TLS, to here or to a trusted proxy. */
  isSecure(request: IncomingMessage): boolean;
  /** Reads the PROXY protocol of trusted peers before the server does, where it is spoken. */
  guard(server: Server): void;
}

/** Milliseconds in which the header of a connection has to come, and bytes that it may have. */
const headerMs = 5_000;
const mostBytes = 4_096;

const signature = Buffer.from([0x0d, 0x0a, 0x0d, 0x0a, 0x00, 0x0d, 0x0a, 0x51, 0x55, 0x49, 0x54, 0x0a]);

const plain = (address: string | undefined): string => (address ?? '').replace(/^::ffff:/i, '');

/** What one client is counted by: an IPv4 address, or the /64 of an IPv6 address, which is what one of them gets (RFC 6177). */
export function clientKey(address: string): string {
  if (!ipaddr.IPv6.isValid(address)) return address;
  const parts = ipaddr.IPv6.parse(address).parts.slice(0, 4);
  return `${parts.map((part) => part.toString(16)).join(':')}::/64`;
}

/** Whether an address lies in one of these addresses and ranges. */
export function inRanges(address: string, ranges: readonly string[]): boolean {
  if (!ipaddr.isValid(address)) return false;
  const parsed = ipaddr.process(address);
  return ranges.some((range) => {
    const [base, bits] = range.includes('/') ? ipaddr.parseCIDR(range) : [ipaddr.process(range), null];
    if (base.kind() !== parsed.kind()) return false;
    return parsed.match(base as never, bits ?? (base.kind() === 'ipv4' ? 32 : 128));
  });
}

/** From the right, what trusted proxies have added is passed over: the first address that is none of theirs asks. */
export function forwardedBy(value: string, ranges: readonly string[]): string | null {
  const hops = value.split(',').map((one) => plain(one.trim().replace(/^\[(.*)\](?::\d+)?$/, '$1')));
  let last: string | null = null;
  for (const hop of hops.reverse()) {
    const address = ipaddr.isValid(hop) ? hop : plain(/^([\d.]+):\d+$/.exec(hop)?.[1]);
    if (!ipaddr.isValid(address)) return last;
    last = address;
    if (!inRanges(address, ranges)) return address;
  }
  return last;
}

export type ProxyHeader =
  /** Bytes of the header; the address that it names, or null where the proxy asks for itself. */
  { kind: 'read'; length: number; address: string | null } | { kind: 'more' } | { kind: 'wrong' };

/** Reads the header at the beginning of what a connection has sent. */
export function readProxyHeader(bytes: Buffer): ProxyHeader {
  const common = Math.min(bytes.length, signature.length);
  if (bytes.subarray(0, common).equals(signature.subarray(0, common)) && common > 0)
    return common < signature.length ? { kind: 'more' } : readSecond(bytes);
  return readFirst(bytes);
}

function readSecond(bytes: Buffer): ProxyHeader {
  if (bytes.length < 16) return { kind: 'more' };
  const [versionAndCommand, family, size] = [bytes[12] as number, bytes[13] as number, bytes.readUInt16BE(14)];
  const command = versionAndCommand & 0x0f;
  if (versionAndCommand >> 4 !== 2 || command > 1 || 16 + size > mostBytes) return { kind: 'wrong' };
  if (bytes.length < 16 + size) return { kind: 'more' };
  const length = 16 + size;
  if (command === 0) return { kind: 'read', length, address: null };
  const body = bytes.subarray(16, length);
  if (family === 0x11 && size >= 12) return { kind: 'read', length, address: [...body.subarray(0, 4)].join('.') };
  if (family === 0x21 && size >= 36)
    return { kind: 'read', length, address: plain(ipaddr.fromByteArray([...body.subarray(0, 16)]).toString()) };
  // Of a family that it does not know a receiver takes the address of the connection (2.2).
  return { kind: 'read', length, address: null };
}

function readFirst(bytes: Buffer): ProxyHeader {
  const text = bytes.subarray(0, 107).toString('latin1');
  if (!'PROXY '.startsWith(text.slice(0, 6))) return { kind: 'wrong' };
  const end = text.indexOf('\r\n');
  if (end < 0) return text.length < 107 ? { kind: 'more' } : { kind: 'wrong' };
  const length = end + 2;
  if (/^PROXY UNKNOWN( |$)/.test(text.slice(0, end))) return { kind: 'read', length, address: null };
  const [, family, from] = /^PROXY (TCP4|TCP6) (\S+) \S+ \d{1,5} \d{1,5}$/.exec(text.slice(0, end)) ?? [];
  if (!from || !(family === 'TCP4' ? ipaddr.IPv4.isValid(from) : ipaddr.IPv6.isValid(from))) return { kind: 'wrong' };
  return { kind: 'read', length, address: plain(from) };
}

const named = Symbol('address that a proxy names');
interface Named {
  [named]?: string;
  /** Of a TLS connection: what it came over. */
  _parent?: Named | null;
  encrypted?: boolean;
}

/** Names for ranges, as the service takes them too. */
const rangeNames: Readonly<Record<string, readonly string[]>> = {
  loopback: ['127.0.0.0/8', '::1/128'],
  linklocal: ['169.254.0.0/16', 'fe80::/10'],
  uniquelocal: ['10.0.0.0/8', '172.16.0.0/12', '192.168.0.0/16', 'fc00::/7'],
};

/** @param proxies addresses and ranges of trusted proxies; `speaks`: they send the PROXY protocol */
export function openCallers(proxies: readonly string[], speaks: boolean): Callers {
  const ranges = proxies.flatMap((one) => rangeNames[one] ?? [one]);
  const trusted = (address: string | undefined): boolean => ranges.length > 0 && inRanges(plain(address), ranges);
  const header = (request: IncomingMessage, name: string): string => [request.headers[name] ?? ''].flat().join(',');
  const peerOf = (request: IncomingMessage): string => {
    const socket = request.socket as Socket & Named;
    return socket[named] ?? socket._parent?.[named] ?? plain(socket.remoteAddress);
  };
  return {
    addressOf(request) {
      const peer = peerOf(request);
      if (speaks || !trusted(request.socket.remoteAddress)) return peer;
      return forwardedBy(header(request, 'x-forwarded-for'), ranges) ?? peer;
    },
    isSecure(request) {
      if ((request.socket as Named).encrypted === true) return true;
      if (speaks || !trusted(request.socket.remoteAddress)) return false;
      return header(request, 'x-forwarded-proto').split(',')[0]?.trim().toLowerCase() === 'https';
    },
    guard(server) {
      if (!speaks) return;
      const serve = server.listeners('connection') as ((socket: Socket) => void)[];
      server.removeAllListeners('connection');
      const pass = (socket: Socket) => {
        for (const one of serve) one.call(server, socket);
      };
      server.on('connection', (socket: Socket & Named) => {
        // One that came over TLS was read there.
        if (socket.encrypted || !trusted(socket.remoteAddress)) return pass(socket);
        readHeader(socket, (address) => {
          if (address !== null) socket[named] = address;
          pass(socket);
        });
      });
    },
  };
}

/** Takes the header off the connection; one without a valid header is closed. */
function readHeader(socket: Socket, done: (address: string | null) => void): void {
  let got = Buffer.alloc(0);
  const timer = setTimeout(() => socket.destroy(), headerMs);
  const stop = () => {
    clearTimeout(timer);
    socket.off('readable', read);
    socket.off('close', stop);
  };
  const fail = () => socket.destroy();
  const read = () => {
    for (let chunk = socket.read() as Buffer | null; chunk !== null; chunk = socket.read() as Buffer | null)
      got = Buffer.concat([got, chunk]);
    const found = readProxyHeader(got);
    if (found.kind === 'more' && got.length <= mostBytes) return;
    stop();
    if (found.kind !== 'read') return fail();
    socket.off('error', fail);
    if (got.length > found.length) socket.unshift(got.subarray(found.length));
    done(found.address);
  };
  socket.on('error', fail);
  socket.once('close', stop);
  socket.on('readable', read);
}
