/** What is live, what cools down, what closes: by example, and by worlds in which everything may end, be late, or be asked twice. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  coolDeployment,
  type CoolingFacts,
  edgesMs,
  type KeptInstance,
  replaceEnded,
  replaceLetDown,
} from '../../src/core/advance/keep.js';
import { instanceStates } from '../../src/core/states.js';

const one = (change: Partial<KeptInstance> = {}): KeptInstance => ({
  id: 'a',
  part: 'api',
  kind: 'server',
  position: 1,
  state: 'ready',
  wanted: true,
  restarts: 0,
  livedMs: 0,
  letDown: false,
  fresh: 0,
  ...change,
});
const over = (state: string): boolean => state === 'failed' || state === 'ended' || state === 'lost';

describe('what is live', () => {
  it('is filled again where something ended, later each time, and at once again after a long life', () => {
    const { giveUp, start } = replaceEnded([one({ state: 'failed', restarts: 2 })], { moving: false });
    expect([giveUp, start]).toEqual([
      ['a'],
      [{ part: 'api', kind: 'server', position: 1, restarts: 3, delayMs: 2_000 }],
    ]);
    expect(replaceEnded([one({ state: 'ended', restarts: 5, livedMs: 60_001 })], { moving: false }).start).toEqual([
      { part: 'api', kind: 'server', position: 1, restarts: 0, delayMs: 500 },
    ]);
  });

  it('leaves a place alone that is filled already, and workers while another deployment moves', () => {
    const ended = one({ state: 'lost' });
    expect(replaceEnded([ended, one({ id: 'b', state: 'starting' })], { moving: false })).toEqual({
      giveUp: ['a'],
      start: [],
    });
    expect(replaceEnded([one({ kind: 'worker', state: 'ended' })], { moving: true })).toEqual({
      giveUp: [],
      start: [],
    });
  });

  it('on its way fills again what a machine let down, three times, and nothing that failed by itself', () => {
    expect(replaceLetDown([one({ state: 'failed' })]).start).toEqual([]);
    const lost = (restarts: number) => replaceLetDown([one({ state: 'lost', letDown: true, restarts })]).start.length;
    expect([lost(0), lost(2), lost(3)]).toEqual([1, 1, 0]);
  });

  it('has at most one wanted instance in a place, and one wherever something wanted ended', () => {
    const instance = fc.record({
      part: fc.constantFrom('api', 'mail'),
      position: fc.integer({ min: 1, max: 3 }),
      state: fc.constantFrom(...instanceStates),
      wanted: fc.boolean(),
      restarts: fc.integer({ min: 0, max: 9 }),
      livedMs: fc.integer({ min: 0, max: 100_000 }),
      letDown: fc.boolean(),
    });
    fc.assert(
      fc.property(fc.array(instance, { maxLength: 12 }), (list) => {
        const before = list.map((fact, at) => one({ ...fact, id: String(at) }));
        const { giveUp, start } = replaceEnded(before, { moving: false });
        const place = (fact: { part: string; position: number }) => `${fact.part} ${fact.position}`;
        const up = before.filter((fact) => fact.wanted && !over(fact.state)).map(place);
        // Never a second one beside one that is up, or beside another that starts.
        expect(start.filter((fact) => up.includes(place(fact)))).toEqual([]);
        expect(new Set(start.map(place)).size).toBe(start.length);
        const now = [...up, ...start.map(place)];
        for (const fact of before.filter((item) => item.wanted && over(item.state))) {
          expect(giveUp).toContain(fact.id);
          expect(now).toContain(place(fact));
        }
        // Asked again right after, before anything has happened, there is nothing to do.
        const after = [
          ...before.map((fact) => (giveUp.includes(fact.id) ? { ...fact, wanted: false } : fact)),
          ...start.map((fact, at) => one({ ...fact, id: `new ${at}`, state: 'waiting' })),
        ];
        expect(replaceEnded(after, { moving: false })).toEqual({ giveUp: [], start: [] });
      }),
    );
  });
});

describe('what is live no longer', () => {
  const facts = (change: Partial<CoolingFacts> = {}): CoolingFacts => ({
    serving: false,
    needed: false,
    running: true,
    serversAsked: 1,
    serversUp: 1,
    warmMs: 0,
    acknowledged: true,
    ...change,
  });

  it('keeps the traffic where nothing was before it, in poor health, or down', () => {
    expect(coolDeployment(facts({ serving: true }))).toEqual({ effects: [], health: 'poor', againMs: null });
    expect(coolDeployment(facts({ serving: true, serversUp: 0 })).health).toBe('down');
    expect(coolDeployment(facts({ serving: true, serversUp: 0, serversAsked: 0 })).health).toBe('poor');
  });

  it('is left as it is while one on its way may bring it back', () => {
    expect(coolDeployment(facts({ needed: true }))).toEqual({ effects: [], health: null, againMs: null });
  });

  it('ends its workers at once, and its servers when they were warm and no edge has them', () => {
    expect(coolDeployment(facts({ warmMs: 900 }))).toMatchObject({ effects: ['endWorkers'], againMs: 900 });
    expect(coolDeployment(facts({ acknowledged: false }))).toMatchObject({ effects: ['endWorkers'], againMs: edgesMs });
    expect(coolDeployment(facts()).effects).toEqual(['endWorkers', 'endServers']);
  });

  it('never ends a server that an edge may still ask, nor a warm one; and always looks again where something is left', () => {
    const any = fc.record({
      serving: fc.boolean(),
      needed: fc.boolean(),
      running: fc.boolean(),
      serversAsked: fc.nat(3),
      serversUp: fc.nat(3),
      warmMs: fc.integer({ min: -1_000, max: 1_000 }),
      acknowledged: fc.boolean(),
    });
    fc.assert(
      fc.property(any, (fact) => {
        const { effects, againMs } = coolDeployment(fact);
        if (effects.includes('endServers'))
          expect([fact.acknowledged, fact.warmMs <= 0, fact.serving, fact.needed]).toEqual([true, true, false, false]);
        if (fact.serving || fact.needed) expect(effects).toEqual([]);
        else if (fact.running && !effects.includes('endServers')) expect(againMs).toBeGreaterThan(0);
      }),
    );
  });
});
