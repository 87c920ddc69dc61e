/** Measures a figure paired with its baseline: interleaved rounds, medians, spread. The machine is shared and noisy. */
import type { DemoApi } from '../demo/seed.js';
import type { House } from '../src/cli/serve/serve.js';

/** What every area measures on. */
export interface Bench {
  house: House;
  api: DemoApi;
  folder: string;
}

export interface Figure {
  name: string;
  value: number;
  unit: string;
  baseline: number | null;
  ratio: number | null;
  goal: string;
  met: boolean;
  /** Half the range between the first and third quartile, relative to the median. */
  spread: number;
}

export interface Pairing {
  name: string;
  unit: string;
  rounds: number;
  measure(): Promise<number>;
  /** What it is paired with, measured in the same rounds. */
  baseline?(): Promise<number>;
  goal: { text: string; met(value: number, ratio: number | null): boolean };
}

export const median = (values: readonly number[]): number => quantile(values, 0.5);

function quantile(values: readonly number[], share: number): number {
  const sorted = [...values].sort((a, b) => a - b);
  const at = (sorted.length - 1) * share;
  const low = sorted[Math.floor(at)] ?? 0;
  const high = sorted[Math.ceil(at)] ?? low;
  return low + (high - low) * (at - Math.floor(at));
}

export async function pair({ name, unit, rounds, measure, baseline, goal }: Pairing): Promise<Figure> {
  const values: number[] = [];
  const bases: number[] = [];
  // One round each that is not counted: caches are warm in both.
  await measure();
  await baseline?.();
  for (let round = 0; round < rounds; round++) {
    values.push(await measure());
    if (baseline) bases.push(await baseline());
  }
  return figure(name, unit, values, bases, goal);
}

export function figure(
  name: string,
  unit: string,
  values: readonly number[],
  bases: readonly number[],
  goal: Pairing['goal'],
): Figure {
  const value = median(values);
  const base = bases.length ? median(bases) : null;
  const ratio = base ? value / base : null;
  const spread = value ? (quantile(values, 0.75) - quantile(values, 0.25)) / 2 / value : 0;
  return { name, value, unit, baseline: base, ratio, goal: goal.text, met: goal.met(value, ratio), spread };
}

export const show = (one: Figure): string =>
  `${one.met ? 'met   ' : 'MISSED'}  ${one.name.padEnd(44)} ${one.value.toFixed(one.unit === '×' ? 2 : 1).padStart(8)} ${one.unit.padEnd(4)}${one.baseline === null ? '' : ` against ${one.baseline.toFixed(1)} ${one.unit} (${one.ratio?.toFixed(2)} ×)`}  goal ${one.goal}  ± ${(one.spread * 100).toFixed(0)} %`;

/** Milliseconds that something takes. */
export async function timed(work: () => Promise<unknown>): Promise<number> {
  const began = performance.now();
  await work();
  return performance.now() - began;
}
