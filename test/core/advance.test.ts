import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  advanceDeployment,
  type DeploymentFacts,
  type DeploymentStep,
  type InstanceFact,
} from '../../src/core/advance/deployments.js';
import { healthOf, restartDelay, takes } from '../../src/core/advance/environments.js';
import { advanceRun, lostLimit, taskAfter, type TaskFact } from '../../src/core/advance/runs.js';
import { issue } from '../../src/core/errors/errors.js';
import { taskEnded, type TaskState } from '../../src/core/states.js';

describe('a run', () => {
  const facts = (states: Record<string, [TaskState, string[]]>): TaskFact[] =>
    Object.entries(states).map(([name, [state, needs]]) => ({ name, state, needs }));

  it('makes ready what has all its needs, and skips what cannot have them', () => {
    const step = advanceRun(
      facts({
        a: ['passed', []],
        b: ['failed', []],
        c: ['waiting', ['a']],
        d: ['waiting', ['a', 'b']],
        e: ['waiting', ['d']],
      }),
      null,
    );
    expect(step).toEqual({
      tasks: [
        { name: 'c', state: 'ready' },
        { name: 'd', state: 'skipped' },
        { name: 'e', state: 'skipped' },
      ],
      ends: null,
    });
  });
  it('ends failed when a task failed, passed when all passed', () => {
    expect(advanceRun(facts({ a: ['passed', []], b: ['failed', []] }), null).ends).toBe('failed');
    expect(advanceRun(facts({ a: ['passed', []], b: ['reused', []] }), null).ends).toBe('passed');
    expect(advanceRun([], null).ends).toBe('passed');
  });
  it('stops what has not begun, and waits for what runs', () => {
    const step = advanceRun(facts({ a: ['running', []], b: ['waiting', ['a']], c: ['ready', []] }), 'stopped');
    expect(step).toEqual({
      tasks: [
        { name: 'b', state: 'stopped' },
        { name: 'c', state: 'stopped' },
      ],
      ends: null,
    });
    expect(advanceRun(facts({ a: ['stopped', []], b: ['stopped', ['a']] }), 'stopped').ends).toBe('stopped');
  });
  const tries = (lost: number, failed = 0, retry = 0) => ({ lost, failed, retry });
  it('tries a lost task again, up to the limit of agents lost', () => {
    expect(taskAfter('lost', tries(1), null)).toBe('ready');
    expect(taskAfter('lost', tries(lostLimit - 1), null)).toBe('ready');
    expect(taskAfter('lost', tries(lostLimit), null)).toBe('failed');
    expect(taskAfter('lost', tries(1), 'stopped')).toBe('stopped');
    expect(taskAfter('lost', tries(1), 'superseded')).toBe('superseded');
    expect(taskAfter('passed', tries(0), 'stopped')).toBe('passed');
  });
  it('tries a failed task again as often as its definition says', () => {
    expect(taskAfter('failed', tries(0, 1, 0), null)).toBe('failed');
    expect(taskAfter('failed', tries(0, 1, 2), null)).toBe('ready');
    expect(taskAfter('failed', tries(0, 2, 2), null)).toBe('ready');
    expect(taskAfter('failed', tries(0, 3, 2), null)).toBe('failed');
    expect(taskAfter('failed', tries(0, 1, 2), 'stopped')).toBe('failed');
  });
  it('leaves an attempt to the run that shares it', () => {
    const tasks = facts({ a: ['running', []], b: ['running', []], c: ['waiting', ['a']] }).map((one) => ({
      ...one,
      shared: one.name === 'a',
    }));
    expect(advanceRun(tasks, 'stopped')).toEqual({
      tasks: [
        { name: 'a', state: 'stopped' },
        { name: 'c', state: 'stopped' },
      ],
      ends: null,
    });
    expect(advanceRun(tasks, null).tasks).toEqual([]);
  });
  it('ends superseded whatever its tasks came to', () => {
    expect(advanceRun(facts({ a: ['failed', []], b: ['superseded', []] }), 'superseded').ends).toBe('superseded');
    expect(advanceRun(facts({ a: ['passed', []], b: ['waiting', ['a']] }), 'superseded')).toEqual({
      tasks: [{ name: 'b', state: 'superseded' }],
      ends: 'superseded',
    });
  });

  it('ends for any graph, whatever each task comes to', () => {
    const graph = fc.array(
      fc.tuple(fc.array(fc.nat(), { maxLength: 3 }), fc.constantFrom<TaskState>('passed', 'failed', 'stopped')),
      {
        minLength: 1,
        maxLength: 12,
      },
    );
    fc.assert(
      fc.property(graph, fc.boolean(), (nodes, stopping) => {
        let tasks = nodes.map(
          ([needs], at): TaskFact => ({
            name: `t${at}`,
            state: 'waiting',
            needs: at === 0 ? [] : [...new Set(needs.map((need) => `t${need % at}`))],
          }),
        );
        for (let round = 0; round < 40; round++) {
          const step = advanceRun(tasks, stopping ? 'stopped' : null);
          const changed = new Map(step.tasks.map((one) => [one.name, one.state]));
          tasks = tasks.map((task, at) => {
            const state = changed.get(task.name) ?? task.state;
            return { ...task, state: state === 'ready' ? (nodes[at]?.[1] as TaskState) : state };
          });
          if (!step.ends) continue;
          expect(tasks.every((task) => taskEnded(task.state))).toBe(true);
          for (const task of tasks)
            if (task.state === 'passed')
              for (const need of task.needs) expect(tasks.find((one) => one.name === need)?.state).toBe('passed');
          expect(step.ends === 'failed').toBe(tasks.some((task) => task.state === 'failed'));
          return;
        }
        throw new Error('it did not end');
      }),
    );
  });
});

const base: DeploymentFacts = {
  now: 1_000_000,
  state: 'queued',
  kind: 'promote',
  failure: null,
  since: 1_000_000,
  blocked: false,
  overtaken: false,
  resources: { asked: false, ready: false, failure: null },
  prepare: { declared: true, attempt: null, why: '', mayRepeat: false, tries: 0, stops: false },
  seed: { declared: true, attempt: null, why: '', fresh: true },
  closed: false,
  together: null,
  next: false,
  verify: { declared: true, attempt: null, why: '' },
  serversAsked: 2,
  workersAsked: 1,
  servers: [],
  workers: [],
  noRoom: null,
  instanceFailure: null,
  before: {
    serversAsked: 1,
    workersAsked: 1,
    workers: [{ id: 'old', state: 'ready', wanted: true }],
    servers: [{ id: 'old server', state: 'ready', wanted: true }],
    jobs: 1,
  },
  serving: 'before',
  acknowledged: true,
  edgeRefusal: null,
  forbidden: null,
  way: null,
  shared: false,
  limits: { readyMs: 60_000, cutoverMs: 1_000 },
};
const one = (id: string, state: InstanceFact['state'], wanted = true): InstanceFact => ({ id, state, wanted });

/** A small world that does what the steps say; `events` decides what goes wrong. */
function play(
  start: Partial<DeploymentFacts>,
  world: {
    prepare?: 'passed' | 'failed' | 'lost';
    seed?: 'passed' | 'failed' | 'lost';
    verify?: 'passed' | 'failed';
    server?: 'ready' | 'failed';
    resource?: 'ready' | 'failed';
    crash?: number;
  } = {},
): { trail: string[]; facts: DeploymentFacts; bothWorkers: boolean } {
  let facts: DeploymentFacts = structuredClone({ ...base, ...start });
  const trail: string[] = [facts.state];
  let bothWorkers = false;
  for (let round = 0; round < 80; round++) {
    const step: DeploymentStep = advanceDeployment(facts);
    const next = { ...facts, now: facts.now + 10 };
    for (const effect of step.effects) {
      // A process that dies before its transaction is committed leaves the facts as they were.
      if (world.crash === round) continue;
      if (effect.do === 'resources')
        next.resources =
          world.resource === 'failed'
            ? { asked: true, ready: false, failure: issue('resource_failed', { name: 'db' }) }
            : { asked: true, ready: true, failure: null };
      // Nothing runs before what it needs is there.
      if (effect.do === 'prepare' || effect.do === 'startServers') expect(facts.resources.ready).toBe(true);
      if (effect.do === 'prepare')
        next.prepare = { ...next.prepare, attempt: world.prepare ?? 'passed', why: 'it broke' };
      // Data is filled when it has its form, before any program of the release sees it.
      if (effect.do === 'seed') {
        expect([facts.prepare.attempt, facts.servers.length, facts.seed.fresh]).toEqual(['passed', 0, true]);
        next.seed = { ...next.seed, attempt: world.seed ?? 'passed', why: 'it broke' };
      }
      if (effect.do === 'seeded') next.seed = { ...next.seed, fresh: false };
      if (effect.do === 'verify') next.verify = { ...next.verify, attempt: world.verify ?? 'passed', why: 'no answer' };
      if (effect.do === 'startServers' && effect.of === 'before' && next.before)
        next.before = { ...next.before, servers: [...next.before.servers, one('old server again', 'ready')] };
      if (effect.do === 'startServers' && effect.of === 'this') {
        next.servers = [one('s1', world.server ?? 'ready'), one('s2', 'ready')];
        if (world.server === 'failed') next.instanceFailure = issue('ended_at_once', { part: 'api' });
      }
      if (effect.do === 'close') next.closed = true;
      if (effect.do === 'endBefore' && next.before) {
        const end = (list: InstanceFact[]) => list.map((old) => ({ ...old, wanted: false, state: 'ended' as const }));
        next.before = { ...next.before, workers: end(next.before.workers), servers: end(next.before.servers), jobs: 0 };
      }
      // Where the old programs are to be stopped, none of them sees what prepare does.
      if (effect.do === 'prepare' && facts.prepare.stops && facts.before) {
        expect(facts.closed).toBe(true);
        expect([...facts.before.servers, ...facts.before.workers].every((old) => old.state === 'ended')).toBe(true);
        expect(facts.before.jobs).toBe(0);
      }
      if (effect.do === 'serve') {
        // Nobody is led to servers that have ended.
        if (effect.which === 'before') expect(facts.before?.servers.some((old) => old.state === 'ready')).toBe(true);
        next.serving = effect.which;
        next.closed = false;
      }
      if (effect.do === 'endWorkers') {
        if (effect.of === 'this')
          next.workers = next.workers.map((worker) => ({ ...worker, wanted: false, state: 'ended' }));
        else if (next.before)
          next.before = {
            ...next.before,
            workers: next.before.workers.map((worker) => ({ ...worker, wanted: false, state: 'ended' })),
          };
      }
      if (effect.do === 'startWorkers') {
        if (effect.of === 'this') next.workers = [...next.workers, one('w', 'ready')];
        else if (next.before)
          next.before = { ...next.before, workers: [...next.before.workers, one('old again', 'ready')] };
      }
    }
    if (world.crash !== round) {
      if (step.state !== facts.state) trail.push(step.state);
      next.since = step.state === facts.state ? facts.since : next.now;
      next.state = step.state;
      next.failure = step.failure;
    }
    facts = next;
    const works = (list: InstanceFact[] | undefined) =>
      Boolean(list?.some((worker) => worker.state === 'ready' || worker.state === 'starting'));
    if (works(facts.workers) && works(facts.before?.workers)) bothWorkers = true;
    if (facts.state === 'live' || facts.state === 'failed' || facts.state === 'replaced')
      return { trail, facts, bothWorkers };
  }
  throw new Error(`stuck in ${facts.state}: ${JSON.stringify(facts)}`);
}

describe('a deployment', () => {
  it('goes through its states and ends live', () => {
    const { trail, facts } = play({});
    expect(trail).toEqual(['queued', 'preparing', 'starting', 'cutover', 'verifying', 'live']);
    expect(facts).toMatchObject({ serving: 'this', before: { workers: [{ state: 'ended' }] } });
  });
  it('fills new data once, and never with a revert', () => {
    expect(play({}).facts.seed).toMatchObject({ attempt: 'passed', fresh: false });
    expect(play({ seed: { ...base.seed, fresh: false } }).facts.seed.attempt).toBeNull();
    expect(play({ kind: 'revert' }).facts.seed.attempt).toBeNull();
    expect(play({ seed: { ...base.seed, declared: false } }).facts.seed).toMatchObject({ attempt: null, fresh: true });
  });
  it('waits while another is on its way, and gives way to a newer one', () => {
    expect(advanceDeployment({ ...base, blocked: true })).toMatchObject({ state: 'queued', effects: [] });
    expect(advanceDeployment({ ...base, kind: 'automatic', overtaken: true }).state).toBe('replaced');
  });
  it.each([
    ['a resource cannot be had', { resource: 'failed' as const }, 'resource_failed'],
    ['prepare fails', { prepare: 'failed' as const }, 'prepare_failed'],
    ['prepare is lost', { prepare: 'lost' as const }, 'prepare_unknown'],
    ['seed fails', { seed: 'failed' as const }, 'seed_failed'],
    ['seed is lost', { seed: 'lost' as const }, 'seed_unknown'],
    ['a server ends at once', { server: 'failed' as const }, 'ended_at_once'],
    ['verify fails', { verify: 'failed' as const }, 'verify_failed'],
  ])('leaves or brings back the old one when %s', (_name, world, code) => {
    const { facts, bothWorkers } = play({}, world);
    expect(facts).toMatchObject({ state: 'failed', serving: 'before', failure: { code } });
    expect(facts.before?.workers.at(-1)).toMatchObject({ state: 'ready', wanted: true });
    expect(facts.workers.every((worker) => worker.state === 'ended')).toBe(true);
    expect(bothWorkers).toBe(false);
  });
  it('waits for its resources, and asks again for what went away meanwhile', () => {
    const waits: DeploymentFacts = {
      ...base,
      state: 'preparing',
      resources: { asked: true, ready: false, failure: null },
    };
    expect(advanceDeployment(waits)).toMatchObject({ state: 'preparing', effects: [], again: null });
    expect(advanceDeployment({ ...waits, resources: { ...waits.resources, asked: false } }).effects).toEqual([
      { do: 'resources' },
    ]);
  });
  it('repeats a prepare of which nobody knows how far it got only where that is safe, three times at the most', () => {
    const lost = (tries: number, mayRepeat = true): DeploymentFacts => ({
      ...base,
      state: 'preparing',
      resources: { asked: true, ready: true, failure: null },
      prepare: { declared: true, attempt: 'lost', why: '', mayRepeat, tries, stops: false },
    });
    expect(advanceDeployment(lost(1)).effects).toEqual([{ do: 'prepare' }]);
    expect(advanceDeployment(lost(3)).failure?.code).toBe('prepare_unknown');
    expect(advanceDeployment(lost(1, false)).failure?.code).toBe('prepare_unknown');
    // The next try has a login of its own, and waits for it.
    expect(advanceDeployment({ ...lost(1), resources: { asked: true, ready: false, failure: null } }).effects).toEqual(
      [],
    );
  });
  const stops = { prepare: { ...base.prepare, stops: true } };
  it('closes first, and ends what is old, where its prepare wants that', () => {
    const { trail, facts } = play(stops);
    expect(trail).toEqual(['queued', 'preparing', 'starting', 'cutover', 'verifying', 'live']);
    expect(facts).toMatchObject({ serving: 'this', closed: false, before: { servers: [{ state: 'ended' }] } });
    // What has nothing before it, or is a revert, closes nothing.
    expect(play({ ...stops, before: null, serving: 'none' }).facts).toMatchObject({ state: 'live', closed: false });
    const reverted = play({ ...stops, kind: 'revert' }).facts;
    expect(reverted.before?.servers[0]).toMatchObject({ state: 'ready', wanted: true });
  });
  it('waits until every edge has closed, and does not end what they may still ask', () => {
    const waits: DeploymentFacts = {
      ...base,
      ...stops,
      state: 'preparing',
      closed: true,
      acknowledged: false,
      resources: { asked: true, ready: true, failure: null },
    };
    expect(advanceDeployment(waits)).toMatchObject({ effects: [], again: waits.now + 1_000 });
    expect(advanceDeployment({ ...waits, acknowledged: true }).effects).toEqual([{ do: 'endBefore' }]);
  });
  it('that fails while it is closed is over, whoever opens it again', () => {
    for (let crash = -1; crash < 14; crash++) {
      const { facts } = play(stops, { prepare: 'failed', crash });
      expect(facts).toMatchObject({ state: 'failed', serving: 'before', failure: { code: 'prepare_failed' } });
    }
  });
  it('that fails after it has taken the traffic starts the stopped programs, and leads nobody there before they are ready', () => {
    for (let crash = -1; crash < 20; crash++) {
      const { facts } = play(stops, { verify: 'failed', crash });
      expect(facts).toMatchObject({
        state: 'failed',
        serving: 'before',
        closed: false,
        failure: { code: 'verify_failed' },
      });
      expect(facts.before?.servers.at(-1)).toMatchObject({ state: 'ready', wanted: true });
    }
    const moved: DeploymentFacts = {
      ...base,
      ...stops,
      state: 'verifying',
      serving: 'this',
      failure: issue('verify_failed', { detail: '' }),
      before: { ...(base.before as NonNullable<typeof base.before>), servers: [one('old', 'ended', false)] },
    };
    expect(advanceDeployment(moved).effects).toEqual([{ do: 'close' }]);
    const closed: DeploymentFacts = { ...moved, serving: 'before', closed: true };
    expect(advanceDeployment(closed).effects).toEqual([{ do: 'startServers', of: 'before' }]);
    const before = closed.before as NonNullable<typeof base.before>;
    const starting = { ...closed, before: { ...before, servers: [...before.servers, one('again', 'starting')] } };
    expect(advanceDeployment(starting).effects).toEqual([]);
    const up = { ...closed, before: { ...before, servers: [...before.servers, one('again', 'ready')] } };
    expect(advanceDeployment(up).effects).toEqual([{ do: 'serve', which: 'before' }]);
  });
  it('keeps its place in the traffic when it loses a server while it has a share, and can go back', () => {
    const shared: DeploymentFacts = {
      ...base,
      state: 'cutover',
      shared: true,
      servers: [one('s1', 'ready'), one('s2', 'lost')],
      way: {
        plan: { mirrorMs: null, shares: [{ share: 1_000, ms: 60_000 }] },
        step: { at: 'share', index: 0 },
        since: base.now - 120_000,
        order: null,
        orderedBy: '',
        worse: null,
        enough: true,
        few: 'continue',
        fewMs: 3_600_000,
        stale: true,
        waits: null,
        tooFew: issue('cutover_few', {}),
      },
    };
    const step = advanceDeployment(shared);
    expect(step.state).toBe('cutover');
    expect(step.effects).toEqual([{ do: 'startServers', of: 'this' }, { do: 'followShares' }]);
    const way = shared.way as NonNullable<typeof shared.way>;
    expect(advanceDeployment({ ...shared, way: { ...way, order: 'back', orderedBy: 'aoi' } }).failure?.code).toBe(
      'cutover_back',
    );
    expect(advanceDeployment({ ...shared, way: { ...way, worse: issue('cutover_worse', {}) } }).failure?.code).toBe(
      'cutover_worse',
    );
    // Without a share there is nothing to follow: it starts what is missing before any of the traffic moves.
    expect(advanceDeployment({ ...shared, shared: false, way: { ...way, step: null } }).state).toBe('starting');
  });
  it('keeps the traffic when it fails with nothing before it', () => {
    expect(play({ before: null, serving: 'none' }, { verify: 'failed' }).facts).toMatchObject({
      state: 'failed',
      serving: 'this',
    });
    expect(play({ before: null, serving: 'none' }, { server: 'failed' }).facts).toMatchObject({
      state: 'failed',
      serving: 'none',
    });
  });
  it('never runs prepare or verify for a revert', () => {
    const { facts } = play({ kind: 'revert' }, { prepare: 'failed', verify: 'failed' });
    expect(facts).toMatchObject({ state: 'live', prepare: { attempt: null }, verify: { attempt: null } });
  });
  it('is live when all that it asked for runs, also what has to start again meanwhile', () => {
    const facts: DeploymentFacts = {
      ...base,
      state: 'verifying',
      serving: 'this',
      verify: { declared: true, attempt: 'passed', why: '' },
      servers: [one('s1', 'ready'), one('s2', 'starting')],
      workers: [one('w', 'ready')],
    };
    expect(advanceDeployment(facts)).toMatchObject({ state: 'verifying', effects: [] });
    const ready = { ...facts, servers: [one('s1', 'ready'), one('s2', 'ready')] };
    expect(advanceDeployment({ ...ready, workers: [one('w', 'failed', false), one('w2', 'waiting')] })).toMatchObject({
      state: 'verifying',
      effects: [],
    });
    expect(advanceDeployment(ready).state).toBe('live');
  });
  it('moves no traffic before every edge that answers has the table', () => {
    expect(advanceDeployment({ ...base, state: 'cutover', serving: 'this', acknowledged: false }).effects).toEqual([]);
  });
  it('ends the same whichever step is lost, and workers never work twice', () => {
    const worlds = fc.record({
      prepare: fc.constantFrom('passed' as const, 'failed' as const, 'lost' as const),
      seed: fc.constantFrom('passed' as const, 'failed' as const, 'lost' as const),
      verify: fc.constantFrom('passed' as const, 'failed' as const),
      server: fc.constantFrom('ready' as const, 'failed' as const),
    });
    fc.assert(
      fc.property(worlds, fc.nat(20), (world, crash) => {
        const whole = play({}, world);
        const broken = play({}, { ...world, crash });
        expect(broken.trail).toEqual(whole.trail);
        expect(broken.facts.serving).toBe(whole.facts.serving);
        expect(broken.bothWorkers || whole.bothWorkers).toBe(false);
      }),
    );
  });
});

describe('an environment', () => {
  const past = (release: number, state: 'live' | 'replaced' | 'reverted' | 'failed', number = release) => ({
    number,
    release,
    state,
    wasLive: state !== 'failed',
  });

  it('takes the newest by itself, unless it is held, busy, live or was tried here', () => {
    const facts = {
      held: false,
      open: true,
      moving: false,
      liveRelease: 1,
      candidates: [3, 2],
      history: [past(1, 'live')],
    };
    expect(takes(facts)).toBe(3);
    expect(takes({ ...facts, held: true })).toBeNull();
    expect(takes({ ...facts, moving: true })).toBeNull();
    expect(takes({ ...facts, open: false })).toBeNull();
    expect(takes({ ...facts, candidates: [1] })).toBeNull();
    expect(takes({ ...facts, history: [past(3, 'failed')] })).toBeNull();
  });
  it('says its health, and waits longer before each restart', () => {
    expect(healthOf(3, 3, { asked: 2, ready: 2 })).toBe('good');
    expect(healthOf(3, 1, { asked: 2, ready: 1 })).toBe('poor');
    expect(healthOf(3, 0, { asked: 2, ready: 0 })).toBe('down');
    expect([0, 1, 20].map(restartDelay)).toEqual([500, 1000, 60_000]);
  });
});
