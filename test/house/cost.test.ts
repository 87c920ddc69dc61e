/** What environments cost: figures of hours at the prices that an owner has set. The figures alone are written by hand. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { monthOf } from '../../src/core/cost/cost.js';
import { firstIdFrom } from '../../src/records/ids.js';
import { openRecords, query, queryOne, type Records } from '../../src/records/database.js';
import type { Cost } from '../../src/wire/environments/cost.js';
import { openBrowser, signedIn, violations } from './browser.js';
import type { EnvironmentDetail, LastLook } from '../../src/wire/environments/environments.js';
import { openWorld, until, type World } from './world.js';

const definition = `tsunagi: 1
tasks:
  unit: { reads: [a.txt], run: sleep 1 }
release:
  needs: [unit]
  parts:
    page: { kind: site, files: [web/], root: web }
environments:
  staging: { branch: main }
`;

let world: World;
let records: Records;
beforeAll(async () => {
  world = await openWorld();
  records = openRecords({ url: world.house.database, pool: 1 });
  const { checkout, first } = await world.hosted('wharf', {
    'a.txt': 'a',
    'web/index.html': 'x',
    'tsunagi.yaml': definition,
  });
  await checkout.push();
  await world.waitLive('wharf', 'staging', first);
  await checkout.commitAndPush({ 'web/index.html': 'y' }, 'Another page');
  await world.waitRun('wharf', await checkout.git('rev-parse', 'HEAD'));
  // One that can't go live yet: a variable is missing.
  const quays = await world.hosted('quays', {
    'web/index.html': 'x',
    'server.js': 'x',
    'migrations/1.sql': 'select 1;',
    'tsunagi.yaml': `tsunagi: 1
release:
  parts:
    page: { kind: site, files: [web/], root: web }
    api: { kind: server, start: node server.js, at: /api, instances: 2, memory: 512M, cpu: 0.5 }
  resources: { notes: { kind: postgres } }
  prepare: { part: api, run: "true" }
  migrations: { files: [migrations/] }
  variables: { NEEDED: { about: what it needs } }
environments:
  staging: { branch: main }
`,
  });
  await quays.checkout.push();
  await until('a release', async () => (await world.release('quays', 1)).number === 1);
  const environment = await queryOne<{ id: string }>(
    records,
    `select e.id from environments e join projects p on p.id = e.project_id where e.name = 'staging' and p.name = 'wharf'`,
  );
  const hour = new Date(Math.max(monthOf(Date.now()).from, Math.floor(Date.now() / 3_600_000) * 3_600_000));
  // Two GiB and half a core for an hour.
  await query(
    records,
    `insert into figures (step, at, environment_id, deployment, part, instance, requests, errors, bytes, times, cpu, memory)
     values (3600, $2, $1, 1, 'page', '', 0, 0, 0, '{}', 1800000, 2147483648)`,
    [environment?.id, hour],
  );
});
afterAll(async () => {
  await records?.close();
  await world?.close();
});

describe('cost', () => {
  it('says what was taken, and nothing of money before an owner has set prices', async () => {
    const told = await world.cli('cost');
    expect(told.out).toMatch(/wharf\/staging +2\.00 GiB·h +0\.50 core·h/);
    expect(told.out).toContain('No prices are set');
    expect((await world.api().get<Cost>('/api/cost')).items[0]).toMatchObject({ soFar: null, forecast: null });
  });

  it('reckons with the prices, foretells the month, and says what reuse has saved', async () => {
    const told = await world.cli('cost', 'wharf', '--set-memory', '0.25', '--set-cpu', '1', '--currency', 'EUR');
    expect(told.err).toBe('');
    expect(told.out).toMatch(/wharf\/staging .* 1\.00 EUR +[\d.]+ EUR/);
    expect(told.out).toMatch(/wharf: 1 tasks were reused, 0\.00 hours/);
    const cost = await world.api().get<Cost>('/api/cost?project=wharf');
    expect(cost.items[0]?.soFar).toBeCloseTo(1);
    expect(cost.items[0]?.forecast).toBeGreaterThanOrEqual(1);
    expect(cost.saved[0]?.amount).toBeGreaterThan(0.0002);
    // One of them alone may be changed.
    await world.cli('cost', '--set-cpu', '3');
    expect((await world.api().get<Cost>('/api/cost')).prices).toMatchObject({ memory: 0.25, cpu: 3, currency: 'EUR' });
    expect((await world.events('type=prices.set')).length).toBe(2);
  });

  it('has prices that owners set, and refuses what is none', async () => {
    const { token } = await world.api().post<{ token: string }>('/api/tokens', { name: 'rel', role: 'releaser' });
    const body = { currency: 'EUR', memory: 1, cpu: 1 };
    const headers = { 'idempotency-key': 'prices-12345' };
    expect((await world.api(token).raw('POST', '/api/prices', { body, headers })).status).toBe(403);
    for (const wrong of [
      { ...body, memory: -1 },
      { ...body, currency: 'euro' },
      { ...body, cpu: 'x' },
    ])
      expect((await world.api().raw('POST', '/api/prices', { body: wrong, headers })).status).toBe(400);
    expect((await world.cli('cost', '--set-cpu', 'much')).status).toBe(2);
    expect((await world.cli('cost', 'nothing')).err).toContain('nothing');
  });

  it('finds this month’s runs by their ids', () => {
    const at = Date.UTC(2026, 10, 1);
    expect(firstIdFrom(at)).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7000-8000-0{12}$/);
    expect(Number.parseInt(firstIdFrom(at).replace('-', '').slice(0, 12), 16)).toBe(at);
  });

  it('of a deployment is said before it is made, with all that it would make', async () => {
    const look = await world.api().get<LastLook>('/api/projects/quays/environments/staging/look?release=1');
    expect(look).toMatchObject({
      release: 1,
      parts: [
        { name: 'page', kind: 'site', size: null },
        { name: 'api', kind: 'server', size: { instances: 2, memory: 512 * 1024 ** 2, cpu: 0.5 } },
      ],
      resources: [{ name: 'notes', kind: 'postgres', there: false }],
      addresses: [{ host: 'quays-staging.localhost', there: true }],
      unset: ['NEEDED'],
      migrations: [{ path: 'migrations/1.sql', what: 'new' }],
      prepare: 'true',
      currency: 'EUR',
    });
    // One GiB and one core, for a month, at 0.25 and 3.
    expect(look.memoryCost).toBeCloseTo(0.25 * 730);
    expect(look.processorCostAtMost).toBeCloseTo(3 * 730);
    const { out, err } = await world.cli('deploy', 'r1', '--to', 'quays/staging', '--look');
    expect(err).toBe('');
    expect(out).toMatch(/api +server +2 +512/);
    expect(out).toContain('postgres notes  is made');
    expect(out).toContain('nobody has set NEEDED');
    expect(out).toMatch(/About 182\.50 EUR a month for memory, and 2190\.00 EUR at most for the processor\./);
    expect((await world.api().get<EnvironmentDetail>('/api/projects/quays/environments/staging')).live).toBeNull();
    expect((await world.cli('deploy', 'd1', '--to', 'quays/staging', '--look')).status).toBe(2);
    expect((await world.cli('deploy', 'r9', '--to', 'quays/staging', '--look')).err).toContain('r9');
  });

  it('is shown in the console, where owners set the prices', async () => {
    const browser = await openBrowser();
    try {
      const errors: string[] = [];
      const page = await signedIn(browser, world, errors);
      await page.goto(`${world.url}/wharf`);
      const card = page.getByLabel('Cost', { exact: true });
      await card.getByText('staging').waitFor();
      await card.getByText('Prices').click();
      await page.getByLabel('One GiB for an hour').fill('1');
      await page.getByLabel('One core for an hour').fill('4');
      expect(await violations(page)).toEqual([]);
      await page.getByRole('button', { name: 'Set for all projects' }).click();
      // Two GiB and half a core for an hour.
      await card.getByText('4.00 EUR').first().waitFor();
      await page.goto(`${world.url}/wharf/staging`);
      await page.getByText('This month it has cost 4.00 EUR so far').waitFor();
      expect(errors).toEqual([]);
    } finally {
      await browser.close();
    }
  });
});
