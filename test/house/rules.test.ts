/** Rules of environments on a whole house: approvals, good health, frozen hours, freezes, overrides, and rules that main loosens. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { durationText } from '../../src/core/durations.js';
import type { EnvironmentDetail } from '../../src/wire/environments/environments.js';
import type { EnvironmentRules } from '../../src/wire/environments/rules.js';
import type { Promotion } from '../../src/wire/releases.js';
import { type Api, api, type Checkout, cli, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
const people: Record<string, { api: Api; token: string }> = {};

const server = (text: string) => `import { createServer } from 'node:http';
createServer((request, response) => response.end('${text}')).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = (production: string, staging = 'branch: main, verify: { run: "true" }') => `tsunagi: 1
release:
  parts: { api: { kind: server, files: [package.json, server.js], start: node server.js, ready: / } }
environments:
  staging: { ${staging} }
  production: { ${production} }
`;
/** Seconds of good health: time enough for a push meanwhile, on a slow machine too. */
let healthy: number;
const strict = () => `after: { environment: staging, healthy: ${healthy}s }, approvals: 2`;

/** A person with a token of their own, as `tsunagi sign-in` makes it. */
async function person(name: string, role: string) {
  const { out } = await world.cli('person', 'add', name, '--role', role);
  const code = /tsc_\S+/.exec(out)?.[0] as string;
  const signedIn = await api(world.url, null).raw('POST', '/api/sign-in', { body: { code } });
  const cookie = signedIn.headers.get('set-cookie')?.split(';')[0] as string;
  const added = await api(world.url, null).raw('POST', '/api/tokens', {
    body: { name: `of ${name}`, role },
    headers: { cookie, origin: world.url, 'idempotency-key': crypto.randomUUID() },
  });
  const token = added.body.token as string;
  people[name] = { token, api: api(world.url, token) };
}
const as = (name: string, ...args: string[]) =>
  cli(args, { TSUNAGI_URL: world.url, TSUNAGI_TOKEN: people[name]?.token as string });
const promotion = (release?: number) =>
  world
    .api()
    .get<Promotion>(`/api/projects/dock/environments/production/promotion${release ? `?release=${release}` : ''}`);
const rules = () => world.api().get<EnvironmentRules>('/api/projects/dock/environments/production/rules');
const stateOf = (one: Promotion, rule: string) => one.rules.find((answer) => answer.rule === rule)?.state;
const to = ['--to', 'dock/production'];

beforeAll(async () => {
  world = await openWorld();
  healthy = Math.ceil(4 * world.pace);
  let first: string;
  ({ checkout, first } = await world.hosted('dock', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server('one'),
    'tsunagi.yaml': definition(strict()),
  }));
  await checkout.push();
  await world.waitLive('dock', 'staging', first);
  await person('Mika', 'releaser');
  await person('Aiko', 'releaser');
  await person('Kei', 'releaser');
  await person('Ren', 'owner');
  await person('Sora', 'developer');
});
afterAll(() => world?.close());

describe('a promotion', () => {
  it('says of every rule how it stands, and what would change it', async () => {
    const one = await promotion();
    expect(one).toMatchObject({ allowed: false, refusal: { code: 'not_promotable' }, overridable: true });
    expect(stateOf(one, 'approvals')).toBe('needs');
    expect(one.rules.find(({ rule }) => rule === 'approvals')).toMatchObject({
      says: '0 of 2 approvals',
      whom: '2 more releasers',
    });
    expect(['waits', 'met']).toContain(stateOf(one, 'healthy'));
    const { out, status } = await as('Mika', 'promote', ...to, '--check');
    expect(status).toBe(1);
    expect(out).toMatch(/approvals +needs +0 of 2 approvals/);
    expect(out).toContain('An owner may override this');
    expect((await as('Mika', 'promote', ...to)).err).toContain('0 of 2 approvals');
  });

  it('is approved by people, each once, not by its author alone, and by nobody whose role does not let them', async () => {
    expect((await as('Sora', 'approve', 'r1', '--for', 'dock/production')).status).toBe(1);
    const refused = await people.Sora?.api.raw('POST', '/api/projects/dock/environments/production/approvals', {
      body: { release: 1 },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect(refused?.body.code).toBe('not_allowed');
    for (let time = 0; time < 2; time++) {
      const { out } = await as('Mika', 'approve', 'r1', '--for', 'dock/production');
      expect(out).toMatch(/r1 has 1 of 2 approvals[\s\S]*Mika {2}has written some of it/);
    }
    expect((await as('Kei', 'approve', 'r1', '--for', 'dock/production')).out).toContain('2 of 2');
    await until('it has been in good health for long enough', async () => (await promotion()).allowed);
    // Whoever loses the role has approved nothing any more.
    await world.api().post('/api/people/Kei/role', { role: 'developer' });
    expect(await promotion()).toMatchObject({
      allowed: false,
      approvals: {
        given: [
          { by: 'Mika', author: true, counts: true },
          { by: 'Kei', counts: false, why: 'role' },
        ],
      },
    });
    expect((await as('Aiko', 'approve', 'r1', '--for', 'dock/production')).out).toContain('2 of 2');
    expect((await as('Aiko', 'approve', 'r1', '--for', 'dock/production', '--withdraw')).out).toContain('1 of 2');
    expect((await as('Aiko', 'approve', 'r1', '--for', 'dock/production', '--withdraw')).err).toContain('not approved');
    await as('Aiko', 'approve', 'r1', '--for', 'dock/production');
    const { status, out } = await as('Mika', 'promote', ...to);
    expect([status, out]).toEqual([0, expect.stringContaining('live')]);
    const evidence = (await world.release('dock', 1)).evidence;
    expect(evidence.filter(({ kind }) => kind === 'approval').map(({ source }) => source)).toEqual([
      'Mika',
      'Kei',
      'Aiko',
      'Aiko',
    ]);
    expect(new Set(evidence.map((one) => one.evidence)).size).toBe(evidence.length);
    // The evidence that an approval leaves is no second act of whoever gave it.
    const acts = new Set((await world.events('people=true')).map((one) => one.type.replace('dev.tsunagi.', '')));
    expect([acts.has('approval.given'), acts.has('evidence.recorded')]).toEqual([true, false]);
    const [asked] = await world.events('type=deployment.requested&subject=d2');
    expect(asked?.data.rules).toContainEqual(
      expect.objectContaining({ rule: 'approvals', state: 'met', says: '2 of 2 approvals: Mika, Aiko' }),
    );
  });

  it('lets staging take the next only when this one has been there for long enough', async () => {
    const second = await checkout.commitAndPush({ 'server.js': server('two') }, 'Second');
    await world.waitLive('dock', 'staging', second);
    await as('Mika', 'approve', 'r2', '--for', 'dock/production');
    const third = await checkout.commitAndPush({ 'server.js': server('three') }, 'Third');
    const waits = await until('it waits', async () => {
      const { issue } = await world.environment('dock', 'staging');
      return issue?.code === 'release_settles' && issue;
    });
    expect(waits.says).toMatch(/^r3 is not taken yet: r2 is given until .* UTC to be in good health/);
    await world.waitLive('dock', 'staging', third);
    // What may be promoted instead takes the approvals of the one before.
    expect((await promotion(2)).approvals.given).toMatchObject([{ by: 'Mika', counts: false, why: 'withdrawn' }]);
    expect(stateOf(await promotion(2), 'healthy')).toBe('not met');
  });

  it('is overridden by an owner alone, with a reason that stays', async () => {
    const path = '/api/projects/dock/environments/production/deployments';
    const ask = (name: string, override: string) =>
      people[name]?.api.raw('POST', path, {
        body: { kind: 'promote', release: 3, override },
        headers: { 'idempotency-key': crypto.randomUUID() },
      });
    expect((await ask('Mika', 'urgent'))?.body.code).toBe('not_allowed');
    expect((await ask('Ren', '   '))?.body.code).toBe('body_invalid');
    expect((await as('Ren', 'promote', 'r3', ...to, '--override', 'the pier is closed')).status).toBe(0);
    const { live } = await world.environment('dock', 'production');
    expect(live?.override).toMatchObject({ by: 'Ren', why: 'the pier is closed', rules: ['healthy', 'approvals'] });
    const [asked] = await world.events(`type=deployment.requested&subject=d${live?.number}`);
    expect(asked?.data.override).toEqual({ why: 'the pier is closed', rules: ['healthy', 'approvals'] });
    expect((await ask('Ren', 'again'))?.body.code).toBe('already_live');
  });
});

describe('a deployment of the history', () => {
  it('is held to the rules of now, though they were met when it was live', async () => {
    const { live, history } = await world.environment('dock', 'production');
    const first = history.find(({ release }) => release === 1)?.number;
    const again = await as('Mika', 'deploy', `d${first}`, '--to', 'dock/production');
    expect([again.status, again.err]).toEqual([
      1,
      expect.stringMatching(/r1 cannot be deployed to dock\/production: [\s\S]*0 of 2 approvals/),
    ]);
    const now = await world.environment('dock', 'production');
    expect([now.live?.number, now.moving]).toEqual([live?.number, null]);
    // What is live may be deployed again with other variables, and not while it is on hold.
    await as('Mika', 'hold', 'dock/production', '--why', 'counting');
    expect((await as('Mika', 'deploy', `d${live?.number}`, '--to', 'dock/production')).err).toContain(
      'on hold: counting',
    );
    await as('Mika', 'lift', 'dock/production');
    expect((await as('Mika', 'deploy', `d${live?.number}`, '--to', 'dock/production')).status).toBe(0);
  });
});

describe('what nothing is taken in', () => {
  it('is a freeze of an owner, until it ends or is lifted', async () => {
    expect((await as('Mika', 'freeze', 'dock/production', '--for', '2d', '--why', 'storm')).status).toBe(1);
    expect((await as('Ren', 'freeze', 'dock/production', '--for', '1s', '--why', 'storm')).err).toContain(
      'A freeze ends',
    );
    expect((await as('Ren', 'freeze', 'dock/production', '--until', '2026-12-24 12:00', '--why', 'x')).err).toContain(
      'with its zone',
    );
    const { out } = await as('Ren', 'freeze', 'dock/production', '--for', '2d', '--why', 'storm');
    expect(out).toMatch(/takes nothing until .*: storm/);
    expect((await world.environment('dock', 'production')).freeze).toMatchObject({ by: 'Ren', why: 'storm' });
    expect(stateOf(await promotion(2), 'freeze')).toBe('waits');
    await as('Ren', 'freeze', 'dock/staging', '--for', '1h', '--why', 'storm');
    const deployed = await as('Mika', 'deploy', 'r2', '--to', 'dock/staging');
    expect(deployed.err).toMatch(/dock\/staging takes nothing now: frozen by Ren: storm/);
    // Going back is never held up.
    expect((await as('Mika', 'revert', 'dock/production')).status).toBe(0);
    await as('Mika', 'lift', 'dock/production');
    expect((await as('Mika', 'lift', 'dock/production', '--freeze')).status).toBe(1);
    for (const place of ['dock/production', 'dock/staging'])
      expect((await as('Ren', 'lift', place, '--freeze')).out).toContain('not frozen any more');
    expect((await as('Ren', 'lift', 'dock/production', '--freeze')).err).toContain('not frozen by anybody');
  });

  it('are frozen hours, with their calendar', async () => {
    // Both halves of the day: it is frozen whenever this runs.
    const commit = await checkout.commitAndPush(
      { 'tsunagi.yaml': definition(`${strict()}, frozen: ["00:00 to 12:00 Asia/Tokyo", "12:00 to 00:00 Asia/Tokyo"]`) },
      'Frozen',
    );
    await world.waitLive('dock', 'staging', commit);
    const one = await rules();
    expect(one.frozen).toHaveLength(2);
    expect(one.calendar.length).toBeGreaterThan(60);
    const judged = await promotion();
    expect(judged.rules.find(({ rule }) => rule === 'frozen hours')).toMatchObject({
      state: 'not met',
      change: expect.stringContaining('leave no time free'),
    });
    expect((await as('Mika', 'rules', 'dock/production')).out).toMatch(/Nothing is taken[\s\S]*Asia\/Tokyo/);
  });
});

describe('rules that main loosens', () => {
  it('count on until a releaser accepts that, and stricter ones at once', async () => {
    const commit = await checkout.commitAndPush(
      { 'tsunagi.yaml': definition('after: staging, approvals: 3') },
      'Looser, and stricter',
    );
    await world.waitLive('dock', 'staging', commit);
    const before = await rules();
    expect(before).toMatchObject({ approvals: 3, healthyMs: healthy * 1_000, definition: commit });
    expect(before.loosened.map(({ rule }) => rule)).toEqual(['frozen hours', 'healthy']);
    expect((await world.environment('dock', 'production')).loosened).toHaveLength(2);
    const [told] = await world.events('type=rules.loosened&subject=dock/production');
    expect(told?.data.waits).toContain(`healthy: ${durationText(healthy * 1_000)}; no time instead`);
    expect((await as('Sora', 'rules', 'dock/production', '--accept')).status).toBe(1);
    const other = await people.Mika?.api.raw('POST', '/api/projects/dock/environments/production/rules', {
      body: { commit: 'a'.repeat(40) },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect(other?.body.code).toBe('rules_moved');
    expect((await as('Mika', 'rules', 'dock/production', '--accept')).out).toContain(
      `accepted: healthy: ${durationText(healthy * 1_000)}`,
    );
    expect(await rules()).toMatchObject({ healthyMs: 0, frozen: [], loosened: [] });
    expect((await as('Mika', 'rules', 'dock/production', '--accept')).err).toContain('count already');
  });

  it('keep an environment behind the one before it, though main would let a branch in, or declares it no more', async () => {
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': definition('branch: main') }, 'Straight to it');
    await world.waitLive('dock', 'staging', commit);
    const one = await world.environment('dock', 'production');
    expect([one.after, one.branch, one.live?.commit.id === commit]).toEqual(['staging', null, false]);
    expect((await as('Sora', 'deploy', `r${(await latest()).release}`, '--to', 'dock/production')).err).toContain(
      'takes releases after another environment',
    );
  });

  it('are judged again when the traffic moves: a freeze that came meanwhile keeps what serves', async () => {
    const slow = await checkout.commitAndPush(
      {
        'server.js': server('slow'),
        'tsunagi.yaml': definition('after: staging').replace('start: node', 'start: sleep 6; node'),
      },
      'Slow',
    );
    const live = (await world.waitLive('dock', 'staging', slow)).live;
    await as('Mika', 'rules', 'dock/production', '--accept');
    const asked = await world.act('dock', 'production', { kind: 'promote', release: live?.release as number });
    await as('Ren', 'freeze', 'dock/production', '--for', '1h', '--why', 'storm');
    const ended = await world.waitDeployment('dock', asked.number);
    expect(ended).toMatchObject({ state: 'failed', failure: { code: 'rules_not_met' } });
    expect(ended.failure?.says).toContain('frozen by Ren: storm');
    await as('Ren', 'lift', 'dock/production', '--freeze');
  });

  it('let it be taken by itself as soon as they allow that, where promotion is automatic', async () => {
    const commit = await checkout.commitAndPush(
      {
        'server.js': server('auto'),
        'tsunagi.yaml': definition('after: { environment: staging, healthy: 3s }, promotion: automatic, approvals: 1'),
      },
      'Automatic',
    );
    await world.waitLive('dock', 'staging', commit);
    const waits = await until('it says what it waits for', async () => {
      const one: EnvironmentDetail = await world.environment('dock', 'production');
      if (one.loosened.length) await as('Mika', 'rules', 'dock/production', '--accept');
      return one.issue?.code === 'promotion_waits' && one.issue;
    });
    expect(waits.says).toMatch(/^r\d+ is not taken yet: .*0 of 1 approval/);
    const { release } = await latest();
    await as('Aiko', 'approve', `r${release}`, '--for', 'dock/production');
    const one = await world.waitLive('dock', 'production', commit);
    expect(one).toMatchObject({ live: { kind: 'automatic' }, issue: null });
  });

  it('let it be taken by itself when somebody who has approved it has their role again', async () => {
    await as('Ren', 'freeze', 'dock/production', '--for', '1h', '--why', 'storm');
    const commit = await checkout.commitAndPush({ 'server.js': server('again') }, 'Again');
    await world.waitLive('dock', 'staging', commit);
    await as('Aiko', 'approve', `r${(await latest()).release}`, '--for', 'dock/production');
    await world.api().post('/api/people/Aiko/role', { role: 'developer' });
    await as('Ren', 'lift', 'dock/production', '--freeze');
    await until('it waits for an approval alone', async () => {
      const says = (await world.environment('dock', 'production')).issue?.says ?? '';
      return says.includes('0 of 1 approval') && !says.includes('good health') && !says.includes('storm');
    });
    await world.api().post('/api/people/Aiko/role', { role: 'releaser' });
    await world.waitLive('dock', 'production', commit);
  });
});

const latest = async () => {
  const { live } = await world.environment('dock', 'staging');
  return live as NonNullable<typeof live>;
};
