/** Faults that were found and repaired, each as it was played then: stops, ends, approvals, evidence, backups, names. */
import { setTimeout as pause } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import pg from 'pg';
import { addApproval, approvalsOf } from '../../src/records/deployments/approvals.js';
import { addEvidence, evidenceOf } from '../../src/records/deployments/releases.js';
import { findEnvironment, type EnvironmentRow } from '../../src/records/deployments/environments.js';
import { openRecords, query, queryOne, type Records } from '../../src/records/database.js';
import { newId } from '../../src/records/ids.js';
import type { ProjectRow } from '../../src/records/projects/projects.js';
import { addBackup, removeBackups, settleBackup, takeBackup } from '../../src/records/resources/backups.js';
import { addAttempts } from '../../src/records/runs/attempts.js';
import { findRun, startRun, stopTasks, stopWork, tasksOf } from '../../src/records/runs/runs.js';
import { openDatabases } from '../../src/resources/postgres/attempts.js';
import { type Cluster, openCluster, recordProject, recordRun } from './cluster.js';
import { until } from './world.js';

let cluster: Cluster;
let records: Records;
let other: Records;
let project: ProjectRow;
beforeAll(async () => {
  cluster = await openCluster(10);
  ({ records } = cluster);
  other = openRecords({ url: cluster.url });
  project = await recordProject(records, 'repaired');
});
afterAll(async () => {
  await other?.close();
  await cluster?.close();
});

const release = async (number: number) => {
  const [id, run] = [newId(), await recordRun(records, project.id)];
  await query(
    records,
    `insert into releases (id, project_id, number, digest, commit, run_id, parts, plan) values ($1, $2, $3, $4, 'c', $5, '[]', '{}')`,
    [id, project.id, number, `d${number}`, run.id],
  );
  return { id, number, digest: `d${number}` };
};
const environment = async (name: string) => {
  await query(
    records,
    `insert into environments (id, project_id, name, kind, plan_name, host) values ($1, $2, $3, 'standing', $3, $3 || '.repaired')`,
    [newId(), project.id, name],
  );
  return (await findEnvironment(records, project.id, name)) as EnvironmentRow;
};

/** A run with a task that waits for an attempt. */
async function running(name: string): Promise<{ run: string; task: string; attempt: string }> {
  const { number } = await recordRun(records, project.id);
  const run = (await findRun(records, project.id, number))?.id as string;
  await startRun(
    records,
    run,
    ['first', 'second'].map((task, position) => ({
      name: `${name} ${task}`,
      position,
      evidence: false,
      model: { name: task, of: task, needs: [], run: [] } as never,
      files: { key: '', count: 0 },
      pinned: { versions: {}, base: '' },
    })),
    [],
  );
  const [task] = await tasksOf(records, run);
  const [attempt] = await addAttempts(records, [
    {
      kind: 'task',
      task: task?.id as string,
      deployment: null,
      project: project.id,
      number: 1,
      needs: { takes: 'runs', base: null },
      priority: 2,
    },
  ]);
  await query(records, `update tasks set attempt_id = $2, state = 'running' where id = $1`, [task?.id, attempt]);
  return { run, task: task?.id as string, attempt: attempt as string };
}

describe('the stop of a run', () => {
  it('leaves an attempt alone that another run joins at the same moment', async () => {
    const owner = await running('owner');
    const joiner = await running('joiner');
    let commit = () => {};
    let begun = () => {};
    const isBegun = new Promise<void>((resolve) => {
      begun = resolve;
    });
    // Who joins has the attempt's row, and has not committed yet.
    const joining = other.transition('joined', async (db) => {
      await query(db, 'select 1 from attempts where id = $1 for update', [owner.attempt]);
      await query(db, 'update tasks set attempt_id = $2 where id = $1', [joiner.task, owner.attempt]);
      begun();
      await new Promise<void>((resolve) => {
        commit = resolve;
      });
    });
    await isBegun;
    const stopping = records.transition('stopped', (db) => stopWork(db, owner.run));
    await until('the stop waits', async () =>
      (await query(other, 'select 1 from pg_locks where not granted')).length > 0 ? true : null,
    );
    commit();
    await Promise.all([joining, stopping]);
    expect(await queryOne(records, 'select stop from attempts where id = $1', [owner.attempt])).toEqual({
      stop: false,
    });
    // Of its own alone it is stopped.
    await records.transition('stopped', (db) => stopWork(db, joiner.run));
    await query(records, `update tasks set state = 'passed' where id = $1`, [owner.task]);
    await records.transition('stopped', (db) => stopWork(db, joiner.run));
    expect(await queryOne(records, 'select stop from attempts where id = $1', [owner.attempt])).toEqual({ stop: true });
  });

  it('that fails after its release leaves no task waiting and no attempt running on', async () => {
    const { run, attempt } = await running('failed');
    await records.transition('failed', (db) => stopTasks(db, run));
    expect((await tasksOf(records, run)).map(({ state }) => state)).toEqual(['stopped', 'stopped']);
    expect(await queryOne(records, 'select stop from attempts where id = $1', [attempt])).toEqual({ stop: true });
    expect(await queryOne(records, 'select tasks_ended = tasks_total as all from runs where id = $1', [run])).toEqual({
      all: true,
    });
  });
});

describe('an approval', () => {
  it('that a newer release has made stale counts again when the person approves again', async () => {
    const [staging, production] = [await environment('staging'), await environment('production')];
    const [first, second] = [await release(1), await release(2)];
    const person = newId();
    await query(records, `insert into people (id, name, role) values ($1, 'Mika', 'releaser')`, [person]);
    const given = async () =>
      (await approvalsOf(records, { environment: production, release: first, after: 'staging' })).filter(
        (one) => !one.withdrawn,
      ).length;
    const one = { environment: production, release: first, person, author: false, against: '', after: 'staging' };
    expect([await addApproval(records, one), await given()]).toEqual([true, 1]);
    // Twice is once.
    expect([await addApproval(records, one), await given()]).toEqual([false, 1]);
    await query(
      records,
      `insert into deployments (id, project_id, number, environment_id, release_id, kind, actor, state, environment_plan, variables, live_at)
       values ($1, $2, 1, $3, $4, 'deploy', 'test', 'live', '{}', '{}', now() + interval '1 second')`,
      [newId(), project.id, staging.id, second.id],
    );
    expect(await given()).toBe(0);
    await query(records, `update deployments set live_at = now() - interval '1 second' where release_id = $1`, [
      second.id,
    ]);
    await query(records, `update approvals set at = now() - interval '1 minute'`);
    expect([await given(), await addApproval(records, one), await given()]).toEqual([0, true, 1]);
  });
});

describe('evidence of health', () => {
  it('of a longer span is kept next to that of the first promotion', async () => {
    const healthy = await release(3);
    const add = (to: string) =>
      addEvidence(records, healthy, {
        kind: 'health',
        name: 'staging',
        source: 'd7',
        detail: { from: '2026-12-01T10:00:00.000Z', to },
      });
    expect(await add('2026-12-01T11:00:00.000Z')).not.toBeNull();
    expect(await add('2026-12-02T10:00:00.000Z')).not.toBeNull();
    // The same one comes twice.
    expect(await add('2026-12-02T10:00:00.000Z')).toBeNull();
    expect((await evidenceOf(records, healthy.id)).map(({ detail }) => detail.to).sort()).toEqual([
      '2026-12-01T11:00:00.000Z',
      '2026-12-02T10:00:00.000Z',
    ]);
  });
});

describe('a backup that is removed while it is written', () => {
  it('stays removed when it is whole', async () => {
    const home = await environment('harbour');
    const resource = newId();
    await query(
      records,
      `insert into resources (id, environment_id, name, kind, place, state, plan) values ($1, $2, 'notes', 'postgres', 'standing', 'ready', '{}')`,
      [resource, home.id],
    );
    await addBackup(records, resource, 'test', false);
    const taken = await takeBackup(records, 60_000);
    expect(taken?.resource_id).toBe(resource);
    await removeBackups(records, [taken?.id as string]);
    const kept = { digest: 'sha256:1', bytes: 3, at: new Date() };
    expect(
      await settleBackup(records, taken as never, { state: 'kept', issue: null, tries: 0, againMs: null }, kept),
    ).toBe(false);
    expect(await queryOne(records, 'select state, digest from backups where id = $1', [taken?.id])).toEqual({
      state: 'removed',
      digest: null,
    });
  });
});

describe('databases of attempts', () => {
  it('of an agent whose name begins like another one’s are its own; names fit, however long the agent’s is', async () => {
    const long = `agent-${'x'.repeat(80)}`;
    const [build, second, third] = await Promise.all(
      ['a-build', 'a-build-2', long].map((owner) => openDatabases(cluster.url, owner)),
    );
    try {
      const ids = [crypto.randomUUID(), crypto.randomUUID(), crypto.randomUUID()] as const;
      const fields = await Promise.all([build, second, third].map((one, at) => one?.make(ids[at] as string, 'db')));
      for (const one of fields) expect(one?.database.length).toBeLessThanOrEqual(63);
      const there = async () =>
        (
          await query<{ name: string }>(
            records,
            'select datname as name from pg_database where datname = any($1::text[])',
            [fields.map((one) => one?.database)],
          )
        ).map(({ name }) => name);
      expect((await there()).length).toBe(3);
      await build?.sweep();
      expect((await there()).sort()).toEqual([fields[1]?.database, fields[2]?.database].sort());
      await third?.sweep();
      expect(await there()).toEqual([fields[1]?.database]);
      await second?.sweep();
    } finally {
      await Promise.all([build, second, third].map((one) => one?.close()));
    }
  });

  it('wait for a server whose places are all taken just now', async () => {
    const taken: pg.Client[] = [];
    let refused = '';
    while (refused === '' && taken.length < 500) {
      const client = new pg.Client(cluster.url);
      client.on('error', () => {});
      await client.connect().then(
        () => taken.push(client),
        (error: { code?: string }) => (refused = String(error.code)),
      );
    }
    expect(refused).toBe('53300');
    const opened = openDatabases(cluster.url, 'a-late');
    await pause(600);
    await Promise.all(taken.map((client) => client.end()));
    await (await opened).close();
  });
});
