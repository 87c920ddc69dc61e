/**
 * The life of an environment: (facts) → next state and effects. Nothing is remembered between calls, and doing an effect twice does no
 * harm. Health and hold are apart from it. What has no release yet is empty; a deployment makes it live. Reviews sleep, and close by
 * themselves; standing environments do neither.
 *
 * | state          | in it                                                                          | left when                                      |
 * |----------------|--------------------------------------------------------------------------------|------------------------------------------------|
 * | empty          | waits for a release                                                            | one is live → live; its time is over → closing |
 * | live           | answers                                                                        | somebody wishes it asleep, nobody has used it for `sleep`, or too many are awake and it is the longest idle → falling asleep; its time is over → closing |
 * | falling asleep | the table leads to no program; each edge answers what is open; no session of its databases is in the middle of something; its programs are frozen, or end | all are → asleep; a request, a wish or a deployment → waking; what is open does not end → waking |
 * | asleep         | frozen; after a time, when something of it has ended, or when somebody wants the room: ended | a request, a wish or a deployment → waking; its time is over → closing |
 * | waking         | its programs go on, or are started in their turn, and are ready                | the table leads to them → live; they fail or are late → asleep, ended, with the reason |
 * | closing        | the address leads nowhere; programs end; resources are removed                 | nothing of it is left → closed; wanted again → empty |
 * | closed         | what happened in it can still be read                                          | opened again → empty                           |
 *
 * Sleep, wake and close of one environment are decided under the lock of its row: one of them comes first.
 */
import { edgesMs } from './keep.js';
import type { IdlePlan } from '../definition/model.js';
import { issue, type Issue } from '../errors/errors.js';
import type { EnvironmentState, SleepDepth, Wish } from '../states.js';

export interface LifeFacts {
  /** This and all other times: milliseconds since the epoch. */
  now: number;
  state: EnvironmentState;
  /** Since when it is in its state. */
  since: number;
  /** How deep it sleeps, or shall. */
  depth: SleepDepth | null;
  /** What was asked of it, and is not done yet. */
  wish: Wish | null;
  /** Null: it neither sleeps nor closes by itself. */
  idle: Pick<IdlePlan, 'sleep' | 'end' | 'close'> | null;
  usedAt: number;
  wokenAt: number;
  /** The newest deployment was asked for, or it was opened. */
  pushedAt: number;
  /** It does not close before; null: nobody has said so. */
  keepUntil: number | null;
  /** More are awake than may be, and all the others were used later. */
  crowded: boolean;
  /** A deployment is on its way here. */
  moving: boolean;
  /** Somebody works in it whom nobody cuts off: a terminal, a job. */
  occupied: boolean;
  /** When the first of its jobs is due that wakes it; null: none does. */
  jobAt: number | null;
  /** Where its address leads. */
  route: 'live' | 'asleep' | 'none';
  /** Each edge has that, and answers nothing of before any more. */
  acknowledged: boolean;
  /** Sessions of its databases that are in the middle of something; null: nobody has looked since its address leads nowhere. */
  sessions: number | null;
  /** Whether every machine on which its programs run can freeze them. */
  freezes: boolean;
  /** Programs that its release asks for; those that shall run; of these: as they are. `over`: ended without being told to. `left`: told to end, and not over yet. */
  programs: { asked: number; wanted: number; ready: number; frozen: number; over: number; left: number };
  /** When the newest of its programs was asked for; null: none is. */
  askedAt: number | null;
  /** Something answers at each of its paths. */
  ready: boolean;
  /** Why its programs can't be woken. */
  failure: Issue | null;
  /** Why the last wake failed; null: it did not. */
  wakeIssue: Issue | null;
  /** It may start programs now: not too many are at it. */
  turn: boolean;
  /** Of what closes. */
  closing: { working: boolean; resources: number; reopen: boolean };
  limits: LifeLimits;
}

export interface LifeLimits {
  /** Milliseconds for which it is awake before another one may put it to sleep. */
  awakeMs: number;
  /** Milliseconds for which what is open may take until it is over. */
  drainMs: number;
  /** Milliseconds for which sessions may be in the middle of something, and for which programs may take to stand still. */
  settleMs: number;
  /** Milliseconds for which programs may take to be ready. */
  readyMs: number;
}

export type LifeEffect =
  /** The address leads to nothing that runs: whoever comes waits, or wakes it. */
  | 'routeAsleep'
  | 'routeLive'
  | 'unroute'
  | 'freeze'
  | 'thaw'
  | 'startPrograms'
  | 'endPrograms'
  /** What was asked is done, or no more to be done. */
  | 'unwish'
  /** It counts as used just now. */
  | 'used'
  | 'endAll'
  | 'removeResources';

export interface LifeStep {
  state: EnvironmentState;
  depth: SleepDepth | null;
  effects: LifeEffect[];
  wakeIssue: Issue | null;
  /** Milliseconds until to look again; null: only when something has happened. */
  againMs: number | null;
}

/** Between two looks at what tells nobody that it has changed. */
const soonMs = 250;

/** When it closes by itself; null: never. */
export function closesAt({
  idle,
  usedAt,
  pushedAt,
  keepUntil,
}: Pick<LifeFacts, 'idle' | 'usedAt' | 'pushedAt' | 'keepUntil'>): number | null {
  if (idle?.close == null) return null;
  return Math.max(usedAt + idle.close, pushedAt + idle.close, keepUntil ?? 0);
}

/** When it falls asleep by itself; null: never. */
export const sleepsAt = ({ idle, usedAt, wokenAt }: Pick<LifeFacts, 'idle' | 'usedAt' | 'wokenAt'>): number | null =>
  idle?.sleep == null ? null : Math.max(usedAt, wokenAt) + idle.sleep;

/** What lets its programs go on, or start where it is their turn. */
const wakesBy = ({ depth, turn }: LifeFacts): LifeEffect[] =>
  depth === 'frozen' ? ['thaw'] : turn ? ['startPrograms'] : [];

export function advanceLife(facts: LifeFacts): LifeStep {
  const { now, state, depth, wakeIssue } = facts;
  const stay = (effects: LifeEffect[] = [], againMs: number | null = null): LifeStep => ({
    state,
    depth,
    effects,
    wakeIssue,
    againMs,
  });
  const to = (
    next: EnvironmentState,
    effects: LifeEffect[] = [],
    change: Partial<Pick<LifeStep, 'depth' | 'wakeIssue'>> = {},
  ): LifeStep => ({ state: next, depth, effects, wakeIssue, againMs: 0, ...change });
  const closes = closesAt(facts);
  const timeOver = closes !== null && now >= closes && !facts.moving && !facts.occupied && facts.wish === null;
  const until = (...times: (number | null)[]): number | null => {
    const next = times.filter((time): time is number => time !== null);
    return next.length ? Math.max(0, Math.min(...next) - now) : null;
  };

  switch (state) {
    case 'empty':
      if (timeOver) return to('closing');
      return stay(facts.wish ? ['unwish'] : [], until(closes));
    case 'live': {
      if (timeOver) return to('closing');
      const wished = facts.wish === 'awake' ? (['unwish'] as LifeEffect[]) : [];
      if (facts.idle === null || facts.programs.asked === 0) return stay(facts.wish ? ['unwish'] : [], until(closes));
      // Who works here is not cut off: what is over then looks again.
      if (facts.moving || facts.occupied) return stay(wished, facts.occupied ? 5_000 : null);
      const sleeps = sleepsAt(facts);
      const mayMakeRoom = facts.wokenAt + facts.limits.awakeMs;
      const idle = sleeps !== null && now >= sleeps;
      if (facts.wish === 'asleep' || (facts.wish === null && (idle || (facts.crowded && now >= mayMakeRoom))))
        return to('falling asleep', ['routeAsleep'], { depth: facts.freezes ? 'frozen' : 'ended', wakeIssue: null });
      return stay(wished, until(sleeps, facts.crowded ? mayMakeRoom : null, closes));
    }
    case 'falling asleep': {
      if (facts.wish === 'awake' || facts.moving) return to('waking');
      if (facts.route === 'live') return stay(['routeAsleep'], soonMs);
      const took = now - facts.since;
      // A download that takes longer than that: it is used.
      if (!facts.acknowledged) return took > facts.limits.drainMs ? to('waking', ['used', 'unwish']) : stay([], soonMs);
      const { wanted, frozen, over, left } = facts.programs;
      if (depth === 'frozen') {
        if (over > 0 || took > facts.limits.drainMs + 2 * facts.limits.settleMs)
          return to('falling asleep', ['endPrograms'], { depth: 'ended' });
        if (frozen === wanted && wanted > 0) return to('asleep', ['unwish']);
        if (facts.sessions === null) return stay([], soonMs);
        if (facts.sessions > 0)
          return took > facts.limits.settleMs
            ? to('falling asleep', ['endPrograms'], { depth: 'ended' })
            : stay([], soonMs);
        return stay(['freeze'], soonMs);
      }
      if (wanted > 0) return stay(['endPrograms'], soonMs);
      return left > 0 ? stay([], soonMs) : to('asleep', ['unwish']);
    }
    case 'asleep': {
      if (timeOver) return to('closing');
      // What could not be woken is not tried again by itself: a deployment goes on, and may be what mends it.
      const wakes = (facts.moving || (facts.jobAt !== null && now >= facts.jobAt)) && !wakeIssue;
      if (facts.wish === 'awake' || wakes)
        return { ...to('waking', wakesBy(facts), { wakeIssue: null }), againMs: facts.limits.readyMs };
      const job = wakeIssue ? null : facts.jobAt;
      const wished: LifeEffect[] = facts.wish ? ['unwish'] : [];
      if (facts.route === 'live' && !facts.moving) return stay(['routeAsleep', ...wished], soonMs);
      if (depth === 'ended') {
        if (facts.programs.wanted > 0 && !facts.moving) return stay(['endPrograms', ...wished], soonMs);
        return stay(wished, until(closes, job));
      }
      const ends = facts.since + (facts.idle?.end ?? 0);
      if (now >= ends || facts.programs.over > 0) return to('asleep', ['endPrograms', ...wished], { depth: 'ended' });
      return stay(wished, until(ends, closes, job));
    }
    case 'waking': {
      // Who has wished it asleep meanwhile has it so next.
      if (facts.ready)
        return to('live', facts.wish === 'awake' ? ['routeLive', 'unwish'] : ['routeLive'], {
          depth: null,
          wakeIssue: null,
        });
      if (facts.route === 'live' && facts.programs.frozen > 0) return stay(['routeAsleep'], soonMs);
      // Whoever waited for its turn has its own time from then on.
      const began = Math.max(facts.since, facts.askedAt ?? now);
      const late = facts.turn && now - began > facts.limits.readyMs;
      const why =
        facts.failure ??
        (late ? issue('instance_setup', { part: 'its programs', detail: 'they were not ready in time' }) : null);
      if (why) return to('asleep', ['endPrograms', 'routeAsleep', 'unwish'], { depth: 'ended', wakeIssue: why });
      if (depth === 'frozen') {
        // One that has ended meanwhile is started anew, with all of them.
        if (facts.programs.over > 0) return to('waking', ['endPrograms'], { depth: 'ended' });
        return stay(wakesBy(facts), facts.limits.readyMs);
      }
      return facts.turn ? stay(wakesBy(facts), facts.limits.readyMs) : stay([], 2_000);
    }
    case 'closing': {
      const { working, resources, reopen } = facts.closing;
      if (facts.route !== 'none') return stay(['unroute'], 500);
      if (!facts.acknowledged) return stay([], edgesMs);
      if (facts.programs.wanted > 0 || facts.programs.left > 0 || working) return stay(['endAll'], 500);
      if (resources > 0) return stay(['removeResources']);
      return { ...to(reopen ? 'empty' : 'closed', [], { depth: null, wakeIssue: null }), againMs: reopen ? 0 : null };
    }
    case 'closed':
      return stay();
    default:
      return state satisfies never;
  }
}
