/**
 * Figures of programs: counted by edges, sampled by agents, each for ten seconds; rolled up to minutes and hours.
 *
 * What is counted is added, memory is the most that was seen of an instance; of a part it is the sum over its instances.
 */
import { addInto, type Histogram, quantile } from './histogram.js';

/** Seconds of a step, from the finest. */
export const steps = [10, 60, 3_600] as const;
export type Step = (typeof steps)[number];

/** Seconds for which the figures of a step are kept. */
export const keptFor: Record<Step, number> = { 10: 2 * 86_400, 60: 8 * 86_400, 3600: 32 * 86_400 };
/** Seconds after the end of a step until it is rolled up: whoever counted has sent it by then. */
export const settleSeconds = 25;

/** What was counted of one instance, or of a part without instances, in one step. */
export interface Figure {
  /** Seconds since the epoch at which the step begins. */
  at: number;
  environment: string;
  /** Number of the deployment. */
  deployment: number;
  part: string;
  /** Id of the instance; empty for a site, and in hours. */
  instance: string;
  requests: number;
  errors: number;
  bytes: number;
  times: Histogram;
  /** Milliseconds of processor time. */
  cpu: number;
  /** Bytes. */
  memory: number;
}

export const beginOf = (at: number, step: Step): number => Math.floor(at / step) * step;

/** Brings figures to a coarser step. In hours instances are one: memory is then what they took together. */
export function rollUp(figures: readonly Figure[], step: Step): Figure[] {
  const perInstance = merge(figures, (one) => ({ ...one, at: beginOf(one.at, step) }), Math.max);
  return step === 3_600
    ? merge(
        perInstance,
        (one) => ({ ...one, instance: '' }),
        (a, b) => a + b,
      )
    : perInstance;
}

/** Adds figures that are of the same thing after `change`; `memory` says what two become. */
export function merge(
  figures: readonly Figure[],
  change: (one: Figure) => Figure,
  memory: (a: number, b: number) => number,
): Figure[] {
  const sums = new Map<string, Figure>();
  for (const each of figures) {
    const one = change(each);
    const key = `${one.at} ${one.environment} ${one.deployment} ${one.part} ${one.instance}`;
    const sum = sums.get(key);
    if (!sum) sums.set(key, { ...one, times: [...one.times] });
    else {
      sum.requests += one.requests;
      sum.errors += one.errors;
      sum.bytes += one.bytes;
      sum.cpu += one.cpu;
      addInto(sum.times, one.times);
      sum.memory = memory(sum.memory, one.memory);
    }
  }
  return [...sums.values()];
}

/** What a line comes to over its whole span, from the first point at which anything is known; null where nothing is known. */
export interface Whole {
  /** A second. */
  requests: number;
  /** Share of the requests, 0 to 1. */
  errors: number | null;
  /** Milliseconds: quantiles of all requests. */
  p50: number | null;
  p95: number | null;
  p99: number | null;
  /** Cores. */
  cpu: number;
  /** Bytes: the most of any point. */
  memory: number | null;
}

/** A line of a chart: one value a point, null where nothing is known. Rates are a second, shares 0 to 1, times milliseconds. */
export interface Series {
  part: string;
  instance: string | null;
  requests: (number | null)[];
  errors: (number | null)[];
  p50: (number | null)[];
  p95: (number | null)[];
  p99: (number | null)[];
  /** Cores. */
  cpu: (number | null)[];
  /** Bytes. */
  memory: (number | null)[];
  whole: Whole;
}

/**
 * Lines over time, of parts or of instances: from `from` (seconds), `points` of them, each `width` seconds, which is a multiple of the
 * figures' step.
 */
export function chart(
  figures: readonly Figure[],
  { from, width, points, by }: { from: number; width: number; points: number; by: 'part' | 'instance' },
): Series[] {
  const wide = (one: Figure) => from + Math.floor((one.at - from) / width) * width;
  // Two deployments may serve one part at a time: together they are that part.
  const perInstance = merge(figures, (one) => ({ ...one, at: wide(one), deployment: 0 }), Math.max);
  const lines =
    by === 'instance'
      ? perInstance.filter((one) => one.instance !== '')
      : perInstance.every((one) => one.instance === '')
        ? perInstance
        : merge(
            perInstance,
            (one) => ({ ...one, instance: '' }),
            (a, b) => a + b,
          );
  const all = new Map<string, Omit<Series, 'whole'>>();
  const sums = new Map<string, Figure>();
  const none = () => new Array<number | null>(points).fill(null);
  for (const one of lines) {
    const at = Math.round((one.at - from) / width);
    if (at < 0 || at >= points) continue;
    const key = `${one.part} ${one.instance}`;
    let line = all.get(key);
    if (!line) {
      const fresh = {
        requests: none(),
        errors: none(),
        p50: none(),
        p95: none(),
        p99: none(),
        cpu: none(),
        memory: none(),
      };
      line = { part: one.part, instance: one.instance || null, ...fresh };
      all.set(key, line);
    }
    const sum = sums.get(key);
    if (!sum) sums.set(key, { ...one, at, times: [...one.times] });
    else {
      sum.at = Math.min(sum.at, at);
      sum.requests += one.requests;
      sum.errors += one.errors;
      sum.cpu += one.cpu;
      addInto(sum.times, one.times);
      sum.memory = Math.max(sum.memory, one.memory);
    }
    line.requests[at] = one.requests / width;
    line.errors[at] = one.requests > 0 ? one.errors / one.requests : null;
    line.p50[at] = quantile(one.times, 0.5);
    line.p95[at] = quantile(one.times, 0.95);
    line.p99[at] = quantile(one.times, 0.99);
    line.cpu[at] = one.cpu / 1_000 / width;
    line.memory[at] = one.memory || null;
  }
  return [...all]
    .map(([key, line]) => ({ ...line, whole: wholeOf(sums.get(key) as Figure, points, width) }))
    .sort((a, b) => (`${a.part} ${a.instance}` < `${b.part} ${b.instance}` ? -1 : 1));
}

/** Of the sum of a line's figures; `at` is its first point. */
function wholeOf({ at, requests, errors, cpu, times, memory }: Figure, points: number, width: number): Whole {
  const seconds = (points - at) * width;
  return {
    requests: requests / seconds,
    errors: requests > 0 ? errors / requests : null,
    p50: quantile(times, 0.5),
    p95: quantile(times, 0.95),
    p99: quantile(times, 0.99),
    cpu: cpu / 1_000 / seconds,
    memory: memory || null,
  };
}

/** Points that a chart has at most. */
export const mostPoints = 360;

/** The step and the width of a point for a span of seconds. */
export function resolution(span: number): { step: Step; width: number } {
  const step: Step = span <= 2 * 3_600 ? 10 : span <= 2 * 86_400 ? 60 : 3_600;
  return { step, width: Math.max(1, Math.ceil(span / step / mostPoints)) * step };
}
