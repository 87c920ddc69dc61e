/** git's smart HTTP protocol (gitprotocol-http, version 0 for pushes; 2 passes through for fetches), served by upload-pack and receive-pack. */
import type { Readable } from 'node:stream';
import { startGit } from './command.js';

export type GitService = 'git-upload-pack' | 'git-receive-pack';
export const isGitService = (text: unknown): text is GitService => text === 'git-upload-pack' || text === 'git-receive-pack';

/** A line of the protocol: four hexadecimal digits of length, then the text. */
export const packet = (text: string | Buffer): Buffer => {
  const body = Buffer.from(text);
  return Buffer.concat([Buffer.from((body.length + 4).toString(16).padStart(4, '0')), body]);
};
export const flush = Buffer.from('0000');

/** The answer to `info/refs`. */
export async function advertise(repository: string, service: GitService, protocol: string): Promise<Buffer> {
  const child = startGit(repository, [service.slice(4), '--stateless-rpc', '--advertise-refs', repository], protocol ? { GIT_PROTOCOL: protocol } : {});
  child.stdin.end();
  child.stderr.resume();
  const parts: Buffer[] = [];
  for await (const chunk of child.stdout) parts.push(chunk as Buffer);
  return Buffer.concat([packet(`# service=${service}\n`), flush, ...parts]);
}

/** One request and its answer as streams. */
export function exchange(repository: string, service: GitService, body: Readable, protocol: string): Readable {
  const child = startGit(repository, [service.slice(4), '--stateless-rpc', repository], protocol ? { GIT_PROTOCOL: protocol } : {});
  child.stderr.resume();
  child.stdin.on('error', () => {});
  body.on('error', () => child.kill('SIGKILL'));
  body.pipe(child.stdin);
  return child.stdout;
}

/** One ref that a push moves; an id of zeros means none. `ref` is null when its bytes are not UTF-8. */
export interface PushCommand {
  before: string | null;
  after: string | null;
  ref: string | null;
}

/** The commands at the head of a push, or null while there are not enough bytes; throws when it is no push. */
export function parsePush(head: Buffer): { commands: PushCommand[]; capabilities: string[] } | null {
  const commands: PushCommand[] = [];
  let capabilities: string[] = [];
  for (let at = 0; ; ) {
    if (head.length < at + 4) return null;
    const size = Number.parseInt(head.toString('latin1', at, at + 4), 16);
    if (Number.isNaN(size) || (size > 0 && size < 4) || size > 65_520) throw new Error('not a push');
    if (size === 0) return { commands, capabilities };
    if (head.length < at + size) return null;
    const line = head.subarray(at + 4, at + size);
    const zero = line.indexOf(0);
    const text = (zero < 0 ? line : line.subarray(0, zero)).toString('latin1').replace(/\n$/, '');
    if (zero >= 0)
      capabilities = line
        .toString('latin1', zero + 1)
        .trim()
        .split(' ');
    const found = /^([0-9a-f]{40,64}) ([0-9a-f]{40,64}) (.+)$/s.exec(text);
    if (found) {
      const id = (hex: string) => (/^0+$/.test(hex) ? null : hex);
      commands.push({ before: id(found[1] as string), after: id(found[2] as string), ref: decode(Buffer.from(found[3] as string, 'latin1')) });
    } else if (!text.startsWith('shallow ') && !text.startsWith('push-cert')) throw new Error('not a push');
    at += size;
  }
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
  const report = Buffer.concat([packet('unpack ok\n'), ...commands.map((command) => packet(`ng ${command.ref ?? 'ref'} refused\n`)), flush]);
  if (!capabilities.includes('side-band-64k')) return report;
  return Buffer.concat([packet(Buffer.concat([Buffer.from([2]), Buffer.from(`${why}\n`)])), packet(Buffer.concat([Buffer.from([1]), report])), flush]);
}
