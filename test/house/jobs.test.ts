/** Jobs: begun by hand and by the clock, never two of one at once, through crashes. The clock alone is moved by hand. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { AlertPage } from '../../src/wire/alerts.js';
import type { JobDetail } from '../../src/wire/environments/jobs.js';
import { openRecords, query, type Records } from '../../src/records/database.js';
import { type Checkout, openWorld, until, type World } from './world.js';

const definition = (more = '') => `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web }
    digest: { kind: job, files: [digest.sh], run: sh digest.sh, every: 1h }
    slow: { kind: job, files: [digest.sh], run: "echo begun; sleep 60", at: ["05:00 Europe/Oslo"], timeout: 50s }
${more}
  variables:
    GREETING: { default: hello }
    KEY: { secret: true, about: a key }
environments:
  staging: { branch: main }
`;
const digest = `echo "$GREETING from $TSUNAGI_ENVIRONMENT, $TSUNAGI_RELEASE"\necho "the key is $KEY"\n`;

let world: World;
let records: Records;
let checkout: Checkout;
let first: string;
beforeAll(async () => {
  // One attempt at a time, so that what holds others up shows.
  world = await openWorld({ env: { TSUNAGI_SLOTS: '1' } });
  records = openRecords({ url: world.house.database, pool: 1 });
  ({ checkout, first } = await world.hosted('mole', {
    'web/index.html': 'mole',
    'digest.sh': digest,
    'tsunagi.yaml': definition(),
  }));
  await world.api().post('/api/projects/mole/variables', {
    environment: null,
    set: [{ name: 'KEY', value: 'opensesame', secret: true }],
  });
  await checkout.push();
  await world.waitLive('mole', 'staging', first);
});
afterAll(async () => {
  await records?.close();
  await world?.close();
});

const path = '/api/projects/mole/environments/staging/jobs';
const job = (name: string) => world.api().get<JobDetail>(`${path}/${name}`);
const last = async (name: string) => (await job(name)).runs[0];
/** Its time has come so long ago. */
const dueSince = (name: string, ago: string) =>
  query(records, `update jobs set next_at = now() - $2::interval, anchor_at = now() - $2::interval where part = $1`, [
    name,
    ago,
  ]);

describe('a job', () => {
  it('is there with what is live, and runs by hand: its log is followed, its end is the exit status', async () => {
    const list = await world.cli('job', 'list', 'mole/staging');
    expect(list.out).toMatch(/digest +every 1h +\d{4}-\d\d-\d\d \d\d:\d\d UTC +never/);
    expect(list.out).toContain('05:00 Europe/Oslo');
    const ran = await world.cli('job', 'run', 'mole/staging', 'digest');
    expect([ran.status, ran.out]).toEqual([0, expect.stringContaining('hello from staging, r1')]);
    // What is secret is masked in what it prints.
    expect(ran.out).not.toContain('opensesame');
    expect((await world.cli('job', 'log', 'mole/staging', 'digest')).out).toBe(ran.out);
    expect((await world.cli('job', 'show', 'mole/staging', 'digest')).out).toMatch(/1 +passed .* r1/);
  });

  it('never runs twice at once, by hand or by the clock; what was missed is said', async () => {
    const begun = await world.api().post<JobDetail>(`${path}/slow/run`);
    expect(begun.runs).toHaveLength(1);
    const again = await world.cli('job', 'run', 'mole/staging', 'slow');
    expect([again.status, again.err]).toEqual([1, expect.stringContaining('never two at once')]);
    await until('it runs', async () => (await last('slow'))?.state === 'running');
    await dueSince('slow', '1 second');
    await until('it is missed', async () => (await job('slow')).missed === 1);
    expect((await job('slow')).runs).toHaveLength(1);
    // An event has its number, by which it is told, a moment later.
    const missed = await until('it is told', async () => (await world.events('type=job.missed')).at(0));
    expect(missed.data).toMatchObject({ times: 1, why: 'it still ran' });
    await world.cli('job', 'stop', 'mole/staging', 'slow');
    await until('it has stopped', async () => (await last('slow'))?.state === 'stopped');
    expect((await world.cli('job', 'stop', 'mole/staging', 'slow')).err).toContain('does not run');
  });

  it('runs once by the clock for all the times that passed while nobody was there, and that is said', async () => {
    await dueSince('digest', '150 minutes');
    const ran = await until('it ran', async () => {
      const one = await last('digest');
      return one?.number === 2 && one.state === 'passed' ? one : null;
    });
    expect(ran).toBeTruthy();
    const missed = await until('it is told', async () =>
      (await world.events('type=job.missed')).find((one) => one.subject === 'mole/staging digest'),
    );
    expect(missed.data).toMatchObject({ times: 2, why: 'no service was there' });
    const { nextAt, runs } = await job('digest');
    expect(runs).toHaveLength(2);
    expect(Date.parse(nextAt)).toBeGreaterThan(Date.now());
  });

  it.each(['before', 'after'])('runs once where the service dies right %s it was begun', async (when) => {
    const number = (await last('digest'))?.number ?? 0;
    writeFileSync(join(world.folder, 'crash-at'), `job.due:${when}\n`);
    await dueSince('digest', '1 second');
    await until('it ran', async () => {
      const one = await last('digest').catch(() => null);
      if (one?.state !== 'passed')
        throw new Error(`${one?.number} after ${number}: ${one?.state}, ${one?.issue?.says}`);
      return one.number === number + 1;
    });
    expect((await job('digest')).runs.filter((one) => one.number === number + 1)).toHaveLength(1);
  });

  it('that ends badly is among what is wrong until it passes again', async () => {
    await world
      .api()
      .post('/api/projects/mole/variables', { environment: 'staging', set: [{ name: 'GREETING', value: 'x' }] });
    const commit = await checkout.commitAndPush({ 'digest.sh': `${digest}exit 4\n` }, 'Ends badly');
    await world.waitLive('mole', 'staging', commit);
    const ran = await world.cli('job', 'run', 'mole/staging', 'digest');
    expect([ran.status, ran.err]).toEqual([1, expect.stringContaining('failed')]);
    await until('it is said', async () =>
      (await world.api().get<AlertPage>('/api/alerts')).wrong.some(
        (one) => one.topic === 'job-failed' && one.place === 'mole/staging digest',
      ),
    );
    // Its times stay what they were: nothing about them has changed.
    expect((await job('digest')).runs[0]?.release).toBe(2);
  });

  it('that a release has no more is there no more, and cannot be run; who may not is refused', async () => {
    const without = definition().replace(/ {4}digest: .*\n/, '');
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': without }, 'Without the digest');
    await world.waitLive('mole', 'staging', commit);
    expect((await world.cli('job', 'run', 'mole/staging', 'digest')).err).toContain('has no job digest');
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'dev', role: 'developer' });
    const headers = { 'idempotency-key': 'jobs-123456' };
    expect((await world.api(token).raw('POST', `${path}/slow/run`, { body: {}, headers })).status).toBe(403);
  });

  it('goes with its environment, also where it runs', async () => {
    await world.api().post(`${path}/slow/run`);
    await until('it runs', async () => (await last('slow'))?.state === 'running');
    await world.cli('project', 'remove', 'mole', '--yes');
    await until('nothing is left', async () => {
      const [row] = await query<{ n: number }>(records, `select count(*)::int as n from jobs`);
      const [open] = await query<{ n: number }>(
        records,
        `select count(*)::int as n from attempts where state in ('waiting', 'running')`,
      );
      return row?.n === 0 && open?.n === 0;
    });
  });
});

describe('a job beside other work', () => {
  const of = (name: string) =>
    world
      .api()
      .get<JobDetail>(`/api/projects/vole/environments/staging/jobs/${name}`)
      .then(({ runs }) => runs[0]);
  let own: Checkout;
  beforeAll(async () => {
    const made = await world.hosted('vole', {
      'web/index.html': 'vole',
      'tsunagi.yaml': `tsunagi: 1
tasks:
  look: { reads: [web/], run: test -s web/index.html }
release:
  needs: [look]
  parts:
    page: { kind: site, files: [web/], root: web }
    quick: { kind: job, run: echo quick, every: 1d }
    slow: { kind: job, run: sleep 60, every: 1d }
    greedy: { kind: job, run: head -c 200M /dev/zero | tail -c 200M | wc -c, every: 1d, memory: 48M, cpu: 0.5 }
environments:
  staging: { branch: main }
`,
    });
    own = made.checkout;
    await own.push();
    await world.waitLive('vole', 'staging', made.first);
  });

  it('is held to the memory that its part says', async () => {
    const { items } = await world.api().get<{ items: { sandbox: { limits: string } }[] }>('/api/agents');
    if (items.some((one) => one.sandbox.limits === 'none')) return;
    const ran = await world.cli('job', 'run', 'vole/staging', 'greedy');
    expect(ran.status).toBe(1);
    expect((await of('greedy'))?.issue?.says).toMatch(/48 MiB/);
    // What comes after it in the same place is not held to that.
    expect((await world.cli('job', 'run', 'vole/staging', 'quick')).status).toBe(0);
  });

  it('holds neither runs nor deployments up, however long it takes', async () => {
    await world.api().post<JobDetail>('/api/projects/vole/environments/staging/jobs/slow/run');
    await until('it runs', async () => (await of('slow'))?.state === 'running');
    const next = await own.commitAndPush({ 'web/index.html': 'voles' }, 'Beside a job');
    await world.waitLive('vole', 'staging', next);
    expect((await of('slow'))?.state).toBe('running');
    await world.cli('job', 'stop', 'vole/staging', 'slow');
    await until('it has stopped', async () => (await of('slow'))?.state === 'stopped');
  });
});
