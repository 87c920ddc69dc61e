/** The rules of a promotion: how each stands, and that no order of approvals, freezes and releases lets through what one forbids. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  type Approval,
  judgeApprovals,
  judgeFreezes,
  judgeHealth,
  mayOverride,
  metBy,
} from '../../src/core/rules/rules.js';

const minute = 60_000;
const digest = `sha256:${'ab'.repeat(32)}`;
const by = (name: string, more: Partial<Approval> = {}): Approval => ({
  person: name,
  name,
  digest,
  at: 0,
  may: true,
  withdrawn: false,
  ...more,
});

describe('good health', () => {
  const facts = { environment: 'staging', needed: 15 * minute, longest: 0, since: null, source: null };
  it('waits until it has lasted', () => {
    expect(judgeHealth({ ...facts, since: 0 }, 9 * minute)).toMatchObject({
      state: 'waits',
      until: 15 * minute,
      says: 'in good health in staging for 9 min of 15 min',
    });
    expect(judgeHealth({ ...facts, since: 0 }, 15 * minute).state).toBe('met');
  });
  it('that has lasted once is evidence, whatever comes after', () => {
    expect(judgeHealth({ ...facts, longest: 16 * minute, source: 'd17' }, 0)).toMatchObject({
      state: 'met',
      source: 'd17',
    });
  });
  it('is not met where it is not live in good health, and a clock that went back waits all of it', () => {
    expect(judgeHealth(facts, 0)).toMatchObject({ state: 'not met', until: null });
    expect(judgeHealth({ ...facts, since: 60 * minute }, 0)).toMatchObject({ state: 'waits', until: 75 * minute });
  });
});

describe('approvals', () => {
  const judged = (needed: number, approvals: Approval[], authors: string[] = []) =>
    judgeApprovals({ needed, digest, approvals, authors, release: 7, environment: 'pier/production' });
  it('count each person once, of these bytes, as long as their role lets them', () => {
    expect(judged(1, [])).toMatchObject({ state: 'needs', says: '0 of 1 approval' });
    expect(judged(1, [by('Aiko')])).toMatchObject({ state: 'met', says: '1 of 1 approval: Aiko' });
    expect(judged(2, [by('Aiko'), by('Aiko')])).toMatchObject({ state: 'needs', whom: 'one more releaser' });
    expect(judged(1, [by('Aiko', { digest: 'sha256:00' })]).state).toBe('needs');
    expect(judged(1, [by('Aiko', { may: false })]).state).toBe('needs');
    expect(judged(1, [by('Aiko', { withdrawn: true })]).state).toBe('needs');
  });
  it('are not by the author alone', () => {
    expect(judged(1, [by('Mika')], ['Mika'])).toMatchObject({
      state: 'needs',
      whom: 'a releaser who is not its author',
      says: '1 of 1 approval: Mika, who wrote it',
    });
    expect(judged(2, [by('Mika'), by('Aiko')], ['Mika']).state).toBe('met');
    expect(judged(2, [by('Mika')], ['Mika'])).toMatchObject({ whom: 'a releaser who is not its author' });
  });
});

describe('freezes', () => {
  it('wait for their end, or for an owner', () => {
    const hours = { text: 'fri 16:00 to mon 07:00 Europe/Oslo', until: 99 };
    expect(judgeFreezes({ hours, freeze: null }, 0)).toMatchObject([
      { rule: 'frozen hours', state: 'waits', until: 99 },
    ]);
    expect(judgeFreezes({ hours: { ...hours, until: null }, freeze: null }, 0)).toMatchObject([{ state: 'not met' }]);
    const freeze = { by: 'Aiko', why: 'the summer timetable', until: null };
    expect(judgeFreezes({ hours: null, freeze }, 0)).toMatchObject([{ state: 'needs', whom: 'an owner, to lift it' }]);
    expect(judgeFreezes({ hours: null, freeze: { ...freeze, until: 5 } }, 4)).toMatchObject([
      { state: 'waits', until: 5 },
    ]);
    expect(judgeFreezes({ hours: null, freeze: { ...freeze, until: 5 } }, 5)).toEqual([]);
  });
  it('are over at the latest of them; where somebody is needed no time is told', () => {
    const two = judgeFreezes({ hours: { text: 'a', until: 9 }, freeze: { by: 'b', why: 'c', until: 12 } }, 0);
    expect([metBy(two), mayOverride(two)]).toEqual([12, true]);
    expect(
      metBy([
        ...two,
        judgeApprovals({ needed: 1, digest, approvals: [], authors: [], release: 7, environment: 'pier/production' }),
      ]),
    ).toBeNull();
    expect(metBy([])).toBeNull();
  });
});

describe('whatever comes in whatever order', () => {
  /** Told over and over by one plain reading of the rules. */
  type Act =
    | { act: 'approve' | 'withdraw'; person: number }
    | { act: 'role'; person: number; may: boolean }
    | { act: 'release' }
    | { act: 'freeze'; until: number | null }
    | { act: 'lift' }
    | { act: 'pass'; ms: number };
  const person = fc.integer({ min: 0, max: 3 });
  const act: fc.Arbitrary<Act> = fc.oneof(
    { weight: 4, arbitrary: person.map((one) => ({ act: 'approve' as const, person: one })) },
    person.map((one) => ({ act: 'withdraw' as const, person: one })),
    fc.tuple(person, fc.boolean()).map(([one, may]) => ({ act: 'role' as const, person: one, may })),
    fc.constant({ act: 'release' as const }),
    fc.option(fc.integer({ min: 0, max: 50 })).map((until) => ({ act: 'freeze' as const, until })),
    fc.constant({ act: 'lift' as const }),
    fc.integer({ min: 1, max: 30 }).map((ms) => ({ act: 'pass' as const, ms })),
  );
  it('lets nothing through that a rule forbids', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 3 }),
        fc.array(person, { maxLength: 2 }),
        fc.array(act, { maxLength: 40 }),
        (needed, wrote, acts) => {
          let [now, release] = [0, 1];
          let freeze: { until: number | null } | null = null;
          const may = [true, true, true, true];
          const approvals: (Approval & { release: number })[] = [];
          const digestOf = (number: number) => `sha256:${number}`;
          for (const one of acts) {
            if (one.act === 'pass') now += one.ms;
            if (one.act === 'release') {
              // A newer release: what was approved was another one.
              release++;
              for (const before of approvals) before.withdrawn = true;
            }
            if (one.act === 'approve' && may[one.person])
              approvals.push({ ...by(`p${one.person}`, { digest: digestOf(release), at: now }), release });
            if (one.act === 'withdraw')
              for (const before of approvals) if (before.person === `p${one.person}`) before.withdrawn = true;
            if (one.act === 'role') may[one.person] = one.may;
            if (one.act === 'freeze') freeze = { until: one.until === null ? null : now + one.until };
            if (one.act === 'lift') freeze = null;
            const answers = [
              judgeApprovals({
                release: 7,
                environment: 'pier/production',
                needed,
                digest: digestOf(release),
                approvals: approvals.map((given) => ({ ...given, may: may[Number(given.person.slice(1))] ?? false })),
                authors: wrote.map((author) => `p${author}`),
              }),
              ...judgeFreezes({ hours: null, freeze: freeze && { by: 'an owner', why: 'a reason', ...freeze } }, now),
            ];
            const allowed = answers.every(({ state }) => state === 'met');
            const held = freeze !== null && (freeze.until === null || now < freeze.until);
            const people = [0, 1, 2, 3].filter(
              (who) =>
                may[who] &&
                approvals.some((given) => given.person === `p${who}` && !given.withdrawn && given.release === release),
            );
            expect(allowed).toBe(!held && people.length >= needed && people.some((who) => !wrote.includes(who)));
            const until = metBy(answers);
            if (until !== null) expect(until).toBeGreaterThan(now);
          }
        },
      ),
    );
  });
});
