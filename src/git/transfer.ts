/** git's smart HTTP protocol (gitprotocol-http, version 0 for pushes; 2 passes through for fetches), served by upload-pack and receive-pack. */
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { startGit } from './command.js';

export type GitService = 'git-upload-pack' | 'git-receive-pack';
export const isGitService = (text: unknown): text is GitService =>
  text === 'git-upload-pack' || text === 'git-receive-pack';

/** A line of the protocol: four hexadecimal digits of length, then the text. */
export const packet = (text: string | Buffer): Buffer => {
  const body = Buffer.from(text);
  return Buffer.concat([Buffer.from((body.length + 4).toString(16).padStart(4, '0')), body]);
};
export const flush = Buffer.from('0000');

/** The answer to `info/refs`. */
export async function advertise(repository: string, service: GitService, protocol: string): Promise<Buffer> {
  const child = startGit(
    repository,
    [service.slice(4), '--stateless-rpc', '--advertise-refs', repository],
    protocol ? { GIT_PROTOCOL: protocol } : {},
  );
  child.stdin.on('error', () => {});
  child.stdin.end();
  child.stderr.resume();
  const parts: Buffer[] = [];
  for await (const chunk of child.stdout) parts.push(chunk as Buffer);
  return Buffer.concat([packet(`# service=${service}\n`), flush, ...parts]);
}

/** Milliseconds that one exchange may take. */
const exchangeMs = 3_600_000;

/** One request and its answer as streams. Git ends when either goes away; a body that breaks off is told by the answer. */
export function exchange(repository: string, service: GitService, body: Readable, protocol: string): Readable {
  const child = startGit(
    repository,
    [service.slice(4), '--stateless-rpc', repository],
    protocol ? { GIT_PROTOCOL: protocol } : {},
  );
  const end = () => child.kill('SIGKILL');
  const timer = setTimeout(end, exchangeMs);
  child.stderr.resume();
  child.on('error', (error) => child.stdout.destroy(error));
  child.once('close', () => clearTimeout(timer));
  // A reader that went away closes its end; git would go on counting and packing for nobody.
  child.stdout.once('close', end);
  pipeline(body, child.stdin).catch((error: NodeJS.ErrnoException) => {
    // Git may have heard enough, and answer all the same.
    if (error.code === 'EPIPE' || error.code === 'ERR_STREAM_PREMATURE_CLOSE') return;
    end();
    child.stdout.destroy(error);
  });
  return child.stdout;
}

/** One ref that a push moves; an id of zeros means none. `ref` is null when its bytes are not UTF-8. */
export interface PushCommand {
  before: string | null;
  after: string | null;
  ref: string | null;
}

export interface PushHead {
  commands: PushCommand[];
  capabilities: string[];
}

/** Lines at the head of a push at most: commands, and those about shallow commits. */
const linesAtMost = 20_000;

/** Reads the commands at the head of a push as they come; each byte is looked at once. */
export interface PushReader {
  /** The head, once it is whole; null before. Throws when it is no push. */
  push(chunk: Buffer): PushHead | null;
}

export function openPushHead(): PushReader {
  const head: PushHead = { commands: [], capabilities: [] };
  let rest: Buffer[] = [];
  let have = 0;
  /** Bytes of the line at hand; null while its length is not known. */
  let size: number | null = null;
  let lines = 0;
  const take = (bytes: number): Buffer => {
    const all = rest.length === 1 ? (rest[0] as Buffer) : Buffer.concat(rest);
    rest = all.length > bytes ? [all.subarray(bytes)] : [];
    have -= bytes;
    return all.subarray(0, bytes);
  };
  return {
    push(chunk) {
      if (chunk.length) rest.push(chunk);
      have += chunk.length;
      for (;;) {
        if (size === null) {
          if (have < 4) return null;
          const text = take(4).toString('latin1');
          size = /^[0-9a-f]{4}$/i.test(text) ? Number.parseInt(text, 16) : Number.NaN;
          if (Number.isNaN(size) || (size > 0 && size < 4) || size > 65_520) throw new Error('not a push');
          if (size === 0) return head;
          if (++lines > linesAtMost) throw new Error('not a push');
        }
        if (have < size - 4) return null;
        readCommand(take(size - 4), head);
        size = null;
      }
    },
  };
}

function readCommand(line: Buffer, head: PushHead): void {
  const zero = line.indexOf(0);
  const text = (zero < 0 ? line : line.subarray(0, zero)).toString('latin1').replace(/\n$/, '');
  if (zero >= 0)
    head.capabilities = line
      .toString('latin1', zero + 1)
      .trim()
      .split(' ');
  const found = /^([0-9a-f]{40,64}) ([0-9a-f]{40,64}) (.+)$/s.exec(text);
  if (found) {
    const id = (hex: string) => (/^0+$/.test(hex) ? null : hex);
    head.commands.push({
      before: id(found[1] as string),
      after: id(found[2] as string),
      ref: decode(Buffer.from(found[3] as string, 'latin1')),
    });
  } else if (!text.startsWith('shallow ') && !text.startsWith('push-cert')) throw new Error('not a push');
}

function decode(bytes: Buffer): string | null {
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes);
  } catch {
    return null;
  }
}

/** An answer that refuses every ref of a push in words that the client shows. */
export function refusePush(commands: readonly PushCommand[], capabilities: readonly string[], why: string): Buffer {
  const report = Buffer.concat([
    packet('unpack ok\n'),
    ...commands.map((command) => packet(`ng ${command.ref ?? 'ref'} refused\n`)),
    flush,
  ]);
  if (!capabilities.includes('side-band-64k')) return report;
  return Buffer.concat([
    packet(Buffer.concat([Buffer.from([2]), Buffer.from(`${why}\n`)])),
    packet(Buffer.concat([Buffer.from([1]), report])),
    flush,
  ]);
}
