/** The way back, over random histories: it is held against a list that remembers what was live in the order in which people meant it. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  backOf,
  decideRevert,
  type Lived,
  type Moving,
  refusesUndo,
  type RevertFacts,
  wayBack,
} from '../../src/core/advance/back.js';

const lived = (number: number, release: number, more: Partial<Lived> = {}): Lived => ({
  id: `id${number}`,
  number,
  release,
  variables: {},
  back: null,
  liveAt: number,
  gone: false,
  ...more,
});
const facts = (more: Partial<RevertFacts>): RevertFacts => ({
  live: null,
  moving: [],
  past: [],
  reverts: [],
  openedAt: 0,
  leaves: null,
  leavesId: null,
  release: null,
  ...more,
});

/** One environment, played by the functions alone. */
class Played {
  past: Lived[] = [];
  live: Lived | null = null;
  reverts: { number: number; leaves: string | null }[] = [];
  /** What people mean: each entry is what is live, with all that is below it. */
  meant: { unit: string; below: Played['meant'] } | null = null;
  meantOf = new Map<string, Played['meant']>();
  leftBy = new Map<string, string>();
  lastUndo: { id: string; meant: Played['meant'] } | null = null;

  private become(
    release: number,
    variables: Record<string, string>,
    back: string | null,
    meant: Played['meant'],
  ): Lived {
    const number = this.past.length + 1;
    const one = lived(number, release, { variables, back });
    this.past.unshift(one);
    this.live = one;
    this.meant = meant;
    this.meantOf.set(one.id, meant);
    return one;
  }
  unit = (release: number, variables: Record<string, string>) => `${release} ${JSON.stringify(variables)}`;
  forward(release: number, level: string): void {
    const variables = { LEVEL: level };
    const unit = this.unit(release, variables);
    const meant = this.meant?.unit === unit ? this.meant : { unit, below: this.meant };
    this.lastUndo = null;
    this.become(release, variables, backOf({ release, variables }, this.live), meant);
  }
  decide = (release: number | null, leaves = this.live?.number ?? null) =>
    decideRevert(
      facts({
        live: this.live,
        past: this.past,
        reverts: this.reverts,
        leaves,
        leavesId: leaves === null ? null : `id${leaves}`,
        release,
      }),
    );
  revert(release: number | null): 'went' | 'nothing' {
    const decision = this.decide(release);
    if (decision.what !== 'goes') return 'nothing';
    const from = this.live as Lived;
    const before = this.meant;
    this.become(
      decision.to.release,
      { ...decision.to.variables },
      decision.to.back,
      this.meantOf.get(decision.to.id) ?? null,
    );
    this.reverts.unshift({ number: this.live?.number as number, leaves: from.id });
    this.lastUndo = { id: from.id, meant: before };
    return 'went';
  }
  undo(): boolean {
    if (!this.lastUndo) return false;
    const then = this.past.find((one) => one.id === this.lastUndo?.id) as Lived;
    this.become(then.release, { ...then.variables }, then.back, this.lastUndo.meant);
    this.lastUndo = null;
    return true;
  }
}

type Act =
  | { do: 'forward'; release: number; level: string }
  | { do: 'revert'; release: number | null }
  | { do: 'undo' };
const act: fc.Arbitrary<Act> = fc.oneof(
  {
    weight: 4,
    arbitrary: fc.record({
      do: fc.constant('forward' as const),
      release: fc.integer({ min: 1, max: 6 }),
      level: fc.constantFrom('info', 'debug'),
    }),
  },
  { weight: 3, arbitrary: fc.record({ do: fc.constant('revert' as const), release: fc.constant(null) }) },
  { weight: 1, arbitrary: fc.record({ do: fc.constant('revert' as const), release: fc.integer({ min: 1, max: 6 }) }) },
  { weight: 2, arbitrary: fc.record({ do: fc.constant('undo' as const) }) },
);
const step = (world: Played, one: Act) => {
  if (one.do === 'forward') world.forward(one.release, one.level);
  else if (one.do === 'revert') world.revert(one.release);
  else world.undo();
};
const nowOf = (world: Played) => (world.live ? world.unit(world.live.release, { ...world.live.variables }) : null);

describe('the way back', () => {
  it('is what people meant, after any history of deployments, reverts and undos', () => {
    fc.assert(
      fc.property(fc.array(act, { maxLength: 40 }), (history) => {
        const world = new Played();
        for (const one of history) {
          step(world, one);
          expect(nowOf(world)).toBe(world.meant?.unit ?? null);
          const way = wayBack(world.live, world.past, 0, 100).map((each) =>
            world.unit(each.release, { ...each.variables }),
          );
          const meant: string[] = [];
          for (let below = world.meant?.below ?? null; below; below = below.below) meant.push(below.unit);
          expect(way).toEqual(meant);
        }
      }),
      { numRuns: 2_000 },
    );
  });

  it('never stays where it is, and an undo brings all of it back', () => {
    fc.assert(
      fc.property(fc.array(act, { maxLength: 30 }), (history) => {
        const world = new Played();
        for (const one of history) step(world, one);
        const [before, way] = [nowOf(world), wayBack(world.live, world.past, 0).map(({ number }) => number)];
        if (world.revert(null) === 'nothing') return expect(way).toEqual([]);
        expect(nowOf(world)).not.toBe(before);
        expect(wayBack(world.live, world.past, 0).map(({ number }) => number)).toEqual(way.slice(1));
        world.undo();
        expect(nowOf(world)).toBe(before);
        expect(wayBack(world.live, world.past, 0).map(({ number }) => number)).toEqual(way);
      }),
      { numRuns: 1_000 },
    );
  });

  it('goes back to what was brought back deliberately, like to any other', () => {
    const world = new Played();
    world.forward(1, 'info');
    world.forward(12, 'info');
    world.revert(1);
    // An owner overrides, and r12 is live again; then r16.
    world.forward(12, 'info');
    world.forward(16, 'info');
    world.revert(null);
    expect(world.live?.release).toBe(12);
  });

  it('counts a change of a plain variable as a change, and a deployment of the same again as none', () => {
    const world = new Played();
    world.forward(1, 'info');
    world.forward(2, 'info');
    world.forward(2, 'info');
    expect(wayBack(world.live, world.past, 0).map(({ release }) => release)).toEqual([1]);
    world.forward(2, 'debug');
    world.revert(null);
    expect(world.live).toMatchObject({ release: 2, variables: { LEVEL: 'info' } });
  });

  it('passes over what has no bytes any more, and ends where the environment was opened', () => {
    const past = [
      lived(4, 4, { back: 'id3' }),
      lived(3, 3, { back: 'id2', gone: true }),
      lived(2, 2, { back: 'id1' }),
      lived(1, 1),
    ];
    const live = past[0] as Lived;
    expect(wayBack(live, past, 0).map(({ number }) => number)).toEqual([2, 1]);
    expect(wayBack(live, past, 2).map(({ number }) => number)).toEqual([2]);
    expect(wayBack(live, past, 3)).toEqual([]);
    expect(wayBack(null, past, 0)).toEqual([]);
  });
});

describe('a revert', () => {
  const past = [lived(5, 5, { back: 'id4' }), lived(4, 4, { back: 'id3' }), lived(3, 3)];
  const live = past[0] as Lived;
  const moving = (number: number, more: Partial<Moving> = {}): Moving => ({
    id: `id${number}`,
    number,
    kind: 'promote',
    leaves: null,
    restores: null,
    ...more,
  });
  const back = moving(6, { kind: 'revert', leaves: 'id5', restores: 'id4' });

  it('asked for a second time while the first is on its way is that first one', () => {
    for (const asked of [
      {},
      { leaves: 5, leavesId: 'id5' },
      { release: 4 },
      { leaves: 5, leavesId: 'id5', release: 4 },
    ])
      expect(decideRevert(facts({ live, past, moving: [back], ...asked }))).toEqual({
        what: 'joins',
        by: back,
        ends: [],
      });
  });
  it('to another target replaces the one on its way, and still leaves what is live', () => {
    expect(decideRevert(facts({ live, past, moving: [back], release: 3 }))).toEqual({
      what: 'goes',
      to: past[2],
      ends: [back],
    });
    // The live release itself: the revert on its way is not wanted any more.
    expect(decideRevert(facts({ live, past, moving: [back], release: 5 }))).toEqual({ what: 'keeps', ends: [back] });
  });
  it('of what has been left already does nothing, and names the revert', () => {
    const after = [lived(6, 4, { back: 'id3' }), ...past];
    const given = { live: after[0] as Lived, past: after, reverts: [{ number: 6, leaves: 'id5' }] };
    expect(decideRevert(facts({ ...given, leaves: 5, leavesId: 'id5' }))).toEqual({ what: 'already', by: 6 });
    expect(decideRevert(facts({ ...given, leaves: 4, leavesId: 'id4' }))).toEqual({ what: 'moved' });
    expect(decideRevert(facts({ ...given, leaves: 99 }))).toEqual({ what: 'moved' });
  });
  it('while a new deployment is on its way ends that, and what is live keeps the traffic', () => {
    const next = moving(6);
    expect(decideRevert(facts({ live, past, moving: [next] }))).toEqual({ what: 'keeps', ends: [next] });
    expect(decideRevert(facts({ live, past, moving: [next], leaves: 6, leavesId: 'id6' }))).toMatchObject({
      what: 'keeps',
    });
    // Who names what is live leaves that.
    expect(decideRevert(facts({ live, past, moving: [next], leaves: 5, leavesId: 'id5' }))).toEqual({
      what: 'goes',
      to: past[1],
      ends: [next],
    });
    expect(decideRevert(facts({ live: null, moving: [next] }))).toEqual({ what: 'nothing' });
  });
  it('has nowhere to go where nothing was live before, or the release never was', () => {
    expect(decideRevert(facts({ live: lived(1, 1), past: [lived(1, 1)] }))).toEqual({ what: 'nothing' });
    expect(decideRevert(facts({ live, past, release: 9 }))).toEqual({ what: 'nothing' });
    expect(decideRevert(facts({ live, past, release: 5 }))).toEqual({ what: 'live' });
  });
  it('can be undone once, while nothing else has happened, and after the service itself with a reason', () => {
    const one = { number: 6, kind: 'revert' as const, undoes: false, actor: 'aoi' };
    expect(refusesUndo({ live: one, newest: 6, reason: null })).toBeNull();
    expect(refusesUndo({ live: one, newest: 7, reason: 'x' })).toBe('none');
    expect(refusesUndo({ live: { ...one, undoes: true }, newest: 6, reason: 'x' })).toBe('none');
    expect(refusesUndo({ live: { ...one, kind: 'promote' }, newest: 6, reason: 'x' })).toBe('none');
    expect(refusesUndo({ live: null, newest: null, reason: 'x' })).toBe('none');
    expect(refusesUndo({ live: { ...one, actor: 'engine' }, newest: 6, reason: ' ' })).toBe('reason');
    expect(refusesUndo({ live: { ...one, actor: 'engine' }, newest: 6, reason: 'a false alarm' })).toBeNull();
  });
});
