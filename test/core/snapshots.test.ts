import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { mostTries, type Outcome } from '../../src/core/advance/resources.js';
import {
  chooseSnapshot,
  failedForMs,
  failedWith,
  type Known,
  mostLost,
  scrubStands,
  snapshotAct,
  snapshotDone,
  type SnapshotFacts,
} from '../../src/core/advance/snapshots.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { issue } from '../../src/core/errors/errors.js';
import type { AttemptState } from '../../src/core/states.js';

const facts = (change: Partial<SnapshotFacts>): SnapshotFacts => ({
  state: 'asked',
  wanted: true,
  tries: 0,
  issue: null,
  lost: 0,
  scrub: null,
  ...change,
});
const scrubbed = (state: AttemptState) => facts({ state: 'scrubbing', scrub: { state, why: 'it ended with 4' } });
const away: Outcome = { done: false, again: true, issue: issue('database_away', { detail: 'nobody there' }) };
const refused: Outcome = { done: false, again: false, issue: issue('database_refused', { detail: 'no' }) };

describe('a snapshot', () => {
  it('is copied, scrubbed, settled, and ready; nothing is done while scrub runs', () => {
    expect(snapshotAct(facts({}))).toEqual({ act: 'copy', state: 'copying' });
    expect(snapshotDone(facts({ state: 'copying' }), 'copy', { done: true })).toMatchObject({
      state: 'scrubbing',
      againMs: 0,
    });
    expect(snapshotAct(facts({ state: 'scrubbing' }))).toEqual({ act: 'scrub', state: 'scrubbing' });
    for (const state of ['waiting', 'running'] as const) expect(snapshotAct(scrubbed(state))).toBeNull();
    expect(snapshotAct(scrubbed('passed'))).toEqual({ act: 'settle', state: 'settling' });
    expect(snapshotDone(facts({ state: 'settling' }), 'settle', { done: true }).state).toBe('ready');
    expect(snapshotAct(facts({ state: 'ready' }))).toBeNull();
    expect(snapshotAct(facts({ state: 'ready', wanted: false }))).toEqual({ act: 'remove', state: 'removing' });
  });

  it('that can’t be made fit for others goes, and says why when nothing of it is left', () => {
    for (const state of ['failed', 'stopped'] as const) {
      const next = snapshotAct(scrubbed(state));
      expect(next).toMatchObject({ act: 'remove', state: 'removing', fails: { code: 'scrub_failed' } });
      const gone = facts({ state: 'removing', issue: next?.fails ?? null });
      expect(snapshotDone(gone, 'remove', { done: true })).toMatchObject({ state: 'failed', issue: next?.fails });
      expect(snapshotDone(gone, 'remove', away)).toMatchObject({ state: 'removing', issue: next?.fails });
    }
  });

  it('stands while the scrub that it has gone through is the one that is permitted now', () => {
    const plan = fc.record({ part: fc.constantFrom('api', 'web'), run: fc.constantFrom('sh scrub.sh', 'true') });
    const same = (a: { part: string; run: string }, b: typeof a) => a.part === b.part && a.run === b.run;
    fc.assert(
      fc.property(
        fc.constantFrom<SnapshotFacts['state']>('scrubbing', 'settling', 'ready'),
        plan,
        plan,
        (state, scrub, permitted) => {
          expect(scrubStands({ state, scrub }, permitted)).toBe(same(scrub, permitted));
          expect(scrubStands({ state, scrub }, null)).toBe(false);
          // A copy that is made once more gets the scrub of that moment.
          expect(scrubStands({ state: 'copying', scrub }, permitted)).toBe(true);
          expect(scrubStands({ state: 'asked', scrub: null }, permitted)).toBe(true);
        },
      ),
    );
  });

  it('of which the scrub was lost is copied anew, a few times', () => {
    expect(snapshotAct(scrubbed('lost'))).toMatchObject({ act: 'copy', state: 'copying', again: true });
    expect(snapshotAct({ ...scrubbed('lost'), lost: mostLost })).toMatchObject({
      act: 'remove',
      fails: { code: 'scrub_unknown' },
    });
  });

  it('waits for a server, and gives up in the end', () => {
    let [state, tries] = ['copying' as SnapshotFacts['state'], 0];
    let steps = 0;
    while (state === 'copying') {
      const step = snapshotDone(facts({ state, tries }), 'copy', away);
      ({ state, tries } = step);
      steps += 1;
    }
    expect([state, steps]).toEqual(['removing', mostTries]);
    expect(snapshotDone(facts({ state: 'settling' }), 'settle', refused)).toMatchObject({
      state: 'removing',
      issue: { code: 'database_refused' },
    });
    // What stands with one that is tried again is no reason yet.
    expect(failedWith('copying', issue('database_away', { detail: '' }))).toBeNull();
  });

  it('comes to an end in every world, and is never ready without a scrub that has passed', () => {
    const outcome = fc.constantFrom<Outcome>({ done: true }, away, refused);
    const scrub = fc.constantFrom<AttemptState>('passed', 'passed', 'failed', 'lost', 'stopped');
    fc.assert(
      fc.property(
        fc.array(fc.record({ outcome, scrub, wanted: fc.boolean() }), { minLength: 1, maxLength: 60 }),
        (moves) => {
          let now = facts({});
          let passed = false;
          for (const move of [
            ...moves,
            ...Array(60).fill({ outcome: { done: true }, scrub: 'passed', wanted: false }),
          ]) {
            now = { ...now, wanted: now.wanted && move.wanted };
            const next = snapshotAct(now);
            if (!next) {
              if (now.state === 'scrubbing' && now.scrub) now = { ...now, scrub: { state: move.scrub, why: '' } };
              continue;
            }
            if (next.again) now = { ...now, lost: now.lost + 1, scrub: null };
            if (next.act === 'copy') passed = false;
            if (next.act === 'settle') passed = now.scrub?.state === 'passed';
            now = { ...now, state: next.state, issue: next.fails ?? failedWith(now.state, now.issue) };
            const step = snapshotDone(now, next.act, move.outcome);
            if (next.act === 'scrub' && move.outcome.done) now = { ...now, scrub: { state: 'running', why: '' } };
            now = { ...now, state: step.state, issue: step.issue, tries: step.tries };
            if (now.state === 'ready') expect(passed).toBe(true);
          }
          expect(['removed', 'failed']).toContain(now.state);
          expect(now.state === 'failed').toBe(now.issue !== null);
        },
      ),
      { numRuns: 2_000 },
    );
  });
});

describe('which snapshot a review gets', () => {
  const hour = 3_600_000;
  const now = 1_000 * hour;
  const known = (change: Partial<Known>): Known => ({
    id: 'a',
    state: 'ready',
    issue: null,
    of: now - hour,
    ended: null,
    deployment: 'd1',
    ...change,
  });
  const choose = (list: Known[], live: string | null = 'd1') => chooseSnapshot(list, { now, freshMs: 24 * hour, live });
  const failed = (ago: number, deployment = 'd1') =>
    known({
      id: 'f',
      state: 'failed',
      issue: issue('scrub_failed', { detail: 'no' }),
      of: null,
      ended: now - ago,
      deployment,
    });

  it('is one that is fresh; half its time over, another is asked for beside it', () => {
    expect(choose([])).toEqual({ ask: true });
    expect(choose([known({})])).toEqual({ use: 'a', late: null, ask: false });
    expect(choose([known({ of: now - 13 * hour })])).toEqual({ use: 'a', late: null, ask: true });
    expect(choose([known({ of: now - 13 * hour }), known({ id: 'b', state: 'scrubbing' })])).toEqual({
      use: 'a',
      late: null,
      ask: false,
    });
    expect(choose([known({ of: now - 25 * hour })])).toEqual({ ask: true });
    expect(choose([known({ of: now - 3 * hour }), known({ id: 'b' })])).toMatchObject({ use: 'b' });
  });
  it('is waited for while it is made', () => {
    for (const state of ['asked', 'copying', 'scrubbing', 'settling'] as const)
      expect(choose([known({ id: 'b', state, of: null })])).toEqual({ wait: 'b' });
    expect(choose([known({ state: 'removing' }), known({ state: 'removed' })])).toEqual({ ask: true });
  });
  it('that failed is not tried again at once, but with other code; an older one is used then, and that is said', () => {
    expect(choose([failed(60_000)])).toMatchObject({ none: { code: 'scrub_failed' } });
    expect(choose([failed(60_000)], 'd2')).toEqual({ ask: true });
    expect(choose([failed(failedForMs + 1)])).toEqual({ ask: true });
    expect(choose([failed(60_000), known({ of: now - 30 * hour })])).toMatchObject({
      use: 'a',
      late: { code: 'scrub_failed' },
      ask: false,
    });
    // One on its way out says why already.
    expect(choose([{ ...failed(0), state: 'removing', ended: null }])).toMatchObject({
      none: { code: 'scrub_failed' },
    });
  });
});

describe('what a definition says of copies', () => {
  const text = (review: string, staging: string, kind = 'postgres') => `tsunagi: 1
release:
  parts: { api: { kind: server, start: node a.js }, page: { kind: site, root: web, at: /page } }
  resources: { timetable: { kind: ${kind}${kind === 'volume' ? ', size: 1G' : ''} } }
environments:
  review: { for: pull requests, ${review} }
  staging: { branch: main${staging} }
`;
  const scrub = ', scrub: { part: api, run: node scrub.js }';
  const codes = (...args: Parameters<typeof text>) => parseDefinition(text(...args)).issues.map((one) => one.code);

  it('is a copy of an environment that stays, with how old it may be', () => {
    const { definition, issues } = parseDefinition(text('data: { timetable: { copy: staging, fresh: 6h } }', scrub));
    expect(issues).toEqual([]);
    expect(definition?.environments.review?.data).toEqual({ timetable: { copy: 'staging', freshMs: 6 * 3_600_000 } });
    expect(definition?.environments.staging?.scrub).toEqual({ part: 'api', run: 'node scrub.js' });
    const short = parseDefinition(text('data: { timetable: { copy: staging } }', scrub)).definition;
    expect(short?.environments.review?.data?.timetable?.freshMs).toBe(86_400_000);
    const empty = parseDefinition(text('data: { timetable: empty }', scrub));
    expect([empty.issues, empty.definition?.environments.review?.data]).toEqual([[], undefined]);
  });
  it('is wrong in words, where it can’t be', () => {
    expect(codes('data: { timetable: { copy: staging } }', '')).toEqual(['copy_without_scrub']);
    expect(codes('data: { timetable: { copy: review } }', scrub)).toEqual(['copy_of_review']);
    expect(codes('data: { timetable: { copy: stagin } }', scrub)).toEqual(['unknown_environment']);
    expect(codes('data: { timetables: { copy: staging } }', scrub)).toEqual(['unknown_resource']);
    // Volumes are copied, too.
    expect(codes('data: { timetable: { copy: staging } }', scrub, 'volume')).toEqual([]);
    expect(codes('data: { timetable: full }', scrub)).toHaveLength(1);
    expect(codes('drafts: true', ', scrub: { part: page, run: "true" }')).toEqual(['key_not_for']);
    expect(codes('drafts: true', ', scrub: { part: apis, run: "true" }')).toEqual(['unknown_part']);
    expect(codes('drafts: true', ', data: { timetable: { copy: staging } }')).toContain('key_not_for');
    expect(codes('scrub: { part: api, run: "true" }', '')).toEqual(['key_not_for']);
  });
});
