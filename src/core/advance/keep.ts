/**
 * What is live is kept as it was asked for; what is live no longer cools down and ends. Each call gets all the
 * facts and says what to do, as in `deployments.ts`: nothing is remembered between calls, and doing it twice does no harm.
 *
 * | a deployment that is … | does | until |
 * |---|---|---|
 * | live | replaces what ended without being told to | another is live |
 * | serving, though it failed | stays, in poor health; down without any server | another has the traffic |
 * | replaced, and one on its way may bring it back | stays as it is | that one has ended |
 * | replaced | ends its workers at once; its servers stay warm | the time is over |
 * | cold | waits for every edge to have a table without it, then ends its servers | nothing of it runs |
 */
import type { Health, InstanceState } from '../states.js';
import { restartDelay } from './environments.js';

export interface KeptInstance {
  id: string;
  part: string;
  kind: 'server' | 'worker';
  position: number;
  state: InstanceState;
  wanted: boolean;
  /** How often in a row its place was filled again. */
  restarts: number;
  /** Milliseconds for which it was ready. */
  livedMs: number;
  /** Its machine has let it down: that says nothing of the release. */
  letDown: boolean;
  /** As of which wish for fresh programs it was started. */
  fresh: number;
}

export interface Replacement {
  part: string;
  kind: 'server' | 'worker';
  position: number;
  restarts: number;
  delayMs: number;
}

export interface Replaced {
  /** Ids of those that are wanted no longer. */
  giveUp: string[];
  start: Replacement[];
}

export const instanceOver = (one: Pick<KeptInstance, 'state'>): boolean =>
  one.state === 'failed' || one.state === 'ended' || one.state === 'lost';

/** An instance that was ready for so long has proven itself: its next end is counted as the first. */
const provenMs = 60_000;
/** How often an instance of a deployment on its way takes the place of one that its machine has let down. */
const letDownAtMost = 3;

/** What ended without being told to starts again in its place; workers wait while another deployment moves the traffic. */
export function replaceEnded(instances: readonly KeptInstance[], { moving }: { moving: boolean }): Replaced {
  const ended = instances.filter((one) => one.wanted && instanceOver(one) && !(one.kind === 'worker' && moving));
  return fill(instances, ended, (one) => {
    const restarts = one.livedMs > provenMs ? 0 : one.restarts + 1;
    return { restarts, delayMs: restartDelay(restarts - 1) };
  });
}

/** On the way of a deployment only what its machine has let down starts again, a few times. */
export function replaceLetDown(instances: readonly KeptInstance[]): Replaced {
  const lost = instances.filter(
    (one) => one.wanted && instanceOver(one) && one.letDown && one.restarts < letDownAtMost,
  );
  return fill(instances, lost, (one) => ({ restarts: one.restarts + 1, delayMs: restartDelay(one.restarts) }));
}

/** Each is given up; a place that somebody has already is not filled again. */
function fill(
  instances: readonly KeptInstance[],
  ended: readonly KeptInstance[],
  how: (one: KeptInstance) => Pick<Replacement, 'restarts' | 'delayMs'>,
): Replaced {
  const place = (one: KeptInstance): string => `${one.part} ${one.position}`;
  // The freshest that lives in each place: one that is to take its place and failed is tried again beside it.
  const taken = new Map<string, number>();
  const take = (one: KeptInstance) => taken.set(place(one), Math.max(one.fresh, taken.get(place(one)) ?? -1));
  for (const one of instances) if (one.wanted && !instanceOver(one)) take(one);
  const start: Replacement[] = [];
  for (const one of [...ended].sort((a, b) => b.fresh - a.fresh)) {
    if ((taken.get(place(one)) ?? -1) >= one.fresh) continue;
    take(one);
    start.push({ part: one.part, kind: one.kind, position: one.position, ...how(one) });
  }
  return { giveUp: ended.map((one) => one.id), start };
}

export interface CoolingFacts {
  /** It has the traffic. */
  serving: boolean;
  /** A deployment on its way would bring it back if it failed. */
  needed: boolean;
  /** Something of it runs and is wanted. */
  running: boolean;
  serversAsked: number;
  /** Servers that have not ended. */
  serversUp: number;
  /** Milliseconds for which it stays warm from now; 0 or less when that is over. */
  warmMs: number;
  /** Each edge that answers has a table without it. */
  acknowledged: boolean;
}

export interface CoolingStep {
  effects: ('endWorkers' | 'endServers')[];
  /** What is to be said of the environment's health, or null. */
  health: Health | null;
  /** Milliseconds until to look again; null: only when something has happened. */
  againMs: number | null;
}

/** Milliseconds between two looks at whether the edges have followed. Their acknowledgement wakes sooner: this is for one that was lost. */
export const edgesMs = 60_000;

export function coolDeployment(facts: CoolingFacts): CoolingStep {
  const step = (effects: CoolingStep['effects'], againMs: number | null = null): CoolingStep => ({
    effects,
    health: null,
    againMs,
  });
  if (facts.serving)
    return { effects: [], health: facts.serversUp > 0 || facts.serversAsked === 0 ? 'poor' : 'down', againMs: null };
  if (facts.needed) return step([]);
  if (!facts.running) return step(['endWorkers']);
  if (facts.warmMs > 0) return step(['endWorkers'], facts.warmMs);
  return facts.acknowledged ? step(['endWorkers', 'endServers']) : step(['endWorkers'], edgesMs);
}
