/**
 * Certificates that this edge has: asked for from the service, kept on disk (files of mode 0600), used while the service is away.
 * Private keys come encrypted for a key that this edge has made.
 */
import { createPrivateKey, createPublicKey, type KeyObject } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { createSecureContext, type SecureContext } from 'node:tls';
import { type Static, Type } from '@sinclair/typebox';
import { backoff } from '../core/backoff.js';
import { CodedError } from '../core/errors/errors.js';
import { makeClient } from '../wire/rooms/client.js';
import { readKept, writeKept } from '../wire/rooms/kept.js';
import { openSealed, publicBytes, readerKeys } from '../wire/rooms/sealed.js';
import type { CertificateAnswer, CertificateRequest } from '../wire/rooms/work.js';

export interface Certificates {
  /** What a client that asks for this host is shown; null: there is none. */
  context(host: string): SecureContext | null;
  /** Whether the certificate that is shown for one host stands for another one too. */
  covers(shown: string, host: string): boolean;
  /** Whether everyone trusts the certificate of a host: plain requests are led to TLS. */
  trusted(host: string): boolean;
  close(): Promise<void>;
}

/** Of an edge that does not speak TLS. */
export const noCertificates: Certificates = {
  context: () => null,
  covers: (shown, host) => shown === host,
  trusted: () => false,
  close: async () => {},
};

const Kept = Type.Object({
  id: Type.String({ pattern: '^[0-9a-f-]{36}$' }),
  version: Type.Integer(),
  names: Type.Array(Type.String()),
  chain: Type.String(),
  /** PKCS #8, PEM. */
  key: Type.String(),
  trusted: Type.Boolean(),
  from: Type.Number(),
  until: Type.Number(),
});
/** What it has been given last: up to which version, of which records. */
const Known = Type.Object({ epoch: Type.String(), have: Type.Integer({ minimum: 0 }) });
interface One extends Static<typeof Kept> {
  context: SecureContext;
}

/** Milliseconds for which the service may keep a question open. */
const waitMs = 20_000;

export interface CertificatesOptions {
  url: string;
  token: string;
  name: string;
  folder: string;
  log: { warn(data: object, text: string): void };
}

export function openCertificates(options: CertificatesOptions): Certificates {
  const { log, name } = options;
  const folder = join(options.folder, 'certificates');
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const reader = readerKey(join(folder, 'reader.pem'));
  const key = publicBytes(createPublicKey(reader)).toString('base64');
  const client = makeClient(options.url, options.token);
  const all = new Map<string, One>();
  let byName = new Map<string, One>();
  const fileOf = (id: string) => join(folder, `${id}.json`);

  const use = (kept: Static<typeof Kept>): boolean => {
    try {
      all.set(kept.id, {
        ...kept,
        context: createSecureContext({ key: kept.key, cert: kept.chain, minVersion: 'TLSv1.2' }),
      });
      return true;
    } catch (error) {
      log.warn({ certificate: kept.id, error: String(error) }, 'a certificate cannot be used');
      return false;
    }
  };
  const index = () => {
    byName = new Map();
    // Of several for one name the newest is shown.
    for (const one of [...all.values()].sort((a, b) => a.from - b.from || a.version - b.version))
      for (const name of one.names) byName.set(name, one);
  };
  for (const file of readdirSync(folder).filter((one) => one.endsWith('.json'))) {
    const kept = readKept(join(folder, file), Kept);
    if (!kept || !use(kept)) rmSync(join(folder, file), { force: true });
  }
  index();
  // What it had of other records, or of a time before it knew of them, is no number to go on from.
  const known = join(folder, 'known');
  let { have, epoch } = readKept(known, Known) ?? { have: 0, epoch: '' };

  const take = ({ certificates, epoch: theirs = '' }: CertificateAnswer): void => {
    const other = theirs !== epoch;
    if (other) [epoch, have] = [theirs, 0];
    for (const { sealed, ...one } of certificates) {
      if (one.names.length === 0) {
        all.delete(one.id);
        rmSync(fileOf(one.id), { force: true });
      } else {
        const kept = { ...one, key: openSealed(reader, Buffer.from(sealed, 'base64')) };
        if (use(kept)) writeKept(fileOf(one.id), kept);
      }
      have = Math.max(have, one.version);
    }
    if (certificates.length) index();
    // After what it names is kept: who dies here asks for it again.
    if (certificates.length || other) writeKept(known, { epoch, have });
  };

  let stopped = false;
  let asking: AbortController | null = null;
  const loop = async (): Promise<void> => {
    let failures = 0;
    let wait = 0;
    while (!stopped) {
      try {
        asking = new AbortController();
        const body: CertificateRequest = { name, have, epoch, key, waitMs: wait };
        const answer = await client.post<CertificateAnswer>('/api/edge/certificates', body, { signal: asking.signal });
        take(answer);
        wait = answer.certificates.length ? 0 : waitMs;
        failures = 0;
      } catch (error) {
        if (stopped) return;
        if (++failures === 1)
          log.warn(
            { error: error instanceof CodedError ? error.issue : String(error) },
            'certificates could not be asked for; those that are here stay',
          );
        await new Promise((resolve) => setTimeout(resolve, backoff('poll', failures)));
      }
    }
  };
  const running = loop();
  const find = (host: string): One | null =>
    byName.get(host) ?? byName.get(`*${host.slice(Math.max(0, host.indexOf('.')))}`) ?? null;
  return {
    context: (host) => find(host.toLowerCase())?.context ?? null,
    covers(shown, host) {
      if (shown === host) return true;
      const one = find(shown.toLowerCase());
      return one !== null && find(host) === one;
    },
    trusted: (host) => {
      const one = find(host);
      return one !== null && one.trusted && one.until > Date.now();
    },
    async close() {
      stopped = true;
      asking?.abort();
      await running;
      await client.close();
    },
  };
}

/** The key for which private keys are encrypted: made once; another one only where its file is gone. */
function readerKey(file: string): KeyObject {
  if (!existsSync(file)) {
    const { privateKey } = readerKeys();
    writeFileSync(file, privateKey.export({ type: 'pkcs8', format: 'pem' }), { mode: 0o600 });
    return privateKey;
  }
  return createPrivateKey(readFileSync(file, 'utf8'));
}
