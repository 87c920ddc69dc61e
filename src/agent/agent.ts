/** The agent: registers, asks for work, does it, renews its lease by asking. */
import { randomUUID } from 'node:crypto';
import { existsSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import pino from 'pino';
import { CodedError } from '../core/errors.js';
import { makeClient } from '../wire/client.js';
import type { PollAnswer, Registered } from '../wire/work.js';
import { type RunningAttempt, startAttempt } from './attempt.js';
import { adoptInstance, type RunningInstance, startInstance, writeLease } from './instance.js';
import { openWorkshop, type WorkshopOptions } from './workshop.js';

export interface AgentOptions extends WorkshopOptions {
  /** Address of the service. */
  url: string;
  token: string;
  /** What it takes; default all. */
  class?: ('runs' | 'untrusted' | 'live')[];
  logLevel?: string;
}

export interface RunningAgent {
  /** Ends its attempts and goes; instances go on, unless they are to end too (they start again with the next agent). */
  close(instances?: 'leave' | 'end'): Promise<void>;
}

export async function startAgent(options: AgentOptions): Promise<RunningAgent> {
  const log = pino({ name: `agent ${options.name}`, level: options.logLevel ?? 'info' }, pino.destination({ fd: 2, sync: true }));
  let stopped = false;
  let closing = false;
  const client = makeClient(options.url, options.token);
  const { context, tools, base, close } = await openWorkshop(options, client, log, () => stopped);
  const { host } = context;
  const boot = randomUUID();
  const attempts = new Map<string, RunningAttempt>();
  const instances = new Map<string, RunningInstance>();
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
        account: host.accounts.work?.name ?? 'the agent’s own',
        instances: host.accounts.live?.name ?? 'the agent’s own',
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
        const full = await context.full();
        const body = {
          boot,
          full,
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
      await close();
      await client.close();
    },
  };
}
