/** Every act against every rule: what the table says is what is refused, when it is asked and when the traffic moves. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { type Act, actOf, acts, gate, ofTheAct, unmetFor } from '../../src/core/rules/gate.js';
import { answer, type RuleName, ruleStates } from '../../src/core/rules/rules.js';

const names: readonly RuleName[] = [
  'tasks',
  'verified',
  'live before',
  'healthy',
  'approvals',
  'frozen hours',
  'freeze',
  'not on hold',
  'variables',
  'open',
  'free',
];

describe('the gate', () => {
  it('refuses an act exactly for the rules that its row names', () => {
    fc.assert(
      fc.property(
        fc.constantFrom(...acts),
        fc.array(fc.tuple(fc.constantFrom(...names), fc.constantFrom(...ruleStates)), { maxLength: 12 }),
        fc.boolean(),
        (act, states, moves) => {
          const answers = states.map(([rule, state]) => answer(rule, state, rule));
          const expected = answers.filter(
            ({ rule, state }) => state !== 'met' && gate[act].includes(rule) && !(moves && ofTheAct.includes(rule)),
          );
          expect(unmetFor(act, answers, moves)).toEqual(expected);
        },
      ),
    );
  });

  it('holds every act that brings another release to all rules, a hold that came later too', () => {
    const brings: Act[] = ['deploy', 'promote', 'split', 'joint', 'automatic', 'go on'];
    for (const act of brings)
      for (const rule of names) {
        const unmet = unmetFor(act, [answer(rule, 'needs', rule)]).length;
        // A deployment may wait for another one before it.
        expect([act, rule, unmet]).toEqual([act, rule, act === 'deploy' && rule === 'free' ? 0 : 1]);
        const moving = unmetFor(act, [answer(rule, 'needs', rule)], true).length;
        expect([act, rule, moving]).toEqual([act, rule, ofTheAct.includes(rule) ? 0 : 1]);
      }
  });

  it('lets changed variables of the live release through without approvals, and nothing through a hold or a freeze', () => {
    const refused = names.filter((rule) => unmetFor('deploy again', [answer(rule, 'not met', rule)]).length > 0);
    expect(refused).toEqual(['frozen hours', 'freeze', 'not on hold', 'variables', 'open']);
  });

  it('never holds up going back', () => {
    for (const act of ['revert', 'undo'] as const)
      expect(
        unmetFor(
          act,
          names.map((rule) => answer(rule, 'not met', rule)),
        ),
      ).toEqual([]);
  });

  it('knows from the records which act a deployment is', () => {
    expect(actOf({ kind: 'deploy', release: 3 }, 3)).toBe('deploy again');
    expect(actOf({ kind: 'deploy', release: 3 }, 4)).toBe('deploy');
    expect(actOf({ kind: 'deploy', release: 3 }, null)).toBe('deploy');
    for (const kind of ['automatic', 'promote', 'revert'] as const) expect(actOf({ kind, release: 3 }, 3)).toBe(kind);
  });
});
