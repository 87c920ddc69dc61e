import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { EnvironmentDetail } from '../../src/wire/environments/environments.js';
import type { RunDetail } from '../../src/wire/runs.js';
import type { VariableChanges, Variables } from '../../src/wire/environments/variables.js';
import type { WhyTaskView } from '../../src/wire/why.js';
import { api, type Checkout, openWorld, until, type World } from './world.js';

const key = 'hunter2/plus+more "of it"';
const definition = `tsunagi: 1
tasks:
  tell:
    reads: [a.txt]
    variables: { AREA: { from: variable.AREA }, KEY: { from: variable.TASK_KEY, append: '!' } }
    run: ['echo "at $AREA with $KEY"', 'printf %s "$KEY" | base64 -w0; printf "%s\\n" "$KEY" | head -c 9; sleep 0.3; printf "%s\\n" "$KEY" | tail -c +10; echo "<testsuite><testcase name=\\"a $KEY\\"><failure message=\\"$KEY\\"/></testcase></testsuite>" > out.xml']
    results: out.xml
release:
  needs: [tell]
  parts:
    web: { kind: server, files: [server.js, package.json], start: node server.js, ready: / }
  variables:
    LEVEL: { default: info }
    AREA: {about: which area it is}
    SMS_KEY: { secret: true, about: key of the gateway }
    HEADER: { from: variable.SMS_KEY, append: ' (header)' }
environments:
  staging: { branch: main }
  production: { after: staging }
`;
const server = `import { createServer } from 'node:http';
console.log('begun with', process.env.SMS_KEY, Buffer.from('user:' + process.env.SMS_KEY).toString('base64'));
const { LEVEL, AREA, HEADER, SMS_KEY } = process.env;
createServer((request, response) => response.end(JSON.stringify({ LEVEL, AREA, HEADER, length: SMS_KEY?.length }))).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;

let world: World;
let checkout: Checkout;
beforeAll(async () => {
  world = await openWorld();
  ({ checkout } = await world.hosted('garden', {
    'a.txt': 'a',
    'server.js': server,
    'package.json': '{ "type": "module" }',
    'tsunagi.yaml': definition,
  }));
});
afterAll(() => world?.close());

const path = '/api/projects/garden/variables';
const set = (environment: string | null, values: Record<string, string>, secret = false) =>
  world.api().post<VariableChanges>(path, {
    environment,
    set: Object.entries(values).map(([name, value]) => ({ name, value, secret })),
  });
const list = () => world.api().get<Variables>(path);
const run = (number: number) =>
  until(`run ${number}`, async () => {
    const one = await world.api().get<RunDetail>(`/api/projects/garden/runs/${number}`);
    return one.endedAt ? one : null;
  });
const answer = async (name: string) =>
  JSON.parse((await world.visit(`garden-${name}.localhost`)).text) as Record<string, unknown>;
const everything = async (): Promise<string> => {
  const events = await world.events('');
  const environment = await world.api().get<EnvironmentDetail>('/api/projects/garden/environments/staging');
  return JSON.stringify([events, environment, await list(), world.serviceLog()]);
};

describe('variables that tasks want', () => {
  it('are said to be missing, all at once, before anything runs', async () => {
    await checkout.push();
    expect((await run(1)).issue).toMatchObject({
      code: 'variable_unset',
      says: 'AREA, TASK_KEY must be set for garden, and nobody has.',
    });
    const plan = await world.cli('plan', 'main', '--project', 'garden');
    expect(plan.err + plan.out).toContain('AREA, TASK_KEY must be set');
  });

  it('are given to them, and secrets are masked in every form, in logs, tests and what is explained', async () => {
    await set(null, { AREA: 'north' });
    await set(null, { TASK_KEY: key }, true);
    await world.api().post('/api/projects/garden/runs', { ref: 'main' });
    const done = await run(2);
    expect(done.state).toBe('passed');
    const log = await world.log(done.taskList[0]?.attempts[0]?.id as string);
    expect(log).toContain('at north with ‹KEY›');
    expect(log).toContain('‹KEY›‹KEY›');
    for (const form of [key, 'hunter2', Buffer.from(`${key}!`).toString('base64')]) expect(log).not.toContain(form);
    expect(JSON.stringify(done)).not.toContain('hunter2');
    expect(JSON.stringify(done)).toContain('a ‹KEY›');
    const why = await world.api().get<WhyTaskView>('/api/projects/garden/runs/2/tasks/tell/why');
    expect(why.inputs).toMatchObject({
      variables: { AREA: 'north', KEY: { secret: expect.stringMatching(/^[0-9a-f]{64}$/), append: '!' } },
    });
    expect(JSON.stringify(why)).not.toContain('hunter2');
  });

  it('count for their fingerprints: a pass is reused until one of them changes, and the change is named', async () => {
    await world.api().post('/api/projects/garden/runs', { ref: 'main' });
    expect((await run(3)).taskList[0]?.state).toBe('reused');
    await set(null, { TASK_KEY: 'another one altogether' }, true);
    await world.api().post('/api/projects/garden/runs', { ref: 'main' });
    expect((await run(4)).taskList[0]?.state).toBe('passed');
    const why = await world.api().get<WhyTaskView>('/api/projects/garden/runs/4/tasks/tell/why');
    expect(why.differences[0]).toMatchObject({ input: 'variables', name: 'KEY' });
    await set(null, { TASK_KEY: key }, true);
    await world.api().post('/api/projects/garden/runs', { ref: 'main' });
    expect((await run(5)).taskList[0]?.state).toBe('reused');
  });
});

describe('variables of an environment', () => {
  it('that nobody has set keep it waiting, and it says what for', async () => {
    const waiting = await until('it says so', async () => {
      const one = await world.environment('garden', 'staging');
      return one.issue ? one : null;
    });
    expect(waiting).toMatchObject({
      state: 'empty',
      moving: null,
      issue: { code: 'variable_unset', says: 'SMS_KEY must be set for garden/staging, and nobody has.' },
    });
    expect((await list()).wanted.find((one) => one.name === 'SMS_KEY')).toEqual({
      name: 'SMS_KEY',
      secret: true,
      about: 'key of the gateway',
      default: null,
      missing: ['staging', 'production'],
    });
    expect((await world.cli('variable', 'list', '--project', 'garden')).out).toMatch(
      /Wanted, and not set\nSMS_KEY \(secret\) for staging, production {2}key of the gateway/,
    );
    expect(
      await world.api().raw('POST', '/api/projects/garden/environments/staging/deployments', {
        body: { kind: 'deploy', release: 1 },
        headers: { 'idempotency-key': crypto.randomUUID() },
      }),
    ).toMatchObject({
      status: 422,
      body: { code: 'variable_unset' },
    });
  });

  it('let it go on by themselves when they are set', async () => {
    // The definition says that it is a secret: it is one, however it is set.
    await set('staging', { SMS_KEY: key });
    const live = await until('it is live', async () => {
      const one = await world.environment('garden', 'staging');
      return one.live && !one.moving ? one : null;
    });
    expect(live).toMatchObject({ issue: null, changes: [] });
    expect(await answer('staging')).toEqual({
      LEVEL: 'info',
      AREA: 'north',
      HEADER: `${key} (header)`,
      length: key.length,
    });
    expect((await list()).items.find((one) => one.name === 'SMS_KEY')).toMatchObject({
      environment: 'staging',
      secret: true,
      value: null,
    });
  });

  it('are masked in what its programs print, also by an agent that has started anew', async () => {
    const logs = async () => (await world.cli('logs', 'garden/staging')).out;
    const first = await until('its line', async () => (await logs()).includes('begun with') && logs());
    expect(first).toContain('begun with ‹SMS_KEY›');
    expect(first).not.toContain('hunter2');
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    await until('the agent is back', async () => (await world.events('type=agent.registered')).length >= 2);
    await new Promise((resolve) => setTimeout(resolve, 1_500));
    expect(await logs()).toBe(first);
  });

  it('of the environment go before those of the project, and a change waits for the next deployment', async () => {
    await set('staging', { AREA: 'south', LEVEL: 'debug' });
    await set(null, { UNUSED: 'x' });
    expect((await world.environment('garden', 'staging')).changes).toEqual(['AREA', 'LEVEL']);
    expect(await answer('staging')).toMatchObject({ AREA: 'north', LEVEL: 'info' });
    const { release } = (await world.environment('garden', 'staging')).live as { release: number };
    const told = await world.cli('deploy', `r${release}`, '--to', 'garden/staging');
    expect([told.err, told.status]).toEqual(['', 0]);
    expect(await answer('staging')).toMatchObject({ AREA: 'south', LEVEL: 'debug' });
    expect((await world.environment('garden', 'staging')).changes).toEqual([]);
    expect((await world.cli('deploy', `r${release}`, '--to', 'garden/staging')).err).toContain(
      'is live in garden/staging already',
    );
  });

  it('come back with a revert, secrets excepted: those are of now', async () => {
    const before = (await world.environment('garden', 'staging')).live?.release as number;
    const commit = await checkout.commitAndPush({ 'a.txt': 'b' }, 'Another release');
    await world.waitLive('garden', 'staging', commit);
    await set('staging', { SMS_KEY: 'a new key' });
    await set('staging', { LEVEL: 'warn' });
    expect((await world.cli('revert', 'garden/staging', '--release', `r${before}`)).status).toBe(0);
    expect(await answer('staging')).toEqual({
      LEVEL: 'debug',
      AREA: 'south',
      HEADER: 'a new key (header)',
      length: 9,
    });
  });

  it('come back with a deployment of the history that is deployed again; nothing is held', async () => {
    await world.cli('lift', 'garden/staging');
    const { history, live } = await world.environment('garden', 'staging');
    // What was live before the revert had another level.
    const earlier = history.find((one) => one.liveAt && one.number !== live?.number && one.release !== live?.release);
    const told = await world.cli('deploy', `d${earlier?.number}`, '--to', 'garden/staging');
    expect([told.err, told.status]).toEqual(['', 0]);
    expect(await world.environment('garden', 'staging')).toMatchObject({
      live: { release: earlier?.release, kind: 'deploy' },
      held: null,
    });
    expect(await answer('staging')).toMatchObject({ LEVEL: 'debug', length: 9 });
    expect((await world.cli('deploy', 'd9999', '--to', 'garden/staging')).err).toContain('d9999 of garden/staging');
    expect((await world.cli('deploy', 'x1', '--to', 'garden/staging')).status).toBe(2);
  });

  it('can be taken away', async () => {
    await world.api().post(path, { environment: 'staging', remove: ['LEVEL', 'NEVER'] });
    expect((await list()).items.some((one) => one.name === 'LEVEL')).toBe(false);
    expect((await world.environment('garden', 'staging')).changes).toContain('LEVEL');
  });
});

describe('a change of variables', () => {
  const refused = async (body: object, token?: string) => {
    const one = await api(world.url, token ?? world.house.token).raw('POST', path, {
      body,
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    return [one.status, one.body.code];
  };
  it.each([
    ['a name with a dash', { set: [{ name: 'A-B', value: 'x' }] }, 422, 'variable_name'],
    ['a name of the service', { set: [{ name: 'TSUNAGI_X', value: 'x' }] }, 422, 'variable_taken'],
    ['PATH', { set: [{ name: 'PATH', value: '/' }] }, 422, 'variable_taken'],
    ['a zero byte', { set: [{ name: 'A', value: 'a\u0000b' }] }, 422, 'variable_value'],
    ['a secret of three letters', { set: [{ name: 'A', value: 'abc', secret: true }] }, 422, 'secret_short'],
    [
      'the same name twice',
      {
        set: [
          { name: 'A', value: '1' },
          { name: 'A', value: '2' },
        ],
      },
      422,
      'variable_twice',
    ],
    ['a value that is too long', { set: [{ name: 'A', value: 'x'.repeat(70_000) }] }, 400, 'body_invalid'],
    ['a broken dotenv text', { text: 'A="x' }, 422, 'dotenv_quote'],
    ['something else', { put: [] }, 400, 'body_invalid'],
  ])('with %s is refused whole', async (_what, body, status, code) => {
    const before = await list();
    expect(await refused({ environment: null, ...body })).toEqual([status, code]);
    expect(await list()).toEqual(before);
  });

  it('for an environment that is not there is refused with the nearest', async () => {
    expect((await world.cli('variable', 'set', 'A=1', '--for', 'garden/stagin')).err).toContain(
      'Did you mean `staging`?',
    );
  });

  it('needs a releaser, and a viewer sees no secret', async () => {
    const token = async (role: string) =>
      (await world.api().post<{ token: string }>('/api/tokens', { name: role, role })).token;
    expect(await refused({ environment: null, set: [{ name: 'A', value: '1' }] }, await token('developer'))).toEqual([
      403,
      'not_allowed',
    ]);
    expect(JSON.stringify(await api(world.url, await token('viewer')).get(path))).not.toContain('a new key');
  });

  it('is in the record of who did what, without values', async () => {
    const events = await world.events('project=garden&type=variables.changed');
    expect(events.find((one) => String(one.data.set).includes('SMS_KEY'))).toMatchObject({
      subject: 'garden/staging',
      data: { actor: 'owner' },
    });
    const all = await everything();
    expect(all).not.toContain('hunter2');
    expect(all).not.toContain('a new key');
  });
});

describe('a dotenv file', () => {
  it('shows what it changes, and sets it when told to', async () => {
    const file = join(world.folder, 'garden.env');
    writeFileSync(
      file,
      '\uFEFFAREA=north\r\n# the gateway\r\nGATEWAY_TOKEN="s3cret of\r\ntwo lines"\r\nUNUSED=y\r\nUNUSED=z\r\nURL=$AREA/x\r\n',
    );
    const asked = await world.cli('variable', 'import', file, '--project', 'garden');
    expect(asked.status).toBe(2);
    expect(asked.out).toContain('line 6: UNUSED stands on line 5, too');
    expect(asked.out).toContain('line 7: The value of URL refers to another variable');
    expect(asked.out).toMatch(/AREA +same/);
    expect(asked.out).toMatch(/GATEWAY_TOKEN +new +secret/);
    expect(asked.out).toMatch(/UNUSED +changed/);
    expect(asked.out).not.toContain('s3cret');
    expect((await list()).items.some((one) => one.name === 'GATEWAY_TOKEN')).toBe(false);
    const done = await world.cli('variable', 'import', file, '--project', 'garden', '--yes');
    expect([done.err, done.status]).toEqual(['', 0]);
    expect(done.out).toContain('GATEWAY_TOKEN, UNUSED, URL are set for garden.');
    const items = new Map((await list()).items.filter((one) => one.environment === null).map((one) => [one.name, one]));
    expect([items.get('GATEWAY_TOKEN')?.secret, items.get('UNUSED')?.value, items.get('URL')?.value]).toEqual([
      true,
      'z',
      '$AREA/x',
    ]);
    expect((await world.cli('variable', 'import', file, '--project', 'garden', '--yes')).out).toContain(
      'Nothing changes.',
    );
  });

  it('that is broken sets nothing', async () => {
    const file = join(world.folder, 'broken.env');
    writeFileSync(file, 'FINE=1\nnot a line\n');
    const told = await world.cli('variable', 'import', file, '--project', 'garden', '--yes');
    expect(told.status).toBe(1);
    expect(told.out).toContain('line 2:');
    expect((await list()).items.some((one) => one.name === 'FINE')).toBe(false);
    expect((await world.cli('variable', 'import', '/nowhere/at/all', '--project', 'garden')).err).toContain(
      'cannot be read',
    );
  });
});
