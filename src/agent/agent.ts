/** The agent: registers, asks for work, does it, renews its lease by asking. */
import { backoff } from '../core/backoff.js';
import { randomUUID } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { totalmem } from 'node:os';
import { join } from 'node:path';
import pino from 'pino';
import { CodedError } from '../core/errors/errors.js';
import { makeClient } from '../wire/rooms/client.js';
import type { AttemptWork, Leaving, PollAnswer, Registered } from '../wire/rooms/work.js';
import { type RunningAttempt, startAttempt } from './attempts/attempt.js';
import type { Takes } from '../core/states.js';
import { adoptInstance, type RunningInstance, startInstance } from './instances/instance.js';
import { openChores } from './volumes/chores.js';
import { startSampler } from './instances/sampler.js';
import { type RunningTerminal, startTerminal } from './terminals/terminal.js';
import { freezes } from './sandbox/limits.js';
import { upSeconds, writeLease } from './instances/keeper.js';
import { openWorkshop, type WorkshopOptions } from './attempts/workshop.js';

export interface AgentOptions extends WorkshopOptions {
  /** Address of the service. */
  url: string;
  token: string;
  /** What it takes of what its token allows; default all of that. */
  takes?: Takes[];
  /** Instances at the same time; default one for each 256 MiB of the machine's memory. */
  instances?: number;
  logLevel?: string;
}

/** Bytes of memory that an instance is reckoned with where nobody says how many fit. */
const memoryOfInstance = 256 * 1024 ** 2;

/** Milliseconds for which an agent that ends waits for the service to hear of it. */
const leaveMs = 1_000;

/** Terminals of people at the same time. */
const mostTerminals = 16;

/** Milliseconds in which most programs that stood still answer again. */
const thawMs = 20;

/** Chores of volumes at the same time. */
const mostChores = 4;

/** Bytes of memory that could be given out now; all of it where the machine does not say. */
function memoryLeft(): number {
  try {
    const kib = /^MemAvailable:\s+(\d+) kB$/m.exec(readFileSync('/proc/meminfo', 'utf8'))?.[1];
    return kib ? Number(kib) * 1024 : totalmem();
  } catch {
    return totalmem();
  }
}

export interface RunningAgent {
  /** Ends its attempts and goes; instances go on, unless they are to end too (they start again with the next agent). */
  close(instances?: 'leave' | 'end'): Promise<void>;
}

export async function startAgent(options: AgentOptions): Promise<RunningAgent> {
  const log = pino(
    { name: `agent ${options.name}`, level: options.logLevel ?? 'info' },
    pino.destination({ fd: 2, sync: true }),
  );
  let stopped = false;
  let closing = false;
  const client = makeClient(options.url, options.token);
  /** Until when the lease holds, as the last answer gave it. */
  let lease = 0;
  const workshop = await openWorkshop(
    options,
    client,
    log,
    () => stopped,
    () => lease,
  );
  const { context, tools, base, hurt, close } = workshop;
  const roomFor = options.instances ?? Math.max(1, Math.floor(totalmem() / memoryOfInstance));
  const { host } = context;
  const boot = randomUUID();
  /** Written by an agent that ends as it was told to. */
  const leftMark = join(options.folder, 'left');
  let left = existsSync(leftMark);
  const attempts = new Map<string, RunningAttempt>();
  const instances = new Map<string, RunningInstance>();
  const terminals = new Map<string, RunningTerminal>();
  const chores = openChores(context);
  for (const folder of readdirSync(join(options.folder, 'live'))) {
    const instance = adoptInstance(context, join(options.folder, 'live', folder));
    if (instance) keep(instance);
  }

  function keep(instance: RunningInstance): void {
    instances.set(instance.id, instance);
    void instance.done.then(() => {
      // Another one with this id may have been begun by now.
      if (instances.get(instance.id) === instance) instances.delete(instance.id);
      poke();
    });
  }

  let polling: AbortController | null = null;
  /** Something changed here: the service is asked again at once. */
  function poke(): void {
    polling?.abort();
  }

  const held = (map: Map<string, { id: string; fence: string }>) =>
    [...map.values()].map(({ id, fence }) => ({ id, fence }));
  /** What ends is named as such, or it would be told to end without end; what is dropped is nothing of the service's. */
  const working = <Work extends RunningAttempt | RunningInstance>(
    map: Map<string, Work>,
    more: (one: Work) => object,
  ) =>
    [...map.values()]
      .filter((one) => !one.dropped())
      .map((one) => ({ id: one.id, fence: one.fence, ...(one.ending() ? { ending: true } : {}), ...more(one) }));
  /** Attempts that were given up here, and that the service does not know of yet. */
  const gaveUp = new Set<string>();

  const register = async (): Promise<number> => {
    const body = {
      name: options.name,
      boot,
      ...(options.takes ? { takes: options.takes } : {}),
      slots: options.slots,
      ...(options.address ? { address: options.address } : {}),
      tools,
      base,
      memory: totalmem(),
      sandbox: {
        network: host.network,
        limits: host.limits,
        freezes: freezes(host.limits),
        account: host.accounts.work?.name ?? 'the agent’s own',
        instances: host.accounts.live?.name ?? 'the agent’s own',
      },
      // What runs here goes on: the service may have forgotten this agent, not this agent its work.
      attempts: held(attempts),
      hurt,
      ...(left ? { left } : {}),
    };
    // The service has counted them lost, or gives them anew.
    for (const terminal of terminals.values()) terminal.drop();
    for (const { id } of chores.held()) chores.drop(id);
    const answer = await client.post<Registered>('/api/agent/register', body);
    hurt.length = 0;
    rmSync(leftMark, { force: true });
    left = false;
    context.address = answer.address;
    context.ports = answer.ports;
    return answer.leaseMs;
  };

  const begin = (works: readonly AttemptWork[]): void => {
    // What is given while this agent ends goes to the next one.
    if (closing) return;
    for (const work of works) {
      if (attempts.get(work.id)?.fence === work.fence) continue;
      const attempt = startAttempt(context, work, begin);
      attempts.set(work.id, attempt);
      // No question is asked for it: the service counts the slots.
      void attempt.done.then((reported) => {
        if (attempts.get(work.id) === attempt) attempts.delete(work.id);
        if (reported) return;
        gaveUp.add(work.id);
        poke();
      });
    }
  };

  const take = (answer: PollAnswer) => {
    begin(answer.attempts);
    for (const work of answer.instances) {
      if (instances.get(work.id)?.fence === work.fence) continue;
      const before = instances.get(work.id);
      before?.drop();
      keep(startInstance(context, work, before?.done));
    }
    for (const work of closing ? [] : (answer.terminals ?? [])) {
      if (terminals.get(work.id)?.fence === work.fence) continue;
      const terminal = startTerminal(context, work, { url: options.url, token: options.token });
      terminals.set(work.id, terminal);
      void terminal.done.then(() => {
        if (terminals.get(work.id) === terminal) terminals.delete(work.id);
      });
    }
    if (!closing) for (const work of answer.chores ?? []) chores.take(work);
    for (const id of answer.forget ?? []) chores.forget(id);
    for (const id of answer.stop) attempts.get(id)?.stop();
    for (const id of answer.end) instances.get(id)?.end();
    for (const id of answer.freeze ?? []) instances.get(id)?.freeze(true);
    for (const id of answer.thaw ?? []) instances.get(id)?.freeze(false);
    for (const id of answer.drop) {
      attempts.get(id)?.drop();
      instances.get(id)?.drop();
      terminals.get(id)?.drop();
      chores.drop(id);
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
        const began = upSeconds();
        const full = await context.full();
        const told = [...gaveUp];
        const news = chores.news();
        const body = {
          boot,
          full,
          slots: options.slots,
          room: Math.max(0, Math.min(roomFor - instances.size, Math.floor(memoryLeft() / memoryOfInstance))),
          attempts: working(attempts, () => ({})),
          instances: working(instances, (one) => (one.frozen() ? { frozen: true } : {})),
          terminals: held(terminals),
          terminalRoom: Math.max(0, mostTerminals - terminals.size),
          chores: chores.held(),
          choreRoom: Math.max(0, mostChores - chores.held().length),
          ...(news ? { volumes: news } : {}),
          gaveUp: told,
          waitMs: Math.floor(leaseMs / 3),
        };
        const answer = await client.post<PollAnswer>('/api/agent/poll', body, { signal: polling.signal });
        for (const id of told) gaveUp.delete(id);
        if (news) chores.told(news);
        if (closing) return;
        lease = began + leaseMs / 1000;
        for (const instance of instances.values())
          if (instance.kind === 'worker' && existsSync(instance.folder)) writeLease(instance.folder, lease);
        take(answer);
        failures = 0;
        // What they report comes first: somebody waits for it.
        if (answer.thaw?.length) await new Promise((resolve) => setTimeout(resolve, thawMs));
      } catch (error) {
        if (stopped) return;
        if (polling?.signal.aborted) continue;
        // Only who is told so registers again; a service that is away has forgotten nothing.
        if (error instanceof CodedError && error.issue.code === 'lease_lost') leaseMs = 0;
        failures++;
        if (failures === 1) log.warn({ error: String(error) }, 'the service does not answer as expected; trying again');
        await new Promise((resolve) => setTimeout(resolve, backoff('poll', failures)));
      } finally {
        polling = null;
      }
    }
  };
  const sampler = startSampler(context, boot, () => [...instances.keys()]);
  const running = loop();
  return {
    async close(what = 'leave') {
      closing = true;
      writeFileSync(leftMark, '');
      sampler.stop();
      chores.stop();
      // What the service would give now, nobody would do.
      poke();
      const leaving: Leaving = { boot, attempts: held(attempts) };
      for (const attempt of [...attempts.values(), ...terminals.values()]) attempt.drop();
      // Where the service does not hear of it now, the next process of this agent tells it.
      if (leaving.attempts.length)
        await client
          .post('/api/agent/leave', leaving, { signal: AbortSignal.timeout(leaveMs) })
          .catch((error: Error) =>
            log.warn({ error: String(error) }, 'the service has not heard that this agent ends'),
          );
      if (what === 'end') for (const instance of instances.values()) instance.drop();
      if (what === 'end') await Promise.all([...instances.values()].map((instance) => instance.done));
      stopped = true;
      poke();
      await Promise.all([...attempts.values(), ...terminals.values()].map((one) => one.done));
      await chores.over();
      await running;
      await close();
      await client.close();
    },
  };
}
