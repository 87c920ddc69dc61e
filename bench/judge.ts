/** What a cutover costs to judge: a minute of 60,000 requests to three parts of twenty paths each, at the edge and in the service. */
import { addSlices, type CutoverTests, type GuardPlan, type SliceCount, worst } from '../src/core/cutover/verdict.js';
import { openSlices } from '../src/core/cutover/slices.js';
import { type Figure, pair } from './harness.js';

const [slices, perSlice, parts, paths] = [12, 5_000, 3, 20];
const guard: GuardPlan = { errors: 0.01, p95Ms: 800, few: 'continue' };

/** What an edge counts of a minute, slice by slice. */
function counted(): SliceCount[][] {
  let clock = 0;
  const all = openSlices({ beside: true, boundMs: 800, now: () => clock });
  return Array.from({ length: slices }, () => {
    for (let at = 0; at < perSlice; at++) {
      const visitor = (at * 7_919) % 10_000;
      const side = visitor < 1_000 ? 'now' : 'old';
      all.take({
        side,
        part: `part-${at % parts}`,
        path: `/path-${'abcdefghijklmnopqrst'[at % paths]}`,
        instance: side,
        visitor,
        error: at % 500 === 0,
        ms: at % 90,
      });
    }
    clock += 5_000;
    return all.turn();
  });
}

export async function judge(): Promise<Figure[]> {
  const minute = counted();
  return [
    await pair({
      name: `a minute of ${slices * perSlice} requests judged`,
      unit: 'ms',
      rounds: 30,
      measure: async () => {
        const began = performance.now();
        let tests: CutoverTests = {};
        for (const counts of minute) {
          tests = addSlices(tests, counts, guard);
          worst(tests, { parts, guard });
        }
        return performance.now() - began;
      },
      goal: { text: '≤ 5 ms', met: (value) => value <= 5 },
    }),
    await pair({
      name: 'counted at the edge',
      unit: 'ms',
      rounds: 10,
      measure: async () => {
        const began = performance.now();
        counted();
        return performance.now() - began;
      },
      goal: { text: '≤ 600 ms: a hundredth of a core', met: (value) => value <= 600 },
    }),
  ];
}
