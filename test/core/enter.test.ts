/** What becomes live, and from where. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  missingInstances,
  newerThan,
  releaseSource,
  retires,
  tableFollows,
  takesWarm,
} from '../../src/core/advance/enter.js';
import { deploymentKinds, deploymentStates, instanceStates } from '../../src/core/states.js';

describe('instances that are missing', () => {
  const parts = fc.uniqueArray(fc.record({ name: fc.constantFrom('api', 'jobs', 'web'), instances: fc.nat(4) }), {
    selector: (part) => part.name,
  });
  const instances = fc.array(
    fc.record({
      part: fc.constantFrom('api', 'jobs', 'web', 'gone'),
      position: fc.integer({ min: 1, max: 5 }),
      state: fc.constantFrom(...instanceStates),
      wanted: fc.boolean(),
    }),
    { maxLength: 12 },
  );

  it('are those of places in which nothing wanted runs; with them, nothing is missing, however often that is asked', () => {
    fc.assert(
      fc.property(parts, instances, (asked, there) => {
        const missing = missingInstances(asked, there);
        for (const { part, position } of missing) {
          expect(position).toBeGreaterThanOrEqual(1);
          expect(position).toBeLessThanOrEqual(asked.find((one) => one.name === part)?.instances ?? 0);
          const up = there.filter((one) => one.part === part && one.position === position && one.wanted);
          expect(up.every((one) => ['failed', 'ended', 'lost'].includes(one.state))).toBe(true);
        }
        expect(new Set(missing.map((one) => `${one.part} ${one.position}`)).size).toBe(missing.length);
        const started = missing.map((one) => ({ ...one, state: 'starting' as const, wanted: true }));
        expect(missingInstances(asked, [...there, ...started])).toEqual([]);
        // The order in which they are told says nothing.
        expect(missingInstances(asked, [...there].reverse())).toEqual(missing);
      }),
    );
  });
});

describe('a revert', () => {
  const facts = { kind: 'revert', instances: 0, warm: true, sameSecrets: true } as const;
  it('takes warm servers over, once, and never with other secrets', () => {
    expect(takesWarm(facts)).toBe(true);
    for (const change of [{ instances: 1 }, { warm: false }, { sameSecrets: false }])
      expect(takesWarm({ ...facts, ...change })).toBe(false);
    for (const kind of deploymentKinds) expect(takesWarm({ ...facts, kind })).toBe(kind === 'revert');
  });
  it('leaves nothing warm of what it has reverted; what is replaced stays warm where people revert', () => {
    expect(retires('live', { kind: 'revert', undoes: false, standing: true, warmMs: 9 })).toEqual({
      state: 'reverted',
      warmMs: 0,
    });
    expect(retires('live', { kind: 'promote', undoes: false, standing: true, warmMs: 9 })).toEqual({
      state: 'replaced',
      warmMs: 9,
    });
    expect(retires('live', { kind: 'deploy', undoes: false, standing: false, warmMs: 9 })).toEqual({
      state: 'replaced',
      warmMs: 0,
    });
    // What an undo leaves is a revert that was not wanted: it may be gone back to.
    expect(retires('live', { kind: 'revert', undoes: true, standing: true, warmMs: 9 })?.state).toBe('replaced');
    for (const state of deploymentStates)
      expect(retires(state, { kind: 'deploy', undoes: false, standing: true, warmMs: 9 }) !== null).toBe(
        state === 'live',
      );
  });
});

describe('the table of the traffic', () => {
  it('follows what runs unless somebody else moves it, or nothing would be left', () => {
    const facts = { serving: true, moving: false, changed: true, empty: false };
    expect(tableFollows(facts)).toBe(true);
    for (const change of [{ serving: false }, { moving: true }, { changed: false }, { empty: true }])
      expect(tableFollows({ ...facts, ...change })).toBe(false);
  });
});

describe('an environment', () => {
  const plan = { after: null, promotion: 'automatic', branch: 'main' } as const;
  it('takes releases from its pull request, from the environment before it, or from its branch', () => {
    expect(releaseSource(undefined, { pull_request: 7, branch: null })).toBeNull();
    expect(releaseSource(plan, { pull_request: 7, branch: null })).toEqual({ from: 'pull request', number: 7 });
    expect(releaseSource(plan, { pull_request: null, branch: null })).toEqual({ from: 'branch', name: 'main' });
    const after = { ...plan, branch: null, after: 'staging' };
    expect(releaseSource(after, { pull_request: null, branch: null })).toEqual({
      from: 'environment',
      name: 'staging',
    });
    expect(releaseSource({ ...after, promotion: 'manual' }, { pull_request: null, branch: null })).toBeNull();
    expect(releaseSource({ ...plan, branch: null }, { pull_request: null, branch: null })).toBeNull();
  });
  it('takes nothing that is older than what is live, where that is still in its history', () => {
    expect(newerThan(['c', 'b', 'a'], 'b')).toEqual(['c', 'b']);
    expect(newerThan(['c', 'b', 'a'], 'gone')).toEqual(['c', 'b', 'a']);
    expect(newerThan(['c', 'b', 'a'], null)).toEqual(['c', 'b', 'a']);
  });
});
