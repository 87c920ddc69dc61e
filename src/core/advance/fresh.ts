/**
 * What is live is brought to what is wished of it, place by place, and no request is lost: how many of each part, and as of which wish
 * for fresh programs they were started. Asked again and again with all the facts, like the rest of this folder.
 *
 * | a place of … | does |
 * |---|---|
 * | a server, with none as fresh as wished | starts one beside what is there |
 * | a server, with a fresh one that is ready | takes the others out of the table; ends them when every edge has that table |
 * | a server beyond the count | the same: out of the table, then ended |
 * | a worker, not as fresh as wished, or beyond the count | ends it, and starts another when it has ended |
 */
import { instanceOver, type KeptInstance } from './keep.js';

export interface WishedPart {
  name: string;
  kind: 'server' | 'worker';
  count: number;
  /** Instances of an earlier wish are replaced. */
  fresh: number;
}

type Placed = Pick<KeptInstance, 'id' | 'part' | 'position' | 'state' | 'wanted' | 'kind' | 'fresh'>;

const lives = (one: Placed): boolean => one.wanted && !instanceOver(one);
const samePlace = (a: Placed, b: Placed): boolean => a.part === b.part && a.position === b.position;

/** Servers that shall get requests: of each place the freshest that is ready. */
export function routable<T extends Placed>(instances: readonly T[], wishes: readonly WishedPart[]): T[] {
  const ready = instances.filter((one) => one.wanted && one.state === 'ready');
  const counts = new Map(wishes.map((one) => [one.name, one.count]));
  return ready.filter(
    (one) =>
      one.position <= (counts.get(one.part) ?? 0) &&
      !ready.some((other) => samePlace(one, other) && other.fresh > one.fresh),
  );
}

export interface FreshFacts<T extends Placed> {
  instances: readonly T[];
  wishes: readonly WishedPart[];
  /** Another deployment moves the traffic just now. */
  moving: boolean;
  /** The table is as `routable` says, and every edge that answers has it. */
  told: boolean;
}

export interface FreshStep {
  start: { part: string; kind: 'server' | 'worker'; position: number }[];
  /** Ids of those that are to end now. */
  end: string[];
  /** Something waits until the edges have followed. */
  waits: boolean;
}

export function freshen<T extends Placed>({ instances, wishes, moving, told }: FreshFacts<T>): FreshStep {
  const step: FreshStep = { start: [], end: [], waits: false };
  // What moves the traffic decides what runs; its end is soon.
  if (moving) return step;
  const routed = new Set(routable(instances, wishes).map((one) => one.id));
  for (const { name, kind, count, fresh } of wishes) {
    const own = instances.filter((one) => one.part === name);
    for (let position = 1; position <= count; position++) {
      const here = own.filter((one) => one.position === position && lives(one));
      if (here.some((one) => one.fresh >= fresh)) continue;
      // Two workers of one place never work at the same time; a server stands beside the one that it replaces.
      const clear = kind === 'server' || !own.some((one) => one.position === position && !instanceOver(one));
      if (clear) step.start.push({ part: name, kind, position });
    }
    for (const one of own.filter(lives)) {
      if (kind === 'worker') {
        if (one.position > count || one.fresh < fresh) step.end.push(one.id);
        continue;
      }
      const replaced = own.some(
        (other) => samePlace(one, other) && lives(other) && other.state === 'ready' && other.fresh > one.fresh,
      );
      if (one.position <= count && !replaced) continue;
      // One that never was in the table needs nobody's leave.
      if (!routed.has(one.id) && (told || one.state !== 'ready')) step.end.push(one.id);
      else step.waits = true;
    }
  }
  return step;
}

/** Places of servers and workers that are filled as wished. */
export function filled(instances: readonly Placed[], wishes: readonly WishedPart[], kind: 'server' | 'worker'): number {
  return wishes
    .filter((one) => one.kind === kind)
    .reduce((sum, { name, count }) => {
      const places = instances.filter(
        (one) => one.part === name && one.position <= count && one.wanted && one.state === 'ready',
      );
      return sum + new Set(places.map((one) => one.position)).size;
    }, 0);
}
