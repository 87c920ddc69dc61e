/** What attempts and instances are done with on this machine: sandbox, layers, caches, databases; found out and made ready. */
import { freeAt, openFloor, openReserve } from '../files/floor.js';
import { mkdirSync, readdirSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { Type } from '@sinclair/typebox';
import { defaultFree, fullDisk } from '../../blobs/disk.js';
import { CodedError } from '../../core/errors/errors.js';
import { openDatabases } from '../../resources/postgres/attempts.js';
import type { Client } from '../../wire/rooms/client.js';
import { readKept, writeKept } from '../../wire/rooms/kept.js';
import { openCaches } from './caches.js';
import type { AgentContext } from '../context.js';
import { baseDigest, toolVersions } from '../facts.js';
import { defaultBounds } from '../log/keptlog.js';
import { findChromium, installPictures } from '../pictures/program.js';
import { openLayers } from '../files/layers.js';
import { installScripts, ownFolder } from '../sandbox/chain.js';
import {
  type AttemptBounds,
  defaultAttempt,
  findAccounts,
  findLimits,
  findNetwork,
  type Host,
  missingParts,
  type NetworkWay,
} from '../sandbox/host.js';
import { openVolumes, volumeFile } from '../../resources/volumes/volumes.js';
import { openStanding } from '../instances/standing.js';
import { discard, moveAway, sweepTrash } from '../files/remove.js';
import { groupOf, sweepGroups, preferOwn } from '../sandbox/limits.js';
import { AttemptMark, openReadyChains } from '../sandbox/ready.js';

export interface WorkshopOptions {
  name: string;
  folder: string;
  /** Attempts at the same time. */
  slots: number;
  /** Address under which edges reach its instances; default 127.0.0.1. */
  address?: string;
  /** How ports are tied; default what works here. */
  network?: NetworkWay;
  settings?: Record<string, string>;
  /** What an attempt may take of this machine; what is left out stays as it is by default. */
  limits?: Partial<AttemptBounds>;
  /** Bytes of an attempt's log that are kept, half of them from its end; default 64 MB. */
  logLimit?: number;
  /** Bytes that must be free for new attempts; default 2 GiB. */
  minFree?: number;
  /** Bytes below which the attempt that has written most is ended; default: 256 MiB, or an eighth of `minFree` where that is less. */
  floor?: number;
  /** Milliseconds for which a server that was ready may answer nothing; default 30 s. */
  silence?: number;
  /** Milliseconds between two rounds of tidying; default ten minutes. */
  tidyEvery?: number;
  /** Path of a Chromium that takes pictures, or `none`; default: what is found here. */
  chromium?: string;
  /** Administrator's address of the PostgreSQL cluster in which attempts get databases. */
  resources?: string;
  /** The same for the tasks of untrusted runs; left out: `resources`. */
  untrustedResources?: string;
}

/** Bytes that stay free for what is live. */
const defaultFloor = 256 * 1024 ** 2;
/** Days after which a cache that no attempt has used goes, and an unpacked layer; sooner when the disk is nearly full. */
const cacheDays = 14;
const layerDays = 3;

export interface Workshop {
  context: AgentContext;
  /** Tool → exact version. */
  tools: Record<string, string>;
  base: string;
  /** Attempts of an earlier agent that were over their limits when it ended. */
  hurt: string[];
  close(): Promise<void>;
}

/** Throws `sandbox_missing` or `tool_missing` where work can't be done safely. */
export async function openWorkshop(
  options: WorkshopOptions,
  client: Client,
  log: AgentContext['log'],
  stopped: () => boolean,
  leaseUntil: () => number = () => 0,
): Promise<Workshop> {
  const accounts = findAccounts();
  const missing = missingParts(accounts);
  if (missing) throw new CodedError(missing.code, missing.data);
  const host: Host = {
    accounts,
    network: options.network ?? findNetwork(accounts.live),
    limits: findLimits(),
    attempt: { ...defaultAttempt, ...options.limits },
  };
  mkdirSync(options.folder, { recursive: true });
  ownFolder(options.folder, null, 0o711);
  for (const name of ['work', 'live']) ownFolder(join(options.folder, name), null, 0o711);
  ownFolder(join(options.folder, 'pipes'), null, 0o700);
  installScripts(join(options.folder, 'bin'));
  installPictures(join(options.folder, 'bin'));
  preferOwn(host.limits, 'agent', options.name);
  const hurt = await sweepWork(options.folder, host.limits);
  const openNamed = (url: string | undefined) => (url ? openDatabases(url, `a-${options.name}`) : null);
  const databases = await openNamed(options.resources);
  const untrustedDatabases = (await openNamed(options.untrustedResources)) ?? databases;
  const servers = [...new Set([databases, untrustedDatabases])];
  // Attempts ended with the agent before this one, and so do their databases.
  for (const server of servers) await server?.sweep();
  const minFree = options.minFree ?? defaultFree;
  const reserve = openReserve(options.folder);
  const floor = openFloor({
    bytes: options.floor ?? Math.min(defaultFloor, Math.floor(minFree / 8)),
    reserve,
    free: () => freeAt(options.folder),
  });
  const context: AgentContext = {
    client,
    name: options.name,
    volumes: await openVolumes({
      folder: join(options.folder, 'volumes'),
      agent: options.name,
      owner: accounts.live,
      spare: minFree,
      kept: { read: (path) => readKept(path, volumeFile), write: writeKept },
      failed: (volume, error) => log.error({ volume, error: String(error) }, 'a volume could not be made ready'),
      discard: (path) => discard(options.folder, path),
    }),
    folder: options.folder,
    host,
    tools: {},
    layers: openLayers(options.folder, accounts.work),
    caches: openCaches(join(options.folder, 'caches'), accounts.work),
    databases,
    untrustedDatabases,
    chromium: null,
    chains: openReadyChains(options.folder, host, options.slots),
    standing: openStanding(options.folder, host),
    address: options.address ?? '127.0.0.1',
    ports: { from: 20_000, to: 31_999 },
    leaseUntil,
    settings: options.settings ?? {},
    logBounds: options.logLimit
      ? { head: Math.ceil(options.logLimit / 2), tail: Math.floor(options.logLimit / 2) }
      : defaultBounds,
    silenceMs: options.silence ?? 30_000,
    reserve,
    floor,
    full: () => fullDisk(options.folder, minFree, options.name),
    log,
    stopped,
  };
  const tidy = async (): Promise<void> => {
    await context.caches.tidy(cacheDays * 86_400_000);
    await context.layers.tidy(layerDays * 86_400_000, async () => (await context.full()) !== null);
  };
  const tidying = setInterval(() => {
    tidy().catch((error: Error) => log.warn({ error: String(error) }, 'caches and layers could not be tidied'));
  }, options.tidyEvery ?? 600_000);
  tidying.unref();
  const [found, base, chromium] = await Promise.all([
    toolVersions(),
    keptBase(options),
    findChromium(options.chromium),
  ]);
  Object.assign(context.tools, found);
  context.chromium = chromium?.path ?? null;
  return {
    context,
    tools: {
      ...found,
      ...(databases ? { postgres: databases.version } : {}),
      ...(chromium ? { chromium: chromium.version } : {}),
    },
    base,
    hurt,
    async close() {
      clearInterval(tidying);
      floor.close();
      await context.chains.close();
      await context.standing.close();
      // Instances that go on have seen their layers already.
      context.layers.close();
      for (const server of servers) {
        await server?.sweep().catch(() => {});
        await server?.close();
      }
    },
  };
}

/**
 * Ends and removes what an earlier agent left of its attempts; they ended with it. Gives those that were over their limits by then:
 * they may be why it ended. Folders are moved away at once and removed beside the work: that can take minutes.
 */
async function sweepWork(folder: string, limits: Host['limits']): Promise<string[]> {
  const hurt: string[] = [];
  for (const name of readdirSync(join(folder, 'work'))) {
    // None where there was no attempt, or its agent died over it.
    const mark = readKept(join(folder, 'work', name, 'attempt'), AttemptMark);
    if (mark) {
      const { outOfMemory, refusedProcesses } = groupOf(limits, mark.place, mark.before).facts();
      if (outOfMemory + refusedProcesses > 0) hurt.push(mark.attempt);
    }
    // A person's terminal has a group of its own, and so has a place that stood ready.
    if (/^[ts]-/.test(name)) await groupOf(limits, name).remove();
    moveAway(folder, join(folder, 'work', name));
  }
  for (const place of readdirSync(join(folder, 'pipes'))) {
    await groupOf(limits, place).remove();
    moveAway(folder, join(folder, 'pipes', place));
  }
  sweepGroups(limits);
  void sweepTrash(folder);
  return hurt;
}

const KeptBase = Type.Object({ mark: Type.String(), base: Type.String() });

/** The base digest asks the package manager, which takes a while; it is kept beside the time of the last installation. */
async function keptBase(options: WorkshopOptions): Promise<string> {
  const file = join(options.folder, 'base.json');
  const mark = `${statusTime()} ${JSON.stringify(options.settings ?? {})}`;
  const kept = readKept(file, KeptBase);
  if (kept?.mark === mark) return kept.base;
  const base = await baseDigest(options.settings ?? {});
  writeKept(file, { mark, base });
  return base;
}

function statusTime(): string {
  try {
    return String(statSync('/var/lib/dpkg/status').mtimeMs);
  } catch {
    return '';
  }
}
