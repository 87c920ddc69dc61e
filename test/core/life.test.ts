import fc from 'fast-check';
import { advanceLife, closesAt, type LifeFacts, type LifeStep, sleepsAt } from '../../src/core/advance/life.js';
import { issue } from '../../src/core/errors/errors.js';

const minute = 60_000;
const limits = { awakeMs: 2 * minute, drainMs: 30_000, settleMs: 10_000, readyMs: 60_000 };
const start = 1_000_000_000_000;

const facts = (change: Partial<LifeFacts> = {}): LifeFacts => ({
  now: start,
  state: 'live',
  since: start,
  depth: null,
  wish: null,
  idle: { sleep: 20 * minute, end: 120 * minute, close: 3 * 1_440 * minute },
  usedAt: start,
  wokenAt: start,
  pushedAt: start,
  keepUntil: null,
  crowded: false,
  moving: false,
  occupied: false,
  jobAt: null,
  route: 'live',
  acknowledged: true,
  sessions: 0,
  freezes: true,
  programs: { asked: 1, wanted: 1, ready: 1, frozen: 0, over: 0, left: 0 },
  askedAt: start,
  ready: false,
  failure: null,
  wakeIssue: null,
  turn: true,
  closing: { working: false, resources: 0, reopen: false },
  limits,
  ...change,
});
const stepped = (change: Partial<LifeFacts>): LifeStep => advanceLife(facts(change));
const programs = (change: Partial<LifeFacts['programs']>): LifeFacts['programs'] => ({
  ...facts().programs,
  ...change,
});

describe('when an environment falls asleep', () => {
  it('is when nobody has used it for so long, and not a moment before', () => {
    expect(stepped({ now: start + 20 * minute - 1 })).toMatchObject({ state: 'live', effects: [], againMs: 1 });
    expect(stepped({ now: start + 20 * minute })).toMatchObject({
      state: 'falling asleep',
      depth: 'frozen',
      effects: ['routeAsleep'],
    });
    expect(stepped({ now: start + 30 * minute, usedAt: start + 15 * minute })).toMatchObject({
      state: 'live',
      againMs: 5 * minute,
    });
  });

  it('is never while somebody works in it or something comes there, nor of what stands or has no programs', () => {
    const late = { now: start + 60 * minute };
    expect(stepped({ ...late, moving: true }).state).toBe('live');
    expect(stepped({ ...late, occupied: true })).toMatchObject({ state: 'live', againMs: 5_000 });
    expect(stepped({ ...late, idle: null })).toMatchObject({ state: 'live', againMs: null });
    expect(stepped({ ...late, wish: 'asleep', idle: null })).toMatchObject({ state: 'live', effects: ['unwish'] });
    expect(stepped({ ...late, programs: programs({ asked: 0, wanted: 0 }) }).state).toBe('live');
    expect(sleepsAt({ ...facts(), idle: { sleep: null, end: 1, close: 1 } })).toBeNull();
  });

  it('is for another one when it has been awake for a while, and at once when somebody says so', () => {
    expect(stepped({ crowded: true, now: start + 1 })).toMatchObject({ state: 'live', againMs: 2 * minute - 1 });
    expect(stepped({ crowded: true, now: start + 2 * minute }).state).toBe('falling asleep');
    expect(stepped({ wish: 'asleep' }).state).toBe('falling asleep');
    expect(stepped({ wish: 'awake', now: start + 60 * minute })).toMatchObject({ state: 'live', effects: ['unwish'] });
  });

  it('is by ending its programs where no machine can freeze them', () => {
    expect(stepped({ wish: 'asleep', freezes: false })).toMatchObject({ state: 'falling asleep', depth: 'ended' });
  });
});

describe('falling asleep', () => {
  const falling = (change: Partial<LifeFacts>) =>
    stepped({ state: 'falling asleep', depth: 'frozen', route: 'asleep', ...change });

  it('freezes only what no request and no session is in the middle of', () => {
    expect(falling({ acknowledged: false })).toMatchObject({ state: 'falling asleep', effects: [] });
    expect(falling({ sessions: null })).toMatchObject({ state: 'falling asleep', effects: [] });
    expect(falling({ sessions: 2 })).toMatchObject({ state: 'falling asleep', effects: [] });
    expect(falling({})).toMatchObject({ state: 'falling asleep', effects: ['freeze'] });
    expect(falling({ programs: programs({ ready: 0, frozen: 1 }) })).toMatchObject({
      state: 'asleep',
      depth: 'frozen',
    });
  });

  it('goes back when what is open does not end, and ends programs whose sessions do not', () => {
    expect(falling({ acknowledged: false, now: start + 30_001 })).toMatchObject({
      state: 'waking',
      effects: ['used', 'unwish'],
    });
    expect(falling({ sessions: 1, now: start + 10_001 })).toMatchObject({ depth: 'ended', effects: ['endPrograms'] });
    expect(falling({ programs: programs({ over: 1 }) })).toMatchObject({ depth: 'ended', effects: ['endPrograms'] });
  });

  it('ends what can’t stand still, and sleeps when all of it has ended', () => {
    const deep = { depth: 'ended' as const };
    expect(falling(deep).effects).toEqual(['endPrograms']);
    expect(falling({ ...deep, programs: programs({ wanted: 0, ready: 0, left: 1 }) })).toMatchObject({
      state: 'falling asleep',
      effects: [],
    });
    expect(falling({ ...deep, programs: programs({ wanted: 0, ready: 0 }) }).state).toBe('asleep');
  });

  it('wakes for a request and for a deployment', () => {
    expect(falling({ wish: 'awake' }).state).toBe('waking');
    expect(falling({ moving: true }).state).toBe('waking');
  });
});

describe('asleep and waking', () => {
  const asleep = (change: Partial<LifeFacts>) =>
    stepped({
      state: 'asleep',
      depth: 'frozen',
      route: 'asleep',
      programs: programs({ ready: 0, frozen: 1 }),
      ...change,
    });
  const waking = (change: Partial<LifeFacts>) =>
    stepped({ state: 'waking', depth: 'ended', route: 'asleep', ...change });

  it('ends what was frozen for long, and what has lost a program', () => {
    expect(asleep({ now: start + 1 })).toMatchObject({ state: 'asleep', effects: [], againMs: 120 * minute - 1 });
    expect(asleep({ now: start + 120 * minute })).toMatchObject({
      state: 'asleep',
      depth: 'ended',
      effects: ['endPrograms'],
    });
    expect(asleep({ programs: programs({ ready: 0, over: 1 }) })).toMatchObject({ depth: 'ended' });
  });

  it('wakes for a wish, a deployment, a job that counts', () => {
    expect(asleep({ wish: 'awake' })).toMatchObject({ state: 'waking', depth: 'frozen' });
    expect(asleep({ moving: true }).state).toBe('waking');
    expect(asleep({ jobAt: start + minute })).toMatchObject({ state: 'asleep', againMs: minute });
    expect(asleep({ jobAt: start }).state).toBe('waking');
  });

  it('does not try by itself what failed; what comes there goes on', () => {
    const failed = { wakeIssue: issue('prepare_unknown') };
    expect(asleep({ ...failed, moving: true, jobAt: start }).state).toBe('asleep');
    expect(asleep({ ...failed, wish: 'awake' })).toMatchObject({ state: 'waking', wakeIssue: null });
  });

  it('leads nobody to its programs before they are ready, and then at once', () => {
    expect(waking({})).toMatchObject({ state: 'waking', effects: ['startPrograms'] });
    expect(waking({ turn: false })).toMatchObject({ state: 'waking', effects: [] });
    expect(waking({ depth: 'frozen' }).effects).toEqual(['thaw']);
    expect(waking({ ready: true, wish: 'awake' })).toMatchObject({
      state: 'live',
      depth: null,
      effects: ['routeLive', 'unwish'],
    });
    expect(waking({ ready: true, wish: 'asleep' })).toMatchObject({ state: 'live', effects: ['routeLive'] });
    expect(waking({ depth: 'frozen', programs: programs({ over: 1 }) })).toMatchObject({ depth: 'ended' });
  });

  it('sleeps again with the reason when they fail or are late; whoever waits for a turn is not late', () => {
    const why = issue('instance_setup', { part: 'api', detail: 'x' });
    const back = waking({ failure: why });
    expect(back).toMatchObject({ state: 'asleep', depth: 'ended', wakeIssue: why });
    expect(back.effects).toEqual(['endPrograms', 'routeAsleep', 'unwish']);
    expect(waking({ now: start + 60_001 })).toMatchObject({ state: 'asleep', wakeIssue: { code: 'instance_setup' } });
    expect(waking({ now: start + 60_001, turn: false }).state).toBe('waking');
    // Its time begins when its programs were asked for.
    expect(waking({ now: start + 90_000, askedAt: start + 40_000 }).state).toBe('waking');
    expect(waking({ now: start + 90_000, askedAt: null }).state).toBe('waking');
  });
});

describe('when an environment closes by itself', () => {
  const day = 1_440 * minute;

  it('is without a use or a push for so long, and never before the day until which somebody keeps it', () => {
    for (const state of ['empty', 'live', 'asleep'] as const) {
      expect(stepped({ state, now: start + 3 * day }).state).toBe('closing');
      expect(stepped({ state, now: start + 3 * day, keepUntil: start + 4 * day }).state).not.toBe('closing');
      expect(stepped({ state, now: start + 3 * day, pushedAt: start + day }).state).not.toBe('closing');
      expect(stepped({ state, now: start + 3 * day, occupied: true }).state).not.toBe('closing');
      expect(stepped({ state, now: start + 3 * day, wish: 'awake' }).state).not.toBe('closing');
    }
    expect(closesAt(facts({ idle: null }))).toBeNull();
  });

  it('is not woken on its way out, whatever is wished, and closes', () => {
    for (const wish of ['awake', 'asleep'] as const)
      for (const route of ['asleep', 'none'] as const) {
        const step = stepped({ state: 'closing', wish, route });
        expect(['closing', 'closed']).toContain(step.state);
        expect(step.effects.filter((one) => one === 'thaw' || one === 'startPrograms' || one === 'routeLive')).toEqual(
          [],
        );
      }
  });
});

describe('the whole life', () => {
  /** A world in which edges are late, agents take their time, people come when they like, and time jumps. */
  const happening = fc.constantFrom(
    'step',
    'step',
    'step',
    'acknowledge',
    'freeze',
    'thaw',
    'start',
    'end one',
    'end by itself',
    'a minute',
    'an hour',
    'request',
    'wish asleep',
    'push',
    'pushed',
    'close',
    'remove one',
    'attempt ends',
  );

  function world(resources: number) {
    const now = { at: start };
    let one = facts({ closing: { working: false, resources, reopen: false } });
    let shall: 'run' | 'freeze' | 'end' = 'run';
    let removing = false;
    const problems: string[] = [];
    const set = (change: Partial<LifeFacts>) => {
      one = { ...one, ...change };
    };
    const count = (change: Partial<LifeFacts['programs']>) => set({ programs: { ...one.programs, ...change } });
    const step = () => {
      const { wanted, ready } = one.programs;
      const answers = ready > 0 && ready === wanted;
      set({ now: now.at, ready: one.state === 'waking' && answers && shall === 'run' });
      const next = advanceLife(one);
      for (const effect of next.effects) {
        if (effect === 'routeAsleep') set({ route: 'asleep', acknowledged: false });
        if (effect === 'unroute') set({ route: 'none', acknowledged: false });
        if (effect === 'routeLive') {
          if (!answers) problems.push('led to programs that do not answer');
          set({ route: 'live', acknowledged: false });
        }
        if (effect === 'freeze') {
          if (one.route === 'live' || !one.acknowledged) problems.push('frozen while requests come');
          shall = 'freeze';
        }
        if (effect === 'thaw') shall = 'run';
        if (effect === 'startPrograms') {
          shall = 'run';
          count({ wanted: 1, over: 0 });
        }
        if (effect === 'endPrograms' || effect === 'endAll') {
          if (effect === 'endAll' && (one.route !== 'none' || !one.acknowledged))
            problems.push('ended while requests come');
          if (wanted > 0 && one.programs.over === 0) count({ wanted: 0, ready: 0, frozen: 0, left: 1 });
          else count({ wanted: 0, ready: 0, frozen: 0, over: 0 });
        }
        if (effect === 'unwish') set({ wish: null });
        if (effect === 'used') set({ usedAt: now.at });
        if (effect === 'removeResources') {
          if (one.programs.wanted + one.programs.left > 0) problems.push('removed what is in use');
          removing = true;
        }
      }
      if (next.state !== one.state) set({ since: now.at });
      if (next.state === 'live' && one.state !== 'live') set({ wokenAt: now.at, usedAt: now.at });
      if (next.state === 'asleep' && next.depth === 'frozen' && one.programs.frozen !== one.programs.wanted)
        problems.push('asleep with programs that run');
      if (next.state === 'closed' && (one.programs.wanted + one.programs.left > 0 || one.closing.resources > 0))
        problems.push('closed with something left');
      set({ state: next.state, depth: next.depth, wakeIssue: next.wakeIssue });
    };
    const happen = (what: string) => {
      const { programs: all, state } = one;
      if (what === 'step') step();
      if (what === 'acknowledge') set({ acknowledged: true });
      if (what === 'freeze' && shall === 'freeze' && all.ready > 0) count({ ready: 0, frozen: 1 });
      if (what === 'thaw' && shall === 'run' && all.frozen > 0) count({ ready: 1, frozen: 0 });
      if (what === 'start' && shall === 'run' && all.wanted > 0 && all.over === 0 && all.frozen === 0)
        count({ ready: 1 });
      if (what === 'end one' && all.left > 0) count({ left: 0 });
      if (what === 'end by itself' && all.ready + all.frozen > 0) count({ ready: 0, frozen: 0, over: 1 });
      if (what === 'a minute') now.at += minute;
      if (what === 'an hour') now.at += 60 * minute;
      if (what === 'request' && state !== 'closing' && state !== 'closed') {
        if (one.route === 'asleep') set({ wish: 'awake' });
        else set({ usedAt: now.at });
      }
      if (what === 'wish asleep' && state !== 'closing' && state !== 'closed') set({ wish: 'asleep' });
      if (what === 'push') set({ moving: true, pushedAt: now.at });
      if (what === 'pushed') set({ moving: false });
      if (what === 'close' && state !== 'closed') set({ state: 'closing', since: now.at, wish: null });
      if (what === 'remove one' && removing) set({ closing: { ...one.closing, resources: 0 } });
    };
    return { happen, problems, seen: () => one };
  }

  it('never leads to what does not answer, never freezes or ends what is asked, and wakes in the end', () => {
    fc.assert(
      fc.property(fc.array(happening, { maxLength: 80 }), fc.nat(1), (list, resources) => {
        const { happen, problems, seen } = world(resources);
        for (const what of list) happen(what);
        expect(problems).toEqual([]);
        // Once the world moves on, whoever asks for it gets it, or it is closed.
        happen('pushed');
        for (let round = 0; round < 30; round++) {
          if (seen().route !== 'live') happen('request');
          for (const what of ['step', 'acknowledge', 'thaw', 'start', 'end one', 'remove one', 'attempt ends'])
            happen(what);
        }
        expect(['live', 'closed']).toContain(seen().state);
        if (seen().state === 'live') expect(seen().programs.over > 0 || seen().route === 'live').toBe(true);
        expect(problems).toEqual([]);
      }),
      { numRuns: 3_000 },
    );
  });
});
