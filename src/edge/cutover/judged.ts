/** Counts apart what passes of hosts whose traffic moves in steps: each slice of a few seconds is sent on, once it is over. */
import type { Judged, Target } from '../../core/cutover/route.js';
import { type Answered, openSlices, pathGroup, type Slices } from '../../core/cutover/slices.js';
import type { Mirrored } from '../../core/cutover/mirrored.js';
import type { SliceCount } from '../../core/cutover/verdict.js';

/** Milliseconds of a slice. */
const sliceMs = 5_000;
/** Hosts that are counted apart at a time. */
const mostHosts = 200;

export interface HostSlice {
  host: string;
  stage: string;
  counts: SliceCount[];
  mirrored?: Mirrored;
}

export interface JudgedCounter {
  count(one: Omit<Answered, 'side'> & { host: string; judged: Judged; target: Pick<Target, 'deployment'> }): void;
  close(): void;
}

/** Whether a stage (`d17 2`) comes before another one of its host. */
export function isBefore(a: string, b: string): boolean {
  const [[deployment = 0, turn = 0], [other = 0, later = 0]] = [a, b].map((one) =>
    one.slice(1).split(' ').map(Number),
  ) as [number[], number[]];
  return deployment < other || (deployment === other && turn < later);
}

export function openJudged(put: (slices: HostSlice[]) => void, now: () => number = Date.now): JudgedCounter {
  const hosts = new Map<string, { stage: string; slices: Slices; idle: number }>();
  const turn = (): void => {
    const all: HostSlice[] = [];
    for (const [host, one] of hosts) {
      const counts = one.slices.turn();
      if (counts.length) all.push({ host, stage: one.stage, counts });
      one.idle = counts.length ? 0 : one.idle + 1;
      // A stage that nobody comes to any more is over.
      if (one.idle > 120) hosts.delete(host);
    }
    if (all.length) put(all);
  };
  const timer = setInterval(turn, sliceMs);
  timer.unref();
  return {
    count({ host, judged, target, ...one }) {
      if (judged.until !== null && now() > judged.until) return;
      const side = target.deployment === judged.now ? 'now' : target.deployment === judged.old ? 'old' : null;
      if (side === null) return;
      let known = hosts.get(host);
      if (known?.stage !== judged.stage) {
        // An answer that took long may be of a step that is over.
        if (known ? isBefore(judged.stage, known.stage) : hosts.size >= mostHosts) return;
        // The same programs as in the step before: they are as warm as they were.
        const carried = known?.stage.split(' ')[0] === judged.stage.split(' ')[0] ? known?.slices.carried : undefined;
        const slices = openSlices({
          beside: judged.old !== null,
          boundMs: judged.boundMs,
          now,
          ...(carried ? { carried } : {}),
        });
        known = { stage: judged.stage, slices, idle: 0 };
        hosts.set(host, known);
      }
      known.slices.take({ ...one, side, path: pathGroup(one.path) });
    },
    close() {
      clearInterval(timer);
      turn();
    },
  };
}
