import { execFile } from 'node:child_process';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { openKeys, sealHash } from '../../src/keys/keys.js';
import { type Db, openRecords, query, queryOne, type Records } from '../../src/records/database.js';
import { checkSeals, listEvents, numberEvents, recordEvents, sealEvents } from '../../src/records/events.js';
import { migrate, migrations } from '../../src/records/migrate.js';
import { failedRun, findPasses } from '../../src/records/runs/results.js';
import {
  findRun,
  nextDue,
  runById,
  runsServedBy,
  startRun,
  stopWork,
  takeDue,
  tasksOf,
} from '../../src/records/runs/runs.js';
import { forgiveSilence, registerAgent } from '../../src/records/callers/agents.js';
import {
  acknowledge,
  listEdges,
  putProofs,
  putRoute,
  routeBody,
  routesAfter,
} from '../../src/records/callers/edges.js';
import {
  addAttempts,
  attemptById,
  attemptsOfRun,
  beginServed,
  claimAttempts,
  heldAttempts,
  lockHeld,
  orphanAttempts,
  strayAttempts,
} from '../../src/records/runs/attempts.js';
import { presentConditions } from '../../src/records/deliveries/conditions.js';
import { readRunState } from '../../src/records/runs/steps.js';
import { epochOf, settleEpoch } from '../../src/records/installation.js';
import { newId } from '../../src/records/ids.js';
import { appendLog, makeLogPartitions, readLog, tailStart } from '../../src/records/runs/logs.js';
import { findEnvironment, type EnvironmentRow, makeEnvironment } from '../../src/records/deployments/environments.js';
import { putOff } from '../../src/records/held.js';
import { addBackup } from '../../src/records/resources/backups.js';
import {
  askResources,
  askRestore,
  beginResource,
  resourceById,
  type ResourceRow,
  resourcesOf,
  settleResource,
  takeResource,
} from '../../src/records/resources/resources.js';
import { addToken } from '../../src/records/callers/people.js';
import { definitionOf } from '../../src/records/projects/projects.js';
import { forgetOld } from '../../src/records/views/forget.js';
import { forgetRelease, keepRelease, lockRelease, releasesToForget } from '../../src/records/views/space.js';
import { type Cluster, openCluster, recordProject, recordRun } from './cluster.js';
import { until } from './world.js';

let cluster: Cluster;
let folder: string;
let records: Records;
let openNamed: (name: string) => Promise<string>;
let other: Records;
beforeAll(async () => {
  cluster = await openCluster(2);
  ({ records, folder, openNamed } = cluster);
  other = openRecords({ url: cluster.url });
});
afterAll(async () => {
  await other?.close();
  await cluster?.close();
});

const event = (subject: string) => ({ type: 'run.ended' as const, project: null, subject, actor: 'test' });

describe('events', () => {
  it('are numbered only when no older transaction is open, in the order of the transactions', async () => {
    let release = () => {};
    const held = new Promise<void>((resolve) => {
      release = resolve;
    });
    let begun = () => {};
    const inside = new Promise<void>((resolve) => {
      begun = resolve;
    });
    const slow = records.transition('slow', async (db) => {
      await recordEvents(db, event('first to begin'));
      // It has written something, as whatever is told of has.
      await query(db, 'select pg_current_xact_id()');
      begun();
      await held;
    });
    await inside;
    await other.transition('fast', (db) => recordEvents(db, event('first to commit')));
    const number = async () => (await other.transition('feed', (db) => numberEvents(db))).numbered;
    expect(await number()).toBe(0);
    release();
    await slow;
    await until('both are numbered', async () => (await number()) === 2);
    const found = await listEvents(records, { limit: 10, newestFirst: false });
    expect(found.map((one) => [one.number, one.subject])).toEqual([
      ['1', 'first to begin'],
      ['2', 'first to commit'],
    ]);
  });

  it('get each number once, whoever numbers', async () => {
    await Promise.all(
      Array.from({ length: 30 }, (_, at) =>
        (at % 2 ? records : other).transition('one', (db) => recordEvents(db, event(`e${at}`))),
      ),
    );
    await until('all are numbered', async () => {
      await Promise.all([records, other].map((one) => one.transition('feed', (db) => numberEvents(db))));
      return (await listEvents(records, { limit: 100, newestFirst: false })).length === 32;
    });
    expect((await listEvents(records, { limit: 100, newestFirst: false })).map((one) => Number(one.number))).toEqual(
      Array.from({ length: 32 }, (_, at) => at + 1),
    );
  });

  it('are sealed so that a change shows', async () => {
    const keys = openKeys(join(folder, 'keys'));
    const seal = () => records.transition('seal', (db) => sealEvents(db, sealHash, (hash) => keys.sign(hash)));
    expect(await seal()).toMatchObject({ first: '1', last: '32' });
    expect(await seal()).toBeNull();
    const check = () => checkSeals(records, sealHash, (hash, signature) => keys.verify(hash, signature));
    expect(await check()).toEqual({ seals: 1, upTo: '32', wrong: null });
    await query(records, `update events set actor = 'someone else' where number = 7`);
    expect(await check()).toEqual({ seals: 0, upTo: '0', wrong: { first: '1', last: '32' } });
    await query(records, `update events set actor = 'test' where number = 7`);
    await records.transition('one', (db) => recordEvents(db, event('later')));
    await until(
      'it is numbered',
      async () => (await records.transition('feed', (db) => numberEvents(db))).numbered > 0,
    );
    await seal();
    expect(await check()).toEqual({ seals: 2, upTo: '33', wrong: null });
    await query(records, 'update seals set signature = $1 where last_number = 33', [Buffer.alloc(64)]);
    expect(await check()).toEqual({ seals: 1, upTo: '32', wrong: { first: '33', last: '33' } });
    expect(openKeys(join(folder, 'keys')).verify(Buffer.from('x'), keys.sign(Buffer.from('x')))).toBe(true);
    expect(keys.decrypt(keys.encrypt('price é', 'here'), 'here')).toBe('price é');
  });
});

describe('work', () => {
  let project: string;
  let agent: string;
  const register = async (name: string, boot = newId()) => {
    const token = await addToken(
      records,
      { hash: Buffer.from(name), kind: 'agent', name, person: null, role: null, project: null, expires: null },
      'test',
    ).catch(async () => ({
      id: (await queryOne<{ id: string }>(records, 'select id from tokens where name = $1', [name]))?.id as string,
    }));
    return (
      await registerAgent(
        records,
        {
          token: token.id,
          name,
          boot,
          takes: ['runs'],
          slots: 2,
          address: '127.0.0.1',
          ports: { from: 20_000, to: 20_099 },
          tools: {},
          base: 'b',
          sandbox: {},
        },
        1_000,
      )
    )?.id as string;
  };
  beforeAll(async () => {
    project = (await recordProject(records, 'lane')).id;
    agent = await register('one');
  });
  const waiting = async () =>
    (
      await addAttempts(records, [
        {
          kind: 'task',
          task: null,
          deployment: null,
          project,
          number: 1,
          needs: { takes: 'runs', base: 'b' },
          priority: 2,
        },
      ])
    )[0];

  it('is claimed once, by agents that fit, with a fence that refuses who lost it', async () => {
    const ids = await Promise.all(Array.from({ length: 12 }, waiting));
    const agents = [agent, await register('two'), await register('three'), await register('four')];
    const ask = (id: string, slots = 3) => claimAttempts(id === agent ? records : other, id, slots, 1_000);
    const claims = (await Promise.all(agents.map((id) => ask(id)))).flat();
    expect(claims.map((one) => one.id).sort()).toEqual([...ids].sort());
    expect(new Set(claims.map((one) => one.fence)).size).toBe(12);
    await waiting();
    expect(await ask(agent)).toEqual([]);
    expect(await ask(agent, 0)).toEqual([]);
    for (const change of [`takes = '{live}'`, `base = 'other'`, `full_issue = '{}'`]) {
      await records.transition('changed', async (db) => {
        await query(db, `update agents set ${change} where id = $1`, [agent]);
        expect([change, await claimAttempts(db, agent, 9, 1_000)]).toEqual([change, []]);
        await query(db, `update agents set takes = '{runs}', base = 'b', full_issue = null where id = $1`, [agent]);
      });
    }
    const one = claims[0] as (typeof claims)[number];
    await expect(lockHeld(records, one.id, one.agent_id as string, '999999')).rejects.toMatchObject({
      issue: { code: 'fence_old' },
    });
    expect((await lockHeld(records, one.id, one.agent_id as string, one.fence as string)).id).toBe(one.id);
  });

  it('keeps its log by position: a repeat is harmless, a gap is refused', async () => {
    const [one] = await claimAttempts(records, agent, 4, 1_000);
    const stream = { table: 'attempts' as const, id: one?.id as string, agent, fence: one?.fence as string };
    await makeLogPartitions(records, new Date());
    const append = (position: number, text: string) =>
      records.transition('log', (db) => appendLog(db, stream, position, 0, Buffer.from(text)));
    expect(await append(0, 'one\ntwo\n')).toBe(8);
    expect(await append(0, 'one\ntwo\n')).toBe(8);
    expect(await append(4, 'two\nthree\n')).toBe(14);
    await expect(append(99, 'x')).rejects.toMatchObject({ issue: { code: 'offset_wrong', data: { offset: 14 } } });
    const chunks = await readLog(records, stream.id, 0, 10);
    expect(chunks.map((chunk) => [chunk.position, chunk.firstLine, chunk.bytes.toString()])).toEqual([
      [0, 0, 'one\ntwo\n'],
      [8, 2, 'three\n'],
    ]);
    expect((await readLog(records, stream.id, 4, 10))[0]).toMatchObject({ position: 4, firstLine: 1 });
    expect(await tailStart(records, stream.id, 3)).toBe(8);
  });

  it('forgives silence after a pause', async () => {
    await query(records, `update agents set lease_until = now() - interval '1 hour'`);
    await forgiveSilence(records, 5_000);
    expect(await query(records, 'select 1 from agents where lease_until < now()')).toEqual([]);
  });

  it('gives edges what is newer than they have, and tells of what is gone', async () => {
    const environment = newId();
    await query(
      records,
      `insert into environments (id, project_id, name, kind, plan_name, host) values ($1, $2, 'staging', 'standing', 'staging', 'h')`,
      [environment, project],
    );
    const first = await records.transition('route', (db) => putRoute(db, 'h', environment, { a: 1 }));
    expect(await routesAfter(records, 0)).toEqual([{ host: 'h', body: { a: 1 }, proofs: {}, version: first }]);
    const second = await records.transition('route', (db) => putRoute(db, 'h', environment, null));
    expect(await routesAfter(records, first)).toEqual([{ host: 'h', body: null, proofs: {}, version: second }]);
    expect(await routesAfter(records, second)).toEqual([]);
    // What an authority asks for comes beside what a host leads to, and goes again.
    const third = await records.transition('proof', (db) => putProofs(db, 'h', environment, { t: 'x' }));
    expect(await routesAfter(records, second)).toEqual([{ host: 'h', body: null, proofs: { t: 'x' }, version: third }]);
    const token = await addToken(
      records,
      { hash: Buffer.from('e'), kind: 'edge', name: 'e', person: null, role: null, project: null, expires: null },
      'test',
    );
    expect(await acknowledge(records, token.id, 'outlet', second)).toMatchObject({ acknowledged: second });
    // The name belongs to that token, until it is removed.
    const other = await addToken(
      records,
      { hash: Buffer.from('f'), kind: 'edge', name: 'e', person: null, role: null, project: null, expires: null },
      'test',
    );
    expect(await acknowledge(records, other.id, 'outlet', second)).toBeNull();
    await query(records, 'update tokens set removed_at = now() where id = $1', [token.id]);
    expect(
      await acknowledge(records, other.id, 'outlet', second, { h: { version: second, issue: null } }),
    ).toMatchObject({
      without: { h: { version: second } },
    });
    // One that is unreachable is a condition, with the command that lets replaced servers end.
    const found = async () => (await presentConditions(records)).filter((one) => one.topic === 'edge-unreachable');
    expect(await found()).toEqual([]);
    await query(records, `update edges set seen_at = now() - interval '1 minute' where name = 'outlet'`);
    expect(await found()).toMatchObject([
      { place: 'outlet', says: expect.stringContaining(`\`tsunagi token remove ${other.id}\``) },
    ]);
    await query(records, 'update tokens set removed_at = now() where id = $1', [other.id]);
    expect(await found()).toEqual([]);
  });
});

describe('what is asked at each step of a run', () => {
  it('finds its rows by an index, however many there are', async () => {
    // One connection, so that the settings and the counts of scans are those of what is asked. Without sequential scans where there is
    // another way, one that is left has no index.
    const one = openRecords({ url: cluster.url, pool: 1 });
    const large = ['attempts', 'commands', 'events', 'log_chunks', 'results', 'runs', 'tasks'];
    try {
      const project = await recordProject(records, 'many-tasks');
      const { id: run, number } = await recordRun(records, project.id);
      const [agent, attempt] = [newId(), newId()];
      const hot: Record<string, (db: Db) => Promise<unknown>> = {
        'a run whole': (db) => readRunState(db, run),
        'a run by its number': (db) => findRun(db, project.id, number),
        'its attempts': (db) => attemptsOfRun(db, run),
        'an attempt': (db) => attemptById(db, attempt),
        'runs that an attempt works for': (db) => runsServedBy(db, [attempt], run, true),
        'the begin of an attempt': (db) => beginServed(db, [attempt]),
        'a claim': (db) => claimAttempts(db, agent, 4, 1_000),
        'what an agent holds': (db) => heldAttempts(db, agent),
        'what no agent holds any more': (db) => strayAttempts(db),
        'what no agent will take': (db) => orphanAttempts(db, 1_000),
        'passes with the same inputs': (db) => findPasses(db, project.id, 'own', ['f']),
        'a failure with the same inputs': (db) => failedRun(db, project.id, 'own', 'f'),
        'a run that is due': (db) => takeDue(db, 'runs', 1_000),
        'the next run that is due': (db) => nextDue(db, 'runs'),
        'a stop': (db) => stopWork(db, run),
        'what is wrong': (db) => presentConditions(db),
      };
      // Of this very transaction: other connections scan what they like.
      const scansOf = (ask: (db: Db) => Promise<unknown>): Promise<string[]> =>
        one.transition('hot', async (db) => {
          await query(db, 'set local enable_seqscan = off');
          await ask(db);
          const rows = await query<{ name: string }>(
            db,
            'select relname as name from pg_stat_xact_user_tables where relname = any($1::text[]) and seq_scan > 0 order by 1',
            [large],
          );
          return rows.map(({ name }) => name);
        });
      const scanning: Record<string, string[]> = {};
      for (const [what, ask] of Object.entries(hot)) {
        const found = await scansOf(ask);
        if (found.length) scanning[what] = found;
      }
      expect(scanning).toEqual({});
      // The count does see a scan.
      expect(await scansOf((db) => query(db, 'select count(*) from tasks where flaky'))).toEqual(['tasks']);
    } finally {
      await one.close();
    }
  });
});

describe('bytes of a release', () => {
  it('stay where a deployment of it is made meanwhile, and no deployment is made of it once they go', async () => {
    const other = openRecords({ url: cluster.url });
    try {
      const project = await recordProject(records, 'kept-bytes');
      const [first, second, environment] = [newId(), newId(), newId()];
      for (const [at, id] of [first, second].entries()) {
        const run = await recordRun(records, project.id);
        await query(
          records,
          `insert into releases (id, project_id, number, digest, commit, run_id, parts, plan) values ($1, $2, $3, 'd', 'c', $4, '[]', '{}')`,
          [id, project.id, at + 1, run.id],
        );
      }
      await query(records, 'update projects set releases = 9 where id = $1', [project.id]);
      await query(
        records,
        `insert into environments (id, project_id, name, kind, plan_name, host) values ($1, $2, 'staging', 'standing', 'staging', 'kept.localhost')`,
        [environment, project.id],
      );
      const found = (db: Db, id: string | null) => releasesToForget(db, 1, 20, 50, id);
      expect((await found(records, null)).map(({ id }) => id)).toEqual(expect.arrayContaining([first, second]));
      // The sweep has found it; then a deployment of it is asked for.
      let commit = () => {};
      let begun = () => {};
      const isBegun = new Promise<void>((resolve) => {
        begun = resolve;
      });
      const asking = records.transition('asked', async (db) => {
        expect(await keepRelease(db, first)).toBe(true);
        await query(
          db,
          `insert into deployments (id, project_id, number, environment_id, release_id, kind, actor, environment_plan, variables) values ($1, $2, 1, $3, $4, 'deploy', 'test', '{}', '{}')`,
          [newId(), project.id, environment, first],
        );
        begun();
        await new Promise<void>((resolve) => {
          commit = resolve;
        });
      });
      await isBegun;
      const sweeping = other.transition('swept', async (db) => {
        await lockRelease(db, first);
        return found(db, first);
      });
      await until('the sweep waits', async () =>
        (await query(records, 'select 1 from pg_locks where not granted')).length > 0 ? true : null,
      );
      commit();
      expect(await sweeping).toEqual([]);
      await asking;
      // The other way round: the bytes go, and who asks meanwhile is refused.
      let kept: Promise<boolean> | null = null;
      await other.transition('swept', async (db) => {
        await lockRelease(db, second);
        expect(await found(db, second)).toHaveLength(1);
        kept = records.transition('asked', (asks) => keepRelease(asks, second));
        await forgetRelease(db, second);
      });
      expect(await kept).toBe(false);
    } finally {
      await other.close();
    }
  });
});

describe('what grows with each push', () => {
  it('is forgotten when only old runs have it: definitions, events of code hosts, pushes', async () => {
    const project = await recordProject(records, 'forgotten');
    for (const [commit, trimmed] of [
      ['kept', false],
      ['old', true],
      ['declared', true],
      ['released', true],
    ] as const) {
      const run = await recordRun(records, project.id);
      await query(records, `update runs set commit = $2, trimmed_at = case when $3 then now() end where id = $1`, [
        run.id,
        commit,
        trimmed,
      ]);
      await query(records, `insert into definitions (project_id, commit, model) values ($1, $2, '{}')`, [
        project.id,
        commit,
      ]);
      if (commit === 'released')
        await query(
          records,
          `insert into releases (id, project_id, number, digest, commit, run_id, parts, plan) values ($1, $2, 1, 'd', $3, $4, '[]', '{}')`,
          [newId(), project.id, commit, run.id],
        );
    }
    await query(records, `update projects set definition_commit = 'declared' where id = $1`, [project.id]);
    for (const [event, days, due] of [
      ['old', 31, null],
      ['waits', 31, 'now'],
      ['new', 29, null],
    ] as const)
      await query(
        records,
        `insert into intake (project_id, source, event_id, type, body, state, at, due_at)
         values ($1, 'host', $2, 't', '{}', 'done', now() - $3 * interval '1 day', $4::timestamptz)`,
        [project.id, event, days, due],
      );
    for (const [state, days] of [
      ['recorded', 91],
      ['intended', 91],
      ['recorded', 89],
    ] as const)
      await query(
        records,
        `insert into pushes (id, project_id, branch, state, actor, at) values ($1, $2, 'main', $3, 'a', now() - $4 * interval '1 day')`,
        [newId(), project.id, state, days],
      );
    while ((await forgetOld(records)) > 0);
    const left = async (sql: string) =>
      (await query<{ one: string }>(records, sql, [project.id])).map(({ one }) => one);
    expect(await left('select commit as one from definitions where project_id = $1 order by 1')).toEqual([
      'declared',
      'kept',
      'released',
    ]);
    expect(await left('select event_id as one from intake where project_id = $1 order by 1')).toEqual(['new', 'waits']);
    expect(await left('select state as one from pushes where project_id = $1 order by 1')).toEqual([
      'intended',
      'recorded',
    ]);
    await query(records, 'delete from intake');
  });

  it('a review that stays on an old release keeps that one, not all that came after it', async () => {
    const project = await recordProject(records, 'old-review');
    const releases: string[] = [];
    for (let number = 1; number <= 6; number++) {
      const [id, run] = [newId(), await recordRun(records, project.id)];
      releases.push(id);
      await query(
        records,
        `insert into releases (id, project_id, number, digest, commit, run_id, parts, plan) values ($1, $2, $3, 'd', 'c', $4, '[]', '{}')`,
        [id, project.id, number, run.id],
      );
    }
    await query(records, 'update projects set releases = 6 where id = $1', [project.id]);
    const live = async (name: string, kind: string, number: number) => {
      const [environment, deployment] = [newId(), newId()];
      await query(
        records,
        `insert into environments (id, project_id, name, kind, plan_name, host) values ($1, $2, $3, $4, $3, $3 || '.old-review')`,
        [environment, project.id, name, kind],
      );
      await query(
        records,
        `insert into deployments (id, project_id, number, environment_id, release_id, kind, actor, state, environment_plan, variables)
         values ($1, $2, $3, $4, $5, 'deploy', 'test', 'live', '{}', '{}')`,
        [deployment, project.id, number, environment, releases[number - 1]],
      );
      await query(records, 'update environments set live_id = $2 where id = $1', [environment, deployment]);
    };
    await live('on-old', 'review', 2);
    await live('staging', 'standing', 5);
    const gone = await releasesToForget(records, 1, 0, 50);
    // r5 is live, r6 may still go live, r2 is the review's own.
    expect(gone.filter((one) => one.project_id === project.id).map(({ number }) => number)).toEqual([1, 3, 4]);
  });
});

describe('the epoch of the records', () => {
  it('stays through starts, and is another one after a restore, also where one dump is restored twice', async () => {
    const url = await openNamed('before-restore');
    const before = openRecords({ url });
    const all = [before];
    try {
      await migrate(before);
      const { epoch } = await settleEpoch(before);
      expect(await settleEpoch(before)).toEqual({ epoch, restored: false });
      const token = await addToken(
        before,
        { hash: Buffer.from('g'), kind: 'edge', name: 'e', person: null, role: null, project: null, expires: null },
        'test',
      );
      await acknowledge(before, token.id, 'outlet', 150);
      const epochs = new Set([epoch]);
      for (const name of ['restored-once', 'restored-twice']) {
        const to = await openNamed(name);
        const { stdout } = await promisify(execFile)('pg_dump', [url], { maxBuffer: 64 * 1024 * 1024 });
        const filled = promisify(execFile)('psql', ['-qX', '-v', 'ON_ERROR_STOP=1', to]);
        filled.child.stdin?.end(stdout);
        await filled;
        const [restored, other] = [openRecords({ url: to }), openRecords({ url: to })];
        all.push(restored, other);
        await migrate(restored);
        // Two services that begin at once find one new epoch, and one of them says so.
        const settled = await Promise.all(
          [restored, other].map((one) => one.transition('settled', (db) => settleEpoch(db))),
        );
        const found = settled[0] as { epoch: string };
        expect(settled.map((one) => one.epoch)).toEqual([found.epoch, found.epoch]);
        expect(settled.filter((one) => one.restored)).toHaveLength(1);
        epochs.add(found.epoch);
        expect(await epochOf(restored)).toBe(found.epoch);
        // No edge has any of this table, whatever it had of the one before.
        expect((await listEdges(restored)).map((one) => one.acknowledged)).toEqual([0]);
        expect(await settleEpoch(restored)).toEqual({ epoch: found.epoch, restored: false });
      }
      expect(epochs.size).toBe(3);
    } finally {
      await Promise.all(all.map((one) => one.close()));
    }
  });
});

describe('migrations', () => {
  it('keep no reader waiting behind a table that is in use, and go on when it is free', async () => {
    const url = await openNamed('busy');
    const [older, reader] = [openRecords({ url }), openRecords({ url })];
    try {
      await migrate(older, '034-shared-ends');
      let free = () => {};
      let held = () => {};
      const isHeld = new Promise<void>((resolve) => {
        held = resolve;
      });
      const long = reader.transition('a long read', async (db) => {
        await query(db, 'select 1 from people');
        held();
        await new Promise<void>((resolve) => {
          free = resolve;
        });
      });
      await isHeld;
      const migrating = migrate(older);
      const waits = () =>
        queryOne<{ ok: boolean }>(reader, 'select true as ok from pg_locks where not granted limit 1');
      while (!(await waits())) await new Promise((resolve) => setTimeout(resolve, 20));
      // Stands behind the migration, which gives up its place.
      await query(reader, 'select 1 from people');
      expect(await query(reader, `select 1 from migrations where name = '035-safe-ground'`)).toEqual([]);
      free();
      await Promise.all([long, migrating]);
      expect(await query(reader, `select 1 from migrations where name = '035-safe-ground'`)).toHaveLength(1);
    } finally {
      await Promise.all([older.close(), reader.close()]);
    }
  });

  it('give deployments that were live before the way back that they had', async () => {
    const older = openRecords({ url: await openNamed('ways-back') });
    try {
      await migrate(older, '034-shared-ends');
      const [environment, project, ...releases] = Array.from({ length: 6 }, () => newId()) as [
        string,
        string,
        ...string[],
      ];
      // r0, r1, r2 (was reverted), a revert to r1, r3; one never came to be live.
      const history = [
        { release: 0, state: 'replaced', live: true },
        { release: 1, state: 'replaced', live: true },
        { release: 2, state: 'reverted', live: true },
        { release: 1, state: 'replaced', live: true },
        { release: 3, state: 'failed', live: false },
        { release: 3, state: 'live', live: true },
      ];
      await older.transition('history', async (db) => {
        await query(db, 'set local session_replication_role = replica');
        for (const [at, { release, state, live }] of history.entries())
          await query(
            db,
            `insert into deployments (id, project_id, number, environment_id, release_id, kind, actor, state, environment_plan, variables, live_at)
             values ($1, $2, $3, $4, $5, 'deploy', 'test', $6, '{}', '{}', case when $7 then now() end)`,
            [newId(), project, at + 1, environment, releases[release], state, live],
          );
      });
      await migrate(older);
      const ways = await query<{ number: number; back: number | null }>(
        older,
        'select d.number, o.number as back from deployments d left join deployments o on o.id = d.back_id order by d.number',
      );
      expect(ways.map(({ number, back }) => [number, back])).toEqual([
        [1, null],
        [2, 1],
        [3, 2],
        [4, 1],
        [5, null],
        [6, 4],
      ]);
    } finally {
      await older.close();
    }
  });

  it('bring a database that the one before has filled up to date, and keep what it holds', async () => {
    const older = openRecords({ url: await openNamed('older') });
    try {
      await migrate(older, '001-thread');
      const tables = async () =>
        (
          await query<{ name: string }>(
            older,
            "select table_name as name from information_schema.tables where table_schema = 'public'",
          )
        ).map((row) => row.name);
      expect(await tables()).not.toContain('nothing');
      const [project, run, task, attempt, agent, token] = Array.from({ length: 6 }, () => newId()) as [
        string,
        string,
        string,
        string,
        string,
        string,
      ];
      const model = {
        name: 'unit',
        reads: null,
        needs: [],
        run: ['npm test'],
        makes: [],
        network: false,
        timeout: 1000,
      };
      const variables = { A: '1', then: 'kept', URL: { from: 'db.url', then: '?x' } };
      const now = { A: '1', then: 'kept', URL: { from: 'db.url', append: '?x' } };
      await query(
        older,
        "insert into projects (id, name, source, main_branch) values ($1, 'sailings', 'hosted', 'main')",
        [project],
      );
      await query(older, "insert into tokens (id, hash, kind, name) values ($1, '\\x01', 'agent', 'a')", [token]);
      await query(
        older,
        "insert into agents (id, token_id, name, boot, class, slots, address, tools, base, sandbox, lease_until) values ($1, $2, 'a', $3, '{runs}', 2, '', '{}', 'b', '{}', now())",
        [agent, token, newId()],
      );
      await query(
        older,
        "insert into runs (id, project_id, number, commit, branch, line, cause, actor, state) values ($1, $2, 1, 'c0', 'main', 'own', 'push', 'mika', 'passed')",
        [run, project],
      );
      await query(
        older,
        "insert into tasks (id, run_id, name, position, state, evidence, model, files, pinned, fingerprint, output, output_size, tests) values ($1, $2, 'unit', 0, 'passed', true, $3, '{}', '{}', 'f1', 'sha256:1', 12, '{\"passed\": 3}')",
        [task, run, JSON.stringify({ ...model, variables, junit: 'o.xml' })],
      );
      await query(
        older,
        "insert into attempts (id, kind, task_id, project_id, number, state, needs, agent_id, fence) values ($1, 'task', $2, $3, 1, 'passed', '{\"class\": \"runs\"}', $4, 1)",
        [attempt, task, project, agent],
      );
      await query(
        older,
        "insert into results (project_id, line, fingerprint, attempt_id, state, output) values ($1, 'own', 'f1', $2, 'passed', 'sha256:1')",
        [project, attempt],
      );
      await query(
        older,
        "insert into definitions (project_id, commit, model) values ($1, 'c0', $2), ($1, 'c1', null)",
        [
          project,
          JSON.stringify({
            version: 1,
            versions: {},
            tasks: { unit: { ...model, variables, junit: 'o.xml' } },
            release: null,
            environments: {},
          }),
        ],
      );
      const part = { name: 'api', kind: 'server', start: 'node api.js', at: '/api', instances: 2 };
      await query(
        older,
        `insert into releases (id, project_id, number, digest, commit, run_id, parts, plan) values ($1, $2, 1, 'd', 'c0', $3, '[]', $4)`,
        [newId(), project, run, JSON.stringify({ needs: [], parts: { api: part }, variables: {}, prepare: null })],
      );
      const environment = newId();
      await query(
        older,
        `insert into environments (id, project_id, name, kind, plan_name, host) values ($1, $2, 'staging', 'standing', 'staging', 'x.localhost')`,
        [environment, project],
      );
      const paths = [
        { at: '/api', kind: 'server', part: 'api', instances: [{ id: '1', address: '127.0.0.1', port: 80 }] },
        { at: '/', kind: 'site', part: 'page', bytes: 'b', layers: ['l'], root: 'web', fallback: null },
      ];
      const body = { environment: 'sailings/staging', deployment: 'd1', release: 'r1', commit: 'c0', paths };
      await query(
        older,
        `insert into routes (host, environment_id, body, version) values ('x.localhost', $1, $2, nextval('route_versions')), ('gone.localhost', $1, null, nextval('route_versions'))`,
        [environment, JSON.stringify(body)],
      );
      await migrate(older);
      await migrate(older);
      const [release] = await query<{ plan: { parts: object } }>(older, 'select plan from releases');
      const site = { missing: null, headers: [], redirects: [], settings: null };
      expect(release?.plan.parts).toEqual({
        api: {
          ...part,
          ...site,
          volumes: [],
          maintenance: null,
          http2: false,
          strip: false,
          sticky: false,
          memory: null,
          cpu: null,
          auto: null,
          schedule: null,
          timeoutMs: null,
        },
      });
      const [server, page] = paths;
      const { environment: where, paths: _paths, ...who } = body;
      expect(await routeBody(older, 'x.localhost')).toEqual({
        environment: where,
        targets: [
          {
            ...who,
            share: 10_000,
            until: null,
            paths: [
              { ...server, strip: false, sticky: null },
              { ...page, ...site },
            ],
          },
        ],
      });
      // Edges that have the routes of before are told of these.
      expect((await routesAfter(older, 2)).map((one) => one.host)).toEqual(['x.localhost']);
      const [row] = await tasksOf(older, run);
      expect(row).toMatchObject({
        attempt_id: attempt,
        flaky: false,
        state: 'passed',
        model: {
          ...model,
          variables: now,
          results: 'o.xml',
          coverage: null,
          of: 'unit',
          each: {},
          shard: null,
          cache: [],
          retry: 0,
          reuse: true,
          for: null,
        },
      });
      expect(await findPasses(older, project, 'own', ['f1'])).toMatchObject([
        { attempt_id: attempt, output: 'sha256:1', output_size: 12, tests: { passed: 3 }, run: 1 },
      ]);
      expect((await definitionOf(older, project, 'c0'))?.model?.tasks.unit).toMatchObject({
        ...model,
        variables: now,
        results: 'o.xml',
        shards: null,
        each: {},
        for: null,
      });
      expect((await definitionOf(older, project, 'c1'))?.model).toBeNull();
      expect((await runById(older, run))?.fresh).toBeNull();
    } finally {
      await older.close();
    }
  });

  it('are each done once, in their order', async () => {
    const names = (await query<{ name: string }>(records, 'select name from migrations order by at, name')).map(
      (row) => row.name,
    );
    expect(names).toEqual(migrations.map((one) => one.name));
    expect([...names].sort()).toEqual(names);
  });
});

describe('results', () => {
  let project: string;
  beforeAll(async () => {
    project = (await recordProject(records, 'outlets')).id;
  });
  /** An attempt of a run of this line, with what its fingerprint came to. */
  const result = async (line: string, fingerprint: string, state: 'passed' | 'failed') => {
    const { number } = await recordRun(records, project, line);
    const run = (await findRun(records, project, number))?.id as string;
    const model = { name: 'unit', of: 'unit', needs: [], run: [] } as never;
    await startRun(
      records,
      run,
      [
        {
          name: 'unit',
          position: 0,
          evidence: false,
          model,
          files: { key: '', count: 0 },
          pinned: { versions: {}, base: '' },
        },
      ],
      [],
    );
    const task = (await tasksOf(records, run))[0]?.id as string;
    const [attempt] = await addAttempts(records, [
      { kind: 'task', task, deployment: null, project, number: 1, needs: { takes: 'runs', base: null }, priority: 2 },
    ]);
    await query(
      records,
      'insert into results (project_id, line, fingerprint, attempt_id, state) values ($1, $2, $3, $4, $5)',
      [project, line, fingerprint, attempt, state],
    );
    return number;
  };
  const passes = async (line: string, ...fingerprints: string[]) =>
    (await findPasses(records, project, line, fingerprints)).map((one) => [one.fingerprint, one.run]);

  it('are read on their own line and on the project’s own, and written to their own alone', async () => {
    const own = await result('own', 'a', 'passed');
    const stranger = await result('pr-7', 'b', 'passed');
    expect(await passes('own', 'a', 'b')).toEqual([['a', own]]);
    expect(await passes('pr-7', 'a', 'b')).toEqual([
      ['a', own],
      ['b', stranger],
    ]);
    expect(await passes('pr-8', 'a', 'b')).toEqual([['a', own]]);
  });

  it('count no more once the same fingerprint has failed, and the newest pass counts', async () => {
    await result('own', 'c', 'passed');
    const newer = await result('own', 'c', 'passed');
    expect(await passes('own', 'c')).toEqual([['c', newer]]);
    await result('own', 'c', 'failed');
    expect(await passes('own', 'c')).toEqual([]);
  });

  it('of strangers do not make the project’s own flaky', async () => {
    const own = await result('own', 'd', 'passed');
    await result('pr-9', 'd', 'failed');
    expect(await passes('own', 'd')).toEqual([['d', own]]);
    expect(await passes('pr-9', 'd')).toEqual([]);
  });
});

describe('a restore', () => {
  it('that is asked for while something else is done on the resource is done after that', async () => {
    const project = await recordProject(records, 'restores');
    await makeEnvironment(
      records,
      {
        project: project.id,
        projectName: project.name,
        name: 'staging',
        kind: 'standing',
        plan: 'staging',
        pullRequest: null,
        domain: 'localhost',
      },
      'test',
    );
    const environment = (await findEnvironment(records, project.id, 'staging')) as EnvironmentRow;
    await askResources(
      records,
      environment.id,
      'standing',
      [{ name: 'notes', kind: 'postgres', extensions: [], backup: null }],
      {},
    );
    const [{ id }] = (await resourcesOf(records, environment.id)) as [ResourceRow];
    const take = async () => (await takeResource(records, 60_000)) as ResourceRow;
    const settled = { state: 'ready' as const, issue: null, tries: 0, againMs: null };
    const now = async () => {
      const row = await resourceById(records, id);
      return [row?.state, row?.restore_id ?? null];
    };
    const made = await take();
    expect(await beginResource(records, made, 'making')).toBe(true);
    await settleResource(records, made, settled, null);
    const { id: backup } = await addBackup(records, id, 'test', false);
    const wake = () => query(records, 'update resources set due_at = now() where id = $1', [id]);
    // Between the taking and its record.
    await wake();
    const early = await take();
    await askRestore(records, id, backup, null, null);
    expect(await beginResource(records, early, 'ready')).toBe(false);
    await putOff(records, 'resources', early, 0);
    const restoring = await take();
    expect([restoring.state, restoring.restore_id]).toEqual(['asked', backup]);
    expect(await beginResource(records, restoring, 'making')).toBe(true);
    await settleResource(records, restoring, settled, null);
    expect(await now()).toEqual(['ready', null]);
    // While logins are made, or one could not be.
    for (const issue of [null, { code: 'database_gone' as const, data: {} }]) {
      await wake();
      const late = await take();
      expect(await beginResource(records, late, 'ready')).toBe(true);
      await askRestore(records, id, backup, null, null);
      await settleResource(records, late, { ...settled, issue, tries: issue ? 1 : 0 }, null);
      expect(await now()).toEqual(['asked', backup]);
      const then = await take();
      await beginResource(records, then, 'making');
      await settleResource(records, then, settled, null);
      expect(await now()).toEqual(['ready', null]);
    }
  });
});
