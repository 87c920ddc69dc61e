/** What is told to others: badges, and the states of runs to their code host. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import { badgeSvg } from '../../src/core/badge.js';
import type { Project } from '../../src/wire/projects.js';
import { notified, startCodeHost } from './codehost.js';
import { api, type Checkout, openWorld, until, type World } from './world.js';

const good = 'tsunagi: 1\ntasks: { unit: { reads: [a.txt], run: test "$(cat a.txt)" != bad } }\n';

let world: World;
let codehost: CodeHost;
let checkout: Checkout;
let first: string;
beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  ({ checkout, first } = await notified(world, codehost, 'sloop', { 'a.txt': 'good', 'tsunagi.yaml': good }));
  await world.waitRun('sloop', first);
});
afterAll(async () => {
  await codehost?.close();
  await world?.close();
});

const project = () => world.api().get<Project>('/api/projects/sloop');
const told = (commit: string) => codehost.statuses('sloop')[commit]?.state;

describe('the states of runs', () => {
  it('are told to the code host, signed, from when that is asked for', async () => {
    expect((await world.cli('project', 'report-to', 'sloop', codehost.statusUrl('sloop'))).out).toContain(
      'are sent to',
    );
    const commit = await checkout.commitAndPush({ 'b.txt': 'b' }, 'Passes');
    await until('it is told', async () => told(commit) === 'passed');
    expect(codehost.statuses('sloop')[commit]).toMatchObject({ url: expect.stringMatching(/\/sloop\/runs\/\d+$/) });
    const bad = await checkout.commitAndPush({ 'a.txt': 'bad' }, 'Fails');
    await until('it is told', async () => told(bad) === 'failed');
    expect(told(first)).toBeUndefined();
  });

  it('are told later, in order, when the code host was busy; until then the project says why', async () => {
    codehost.refuse(3);
    const commit = await checkout.commitAndPush({ 'a.txt': 'better' }, 'Again');
    await until('it is said', async () => (await project()).statusIssue?.code === 'status_refused');
    await until('it is told', async () => told(commit) === 'passed');
    await until('it is over', async () => (await project()).statusIssue === null);
  });

  it('survive a kill of the service', async () => {
    codehost.refuse(2);
    const commit = await checkout.commitAndPush({ 'a.txt': 'best' }, 'Killed');
    await world.waitRun('sloop', commit);
    process.kill(world.house.rooms.service.pid() as number, 'SIGKILL');
    await until('it is told all the same', async () => told(commit) === 'passed');
  });

  it.each([
    ['ssh://code.kohama.example/x', 'url_refused'],
    ['https://a:b@code.kohama.example/x', 'url_refused'],
    ['nonsense', 'url_refused'],
    ['https://nowhere.kohama.example/x', 'source_host'],
  ])('are not told to %s', async (statuses, code) => {
    const answer = await world.api().raw('POST', '/api/projects/sloop/change', {
      body: { statuses },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect(answer.body.code).toBe(code);
  });

  it('are told by projects of a code host alone, which has a secret to check them with', async () => {
    await world.hosted('raft', { 'a.txt': 'x' });
    expect((await world.cli('project', 'report-to', 'raft', 'https://code.kohama.example/x')).err).toContain(
      'only projects of a code host',
    );
  });

  it('stop being told when that is asked for', async () => {
    expect((await world.cli('project', 'report-to', 'sloop')).out).toContain('are sent to nobody');
    expect(await project()).toMatchObject({ statuses: null });
  });
});

describe('a badge', () => {
  const picture = async (url: string) => {
    const answer = await fetch(url);
    return { status: answer.status, type: answer.headers.get('content-type'), text: await answer.text() };
  };
  it('shows how the main branch stands, or another one, to whoever has its address', async () => {
    const { badge } = await project();
    expect(await picture(badge)).toMatchObject({
      status: 200,
      type: 'image/svg+xml; charset=utf-8',
      text: expect.stringContaining('sloop: passed'),
    });
    expect((await picture(`${badge}&branch=nowhere`)).text).toContain('sloop nowhere: not run yet');
    const failing = await checkout.commitAndPush({ 'a.txt': 'bad' }, 'Bad again', 'topic');
    await world.waitRun('sloop', failing, 'topic');
    expect((await picture(`${badge}&branch=topic`)).text).toContain('sloop topic: failed');
  });

  it('tells nobody else whether there is such a project', async () => {
    const { badge } = await project();
    const wrong = await picture(badge.replace(/key=.*/, `key=${'0'.repeat(24)}`));
    expect(wrong.status).toBe(404);
    expect((await picture(badge.replace('/sloop.svg', '/nothing.svg'))).status).toBe(404);
    expect((await picture(badge.replace(/\?.*/, ''))).status).toBe(404);
    const viewer = await world.api().post<{ token: string }>('/api/tokens', { name: 'viewer', role: 'viewer' });
    expect((await api(world.url, viewer.token).get<Project>('/api/projects/sloop')).badge).toBe(badge);
  });

  it('shows names as text alone', () => {
    const svg = badgeSvg('<script>"&\'</script>', 'failed');
    expect(svg).not.toContain('<script>');
    expect(svg).toContain('&#60;script&#62;&#34;&#38;&#39;');
    expect(badgeSvg('x'.repeat(300), 'passed').length).toBeLessThan(1_500);
    for (const state of ['passed', 'failed', 'running', 'none'] as const)
      expect(badgeSvg('sailings', state)).toMatch(/^<svg [^>]*aria-label="sailings: [a-z ]+"/);
  });
});
