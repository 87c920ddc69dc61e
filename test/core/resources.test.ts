import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { backupDone, needless, nextOf } from '../../src/core/advance/backups.js';
import {
  mostTries,
  type Outcome,
  type ResourceFacts,
  resourceAct,
  resourceDone,
} from '../../src/core/advance/resources.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { issue } from '../../src/core/errors/errors.js';
import { resourceVariables } from '../../src/core/variables/resolve.js';

const away: Outcome = { done: false, again: true, issue: issue('database_away', { detail: 'nobody there' }) };
const refused: Outcome = { done: false, again: false, issue: issue('database_refused', { detail: 'no' }) };
const done: Outcome = { done: true };
const facts = (change: Partial<ResourceFacts>): ResourceFacts => ({
  state: 'asked',
  wanted: true,
  tries: 0,
  logins: 0,
  access: false,
  restore: false,
  waits: false,
  ...change,
});

describe('a resource', () => {
  it('is made, opened, and removed', () => {
    expect(resourceAct(facts({}))).toEqual({ act: 'make', state: 'making' });
    expect(resourceDone(facts({ state: 'making' }), 'make', done)).toMatchObject({ state: 'ready', againMs: null });
    expect(resourceAct(facts({ state: 'ready' }))).toBeNull();
    expect(resourceAct(facts({ state: 'ready', logins: 2 }))).toEqual({ act: 'logins', state: 'ready' });
    expect(resourceAct(facts({ state: 'ready', access: true }))).toEqual({ act: 'access', state: 'ready' });
    expect(resourceDone(facts({ state: 'ready', access: true }), 'access', away)).toMatchObject({ state: 'ready' });
    expect(resourceAct(facts({ state: 'ready', wanted: false }))).toEqual({ act: 'remove', state: 'removing' });
    expect(resourceDone(facts({ state: 'removing', wanted: false }), 'remove', done).state).toBe('removed');
    expect(resourceAct(facts({ state: 'removed', wanted: false, logins: 1 }))).toBeNull();
  });
  it('waits for a server that is away, longer each time, and fails in the end', () => {
    const pauses: number[] = [];
    let [state, tries] = ['making' as ResourceFacts['state'], 0];
    while (state === 'making') {
      const step = resourceDone(facts({ state, tries }), 'make', away);
      ({ state, tries } = step);
      if (step.againMs !== null) pauses.push(step.againMs);
    }
    expect(state).toBe('failed');
    expect(pauses).toHaveLength(mostTries - 1);
    expect(pauses).toEqual([...pauses].sort((a, b) => a - b));
  });
  it('fails at once where it is refused, and is asked for again by a deployment alone', () => {
    expect(resourceDone(facts({ state: 'making' }), 'make', refused)).toMatchObject({ state: 'failed', againMs: null });
    expect(resourceAct(facts({ state: 'failed' }))).toBeNull();
    expect(resourceAct(facts({ state: 'failed', wanted: false }))).toEqual({ act: 'remove', state: 'removing' });
  });
  it('keeps what was there when a backup could not be restored', () => {
    const step = resourceDone(facts({ state: 'making', restore: true }), 'restore', refused);
    expect(step).toMatchObject({ state: 'ready', issue: { code: 'database_refused' } });
  });

  const states = fc.constantFrom('asked', 'making', 'ready', 'removing', 'removed', 'failed');
  const anyFacts = fc.record({
    state: states,
    wanted: fc.boolean(),
    tries: fc.nat(20),
    logins: fc.nat(3),
    access: fc.boolean(),
    restore: fc.boolean(),
  }) as fc.Arbitrary<ResourceFacts>;
  it('that is wanted no longer is removed, whatever happens on the way', () => {
    fc.assert(
      fc.property(anyFacts, fc.array(fc.constantFrom(done, away, refused), { maxLength: 30 }), (start, outcomes) => {
        let now: ResourceFacts = { ...start, wanted: false };
        for (const outcome of [...outcomes, done, done]) {
          const next = resourceAct(now);
          if (!next) break;
          expect(next.act).toBe('remove');
          const step = resourceDone({ ...now, state: next.state }, next.act, outcome);
          // Nothing is given up while something is left behind.
          if (!outcome.done) expect([step.state, step.againMs === null]).toEqual(['removing', false]);
          now = { ...now, state: step.state, tries: step.tries };
        }
        expect(now.state).toBe('removed');
      }),
    );
  });
  it('never rests where something is to be done, and says why it waits', () => {
    fc.assert(
      fc.property(anyFacts, fc.constantFrom(done, away, refused), (start, outcome) => {
        const next = resourceAct(start);
        if (!next) return;
        const step = resourceDone({ ...start, state: next.state }, next.act, outcome);
        if (!outcome.done) expect(step.issue).not.toBeNull();
        // In a state that passes it is looked at again.
        if (step.state === 'making' || step.state === 'removing') expect(step.againMs).toBeGreaterThan(0);
        // What programs run with is not taken from them by what failed.
        if (start.state === 'ready' && next.act === 'logins') expect(step.state).toBe('ready');
      }),
    );
  });
});

describe('backups', () => {
  it('are tried again, and fail in the end', () => {
    expect(backupDone(0, done)).toMatchObject({ state: 'kept' });
    expect(backupDone(0, away)).toMatchObject({ state: 'making', tries: 1 });
    expect(backupDone(mostTries - 1, away)).toMatchObject({ state: 'failed', againMs: null });
    expect(backupDone(0, refused)).toMatchObject({ state: 'failed' });
  });
  it('of a plan come at once first, then after their time, never in the past', () => {
    expect(nextOf(1_000, null, 5_000)).toBe(5_000);
    expect(nextOf(1_000, 4_500, 5_000)).toBe(5_500);
    expect(nextOf(1_000, 1_000, 5_000)).toBe(5_000);
  });
  it('of a plan give way to newer ones; what a person asked for stays', () => {
    const kept = [5, 4, 3, 2, 1].map((number) => ({ number, planned: number !== 3 }));
    expect(needless(kept, 2).map((one) => one.number)).toEqual([2, 1]);
  });
});

const release = (rest: string) => `tsunagi: 1
release:
  parts:
    api: { kind: server, start: node api.js }
${rest}`;
const codes = (text: string) => parseDefinition(text).issues.map((one) => `${one.line} ${one.code}`);

describe('resources in a definition', () => {
  it('are read with their plans, and referred to', () => {
    const { definition } = parseDefinition(
      release(`  resources:
    timetable: { kind: postgres, extensions: [pg_trgm], backup: { every: 1d, keep: 3, try: 7d } }
    plain: { kind: postgres }
  variables:
    DATABASE_URL: { from: timetable.url, append: "?sslmode=disable" }
    DATABASE_HOST: { from: plain.host }
  prepare: { part: api, run: node migrate.js, again: safe }
  migrations: { files: [src/migrations/] }
`),
    );
    expect(definition?.release).toMatchObject({
      resources: {
        timetable: {
          kind: 'postgres',
          extensions: ['pg_trgm'],
          backup: { everyMs: 86_400_000, keep: 3, tryMs: 604_800_000 },
        },
        plain: { extensions: [], backup: null },
      },
      prepare: { again: true },
      migrations: ['src/migrations/'],
    });
    const wired = resourceVariables(definition?.release?.variables ?? {}, {
      timetable: { url: 'postgres://u:p@timetable:1/d' },
    });
    expect(wired).toEqual({
      values: { DATABASE_URL: 'postgres://u:p@timetable:1/d?sslmode=disable' },
      secret: ['DATABASE_URL'],
      missing: ['plain'],
    });
  });
  it('share their names with parts, and know their fields', () => {
    expect(codes(release('  resources: { api: { kind: postgres } }\n'))).toEqual(['5 name_twice']);
    expect(codes(release('  resources: { localhost: { kind: postgres } }\n'))).toHaveLength(1);
    expect(codes(release('  resources: { db: { kind: postgres } }\n  variables: { A: { from: db.urls } }\n'))).toEqual([
      '6 unknown_reference',
    ]);
    expect(codes(release('  resources: { db: { kind: kv } }\n'))).toHaveLength(1);
    expect(codes(release('  resources: { db: { kind: postgres, backup: { keep: 3 } } }\n'))).toEqual([
      '5 required_key',
    ]);
  });
  it('are shown by no settings file', () => {
    const text = `tsunagi: 1
release:
  parts:
    page: { kind: site, root: web, settings: { at: /settings.json, names: [URL] } }
  resources: { db: { kind: postgres } }
  variables: { URL: { from: db.host } }
`;
    expect(codes(text)).toEqual(['4 settings_secret']);
  });
});
