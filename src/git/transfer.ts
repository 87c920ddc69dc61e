/** git's smart HTTP protocol (gitprotocol-http, version 0 for pushes; 2 passes through for fetches), served by upload-pack and receive-pack. */
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { endGit, startGit } from './command.js';
import type { PushCommand } from './push-head.js';

export type GitService = 'git-upload-pack' | 'git-receive-pack';
export const isGitService = (text: unknown): text is GitService =>
  text === 'git-upload-pack' || text === 'git-receive-pack';

/** A line of the protocol: four hexadecimal digits of length, then the text. */
export const packet = (text: string | Buffer): Buffer => {
  const body = Buffer.from(text);
  return Buffer.concat([Buffer.from((body.length + 4).toString(16).padStart(4, '0')), body]);
};
export const flush = Buffer.from('0000');

/** Git itself shows and moves branches alone, whatever our own checks let pass. The last setting that fits a ref counts (git-config(1)). */
const branchesAlone: [string, string][] = [
  ['transfer.hideRefs', 'refs'],
  ['transfer.hideRefs', '!refs/heads'],
];

const serve = (
  repository: string,
  service: GitService,
  flags: readonly string[],
  protocol: string,
  config: readonly [string, string][] = [],
) =>
  startGit(
    repository,
    [service.slice(4), '--stateless-rpc', ...flags, repository],
    protocol ? { GIT_PROTOCOL: protocol } : {},
    [...branchesAlone, ...config],
  );

/** The answer to `info/refs`. */
export async function advertise(repository: string, service: GitService, protocol: string): Promise<Buffer> {
  const child = serve(repository, service, ['--advertise-refs'], protocol);
  const timer = setTimeout(() => endGit(child), advertiseMs);
  child.once('close', () => clearTimeout(timer));
  child.on('error', (error) => child.stdout.destroy(error));
  child.stdin.on('error', () => {});
  child.stdin.end();
  child.stderr.resume();
  const parts: Buffer[] = [];
  for await (const chunk of child.stdout) parts.push(chunk as Buffer);
  return Buffer.concat([packet(`# service=${service}\n`), flush, ...parts]);
}

/** Milliseconds that one exchange may take, and the list of refs before it. */
const exchangeMs = 3_600_000;
const advertiseMs = 60_000;

/** One request and its answer as streams. Git ends when either goes away; a body that breaks off is told by the answer. */
export function exchange(
  repository: string,
  service: GitService,
  body: Readable,
  protocol: string,
  config: readonly [string, string][] = [],
): Readable {
  const child = serve(repository, service, [], protocol, config);
  const end = () => endGit(child);
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
