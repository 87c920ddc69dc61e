/** The agent: registers, asks for work, does it, renews its lease by asking. */
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { randomUUID } from 'node:crypto';
import { join } from 'node:path';
import pino from 'pino';
import { CodedError } from '../core/errors.js';
import { makeClient } from '../wire/client.js';
import type { PollAnswer, Registered } from '../wire/work.js';
import { type RunningAttempt, startAttempt } from './attempt.js';
import type { AgentContext } from './context.js';
import { baseDigest, toolVersions } from './facts.js';
import { adoptInstance, type RunningInstance, startInstance, writeLease } from './instance.js';
import { openDatabases } from '../resources/postgres.js';
import { openCaches } from './caches.js';
import { defaultBounds } from './keptlog.js';
import { openLayers } from './layers.js';
import { installScripts, ownFolder } from './sandbox/chain.js';
import { groupOf } from './sandbox/limits.js';
import { openReadyChains } from './sandbox/ready.js';
import { type AttemptBounds, defaultAttempt, findAccounts, findLimits, findNetwork, type Host, missingParts, type NetworkWay } from './sandbox/host.js';

export interface AgentOptions {
  /** Address of the service. */
  url: string;
  token: string;
  name: string;
  folder: string;
  /** Attempts at the same time. */
  slots: number;
  /** What it takes; default all. */
  class?: ('runs' | 'untrusted' | 'live')[];
  /** Address under which edges reach its instances; default 127.0.0.1. */
  address?: string;
  /** How ports are tied; default what works here. */
  network?: NetworkWay;
  settings?: Record<string, string>;
  /** What an attempt may take of this machine; what is left out stays as it is by default. */
  limits?: Partial<AttemptBounds>;
  /** Bytes of an attempt's log that are kept, half of them from its end; default 64 MB. */
  logLimit?: number;
  /** Administrator's address of the PostgreSQL cluster in which attempts get databases. */
  resources?: string;
  logLevel?: string;
}

export interface RunningAgent {
  /** Ends its attempts and goes; instances go on, unless they are to end too (they start again with the next agent). */
  close(instances?: 'leave' | 'end'): Promise<void>;
}

export async function startAgent(options: AgentOptions): Promise<RunningAgent> {
  const log = pino({ name: `agent ${options.name}`, level: options.logLevel ?? 'info' }, pino.destination({ fd: 2, sync: true }));
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
  installScripts(join(options.folder, 'bin'));
  await sweepWork(join(options.folder, 'work'), host.limits);

  let stopped = false;
  let closing = false;
  const client = makeClient(options.url, options.token);
  const databases = options.resources ? await openDatabases(options.resources, `a-${options.name}`) : null;
  // Attempts ended with the agent before this one, and so do their databases.
  await databases?.sweep();
  const context: AgentContext = {
    client,
    folder: options.folder,
    host,
    layers: openLayers(join(options.folder, 'layers'), accounts.work),
    caches: openCaches(join(options.folder, 'caches'), accounts.work),
    databases,
    chains: openReadyChains(join(options.folder, 'work'), join(options.folder, 'bin'), host, options.slots),
    address: options.address ?? '127.0.0.1',
    settings: options.settings ?? {},
    logBounds: options.logLimit ? { head: Math.ceil(options.logLimit / 2), tail: Math.floor(options.logLimit / 2) } : defaultBounds,
    log,
    stopped: () => stopped,
  };
  const boot = randomUUID();
  const attempts = new Map<string, RunningAttempt>();
  const instances = new Map<string, RunningInstance>();
  const [found, base] = await Promise.all([toolVersions(), keptBase(options)]);
  const tools = databases ? { ...found, postgres: databases.version } : found;
  for (const folder of readdirSync(join(options.folder, 'live'))) {
    const instance = adoptInstance(context, join(options.folder, 'live', folder));
    if (instance) keep(instance);
  }

  function keep(instance: RunningInstance): void {
    instances.set(instance.id, instance);
    void instance.done.then(() => instances.delete(instance.id)).then(poke);
  }

  let polling: AbortController | null = null;
  /** Something changed here: the service is asked again at once. */
  function poke(): void {
    polling?.abort();
  }

  const register = async (): Promise<number> => {
    const body = {
      name: options.name,
      boot,
      class: options.class ?? ['runs', 'untrusted', 'live'],
      slots: options.slots,
      address: context.address,
      tools,
      base,
      sandbox: {
        network: host.network,
        limits: host.limits,
        account: accounts.work?.name ?? 'the agent’s own',
        instances: accounts.live?.name ?? 'the agent’s own',
      },
    };
    return (await client.post<Registered>('/api/agent/register', body)).leaseMs;
  };

  const take = (answer: PollAnswer) => {
    for (const work of answer.attempts) {
      const attempt = startAttempt(context, work);
      attempts.set(work.id, attempt);
      // No question is asked for it: the service counts the slots.
      void attempt.done.then(() => attempts.delete(work.id));
    }
    for (const work of answer.instances) {
      instances.get(work.id)?.drop();
      keep(startInstance(context, work));
    }
    for (const id of answer.stop) attempts.get(id)?.stop();
    for (const id of answer.end) instances.get(id)?.end();
    for (const id of answer.drop) {
      attempts.get(id)?.drop();
      instances.get(id)?.drop();
    }
  };

  const loop = async () => {
    let leaseMs = 0;
    let failures = 0;
    while (!stopped && !closing) {
      try {
        if (leaseMs === 0) {
          leaseMs = await register();
          log.info({ url: options.url, network: host.network, limits: host.limits }, 'registered');
        }
        polling = new AbortController();
        const held = (map: Map<string, { id: string; fence: string }>) => [...map.values()].map(({ id, fence }) => ({ id, fence }));
        const began = Date.now();
        const body = {
          boot,
          slots: options.slots,
          attempts: held(attempts),
          instances: held(instances),
          waitMs: Math.floor(leaseMs / 3),
        };
        const answer = await client.post<PollAnswer>('/api/agent/poll', body, { signal: polling.signal });
        if (closing) return;
        for (const instance of instances.values()) if (instance.kind === 'worker' && existsSync(instance.folder)) writeLease(instance.folder, began + leaseMs);
        take(answer);
        failures = 0;
      } catch (error) {
        if (stopped) return;
        if (polling?.signal.aborted) continue;
        if (error instanceof CodedError && (error.issue.code === 'lease_lost' || error.issue.code === 'unavailable')) leaseMs = 0;
        failures++;
        if (failures === 1) log.warn({ error: String(error) }, 'the service does not answer as expected; trying again');
        await new Promise((resolve) => setTimeout(resolve, Math.min(2_000, 50 * 2 ** Math.min(failures, 6))));
      } finally {
        polling = null;
      }
    }
  };
  const running = loop();
  return {
    async close(what = 'leave') {
      closing = true;
      for (const attempt of attempts.values()) attempt.drop();
      if (what === 'end') for (const instance of instances.values()) instance.drop();
      if (what === 'end') await Promise.all([...instances.values()].map((instance) => instance.done));
      stopped = true;
      poke();
      await Promise.all([...attempts.values()].map((attempt) => attempt.done));
      await running;
      context.chains.close();
      await databases?.sweep().catch(() => {});
      await databases?.close();
      await client.close();
    },
  };
}

/** What an earlier agent left of its attempts; they ended with it. */
async function sweepWork(folder: string, limits: Host['limits']): Promise<void> {
  for (const name of readdirSync(folder)) {
    await groupOf(limits, name).remove();
    rmSync(join(folder, name), { recursive: true, force: true });
  }
}

/** The base digest asks the package manager, which takes a while; it is kept beside the time of the last installation. */
async function keptBase(options: AgentOptions): Promise<string> {
  const file = join(options.folder, 'base.json');
  const mark = `${statusTime()} ${JSON.stringify(options.settings ?? {})}`;
  try {
    const kept = JSON.parse(readFileSync(file, 'utf8')) as { mark: string; base: string };
    if (kept.mark === mark) return kept.base;
  } catch {
    // Not kept yet.
  }
  const base = await baseDigest(options.settings ?? {});
  writeFileSync(file, JSON.stringify({ mark, base }));
  return base;
}

function statusTime(): string {
  try {
    return String(statSync('/var/lib/dpkg/status').mtimeMs);
  } catch {
    return '';
  }
}
