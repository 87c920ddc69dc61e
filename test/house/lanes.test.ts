/** Rows of work that are slow, that fail, or that are under way at the end delay no other row. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { type Lanes, openLanes, workLanes } from '../../src/engine/lanes.js';
import { startLoop } from '../../src/engine/loop.js';
import { query, type Records } from '../../src/records/database.js';
import { pollSoon, settlePoll, takePoll } from '../../src/records/projects/projects.js';
import { takeIntake } from '../../src/records/projects/sources.js';
import { makeDue, nextDue } from '../../src/records/runs/runs.js';
import { type Cluster, openCluster, recordProject, recordRun } from './cluster.js';

const quiet = { info() {}, warn() {}, error() {} };
let cluster: Cluster;
let records: Records;
beforeAll(async () => {
  cluster = await openCluster(8);
  ({ records } = cluster);
});
afterAll(() => cluster?.close());

/** A promise and what resolves it. */
function latch(): { opened: Promise<void>; open(): void } {
  let open = () => {};
  const opened = new Promise<void>((resolve) => {
    open = resolve;
  });
  return { opened, open };
}

describe('lanes', () => {
  it('end at once though every lane is taken and the loop waits for a free one', async () => {
    const dump = latch();
    let taken = 0;
    const lanes = openLanes({
      name: 'backup',
      count: 2,
      take: async () => ({ id: `backup ${++taken}` }),
      work: () => dump.opened,
      free() {},
      log: quiet,
    });
    const loop = startLoop({ name: 'backups', step: lanes.step, sweepMs: 60_000, log: quiet });
    while (taken < 2) await new Promise((done) => setTimeout(done, 5));
    let over = false;
    const finished = lanes.over().then(() => {
      over = true;
    });
    lanes.end();
    await loop.stop();
    expect({ taken, over }).toEqual({ taken: 2, over: false });
    dump.open();
    await finished;
  });

  it('log a row that fails, and go on with the next one', async () => {
    const rows = ['bad', 'good'];
    const done: string[] = [];
    const logged: object[] = [];
    const lanes = openLanes({
      name: 'address',
      count: 1,
      async take() {
        const id = rows.shift();
        return id === undefined ? null : { id };
      },
      async work({ id }) {
        if (id === 'bad') throw new Error('no');
        done.push(id);
      },
      free() {},
      log: { ...quiet, error: (data) => void logged.push(data) },
    });
    while (await lanes.step());
    await lanes.over();
    expect(done).toEqual(['good']);
    expect(logged).toEqual([{ address: 'bad', error: expect.stringContaining('no') }]);
  });
});

describe('a row of the work list that always fails', () => {
  it('is put off longer each time, delays no other row, and is worked at once after a wake', async () => {
    const project = await recordProject(records, 'failing');
    const [bad, good] = [await recordRun(records, project.id), await recordRun(records, project.id)];
    await query(records, 'update runs set due_at = null');
    const worked: string[] = [];
    let lanes: Lanes | null = null;
    lanes = workLanes(
      { records, timing: { lease: 60_000 } as never, log: quiet },
      'runs',
      1,
      async ({ id }) => {
        worked.push(id);
        if (id === bad.id) throw new Error('always');
        await query(records, 'update runs set due_at = null where id = $1', [id]);
      },
      () => {},
    );
    const round = async () => {
      while (await lanes.step());
      await lanes.over();
    };
    await makeDue(records, 'runs', bad.id);
    await makeDue(records, 'runs', good.id);
    await round();
    expect(worked).toEqual([bad.id, good.id]);
    const pauses: number[] = [];
    for (let times = 0; times < 5; times++) {
      pauses.push((await nextDue(records, 'runs')) ?? 0);
      await makeDue(records, 'runs', bad.id);
      await round();
    }
    expect(worked.filter((id) => id === bad.id)).toHaveLength(6);
    expect(pauses.map((ms) => Math.round(ms / 250))).toEqual([1, 2, 4, 8, 16]);
    await query(records, 'update runs set due_at = null');
  });
});

describe('one code host that does not answer', () => {
  it('delays its own project: events of one are worked in their order, those of another at the same time', async () => {
    const [slow, quick] = [await recordProject(records, 'slow'), await recordProject(records, 'quick')];
    const add = (project: string, event: string, at: number) =>
      query(
        records,
        `insert into intake (project_id, source, event_id, type, body, state, at, due_at)
         values ($1, 'host', $2, 'dev.tsunagi.branch.pushed', '{}', 'waiting', now() + $3 * interval '1 s', now())`,
        [project, event, at],
      );
    await add(slow.id, 'first', -9);
    await add(slow.id, 'second', -8);
    await add(quick.id, 'third', -7);
    const taken = [await takeIntake(records, 60_000), await takeIntake(records, 60_000)];
    expect(taken.map((row) => row?.event_id)).toEqual(['first', 'third']);
    expect(await takeIntake(records, 60_000)).toBeNull();
    await query(records, 'delete from intake');
  });

  it('a look that is asked for while one goes on follows it, in the same process too', async () => {
    const project = await recordProject(records, 'asked', { source: 'polled', url: 'https://code.kohama.example/x' });
    const first = await takePoll(records, 60_000);
    expect(first?.name).toBe('asked');
    await pollSoon(records, project.id);
    // The process that looks already does not look twice at once.
    expect(await takePoll(records, 60_000, [project.id])).toBeNull();
    await settlePoll(records, first as never, 3_600_000, 0, null);
    expect((await takePoll(records, 60_000))?.name).toBe('asked');
  });
});
