/** May it be taken there: all rules together, and which of them count when main declares others. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import type { EnvironmentPlan } from '../../src/core/definition/model.js';
import { evidenceDigest, longestHealth } from '../../src/core/release/evidence.js';
import { planWith, type Rules, rulesOf, tighten } from '../../src/core/rules/in-force.js';
import { frozenNow, judgeMove, judgePromotion, type PromotionFacts } from '../../src/core/rules/promotion.js';

const minute = 60_000;
const digest = `sha256:${'ab'.repeat(32)}`;
const rules: Rules = {
  after: 'staging',
  verified: true,
  healthy: 0,
  approvals: 0,
  frozen: [],
  automatic: false,
};
/** A Tuesday in winter, 12:00 UTC. */
const now = Date.UTC(2026, 11, 1, 12);
const facts: PromotionFacts = {
  now,
  environment: 'sailings/production',
  rules,
  release: 5,
  digest,
  liveRelease: 4,
  held: false,
  heldWhy: '',
  moving: false,
  closed: false,
  tasks: [{ name: 'unit', state: 'passed', run: 9, tests: 12 }],
  imported: null,
  verification: { environment: 'staging', deployment: 7, at: '' },
  wasLiveBefore: true,
  health: { longest: 0, since: null, source: null },
  approvals: [],
  authors: [],
  freeze: null,
  unset: [],
  override: null,
};
const approval = { person: 'a', name: 'Aiko', digest, at: now, may: true, withdrawn: false };

describe('a promotion', () => {
  it('is allowed when every rule is met, and shows the evidence', () => {
    const judgement = judgePromotion(facts);
    expect(judgement).toMatchObject({ allowed: true, refusal: null, until: null, overridable: false });
    expect(judgement.answers[0]).toMatchObject({
      rule: 'tasks',
      state: 'met',
      says: 'unit, 12 tests',
      source: 'run 9',
    });
    expect(judgement.answers.map(({ rule }) => rule)).toEqual(['tasks', 'verified', 'not on hold']);
  });
  const changes: [Partial<PromotionFacts>, string][] = [
    [{ verification: null }, 'not_promotable'],
    [{ held: true, heldWhy: 'import' }, 'environment_held'],
    [{ moving: true }, 'not_promotable'],
    [{ closed: true }, 'not_promotable'],
    [{ unset: ['KEY'] }, 'not_promotable'],
    [{ liveRelease: 5 }, 'already_live'],
    [{ rules: { ...rules, verified: false }, wasLiveBefore: false }, 'not_promotable'],
    [{ rules: { ...rules, approvals: 1 } }, 'not_promotable'],
    [{ rules: { ...rules, healthy: minute } }, 'not_promotable'],
    [{ rules: { ...rules, frozen: ['00:00 to 23:00 Europe/Oslo'] } }, 'not_promotable'],
    [{ freeze: { by: 'Ren', why: 'storm', until: now + 1 } }, 'not_promotable'],
  ];
  it.each(changes)('is refused in words with %j', (change, code) => {
    const judgement = judgePromotion({ ...facts, ...change });
    expect(judgement).toMatchObject({ allowed: false, refusal: { code } });
    expect(String(judgement.refusal?.data.why ?? '')).not.toMatch(/undefined|null/);
  });
  it('says until when it waits where time alone is missing, and not where somebody is', () => {
    const waits = { rules: { ...rules, healthy: 15 * minute, frozen: ['11:00 to 14:00 Europe/Oslo'] } };
    const health = { longest: 0, since: now - minute, source: 'd7' };
    expect(judgePromotion({ ...facts, ...waits, health }).until).toBe(Date.UTC(2026, 11, 1, 13));
    expect(judgePromotion({ ...facts, ...waits, health, held: true }).until).toBeNull();
  });
  it('that an owner overrides is allowed as far as that goes, and no further', () => {
    const missing = { ...facts, rules: { ...rules, approvals: 2 }, held: true, heldWhy: 'import' };
    expect(judgePromotion(missing).overridable).toBe(true);
    expect(judgePromotion({ ...missing, override: ['approvals', 'not on hold'] }).allowed).toBe(true);
    expect(judgePromotion({ ...missing, override: ['approvals'] }).allowed).toBe(false);
    expect(judgePromotion({ ...missing, moving: true }).overridable).toBe(false);
    expect(judgePromotion({ ...missing, unset: ['KEY'] }).overridable).toBe(false);
  });
  it('is judged again when its traffic moves: itself on its way is no obstacle then', () => {
    expect(judgeMove({ ...facts, moving: true }, 'promote')).toEqual([]);
    expect(judgeMove({ ...facts, held: true, heldWhy: 'storm' }, 'promote').map(({ rule }) => rule)).toEqual([
      'not on hold',
    ]);
    expect(judgeMove({ ...facts, held: true, override: ['not on hold'] }, 'promote')).toEqual([]);
    expect(
      judgeMove(
        { ...facts, rules: { ...rules, approvals: 1 }, approvals: [{ ...approval, withdrawn: true }] },
        'promote',
      ),
    ).toMatchObject([{ rule: 'approvals', state: 'needs' }]);
  });
  it('is never allowed while a rule forbids it, whatever else there is', () => {
    fc.assert(
      fc.property(
        fc.record({
          needed: fc.integer({ min: 0, max: 3 }),
          healthy: fc.integer({ min: 0, max: 20 }),
          since: fc.option(fc.integer({ min: 0, max: 40 })),
          longest: fc.integer({ min: 0, max: 20 }),
          frozen: fc.boolean(),
          freezeEnds: fc.option(fc.integer({ min: -10, max: 10 })),
          held: fc.boolean(),
          verified: fc.boolean(),
          approvals: fc.array(
            fc.record({
              person: fc.constantFrom('a', 'b', 'c'),
              digest: fc.constantFrom(digest, 'sha256:00'),
              may: fc.boolean(),
              withdrawn: fc.boolean(),
            }),
            { maxLength: 6 },
          ),
          authors: fc.subarray(['a', 'b', 'c']),
        }),
        (one) => {
          const judged = judgePromotion({
            ...facts,
            rules: {
              ...rules,
              approvals: one.needed,
              healthy: one.healthy * minute,
              frozen: one.frozen ? ['12:00 to 14:00 Europe/Oslo'] : [],
            },
            health: {
              longest: one.longest * minute,
              since: one.since === null ? null : now - one.since * minute,
              source: 'd7',
            },
            freeze: one.freezeEnds === null ? null : { by: 'Ren', why: 'storm', until: now + one.freezeEnds * minute },
            held: one.held,
            verification: one.verified ? facts.verification : null,
            approvals: one.approvals.map((given) => ({ ...approval, ...given, name: given.person })),
            authors: one.authors,
          });
          const people = new Set(
            one.approvals.filter((a) => a.digest === digest && a.may && !a.withdrawn).map(({ person }) => person),
          );
          const others = [...people].filter((person) => !one.authors.includes(person));
          const may =
            one.verified &&
            !one.held &&
            !one.frozen &&
            !(one.freezeEnds !== null && one.freezeEnds > 0) &&
            (one.needed === 0 || (people.size >= one.needed && others.length > 0)) &&
            (one.healthy === 0 || Math.max(one.longest, one.since ?? 0) >= one.healthy);
          expect(judged.allowed).toBe(may);
        },
      ),
      { numRuns: 500 },
    );
  });
});

describe('frozen hours and freezes', () => {
  it('say which, and until when', () => {
    const frozen = ['fri 16:00 to mon 07:00 Europe/Oslo'];
    const saturday = Date.UTC(2026, 11, 5, 12);
    expect(frozenNow({ frozen }, null, now)).toEqual([]);
    expect(frozenNow({ frozen }, null, saturday)).toMatchObject([
      { rule: 'frozen hours', state: 'waits', until: Date.UTC(2026, 11, 7, 6) },
    ]);
    expect(frozenNow({ frozen: [] }, { by: 'Ren', why: 'storm', until: now }, now)).toEqual([]);
  });
});

describe('the rules that count', () => {
  const plan = (more: Partial<EnvironmentPlan> = {}): EnvironmentPlan => ({
    name: 'production',
    for: null,
    branch: null,
    after: 'staging',
    promotion: 'manual',
    verify: null,
    parts: {},
    addresses: [],
    ...more,
  });
  const staging = plan({ name: 'staging', after: null, branch: 'main', verify: { reads: null, run: 'x' } });
  const strict = rulesOf(
    { staging, production: plan({ approvals: 2, healthy: 15 * minute, frozen: ['22:00 to 06:00 Asia/Tokyo'] }) },
    'production',
  );
  const counted = (declared: Record<string, EnvironmentPlan>) => tighten(strict, rulesOf(declared, 'production'));

  it('are those that main declares first, and stricter ones at once', () => {
    expect(tighten(null, strict)).toEqual({ rules: strict, loosened: [] });
    const stricter = plan({
      approvals: 3,
      healthy: 20 * minute,
      frozen: ['22:00 to 06:00 Asia/Tokyo', '12:00 to 13:00 Asia/Tokyo'],
    });
    expect(counted({ staging, production: stricter })).toMatchObject({
      rules: { approvals: 3, healthy: 20 * minute },
      loosened: [],
    });
  });
  it('stay where main asks for less, each in words', () => {
    const { rules: now, loosened } = counted({
      staging: { ...staging, verify: null },
      production: plan({ approvals: 1, promotion: 'automatic' }),
    });
    expect(now).toEqual(strict);
    expect(loosened.map(({ says }) => says)).toEqual([
      'frozen: 22:00 to 06:00 Asia/Tokyo; not any more',
      'approvals: 2; 1 instead',
      'what is taken was verified in staging; not any more',
      'healthy: 15 min; no time instead',
      'promotion: manual; automatic instead',
    ]);
  });
  it('keep an environment behind the one before it, though main would let a branch in', () => {
    const declared = { staging, production: plan({ after: null, branch: 'main' }) };
    const { rules: now, loosened } = counted(declared);
    expect(loosened.map(({ rule }) => rule)).toEqual(['frozen hours', 'approvals', 'after']);
    expect(planWith(declared.production, now)).toMatchObject({ after: 'staging', branch: null });
    expect(planWith(declared.production, rulesOf(declared, 'production'))).toMatchObject({
      after: null,
      branch: 'main',
    });
    expect(counted({ staging }).rules.after).toBe('staging');
  });
  it('are never less than those that counted, by whatever way main goes', () => {
    const one = fc.record({
      after: fc.constantFrom(null, 'staging', 'canary'),
      verified: fc.boolean(),
      healthy: fc.nat(3),
      approvals: fc.nat(3),
      frozen: fc.subarray(['00:00 to 01:00 UTC', '02:00 to 03:00 UTC']),
      automatic: fc.boolean(),
    });
    fc.assert(
      fc.property(one, fc.array(one, { maxLength: 5 }), (first, ways) => {
        let counted: Rules = first;
        for (const declared of ways) {
          const next = tighten(counted, declared).rules;
          expect(next.approvals).toBeGreaterThanOrEqual(counted.approvals);
          expect(next.frozen).toEqual(expect.arrayContaining(counted.frozen));
          if (counted.after !== null) {
            expect(next.after).toBe(counted.after);
            expect(next.healthy).toBeGreaterThanOrEqual(counted.healthy);
            expect(next.verified || !counted.verified).toBe(true);
            expect(counted.automatic || !next.automatic).toBe(true);
          }
          counted = next;
        }
      }),
    );
  });
});

describe('evidence', () => {
  const one = {
    kind: 'task' as const,
    name: 'unit',
    source: 'run 9',
    digest,
    detail: { state: 'passed' },
    at: new Date(0),
  };
  it('has a digest of its own, over all that it says', () => {
    expect(evidenceDigest(one)).toMatch(/^sha256:[0-9a-f]{64}$/);
    expect(evidenceDigest({ ...one, at: '1970-01-01T00:00:00.000Z' })).toBe(evidenceDigest(one));
    const others = [
      { name: 'lint' },
      { source: 'run 10' },
      { digest: 'sha256:00' },
      { detail: {} },
      { at: new Date(1) },
    ];
    expect(
      new Set(others.map((change) => evidenceDigest({ ...one, ...change })).concat(evidenceDigest(one))).size,
    ).toBe(6);
  });
  it('of good health counts by the longest time', () => {
    const health = (source: string, from: number, to: number) => ({
      kind: 'health' as const,
      name: 'staging',
      source,
      detail: { from: new Date(from).toISOString(), to: new Date(to).toISOString() },
    });
    const all = [
      health('d1', 0, minute),
      health('d2', 0, 3 * minute),
      { ...health('d3', 0, 9 * minute), name: 'canary' },
    ];
    expect(longestHealth(all, 'staging')).toEqual({ longest: 3 * minute, source: 'd2' });
    expect(longestHealth([], 'staging')).toEqual({ longest: 0, source: null });
  });
});
