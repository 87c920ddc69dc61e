/**
 * What is wrong now, and what of it is to be told. A condition is seen, begins when it has lasted for as long as its topic wants, and
 * ends when it has been gone for a while: what flutters is told once. Of another thing in the same place it begins again (a second
 * deployment that fails).
 *
 * | it is  | in it                       | left when                                                       |
 * |--------|-----------------------------|-----------------------------------------------------------------|
 * | seen   | it is there, and not told    | it has lasted → begun; it is gone → forgotten                    |
 * | begun  | its beginning was told       | gone for `calmMs` → its end is told, forgotten; of another → begun again |
 */
import type { AlertTopic } from '../states.js';

export interface Condition {
  topic: AlertTopic;
  /** As people write it: `sailings/production`, `agent-1`. */
  place: string;
  /** What it is of: `d17`, `run 131`; empty where there is nothing more to say. */
  of: string;
  /** Id of its project; null: it is of the whole installation. */
  project: string | null;
  /** Name of its environment. */
  environment: string | null;
  /** In words. */
  says: string;
}

export interface KnownCondition extends Condition {
  /** Milliseconds since the epoch. */
  seenAt: number;
  /** Its beginning was told; null: not yet. */
  begunAt: number | null;
  /** It was not there when last looked; null: it was. */
  goneAt: number | null;
}

export interface ConditionStep {
  /** As they are known from now on. */
  known: KnownCondition[];
  began: KnownCondition[];
  ended: KnownCondition[];
}

/** How long what is wrong lasts before it is told, and is gone before its end is, in milliseconds. */
export interface Patience {
  poorMs: number;
  calmMs: number;
  /** For which a mail waits for what may go with it. */
  mailMs: number;
}

export const defaultPatience: Patience = { poorMs: 5 * 60_000, calmMs: 30_000, mailMs: 10_000 };

const waitsFor = (topic: AlertTopic, patience: Patience): number =>
  topic === 'health-poor'
    ? patience.poorMs
    : topic === 'agent-unreachable' || topic === 'edge-unreachable'
      ? patience.calmMs
      : 0;

export const conditionKey = ({ topic, place }: Pick<Condition, 'topic' | 'place'>): string => `${topic} ${place}`;

export function stepConditions(
  known: readonly KnownCondition[],
  present: readonly Condition[],
  now: number,
  patience: Patience,
): ConditionStep {
  const there = new Map(present.map((one) => [conditionKey(one), one]));
  const step: ConditionStep = { known: [], began: [], ended: [] };
  for (const old of known) {
    const one = there.get(conditionKey(old));
    there.delete(conditionKey(old));
    if (!one) {
      const goneAt = old.goneAt ?? now;
      if (old.begunAt === null) continue;
      if (now - goneAt >= patience.calmMs) step.ended.push({ ...old, goneAt });
      else step.known.push({ ...old, goneAt });
    } else if (old.begunAt !== null && old.of !== one.of) {
      const again = { ...one, seenAt: now, begunAt: now, goneAt: null };
      step.known.push(again);
      step.began.push(again);
    } else seen({ ...one, seenAt: old.seenAt, begunAt: old.begunAt, goneAt: null });
  }
  for (const one of there.values()) seen({ ...one, seenAt: now, begunAt: null, goneAt: null });
  return step;

  function seen(one: KnownCondition): void {
    const begins = one.begunAt === null && now - one.seenAt >= waitsFor(one.topic, patience);
    const next = begins ? { ...one, begunAt: now } : one;
    step.known.push(next);
    if (begins) step.began.push(next);
  }
}
