/**
 * A deployment on its way. Each call gets all the facts and says the next state and what to do; nothing is remembered
 * between calls, so that any process may die at any time and the next one goes on.
 *
 * | state     | in it                                                     | left when                                    |
 * |-----------|-----------------------------------------------------------|----------------------------------------------|
 * | queued    | waits for the deployment before it in this environment    | it is the only one on its way                |
 * | preparing | its resources and logins are made; where prepare wants that, the environment is closed and the old programs end; then prepare runs, if there is one (never for a revert); then new data is filled (seed), once | they passed; failed → fails; lost → fails, unless prepare may be repeated |
 * | starting  | new servers start beside the old ones                     | all are ready; one failed or is late → fails  |
 * | cutover   | the new servers and the rules are looked at again, the table moves the traffic, in shares where the definition says so (`steps.ts`), the old workers end, then the new ones start | each edge that answers has the table and the new workers run; one that can't take it over, a rule that is not met any more → fails |
 * | verifying | verify runs, if there is one                              | it passed and all run → live; it failed → fails |
 * | live      | final on its way; `replaced` or `reverted` follow later   |                                              |
 *
 * A closed environment is opened by the table that moves the traffic; after a failure by the one that leads to the old programs again.
 *
 * An instance that its machine let down (lost, or its lease was over) is replaced before this is asked, a few times.
 *
 * One that goes together with others (`cutover/joint.ts`) waits twice, before its traffic moves and before it is live: the step that
 * all of them take at once says that it goes. Before it waits, edges are told what comes next.
 *
 * Failing before `live` brings back what was there: traffic first, then workers. With nothing before it, a deployment that
 * has the traffic keeps it, in poor health. A failure is recorded at once (`failure`), the state stays until all is back.
 */
import { issue, type Issue } from '../errors/errors.js';
import { advanceCutover, type CutoverFacts, type CutoverStep, firstStep } from '../cutover/steps.js';
import type { AttemptState, DeploymentKind, DeploymentState, InstanceState } from '../states.js';

export interface InstanceFact {
  id: string;
  state: InstanceState;
  /** Whether it shall run; false once it was told to end. */
  wanted: boolean;
}

export interface StepFact {
  declared: boolean;
  /** State of its one attempt, or null when there is none yet. */
  attempt: AttemptState | null;
  why: string;
}

export interface DeploymentFacts {
  /** Milliseconds since the epoch. */
  now: number;
  state: DeploymentState;
  kind: DeploymentKind;
  failure: Issue | null;
  /** When the state was entered, or the newest of its instances was asked for: milliseconds since the epoch. */
  since: number;
  /** An older deployment of this environment is on its way. */
  blocked: boolean;
  /** A newer one waits, so that this one, still queued and automatic, is not needed. */
  overtaken: boolean;
  /** What its release has of its own here; `asked` once all of it, and what opens it, was asked for. */
  resources: { asked: boolean; ready: boolean; failure: Issue | null };
  prepare: StepFact & { mayRepeat: boolean; tries: number; stops: boolean };
  /** Fills the data here; `fresh`: nothing has filled it yet. */
  seed: StepFact & { fresh: boolean };
  /** Visitors are led to no program. */
  closed: boolean;
  verify: StepFact;
  /** How many servers and workers the release asks for. */
  serversAsked: number;
  workersAsked: number;
  servers: InstanceFact[];
  workers: InstanceFact[];
  /** No agent has room for what waits. */
  noRoom: Issue | null;
  /** What the first failed instance says. */
  instanceFailure: Issue | null;
  /** The deployment that has the traffic (live, or failed with nothing before it), if any, with its workers as they are now. */
  before: {
    serversAsked: number;
    workersAsked: number;
    workers: InstanceFact[];
    servers: InstanceFact[];
    /** Jobs that run, or are about to. */
    jobs: number;
  } | null;
  /** Who has the traffic. */
  serving: 'this' | 'before' | 'none';
  /** The steps in which the traffic moves to it; null: all at once. */
  way: CutoverWay | null;
  /** Some of the traffic is led to it beside what was there. */
  shared: boolean;
  /** It goes with others: whether it waits for them now; null: it goes alone. */
  together: 'waits' | 'goes' | null;
  /** The table says that this one is next. */
  next: boolean;
  /** Each edge that answers has the newest table of this environment. */
  acknowledged: boolean;
  /** Why its rules don't let the traffic move to it now, or null. */
  forbidden: Issue | null;
  /** Why an edge can't take the newest table of this environment over, or null. */
  edgeRefusal: Issue | null;
  limits: { readyMs: number; cutoverMs: number };
}

export interface CutoverWay extends Omit<CutoverFacts, 'now' | 'step' | 'worse' | 'order'> {
  /** Null: it has not begun. */
  step: CutoverStep | null;
  order: CutoverFacts['order'];
  /** Who has said so. */
  orderedBy: string;
  worse: Issue | null;
  /** What is led to is not what runs any more. */
  stale: boolean;
  /** Why it stays though its time is over, as it was said last. */
  waits: Issue | null;
  /** What is said where there was too little traffic for too long. */
  tooFew: Issue;
}

export type DeploymentEffect =
  | { do: 'resources' }
  | { do: 'prepare' }
  | { do: 'seed' }
  /** The data here is no longer new. */
  | { do: 'seeded' }
  | { do: 'close' }
  | { do: 'endBefore' }
  | { do: 'startServers'; of: 'this' | 'before' }
  | { do: 'serve'; which: 'this' | 'before' }
  | { do: 'share'; step: CutoverStep }
  /** Edges get the files of what is next, or hear that it does not come. */
  | { do: 'announce'; comes: boolean }
  | { do: 'followShares' }
  | { do: 'sayWaits'; why: Issue | null }
  | { do: 'endWorkers'; of: 'this' | 'before' }
  | { do: 'startWorkers'; of: 'this' | 'before' }
  | { do: 'verify' }
  | { do: 'endServers' }
  | { do: 'goLive' };

export interface DeploymentStep {
  state: DeploymentState;
  failure: Issue | null;
  effects: DeploymentEffect[];
  /** When to look again though nothing has happened; null: only when something has. */
  again: number | null;
}

/** Tries of a prepare that may be repeated. */
export const mostPrepares = 3;

const running = (one: InstanceFact) =>
  one.wanted && (one.state === 'waiting' || one.state === 'starting' || one.state === 'ready');
const gone = (one: InstanceFact) => one.state === 'failed' || one.state === 'ended' || one.state === 'lost';
const ready = (one: InstanceFact) => one.wanted && one.state === 'ready';
/** All servers that it asks for are ready. */
const complete = ({ servers, serversAsked }: Pick<DeploymentFacts, 'servers' | 'serversAsked'>): boolean =>
  servers.filter(ready).length >= serversAsked;

export function advanceDeployment(facts: DeploymentFacts): DeploymentStep {
  const stay = (effects: DeploymentEffect[] = [], again: number | null = null): DeploymentStep => ({
    state: facts.state,
    failure: facts.failure,
    effects,
    again,
  });
  const to = (state: DeploymentState, effects: DeploymentEffect[] = []): DeploymentStep => ({
    state,
    failure: facts.failure,
    effects,
    again: facts.now,
  });
  const fails = (why: Issue): DeploymentStep => ({ state: facts.state, failure: why, effects: [], again: facts.now });
  if (facts.failure && facts.state !== 'failed' && facts.state !== 'live') return restore(facts, stay, to);

  switch (facts.state) {
    case 'queued':
      if (facts.overtaken) return { state: 'replaced', failure: null, effects: [], again: null };
      // What failed for another deployment is asked for again.
      return facts.blocked ? stay() : to('preparing', [{ do: 'resources' }]);
    case 'preparing': {
      const { prepare, resources } = facts;
      if (!resources.asked) return stay([{ do: 'resources' }]);
      if (resources.failure) return fails(resources.failure);
      if (!resources.ready) return stay();
      const prepared = () => seeded(facts, stay, to, fails);
      if (!prepare.declared || facts.kind === 'revert') return prepared();
      if (prepare.stops && facts.before && prepare.attempt !== 'passed') {
        if (!facts.closed) return stay([{ do: 'close' }]);
        if (!facts.acknowledged) return stay([], facts.now + facts.limits.cutoverMs);
        const old = [...facts.before.servers, ...facts.before.workers];
        if (old.some(running) || (facts.before.jobs > 0 && prepare.attempt === null))
          return stay([{ do: 'endBefore' }], facts.now + facts.limits.cutoverMs);
        if (old.some((one) => !gone(one))) return stay();
      }
      if (prepare.attempt === null) return stay([{ do: 'prepare' }]);
      if (prepare.attempt === 'passed') return prepared();
      if (prepare.attempt === 'lost')
        return prepare.mayRepeat && prepare.tries < mostPrepares
          ? stay([{ do: 'prepare' }])
          : fails(issue('prepare_unknown'));
      if (prepare.attempt === 'failed' || prepare.attempt === 'stopped')
        return fails(issue('prepare_failed', { detail: prepare.why }));
      return stay();
    }
    case 'starting': {
      if (facts.instanceFailure) return fails(facts.instanceFailure);
      const wanted = facts.servers.filter((one) => one.wanted && !gone(one));
      if (wanted.length < facts.serversAsked)
        return stay([{ do: 'startServers', of: 'this' }], facts.since + facts.limits.readyMs);
      if (facts.servers.filter(ready).length >= facts.serversAsked) return to('cutover');
      if (facts.now >= facts.since + facts.limits.readyMs)
        return fails(
          facts.noRoom ?? issue('instance_setup', { part: 'the new servers', detail: 'no agent started them in time' }),
        );
      return stay([], facts.since + facts.limits.readyMs);
    }
    case 'cutover': {
      if (facts.serving !== 'this') {
        // What was ready a moment ago may not be so any more.
        if (facts.instanceFailure) return fails(facts.instanceFailure);
        // While it has a share it stays here: what is lost starts again, the table follows, and it can still go back.
        if (!facts.shared && !complete(facts)) return to('starting');
        if (facts.together) {
          if (facts.forbidden) return fails(facts.forbidden);
          if (!facts.next) return stay([{ do: 'announce', comes: true }], facts.now + facts.limits.cutoverMs);
          if (facts.edgeRefusal) return fails(facts.edgeRefusal);
          if (!facts.acknowledged) return stay([], facts.now + facts.limits.cutoverMs);
          return facts.together === 'waits' ? stay() : stay([{ do: 'serve', which: 'this' }]);
        }
        const along = facts.way && facts.before && !facts.closed ? onTheWay(facts, facts.way, stay, fails) : null;
        if (along) return along;
        if (facts.forbidden) return fails(facts.forbidden);
        return stay([{ do: 'serve', which: 'this' }]);
      }
      if (facts.edgeRefusal) return fails(facts.edgeRefusal);
      if (!facts.acknowledged) return stay([], facts.now + facts.limits.cutoverMs);
      if (facts.before?.workers.some(running)) return stay([{ do: 'endWorkers', of: 'before' }]);
      if (facts.before?.workers.some((one) => !gone(one))) return stay();
      if (facts.instanceFailure) return fails(facts.instanceFailure);
      if (facts.workers.filter(running).length < facts.workersAsked) return stay([{ do: 'startWorkers', of: 'this' }]);
      return facts.workers.filter(ready).length >= facts.workersAsked ? to('verifying') : stay();
    }
    case 'verifying': {
      const { verify } = facts;
      if (facts.instanceFailure) return fails(facts.instanceFailure);
      // What its machine let down starts again beside this.
      const goLive = () =>
        facts.together !== 'waits' &&
        facts.servers.filter(ready).length >= facts.serversAsked &&
        facts.workers.filter(ready).length >= facts.workersAsked
          ? to('live', [{ do: 'goLive' }])
          : stay();
      if (!verify.declared || facts.kind === 'revert') return goLive();
      if (verify.attempt === null) return stay([{ do: 'verify' }]);
      if (verify.attempt === 'passed') return goLive();
      if (verify.attempt === 'failed' || verify.attempt === 'stopped')
        return fails(issue('verify_failed', { detail: verify.why }));
      // verify only asks questions: another attempt follows a lost one.
      return verify.attempt === 'lost' ? stay([{ do: 'verify' }]) : stay();
    }
    case 'live':
    case 'replaced':
    case 'failed':
    case 'reverted':
      return stay();
    default:
      return facts.state satisfies never;
  }
}

/** Between two looks at rules that keep a step where it is. */
const rulesMs = 30_000;

/** In shares; null: nothing is left of the way but all of the traffic. */
function onTheWay(
  facts: DeploymentFacts,
  way: CutoverWay,
  stay: (effects?: DeploymentEffect[], again?: number | null) => DeploymentStep,
  fails: (why: Issue) => DeploymentStep,
): DeploymentStep | null {
  const { step, plan, worse } = way;
  if (step === null) {
    const first = firstStep(plan);
    if (first.at === 'all') return null;
    return facts.forbidden ? fails(facts.forbidden) : stay([{ do: 'share', step: first }]);
  }
  if (facts.edgeRefusal) return fails(facts.edgeRefusal);
  if (worse) return fails(worse);
  const next = advanceCutover({ ...way, now: facts.now, step, worse: false });
  if (next.step.at === 'back') return fails(issue('cutover_back', { who: way.orderedBy }));
  const moves =
    next.step.at !== step.at || (next.step.at === 'share' && step.at === 'share' && next.step.index !== step.index);
  // No more of the traffic moves than the rules allow; what has moved stays.
  const waits = moves && facts.forbidden ? facts.forbidden : next.asks ? way.tooFew : null;
  const whole = complete(facts);
  if (moves && whole && !facts.forbidden)
    return next.step.at === 'all' ? null : stay([{ do: 'share', step: next.step }]);
  const effects: DeploymentEffect[] = [];
  if (facts.servers.filter((one) => one.wanted && !gone(one)).length < facts.serversAsked)
    effects.push({ do: 'startServers', of: 'this' });
  if (way.stale) effects.push({ do: 'followShares' });
  if (waits?.code !== way.waits?.code) effects.push({ do: 'sayWaits', why: waits });
  return stay(effects, moves ? facts.now + rulesMs : next.again);
}

/** What is new is filled before programs see it. A revert finds what was there. */
function seeded(
  { seed, kind }: DeploymentFacts,
  stay: (effects?: DeploymentEffect[], again?: number | null) => DeploymentStep,
  to: (state: DeploymentState, effects?: DeploymentEffect[]) => DeploymentStep,
  fails: (why: Issue) => DeploymentStep,
): DeploymentStep {
  if (!seed.declared || !seed.fresh || kind === 'revert') return to('starting');
  if (seed.attempt === null) return stay([{ do: 'seed' }]);
  if (seed.attempt === 'passed') return to('starting', [{ do: 'seeded' }]);
  if (seed.attempt === 'lost') return fails(issue('seed_unknown'));
  if (seed.attempt === 'failed' || seed.attempt === 'stopped') return fails(issue('seed_failed', { detail: seed.why }));
  return stay();
}

/**
 * The old programs were stopped for prepare, and are to have the traffic again: they start first, and nobody is led to them before they
 * are ready. Null: they are, or they were never stopped, or one of them does not start, which whoever keeps what is live takes from there.
 */
function startBefore(
  facts: DeploymentFacts,
  before: NonNullable<DeploymentFacts['before']>,
  stay: (effects?: DeploymentEffect[], again?: number | null) => DeploymentStep,
): DeploymentStep | null {
  const moved = facts.state === 'cutover' || facts.state === 'verifying';
  if (!facts.prepare.stops || facts.kind === 'revert' || !moved) return null;
  if (before.servers.filter(ready).length >= before.serversAsked)
    // The table that leads to them opens the environment.
    return facts.closed ? stay([{ do: 'serve', which: 'before' }]) : null;
  if (before.servers.some((one) => one.wanted && gone(one))) return null;
  if (!facts.closed) return stay([{ do: 'close' }]);
  if (before.servers.filter(running).length < before.serversAsked)
    return stay([{ do: 'startServers', of: 'before' }], facts.now + facts.limits.readyMs);
  return stay([], facts.now + facts.limits.readyMs);
}

function restore(
  facts: DeploymentFacts,
  stay: (effects?: DeploymentEffect[], again?: number | null) => DeploymentStep,
  to: (state: DeploymentState, effects?: DeploymentEffect[]) => DeploymentStep,
): DeploymentStep {
  if (facts.next) return stay([{ do: 'announce', comes: false }]);
  if (facts.before) {
    const again = startBefore(facts, facts.before, stay);
    if (again) return again;
    if (facts.serving === 'this' || facts.shared) return stay([{ do: 'serve', which: 'before' }]);
    if (!facts.acknowledged) return stay([], facts.now + facts.limits.cutoverMs);
    if (facts.workers.some(running)) return stay([{ do: 'endWorkers', of: 'this' }]);
    if (facts.workers.some((one) => !gone(one))) return stay();
    if (facts.before.workers.filter(running).length < facts.before.workersAsked)
      return stay([{ do: 'startWorkers', of: 'before' }]);
    return to('failed', [{ do: 'endServers' }]);
  }
  if (facts.serving === 'this') return to('failed');
  return to('failed', [{ do: 'endServers' }]);
}
