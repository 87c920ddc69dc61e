/** Deployments that go together: never one of them alone. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { advanceJoint, type JointFacts, type JointMember } from '../../src/core/cutover/joint.js';
import { issue } from '../../src/core/errors/errors.js';
import { routeNext, routeTo, routeWithoutNext } from '../../src/core/cutover/route.js';
import { deploymentMoving, deploymentStates, jointStates } from '../../src/core/states.js';

const member = (more: Partial<JointMember> = {}): JointMember => ({
  place: 'sailings/production',
  state: 'cutover',
  failure: null,
  ready: false,
  ...more,
});
const facts = (more: Partial<JointFacts> = {}): JointFacts => ({
  now: 10_000,
  state: 'gathering',
  since: 0,
  members: [member(), member({ place: 'berth-planner/production' })],
  back: null,
  gatherMs: 3_600_000,
  ...more,
});
const ready = [member({ ready: true }), member({ place: 'berth-planner/production', ready: true })];

describe('deployments that go together', () => {
  it('go when the last one is ready, and are live when the last one is verified', () => {
    expect(advanceJoint(facts())).toMatchObject({ state: 'gathering', effect: null });
    expect(advanceJoint(facts({ members: ready }))).toMatchObject({ state: 'moved', effect: 'move' });
    expect(advanceJoint(facts({ state: 'moved' }))).toMatchObject({ state: 'moved', effect: null });
    expect(advanceJoint(facts({ state: 'moved', members: ready }))).toMatchObject({ state: 'live', effect: 'go live' });
  });

  it('say which one kept the others back, and why', () => {
    const why = (members: JointMember[], state: 'gathering' | 'moved' = 'gathering') =>
      advanceJoint(facts({ state, members })).why;
    expect(why([member({ ready: true }), member({ failure: issue('prepare_unknown') })])?.code).toBe('together_failed');
    expect(why([member({ ready: true }), member({ state: null })])?.code).toBe('together_gone');
    expect(why([member({ ready: true }), member({ state: 'replaced' })], 'moved')).toEqual(
      issue('together_left', { environment: 'sailings/production', state: 'replaced' }),
    );
    expect(advanceJoint(facts({ now: 3_600_000 })).why).toEqual(
      issue('together_late', { environments: 'sailings/production, berth-planner/production' }),
    );
    // A clock that was put back waits longer, and ends nothing.
    expect(advanceJoint(facts({ now: -5_000_000 })).effect).toBeNull();
  });

  it('move only when each of them is ready, whatever has become of them', () => {
    const any = fc.record<JointMember>({
      place: fc.constant('a/production'),
      state: fc.option(fc.constantFrom(...deploymentStates)),
      failure: fc.option(fc.constant(issue('prepare_unknown'))),
      ready: fc.boolean(),
    });
    fc.assert(
      fc.property(
        fc.constantFrom(...jointStates),
        fc.array(any, { minLength: 2, maxLength: 10 }),
        fc.option(fc.constant(issue('together_back', { who: 'Aoi' }))),
        fc.integer({ min: 0, max: 8_000_000 }),
        (state, members, back, now) => {
          const step = advanceJoint(facts({ state, members, back, now }));
          const going = step.effect === 'move' || step.effect === 'go live';
          const may = members.every(
            (one) => one.ready && one.failure === null && one.state !== null && deploymentMoving(one.state),
          );
          expect(going).toBe((state === 'gathering' || state === 'moved') && may && back === null);
          // What is over stays so, and an end is always said.
          if (state === 'ended' || state === 'returned') expect(step).toMatchObject({ state, effect: null });
          if (step.effect === 'end' || step.effect === 'return') expect(step.why).not.toBeNull();
          if (step.effect === null) expect(step.state).toBe(state);
        },
      ),
    );
  });
});

describe('the table while something is next', () => {
  const target = (deployment: string) => ({ deployment, release: 'r1', commit: 'c', paths: [] });
  it('leads where it led; what moves the traffic takes that out', () => {
    const before = routeTo(null, 'a/production', target('d1'), 0);
    const next = routeNext(before, 'a/production', target('d2'));
    expect(next.targets).toEqual(before.targets);
    expect(routeWithoutNext(next)).toEqual(before);
    expect(routeTo(next, 'a/production', target('d2'), 0).next).toBeUndefined();
  });
  it('is none again where nothing was before', () => {
    expect(routeWithoutNext(routeNext(null, 'a/production', target('d1')))).toBeNull();
  });
});
