import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { openMs, takeMs, terminalNext, type TerminalHappening, ticketMs } from '../../src/core/advance/terminals.js';
import { terminalEnds, type TerminalState, terminalStates } from '../../src/core/states.js';

const time = (sinceMs: number, agentAlive = true): TerminalHappening => ({ what: 'time', sinceMs, agentAlive });

describe('a terminal', () => {
  it('goes from its ticket to its program', () => {
    expect(terminalNext('asked', { what: 'arrived' })?.state).toBe('wanted');
    expect(terminalNext('wanted', { what: 'taken' })?.state).toBe('given');
    expect(terminalNext('given', { what: 'joined' })?.state).toBe('open');
    expect(terminalNext('open', { what: 'over', why: 'exit', exit: 3 })).toEqual({
      state: 'ended',
      why: 'exit',
      exit: 3,
    });
  });

  it('takes nothing out of order', () => {
    for (const [state, what] of [
      ['wanted', 'arrived'],
      ['asked', 'taken'],
      ['asked', 'joined'],
      ['wanted', 'joined'],
      ['open', 'joined'],
      ['open', 'taken'],
    ] as const)
      expect([state, what, terminalNext(state, { what })]).toEqual([state, what, null]);
  });

  it('has an exit status only where its program has ended', () => {
    for (const why of terminalEnds)
      expect(terminalNext('open', { what: 'over', why, exit: 1 })?.exit).toBe(why === 'exit' ? 1 : null);
  });

  it('ends when nobody comes in time, and when its agent is gone', () => {
    expect(terminalNext('asked', time(ticketMs - 1))).toBeNull();
    expect(terminalNext('asked', time(ticketMs))?.why).toBe('left');
    expect(terminalNext('wanted', time(takeMs))?.why).toBe('lost');
    expect(terminalNext('given', time(openMs - 1))).toBeNull();
    expect(terminalNext('given', time(openMs))?.why).toBe('lost');
    expect(terminalNext('open', time(openMs * 100))).toBeNull();
    expect(terminalNext('open', time(0, false))?.why).toBe('lost');
    expect(terminalNext('wanted', time(0, false))).toBeNull();
  });

  const happening: fc.Arbitrary<TerminalHappening> = fc.oneof(
    fc.constantFrom({ what: 'arrived' } as const, { what: 'taken' } as const, { what: 'joined' } as const),
    fc.record({
      what: fc.constant('over' as const),
      why: fc.constantFrom(...terminalEnds),
      exit: fc.option(fc.integer({ min: 0, max: 255 }), { nil: null }),
    }),
    fc.record({
      what: fc.constant('time' as const),
      sinceMs: fc.integer({ min: 0, max: 100_000 }),
      agentAlive: fc.boolean(),
    }),
  );

  it('goes forward alone, and never on from its end', () => {
    fc.assert(
      fc.property(fc.array(happening, { maxLength: 30 }), (happenings) => {
        let state: TerminalState = 'asked';
        for (const one of happenings) {
          const next = terminalNext(state, one);
          if (!next) continue;
          expect(state).not.toBe('ended');
          expect(terminalStates.indexOf(next.state)).toBeGreaterThan(terminalStates.indexOf(state));
          expect(next.why === null).toBe(next.state !== 'ended');
          state = next.state;
        }
      }),
    );
  });

  it('ends by itself from every state in which it waits for somebody', () => {
    for (const state of terminalStates.filter((one) => one !== 'open' && one !== 'ended'))
      expect([state, terminalNext(state, time(openMs + ticketMs))?.state]).toEqual([state, 'ended']);
  });
});
