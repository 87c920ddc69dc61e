/** What people set, on a real database: versions, what counts where, secrets that are let go, and pins of tasks. */
import { sealedPlace } from '../../src/keys/places.js';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { Task } from '../../src/core/definition/model.js';
import {
  changeVariables,
  openSecrets,
  pinSet,
  previewChanges,
  setFor,
} from '../../src/engine/environments/variables.js';
import { retiredMs, rotateKey, stepKeys } from '../../src/engine/upkeep/keys.js';
import { type Keys, openKeys } from '../../src/keys/keys.js';
import { migrate, migrations } from '../../src/records/migrate.js';
import { openRecords, query, type Records } from '../../src/records/database.js';
import { numberEvents } from '../../src/records/events.js';
import { addPerson, addToken, callerOfToken, findPerson, setRole } from '../../src/records/callers/people.js';
import type { ProjectRow } from '../../src/records/projects/projects.js';
import { nextPoll, pollSoon, setStatusUrl, settlePoll, takePoll } from '../../src/records/projects/projects.js';
import { heardEvents } from '../../src/records/deliveries/deliveries.js';
import {
  lockHeldSubscription,
  takeSubscription,
  wakeSubscriptions,
} from '../../src/records/deliveries/subscriptions.js';
import { addRun } from '../../src/records/projects/sources.js';
import { forgetSecrets, variableAt, variablesNow } from '../../src/records/deployments/variables.js';
import { type Cluster, openCluster, recordProject } from './cluster.js';

let cluster: Cluster;
let records: Records;
let keys: Keys;
let project: ProjectRow;
beforeAll(async () => {
  cluster = await openCluster(3);
  ({ records } = cluster);
  keys = openKeys(join(cluster.folder, 'keys'));
  project = await recordProject(records, 'lane');
});
afterAll(() => cluster?.close());

const context = () => ({ records, keys }) as never;
const set = (scope: string, values: Record<string, string | null>, secret = false) =>
  records.transition('variables.changed', (db) =>
    changeVariables(
      context(),
      db,
      project,
      scope,
      Object.entries(values).map(([name, value]) => ({ name, value, secret })),
      'mika',
    ),
  );
const staging = { name: 'staging', plan_name: 'staging' };
const review = { name: 'pr-7', plan_name: 'review' };
const values = async (environment: typeof staging | null) =>
  Object.fromEntries([...(await setFor(records, project.id, environment))].map(([name, one]) => [name, one.value]));

const placeOf = (row: { scope: string; name: string; version: number }) =>
  sealedPlace('variables', project.id, row.scope, row.name, row.version);

describe('what is set', () => {
  it('counts for the project, is overruled by an environment, and for a review by the review itself', async () => {
    await set('', { LEVEL: 'info', REGION: 'north' });
    await set('staging', { LEVEL: 'debug' });
    await set('review', { LEVEL: 'trace' });
    await set('pr-7', { REGION: 'south' });
    expect(await values(null)).toEqual({ LEVEL: 'info', REGION: 'north' });
    expect(await values(staging)).toEqual({ LEVEL: 'debug', REGION: 'north' });
    expect(await values(review)).toEqual({ LEVEL: 'trace', REGION: 'south' });
  });

  it('has a version for each change, and none for what changes nothing', async () => {
    const first = await set('staging', { LEVEL: 'warn', EXTRA: 'x' });
    expect(first.changes.map((one) => [one.name, one.what])).toEqual([
      ['LEVEL', 'changed'],
      ['EXTRA', 'new'],
    ]);
    expect((await set('staging', { LEVEL: 'warn' })).version).toBeNull();
    const second = await set('staging', { EXTRA: null });
    expect(second.version).toBe((first.version as number) + 1);
    expect(
      (await variablesNow(records, project.id, ['staging'])).map((row) => [row.name, row.value, row.version]),
    ).toEqual([['LEVEL', 'warn', first.version]]);
    expect((await set('staging', { EXTRA: null })).changes).toEqual([]);
  });

  it('keeps a name that is a secret one, and compares secrets without showing them', async () => {
    await set('', { KEY: 'first secret' }, true);
    const preview = (value: string) =>
      previewChanges(context(), records, project, '', [{ name: 'KEY', value, secret: false }]);
    expect(await preview('first secret')).toMatchObject([{ what: 'same', secret: true }]);
    expect(await preview('another one')).toMatchObject([{ what: 'changed', secret: true }]);
    await set('', { KEY: 'another one' });
    const [row] = (await variablesNow(records, project.id, [''])).filter((one) => one.name === 'KEY');
    expect([row?.secret, row?.value, keys.decrypt(row?.sealed as Buffer, placeOf(row as never))]).toEqual([
      true,
      null,
      'another one',
    ]);
  });

  it('is changed by one at a time: two at once are two versions, and nothing is lost', async () => {
    const changes = await Promise.all(Array.from({ length: 8 }, (_, at) => set('', { [`N${at}`]: String(at) })));
    expect(new Set(changes.map((one) => one.version)).size).toBe(8);
    expect(Object.keys(await values(null)).filter((name) => /^N\d$/.test(name))).toHaveLength(8);
  });
});

describe('secrets that were replaced', () => {
  const versions = async () =>
    (
      await query<{ version: number; kept: boolean }>(
        records,
        `select version, sealed is not null as kept from variables where project_id = $1 and name = 'KEY' and scope = '' order by version`,
        [project.id],
      )
    ).map((row) => row.kept);

  it('are let go when nothing that runs or is warm was started with them, and not before', async () => {
    const now = (await variablesNow(records, project.id, [''])).find((one) => one.name === 'KEY');
    const place = { scope: '', name: 'KEY', version: now?.version as number, append: '!' };
    expect(await openSecrets(context(), project.id, { SMS: place })).toEqual({ SMS: 'another one!' });
    const { number } = await addRun(records, {
      project: project.id,
      commit: 'c',
      branch: 'main',
      pullRequest: null,
      line: 'own',
      cause: 'push',
      actor: 'test',
      allowed: true,
    });
    const [run] = await query<{ id: string }>(records, 'select id from runs where project_id = $1 and number = $2', [
      project.id,
      number,
    ]);
    const [environment] = await query<{ id: string }>(
      records,
      `insert into environments (id, project_id, name, kind, plan_name, host) values (gen_random_uuid(), $1, 'staging', 'standing', 'staging', 'lane-staging.localhost') returning id`,
      [project.id],
    );
    const [release] = await query<{ id: string }>(
      records,
      `insert into releases (id, project_id, number, digest, commit, run_id, parts, plan) values (gen_random_uuid(), $1, 1, 'd', 'c', $2, '[]', '{}') returning id`,
      [project.id, run?.id],
    );
    await query(
      records,
      `insert into deployments (id, project_id, number, environment_id, release_id, kind, actor, state, environment_plan, variables, secrets) values (gen_random_uuid(), $1, 1, $2, $3, 'deploy', 'test', 'live', '{}', '{}', $4)`,
      [project.id, environment?.id, release?.id, JSON.stringify({ SMS: place })],
    );
    await set('', { KEY: 'the newest one' });
    await forgetSecrets(records);
    // The first was used by nothing; the second is what the live deployment runs with.
    expect(await versions()).toEqual([false, true, true]);
    await query(
      records,
      `update deployments set state = 'replaced', warm_until = now() + interval '1 minute' where project_id = $1`,
      [project.id],
    );
    await forgetSecrets(records);
    expect(await versions()).toEqual([false, true, true]);
    await query(records, 'update deployments set warm_until = now() where project_id = $1', [project.id]);
    await forgetSecrets(records);
    expect(await versions()).toEqual([false, false, true]);
    await expect(openSecrets(context(), project.id, { SMS: place })).rejects.toMatchObject({
      issue: { code: 'secret_unreadable', data: { name: 'KEY' } },
    });
    expect((await variableAt(records, project.id, '', 'KEY', place.version))?.sealed).toBeNull();
  });
});

describe('what tasks want of it', () => {
  const task = (...names: string[]) =>
    ({
      of: 'unit',
      variables: Object.fromEntries(names.map((name) => [name, { from: `variable.${name}`, append: '' }])),
    }) as unknown as Task;
  const pin = (line: string, ...names: string[]) => pinSet(context(), records, project, line, [task(...names)]);

  it('is pinned: plain text, and of a secret its version and keyed hash', async () => {
    const { set: pinned, refused } = await pin('own', 'LEVEL', 'KEY');
    expect(refused).toBeNull();
    expect(pinned).toEqual({
      LEVEL: { value: 'info' },
      KEY: { version: expect.any(Number), hash: expect.stringMatching(/^[0-9a-f]{64}$/) },
    });
    expect(JSON.stringify(pinned)).not.toContain('newest');
    const again = await pin('own', 'KEY');
    expect(again.set.KEY).toEqual(pinned.KEY);
  });

  it('is refused to strangers where it is a secret, and said where nobody has set it', async () => {
    expect(await pin('pr-9', 'LEVEL')).toMatchObject({ refused: null });
    expect((await pin('pr-9', 'LEVEL', 'KEY')).refused).toMatchObject({
      code: 'variable_stranger',
      data: { name: 'KEY', task: 'unit' },
    });
    expect((await pin('own', 'GONE', 'LEVEL', 'LOST')).refused).toMatchObject({
      code: 'variable_unset',
      data: { names: 'GONE, LOST' },
    });
  });
});

describe('sources that are looked at', () => {
  it('are taken by one service at a time, in their turn, and not while they are paused', async () => {
    const one = await recordProject(records, 'polled-one', { source: 'polled', url: 'https://code.kohama.example/a' });
    const two = await recordProject(records, 'polled-two', { source: 'polled', url: 'https://code.kohama.example/b' });
    const other = openRecords({ url: cluster.url });
    const taken = await Promise.all([takePoll(records, 60_000), takePoll(other, 60_000), takePoll(records, 60_000)]);
    expect(taken.map((row) => row?.name ?? '').sort()).toEqual(['', 'polled-one', 'polled-two']);
    const fenceOf = (id: string) => taken.find((row) => row?.id === id)?.poll_fence as number;
    await settlePoll(records, { id: one.id, poll_fence: fenceOf(one.id) }, 60_000, 0, null);
    await settlePoll(records, { id: two.id, poll_fence: fenceOf(two.id) }, 60_000, 0, null);
    // Who has lost it to another changes nothing any more.
    await settlePoll(records, { id: two.id, poll_fence: fenceOf(two.id) - 1 }, 0, 9, null);
    expect(await takePoll(records, 60_000)).toBeNull();
    expect(await nextPoll(records)).toBeGreaterThan(50_000);
    await pollSoon(records, one.id);
    await pollSoon(records, project.id);
    await query(records, 'update projects set paused_at = now() where id = $1', [one.id]);
    expect(await takePoll(records, 60_000)).toBeNull();
    await query(records, 'update projects set paused_at = null where id = $1', [one.id]);
    expect((await takePoll(records, 60_000))?.name).toBe('polled-one');
    await other.close();
  });

  it('have something to tell when a run of theirs was planned or has ended since', async () => {
    const row = await recordProject(records, 'telling');
    const number = () => records.transition('feed', (db) => numberEvents(db));
    await number();
    await setStatusUrl(records, row.id, 'https://code.kohama.example/events', 'owner');
    await wakeSubscriptions(records, 0);
    expect(await takeSubscription(records, 60_000)).toBeNull();
    await query(
      records,
      `insert into events (type, project_id, subject, actor) values ('run.ended', $1, 'run 1', 'engine'), ('task.ended', $1, 'run 1', 'engine')`,
      [row.id],
    );
    await number();
    await wakeSubscriptions(records, 0);
    const taken = await takeSubscription(records, 60_000);
    expect(taken).toMatchObject({ channel: 'code-host', project_id: row.id });
    expect(
      (await heardEvents(records, { kind: 'host', project: row.id }, taken?.after ?? '0', 10)).map((one) => one.type),
    ).toEqual(['run.ended']);
    // Who has lost it to another changes nothing any more.
    const old = { id: taken?.id as string, fence: '0' };
    expect(await lockHeldSubscription(records, old)).toBe(false);
    await setStatusUrl(records, row.id, null, 'owner');
    expect(await lockHeldSubscription(records, taken as NonNullable<typeof taken>)).toBe(false);
  });
});

describe('people', () => {
  it('lose what is above their new role, and the last owner stays', async () => {
    const id = await addPerson(records, 'nagi', 'owner', 'test');
    for (const role of ['viewer', 'owner'] as const)
      await addToken(
        records,
        { hash: Buffer.from(role), kind: 'person', name: role, person: id, role, project: null, expires: null },
        'test',
      );
    const nagi = () => findPerson(records, 'nagi') as Promise<NonNullable<Awaited<ReturnType<typeof findPerson>>>>;
    expect(await setRole(records, await nagi(), 'viewer', 'test')).toBe(false);
    await addPerson(records, 'aoi', 'owner', 'test');
    expect(await setRole(records, await nagi(), 'developer', 'test')).toBe(true);
    expect((await callerOfToken(records, Buffer.from('owner')))?.role).toBe('developer');
    expect((await callerOfToken(records, Buffer.from('viewer')))?.role).toBe('viewer');
  });
});

describe('a new key', () => {
  it('loses nothing that was encrypted before it and is written after, and holds no writer up', async () => {
    const silent = { info() {}, warn() {}, error() {} };
    const engine = { ...(context() as object), log: silent, now: Date.now } as never;
    await set('', { KEY: 'earlier' }, true);
    type Kept = { project_id: string; scope: string; name: string; version: number; sealed: Buffer };
    const kept = () => query<Kept>(records, `select * from variables where name = 'KEY' and sealed is not null`);
    const placed = (row: Kept) => sealedPlace('variables', row.project_id, row.scope, row.name, row.version);
    const late = (await kept()).map((row) => ({ row, sealed: keys.encrypt('written late', placed(row)) }));
    const other = openRecords({ url: cluster.url });
    const encrypted = await records.transition('key.rotated', async (db) => {
      const count = await rotateKey(engine, db, 'mika');
      // Others write meanwhile: no table is locked, though the rotation has not been committed.
      for (const { row, sealed } of late)
        await query(
          other,
          'update variables set sealed = $1 where project_id = $2 and scope = $3 and name = $4 and version = $5',
          [sealed, row.project_id, row.scope, row.name, row.version],
        );
      return count;
    });
    expect(encrypted).toBeGreaterThan(0);
    const read = async () => (await kept()).map((row) => keys.decrypt(row.sealed, placed(row)));
    expect(new Set(await read())).toEqual(new Set(['written late']));
    // Upkeep finds it; the older key goes when nothing names it, and not before its time.
    await stepKeys(engine);
    expect(
      await query(records, `select 1 from variables where substring(sealed from 1 for 5) <> $1`, [keys.head()]),
    ).toEqual([]);
    expect(keys.older()).toBe(1);
    await stepKeys({ ...(engine as object), now: () => Date.now() + retiredMs + 1_000 } as never);
    expect(keys.older()).toBe(0);
    expect(new Set(await read())).toEqual(new Set(['written late']));
    // A row that no key opens keeps no other from its new key, and the older key stays with it.
    await query(other, `update variables set sealed = $1 where name = 'KEY'`, [Buffer.alloc(64, 7)]);
    await set('', { OTHER: 'whole' }, true);
    await records.transition('key.rotated', (db) => rotateKey(engine, db, 'mika'));
    expect(
      await query<{ name: string }>(
        records,
        `select distinct name from variables where substring(sealed from 1 for 5) = $1`,
        [keys.head()],
      ),
    ).toContainEqual({ name: 'OTHER' });
    await stepKeys({ ...(engine as object), now: () => Date.now() + retiredMs + 1_000 } as never);
    expect(keys.older()).toBe(1);
    await query(other, `delete from variables where name = 'KEY'`);
    await other.close();
  });
});

describe('tables', () => {
  it('are made by one of two services that begin at once; the other waits', async () => {
    const url = await cluster.openNamed('twice');
    const both = [openRecords({ url }), openRecords({ url })];
    await Promise.all(both.map((one) => migrate(one)));
    const [first] = both as [Records, Records];
    const names = await query<{ name: string }>(first, 'select name from migrations order by name');
    expect(names.map((row) => row.name)).toEqual(migrations.map(({ name }) => name));
    await Promise.all(both.map((one) => one.close()));
  });
});
