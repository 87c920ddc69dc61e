/**
 * Whether a release that has a share of the traffic does worse than the one beside it, in the same minutes, or than a bound. The tests
 * are sequential: they may be looked at after every slice, and still blame a good release in at most `alpha` of all cases. Each is a
 * likelihood ratio against some degrees of worse, mixed evenly; such a ratio is a martingale where the release is no worse, and by
 * Ville's inequality it exceeds 1/alpha at any time in at most alpha of all cases (J. Ville, Étude critique de la notion de collectif,
 * 1939; as a test: A. Wald, Sequential Tests of Statistical Hypotheses, 1945).
 */

/** Degrees of worse that are looked for: times as many bad answers. */
export const ratios = [1.5, 2, 3, 5, 10] as const;

/** Chance that any of the tests of one deployment blames a good release. */
export const falseAlarms = 0.01;

/** Natural logarithms of the likelihood ratios, one for each of `ratios`. */
export type Weight = readonly number[];

export const noWeight: Weight = ratios.map(() => 0);

/** What was assigned to a side within a slice, and how much of it was bad: visitors, or requests of those who have no cookie. */
export interface Side {
  units: number;
  bad: number;
}

/**
 * Beside the old release: of all that was bad in a slice, a new one that is no worse has the share that it has of all that was assigned.
 * A slice with traffic on one side alone, or without anything bad, says nothing.
 */
export function weighBeside(weight: Weight, old: Side, now: Side): Weight {
  const bad = old.bad + now.bad;
  const share = now.units / (old.units + now.units);
  if (bad === 0 || !(share > 0 && share < 1)) return weight;
  return weight.map((before, at) => {
    const rho = ratios[at] as number;
    const expected = (share * rho) / (share * rho + 1 - share);
    return before + now.bad * Math.log(expected / share) + (bad - now.bad) * Math.log((1 - expected) / (1 - share));
  });
}

/** Against a bound: a release that keeps it has at most this share of its units bad. Degrees beyond all of them are left out. */
export function weighBound(weight: Weight, bound: number, now: Side): Weight {
  if (now.units === 0) return weight;
  return weight.map((before, at) => {
    const rate = bound * (ratios[at] as number);
    if (rate >= 1) return before;
    return before + now.bad * Math.log(rate / bound) + (now.units - now.bad) * Math.log((1 - rate) / (1 - bound));
  });
}

/** Natural logarithm of the evidence: the mean of the ratios. */
export function evidence(weight: Weight): number {
  const most = Math.max(...weight);
  return most + Math.log(weight.reduce((sum, one) => sum + Math.exp(one - most), 0) / weight.length);
}

/** Whether it is worse; `tests`: how many of them share the chance of a false alarm. */
export function isWorse(weight: Weight, tests: number): boolean {
  const needed = -Math.log(falseAlarms / tests);
  // The mean is at most the largest: most are seen to be far from it at once.
  return weight.some((one) => one >= needed) && evidence(weight) >= needed;
}

/** What would be needed to blame it, as a share from 0 to 1 of what there is: for a bar. */
export const towards = (weight: Weight, tests: number): number =>
  Math.min(1, Math.max(0, evidence(weight) / -Math.log(falseAlarms / tests)));

export interface Prospect {
  /** Bad units of the new side that are to be expected where it is as good as the old one. */
  expected: number;
  /** Of the traffic; above 0, below 1. */
  share: number;
  /** Times as bad. */
  ratio: number;
  /** Slices in which they come. */
  slices: number;
  tests: number;
}

const plays = 400;

/** In how many of 100 cases a release that is so much worse would be seen: the test itself, played with the same numbers each time. */
export function seenIn100({ expected, share, ratio, slices, tests }: Prospect): number {
  const draw = drawing(0x5eed);
  const [now, old] = [(expected * ratio) / slices, (expected * (1 - share)) / share / slices];
  const units = 1e6;
  let seen = 0;
  for (let play = 0; play < plays; play++) {
    let weight = noWeight;
    for (let slice = 0; slice < slices && !isWorse(weight, tests); slice++)
      weight = weighBeside(
        weight,
        { units: units * (1 - share), bad: poisson(old, draw) },
        { units: units * share, bad: poisson(now, draw) },
      );
    if (isWorse(weight, tests)) seen++;
  }
  return Math.round((seen * 100) / plays);
}

/** Numbers from 0 to 1, the same for the same seed (mulberry32, public domain). */
export function drawing(seed: number): () => number {
  const { imul } = Math;
  let state = seed;
  return () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  };
}

/** A count whose mean is this: by the pauses between events (Knuth), a normal one where they are many. */
function poisson(mean: number, draw: () => number): number {
  if (mean <= 0) return 0;
  if (mean > 200) {
    const normal = Math.sqrt(-2 * Math.log(1 - draw())) * Math.cos(2 * Math.PI * draw());
    return Math.max(0, Math.round(mean + Math.sqrt(mean) * normal));
  }
  const end = Math.exp(-mean);
  let count = -1;
  for (let left = 1; left > end; left *= draw()) count++;
  return count;
}
