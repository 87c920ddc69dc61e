/** Takes the place of the service for attempts that are rehearsed: what they ask for and report stays on this machine. */
import { createReadStream, createWriteStream, existsSync, mkdirSync, renameSync } from 'node:fs';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { Type } from '@sinclair/typebox';
import { CodedError } from '../../core/errors/errors.js';
import type { TreeFile } from '../../core/fingerprint/inputs.js';
import { layerOf, someOf } from '../../git/layer.js';
import type { Client } from '../../wire/rooms/client.js';
import { readKept, writeKept } from '../../wire/rooms/kept.js';
import { Digest, Nullable } from '../../wire/parts.js';
import type { AttemptReport } from '../../wire/rooms/work.js';

type Happening = AttemptReport['happenings'][number];

export interface Desk {
  client: Client;
  /** Says what an attempt sees, and whom it reports to. */
  expect(
    attempt: string,
    files: readonly TreeFile[],
    happens: (one: Happening) => void,
    prints: (bytes: Buffer) => void,
  ): void;
  /** What passed before with the same fingerprint, with its outputs still there. */
  passed(fingerprint: string): { output: { digest: string; size: number } | null } | null;
  keep(fingerprint: string, output: { digest: string; size: number } | null): void;
}

interface Expected {
  files: readonly TreeFile[];
  happens(one: Happening): void;
  prints(bytes: Buffer): void;
  bytes: number;
}

/** Fingerprint → what it made. */
const Passed = Type.Record(Type.String(), Nullable(Type.Object({ digest: Digest, size: Type.Integer() })));

/** `folder` keeps outputs and what passed; `objects` is the repository of the working copy's files. */
export function openDesk(folder: string, objects: string): Desk {
  const blobs = join(folder, 'outputs');
  const kept = join(folder, 'passed.json');
  mkdirSync(blobs, { recursive: true });
  const attempts = new Map<string, Expected>();
  const results = readKept(kept, Passed) ?? {};
  const attemptOf = (path: string): Expected => {
    const found = attempts.get(/^\/api\/agent\/attempts\/([^/?]+)/.exec(path)?.[1] ?? '');
    if (!found) throw new CodedError('fence_old');
    return found;
  };
  const blobOf = (path: string) => join(blobs, (path.split('/').at(-1) ?? '').replace('sha256:', ''));
  const client: Client = {
    async post<T>(path: string, body: unknown) {
      const attempt = attemptOf(path);
      for (const one of (body as AttemptReport).happenings) attempt.happens(one);
      return undefined as T;
    },
    async postBytes<T>(path: string, bytes: Buffer) {
      const attempt = attemptOf(path);
      attempt.prints(bytes);
      attempt.bytes += bytes.length;
      return { position: attempt.bytes } as T;
    },
    async putStream(path: string, stream: Readable) {
      const place = blobOf(path);
      await pipeline(stream, createWriteStream(`${place}.new`));
      renameSync(`${place}.new`, place);
    },
    get: async <T>(path: string) => ({ files: attemptOf(path).files }) as T,
    postForStream: async (path: string, body: unknown) => {
      const { names } = body as { names: string[] };
      return layerOf(objects, someOf(attemptOf(path).files, names));
    },
    getStream: async (path: string) =>
      path.endsWith('/files') ? layerOf(objects, attemptOf(path).files) : createReadStream(blobOf(path)),
    close: async () => {},
  };
  return {
    client,
    expect: (attempt, files, happens, prints) => void attempts.set(attempt, { files, happens, prints, bytes: 0 }),
    passed(fingerprint) {
      const output = results[fingerprint];
      if (output === undefined) return null;
      return output === null || existsSync(blobOf(output.digest)) ? { output } : null;
    },
    keep(fingerprint, output) {
      results[fingerprint] = output;
      writeKept(kept, results);
    },
  };
}
