/** Volumes of environments: files that outlive deployments, on one machine, within a size, backed up and brought back. */
import { execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import pg from 'pg';
import type { JobDetail } from '../../src/wire/environments/jobs.js';
import type { BackupView, Resource, ResourceDetail } from '../../src/wire/environments/resources.js';
import { album, albumDefinition } from './album.js';
import { startAgent } from './rooms.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
let commit: string;
beforeAll(async () => {
  world = await openWorld();
  ({ checkout, first: commit } = await world.hosted('album', { ...album(), 'tsunagi.yaml': albumDefinition() }));
  await checkout.push();
});
afterAll(() => world?.close());

const host = 'album-staging.localhost';
const path = '/api/projects/album/environments/staging/resources/uploads';
const detail = () => world.api().get<ResourceDetail>(path);
const list = async (at = host) =>
  JSON.parse((await world.visit(at, '/api')).text) as { title: string; files: string[]; owner: boolean };
const read = async (name: string, at = host) => (await world.visit(at, `/api/files/${name}`)).text;
const write = async (name: string, text: string, at = host) =>
  expect(await world.visit(at, `/api/files/${name}/${text}`, { method: 'POST' })).toEqual({ status: 200, text });
const backUp = async (): Promise<BackupView> => {
  const { number } = await world.api().post<BackupView>(`${path}/backups`);
  return until(`backup ${number}`, async () =>
    (await detail()).backupList.find((one) => one.number === number && one.state === 'kept'),
  );
};
const restored = () =>
  until('the restore', async () => {
    const now = await detail();
    return now.state === 'ready' && !now.restoring ? now : null;
  });
/** Volumes in the folder of an agent. */
const here = (agent = 'house/agent') => readdirSync(join(world.folder, agent, 'volumes'));
const chores = async () => {
  const client = new pg.Client(world.house.database);
  await client.connect();
  const { rows } = await client.query<{ act: string; state: string }>(
    `select act, state from chores where act <> 'remove'`,
  );
  await client.end();
  return rows;
};
const holds = async () => (await detail()).volume?.hold;

describe('a volume of an environment', () => {
  it('is made with the first deployment, and seen by prepare, server, job and shell', async () => {
    await world.waitLive('album', 'staging', commit);
    expect(await list()).toEqual({ title: 'first', files: ['prepared'], owner: true });
    await write('a', 'one');
    await world.cli('job', 'run', 'album/staging', 'count');
    const job = await until('the job', async () => {
      const one = await world.api().get<JobDetail>('/api/projects/album/environments/staging/jobs/count');
      return one.last?.state === 'passed' || one.last?.state === 'failed' ? one : null;
    });
    expect([job.last?.state, await read('counted')]).toEqual(['passed', '2']);
    // What a job has written is the programs', too.
    await write('counted', '9');
    const { out, status } = await world.cli(
      'exec',
      'album/staging',
      '--',
      'bash',
      '-c',
      'cd $UPLOADS; ls; echo two >b',
    );
    expect([out, status]).toEqual(['a\ncounted\nprepared\n', 0]);
    expect(await read('b')).toBe('two\n');
    await write('b', 'three');
    const beside = await world.cli('exec', 'album/staging', '--in', 'api.1', '--', 'cat', '/volumes/uploads/b');
    expect(beside).toEqual({ out: 'three', err: '', status: 0 });
  });

  it('is shown with where it is and how full', async () => {
    await until('it was looked at', async () => (await detail()).bytes !== null);
    const { volume, kind, state, connections, logins } = await detail();
    expect({ kind, state, connections, logins }).toEqual({
      kind: 'volume',
      state: 'ready',
      connections: null,
      logins: [],
    });
    expect(volume).toMatchObject({
      agent: 'agent-1',
      alive: true,
      path: '/volumes/uploads',
      left: [],
      agents: ['agent-1'],
    });
    const shown = await world.cli('resource', 'list', 'album/staging');
    expect(shown.out).toMatch(/uploads\s+volume\s+ready\s+[\d.]+ \S+ of [\d.]+ MiB, \d+ % full/);
    expect((await world.cli('resource', 'show', 'album/staging', 'uploads')).out).toContain(
      '/volumes/uploads, on the machine of agent-1',
    );
  });

  it('outlives deployments, and serves the old and the new programs meanwhile', async () => {
    const next = await checkout.commitAndPush(album('second'), 'Second');
    await world.waitLive('album', 'staging', next);
    expect(await list()).toMatchObject({ title: 'second', files: ['a', 'b', 'counted', 'prepared'] });
    expect(await read('prepared')).toBe('second');
    await world.act('album', 'staging', { kind: 'revert' });
    await until('the first is back', async () => (await list()).title === 'first');
    expect(await read('a')).toBe('one');
    await world.api().post('/api/projects/album/environments/staging/lift', {});
  });

  it('has neither logins nor tables, and says so', async () => {
    const refused = async (method: string, to: string, body?: unknown) => {
      const { status, body: said } = await world.api().raw(method, `${path}/${to}`, {
        ...(body === undefined ? {} : { body }),
        headers: method === 'GET' ? {} : { 'idempotency-key': crypto.randomUUID() },
      });
      return [status, said.code];
    };
    const no = [409, 'resource_no_database'];
    expect(await refused('POST', 'logins', {})).toEqual(no);
    expect(await refused('POST', 'rotate', {})).toEqual(no);
    expect(await refused('GET', 'tables')).toEqual(no);
    expect(await refused('GET', 'rows?schema=public&table=notes')).toEqual(no);
    const { err, status } = await world.cli('resource', 'open', 'album/staging', 'uploads');
    expect([status, err]).toEqual([1, expect.stringContaining('it has neither logins nor tables')]);
  });

  it('takes no byte more than its size, tells the program, and says before that it fills up', async () => {
    if ((await holds()) !== 'filesystem') return;
    const { count, code } = JSON.parse((await world.visit(host, '/api/spill/100')).text);
    expect(code).toBe('ENOSPC');
    expect(count).toBeGreaterThan(28);
    expect(count).toBeLessThan(36);
    await until('it is shown', async () => {
      const { bytes, most } = await detail();
      return (bytes ?? 0) / (most ?? 1) > 0.85;
    });
    const wrong = async () =>
      (await world.api().get<{ wrong: { topic: string; place: string; says: string }[] }>('/api/alerts')).wrong;
    const alert = await until('its alert', async () => (await wrong()).find((one) => one.topic === 'volume-full'));
    expect(alert).toMatchObject({
      place: 'album/staging uploads',
      says: expect.stringMatching(/^It is \d+ % full: .* are left\.$/),
    });
    expect(await read('a')).toBe('one');
  });

  it('grows with its definition while its programs run, and never shrinks', async () => {
    const next = await checkout.commitAndPush(
      { ...album('larger'), 'tsunagi.yaml': albumDefinition({ size: '64M' }) },
      'Larger',
    );
    await world.waitLive('album', 'staging', next);
    if ((await holds()) === 'filesystem') {
      const { code, count } = JSON.parse((await world.visit(host, '/api/spill/20')).text);
      expect({ code, count }).toEqual({ code: null, count: 20 });
      await until('it is shown', async () => ((await detail()).most ?? 0) > 50 * 1024 ** 2);
    }
    await checkout.commitAndPush({ 'tsunagi.yaml': albumDefinition({ size: '48M' }) }, 'Smaller');
    const failed = await until('it is refused', async () => {
      const [last] = (await world.environment('album', 'staging')).history;
      return last?.state === 'failed' ? last : null;
    });
    expect(failed.failure?.says).toContain('can’t be made smaller');
    expect(await read('a')).toBe('one');
    commit = await checkout.commitAndPush({ 'tsunagi.yaml': albumDefinition({ size: '64M' }) }, 'As it was');
    await world.waitLive('album', 'staging', commit);
  });
});

describe('its backups', () => {
  it('are tar archives, of its files alone', async () => {
    await world.cli(
      'exec',
      'album/staging',
      '--',
      'bash',
      '-c',
      'cd $UPLOADS; rm -f spilled; mkdir -p deep; echo x >deep/y; ln -s /etc/passwd out; mkfifo pipe',
    );
    const { number, bytes } = await backUp();
    expect(bytes).toBeGreaterThan(1_000);
    const file = join(world.folder, 'uploads.tar');
    const { out, status } = await world.cli(
      'resource',
      'backup',
      'album/staging',
      'uploads',
      '--number',
      String(number),
      '--output',
      file,
    );
    expect([status, out]).toEqual([0, expect.stringContaining(file)]);
    const names = execFileSync('tar', ['--list', '--verbose', '--numeric-owner', '--file', file], { encoding: 'utf8' });
    expect(names).toMatch(/drwx\S+ 0\/0 .* \.\/\n/);
    expect(names).toContain('./out -> /etc/passwd');
    for (const line of names.trim().split('\n')) expect(line).toMatch(/ 0\/0 /);
    const place = join(world.folder, 'unpacked');
    mkdirSync(place);
    execFileSync('tar', ['--extract', '--file', file, '--directory', place]);
    expect(readdirSync(place).sort()).toEqual(['a', 'b', 'counted', 'deep', 'out', 'pipe', 'prepared']);
  });

  it('take the place of what is there, which is backed up first; its programs are started again', async () => {
    const [{ number }] = (await detail()).backupList.filter((one) => one.state === 'kept') as [BackupView];
    await write('a', 'changed');
    await write('later', 'yes');
    const shown = await world.cli(
      'resource',
      'restore',
      'album/staging',
      'uploads',
      '--backup',
      String(number),
      '--yes',
    );
    expect([shown.status, shown.err]).toEqual([0, '']);
    await until('its server is back', async () => (await read('a')) === 'one');
    expect((await list()).files).not.toContain('later');
    expect((await list()).owner).toBe(true);
    const { out } = await world.cli(
      'exec',
      'album/staging',
      '--',
      'bash',
      '-c',
      'cd $UPLOADS; cat deep/y; readlink out; test -p pipe && echo pipe',
    );
    expect(out).toBe('x\n/etc/passwd\npipe\n');
    // What was there before is the backup after it.
    const again = (await detail()).backupList.find((one) => one.number === number + 1);
    expect(again?.state).toBe('kept');
    // Whoever comes meanwhile is told to come again; nobody is led to a program that has ended.
    const seen = new Set<string>();
    let on = true;
    const visitors = (async () => {
      while (on) {
        const { status, text } = await world.visit(host, '/api/files/a');
        seen.add(status === 200 ? '200' : `${status} ${text.trim()}`);
      }
    })();
    await world.api().post(`${path}/restore`, { backup: number + 1 });
    await restored();
    await until('what was written later is back', async () => (await read('later')) === 'yes');
    on = false;
    await visitors;
    expect([...seen].sort()).toEqual(['200', expect.stringMatching(/^503 .*answers again in a moment/s)]);
    expect((await world.environment('album', 'staging')).history[0]?.state).toBe('live');
  });

  it('are tried on a plan, and what was found is told', async () => {
    commit = await checkout.commitAndPush(
      { 'tsunagi.yaml': albumDefinition({ size: '64M', more: ', backup: { every: 2s, keep: 2, try: 2s }' }) },
      'With a plan',
    );
    await world.waitLive('album', 'staging', commit);
    const tried = await until('one was tried', async () => (await detail()).backupList.find((one) => one.tried)?.tried);
    expect(tried).toMatchObject({ passed: true, tables: null, rows: null, files: expect.any(Number) });
    expect(tried.files).toBeGreaterThan(4);
    expect((await world.cli('resource', 'show', 'album/staging', 'uploads')).out).toMatch(/\d+ files, /);
    await until('older ones of the plan go', async () => {
      const planned = (await detail()).backupList.filter((one) => one.planned && one.state === 'kept');
      return planned.length === 2 && (planned[0]?.number ?? 0) > 4;
    });
    commit = await checkout.commitAndPush({ 'tsunagi.yaml': albumDefinition({ size: '64M' }) }, 'Without one');
    await world.waitLive('album', 'staging', commit);
  });

  it('go into another environment, and not into another kind', async () => {
    const release = (await world.environment('album', 'staging')).live?.release as number;
    const { number } = await world.act('album', 'production', { kind: 'promote', release });
    await world.waitDeployment('album', number);
    const other = '/api/projects/album/environments/production/resources/uploads';
    expect((await list('album-production.localhost')).files).toEqual(['prepared']);
    const newest = (await detail()).backupList.find((one) => one.state === 'kept')?.number;
    await world.api().post(`${other}/restore`, { backup: newest, environment: 'staging' });
    await until('its files are there', async () => (await read('later', 'album-production.localhost')) === 'yes');
    expect(here()).toHaveLength(2);
    const on = await world.api().raw('POST', `${other}/restore`, {
      body: { backup: newest, environment: 'staging', on: 'nobody' },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect([on.status, on.body.code]).toEqual([422, 'volume_agent']);
  });
});

describe('the machine of a volume', () => {
  let second: Awaited<ReturnType<typeof startAgent>>;
  afterAll(() => second?.end());
  const other = '/api/projects/album/environments/production/resources/uploads';
  const at = 'album-production.localhost';
  let number = 0;
  const otherDetail = () => world.api().get<ResourceDetail>(other);

  it('may be another one from now on, with all that was there', async () => {
    second = await startAgent(world, 'second', 'live');
    await write('moved', 'along', at);
    const { number } = await world.api().post<BackupView>(`${other}/backups`);
    await until('its backup', async () =>
      (await otherDetail()).backupList.some((one) => one.number === number && one.state === 'kept'),
    );
    const { out, status } = await world.cli(
      'resource',
      'restore',
      'album/production',
      'uploads',
      '--backup',
      String(number),
      '--on',
      'second',
      '--yes',
    );
    expect([status, out]).toEqual([0, expect.stringContaining('is in the place')]);
    await until('it is read there', async () => (await read('moved', at)) === 'along');
    expect((await otherDetail()).volume).toMatchObject({ agent: 'second', alive: true });
    expect(here('second')).toHaveLength(1);
    // What it left is backed up once more, and removed.
    await until('the first machine has one less', async () => here().length === 1, 120_000);
  });

  it('is waited for when it is gone, in words, and a backup brings the files to another one', async () => {
    ({ number } = await world.api().post<BackupView>(`${other}/backups`));
    await until('its backup', async () =>
      (await otherDetail()).backupList.some((one) => one.number === number && one.state === 'kept'),
    );
    await write('late', 'word', at);
    second.kill();
    const told = await until('it is said', async () => {
      const { instanceList } = await world.environment('album', 'production');
      return instanceList.find((one) => one.issue?.code === 'volume_waits')?.issue?.says;
    });
    expect(told).toContain('api waits for second, where its volume uploads is');
    const shown = await world.cli('resource', 'show', 'album/production', 'uploads');
    expect(shown.out).toContain('gives no sign of life');
    // What is asked for meanwhile is given up in time: nobody does it later unasked.
    await world.api().post(`${other}/backups`);
    await until('it is given up', async () => (await chores()).some((one) => one.state === 'dropped'));
    expect((await chores()).filter((one) => one.state === 'asked')).toEqual([]);
    const { status } = await world.cli(
      'resource',
      'restore',
      'album/production',
      'uploads',
      '--backup',
      String(number),
      '--on',
      'agent-1',
      '--without-backup',
      '--yes',
    );
    expect(status).toBe(0);
    await until('it runs here, with what was kept', async () => {
      const { files } = await list(at);
      return files.includes('moved') && !files.includes('late');
    });
    expect((await otherDetail()).volume).toMatchObject({ agent: 'agent-1', left: [{ agent: 'second', alive: false }] });
  });

  it('gives what it had when it is back: backed up, then removed', async () => {
    await second.again();
    const saved = await until(
      'what it had is kept',
      async () =>
        (await otherDetail()).backupList.find(
          (one) => one.by === 'engine' && one.state === 'kept' && one.number > number,
        ),
      90_000,
    );
    await until('it has none', async () => here('second').length === 0);
    expect((await otherDetail()).volume?.left).toEqual([]);
    await world.api().post(`${other}/restore`, { backup: saved.number });
    await until('the late word was not lost', async () => (await read('late', at)) === 'word');
  }, 240_000);

  it('has all volumes of a part, or is said not to', async () => {
    const { checkout: own, first } = await world.hosted('pair', {
      ...album('pair'),
      'tsunagi.yaml': `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, at: /api, ready: /api, volumes: [uploads, more] } }
  resources: { uploads: { kind: volume, size: 16M }, more: { kind: volume, size: 16M } }
  variables: { UPLOADS: { from: uploads.path } }
environments:
  staging: { branch: main }
`,
    });
    await own.push();
    await world.waitLive('pair', 'staging', first);
    const of = (name: string) => `/api/projects/pair/environments/staging/resources/${name}`;
    const agentOf = async (name: string) => (await world.api().get<ResourceDetail>(of(name))).volume?.agent;
    const [here1, here2] = [await agentOf('uploads'), await agentOf('more')];
    expect(here1).toBe(here2);
    const there = here1 === 'second' ? 'agent-1' : 'second';
    const move = async (name: string) => {
      const { number: copy } = await world.api().post<BackupView>(`${of(name)}/backups`);
      await until('its backup', async () =>
        (await world.api().get<ResourceDetail>(of(name))).backupList.some(
          (one) => one.number === copy && one.state === 'kept',
        ),
      );
      await world.api().post(`${of(name)}/restore`, { backup: copy, on: there, first: false });
      await until(`${name} is there`, async () => (await agentOf(name)) === there);
    };
    await move('uploads');
    const said = await until('it is said', async () => {
      const { instanceList } = await world.environment('pair', 'staging');
      return instanceList.find((one) => one.issue?.code === 'volume_apart')?.issue?.says;
    });
    expect(said).toBe('api has volumes on several machines: agent-1, second.');
    await move('more');
    await until(
      'it runs there',
      async () => (await list('pair-staging.localhost').catch(() => null))?.title === 'pair',
    );
  });
});

describe('its end', () => {
  it('is the person’s to confirm, and not while a release uses it', async () => {
    const used = await world.cli('resource', 'remove', 'album/staging', 'uploads', '--confirm', 'uploads');
    expect([used.status, used.err]).toEqual([1, expect.stringContaining('is used by')]);
    const items = (await world.api().get<{ items: Resource[] }>('/api/projects/album/environments/staging/resources'))
      .items;
    expect(items.map((one) => [one.name, one.state])).toEqual([['uploads', 'ready']]);
  });

  it('leaves nothing on the machine, and its backups', async () => {
    const mounted = (await holds()) === 'filesystem';
    const before = here().length;
    const without = `tsunagi: 1
release:
  parts: { web: { kind: site, files: [package.json], root: . } }
environments:
  staging: { branch: main }
`;
    commit = await checkout.commitAndPush({ 'tsunagi.yaml': without }, 'Without it');
    await world.waitLive('album', 'staging', commit);
    const { status, err } = await world.cli('resource', 'remove', 'album/staging', 'uploads', '--confirm', 'uploads');
    expect([status, err]).toEqual([0, '']);
    await until('its files are gone', async () => here().length === before - 1);
    if (mounted)
      await until('no device holds on to it', async () => {
        const used = execFileSync('losetup', ['--list', '--noheadings', '--output', 'BACK-FILE'], { encoding: 'utf8' });
        return used.split('\n').filter((line) => line.includes(world.folder)).length === before - 1;
      });
    const left = await detail();
    expect([left.state, left.volume?.agent, left.backups.kept > 0]).toEqual(['removed', null, true]);
  });
});
