/** New data is filled once: after prepare, before any program sees it, and again when a review begins anew. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { type Checkout, openWorld, until, type World } from './world.js';

const files = (text: string): Record<string, string> => ({
  'prepare.sh': 'psql "$DATABASE_URL" -qc "create table if not exists sailings (name text)"\n',
  'seed.sh': 'psql "$DATABASE_URL" -qc "insert into sailings values (\'Hoshi $TSUNAGI_ENVIRONMENT\')"; echo filled\n',
  'text.txt': text,
});
const definition = (seed: string) => `tsunagi: 1
release:
  parts: { api: { kind: server, files: [prepare.sh, seed.sh, server.js, package.json, text.txt], start: node server.js, ready: /ready } }
  resources: { timetable: { kind: postgres } }
  prepare: { part: api, run: bash prepare.sh }
  variables: { DATABASE_URL: { from: timetable.url } }
environments:
  review: { for: pull requests, seed: { part: api, run: ${seed} } }
  staging: { branch: main }
`;
/** A server that asks the database by its own client: no package is there. */
const server = `import { createServer } from 'node:http';
import { execFile } from 'node:child_process';
createServer((request, response) => {
  if (request.url === '/ready') return response.end('ready');
  execFile('psql', [process.env.DATABASE_URL, '-Atc', "select count(*) || ' ' || coalesce(min(name), '') from sailings"], (error, out) => response.end(error ? String(error) : out.trim()));
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;

let world: World;
let checkout: Checkout;
const name = 'on-winter';
const host = 'on-winter-shop.review.localhost';
const rows = async () => (await world.visit(host, '/')).text;
const push = async (change: Record<string, string>, title: string) => {
  const commit = await checkout.commit(change, title);
  await checkout.push('winter');
  return commit;
};
beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('shop', {
    ...files('main'),
    'server.js': server,
    'package.json': '{ "type": "module" }\n',
    'tsunagi.yaml': definition('bash seed.sh'),
  }));
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
  await checkout.git('checkout', '-qb', 'winter');
});
afterAll(() => world?.close());

describe('the data of a review', () => {
  it('is filled before its programs see it, once; that of other environments is not', async () => {
    const commit = await push({ 'text.txt': 'one\n' }, 'One');
    await world.api().post('/api/projects/shop/reviews', { branch: 'winter' });
    await world.waitLive('shop', name, commit);
    expect(await rows()).toBe(`1 Hoshi ${name}`);
    const next = await push({ 'text.txt': 'two\n' }, 'Two');
    await world.waitLive('shop', name, next);
    expect(await rows()).toMatch(/^1 Hoshi/);
    expect((await world.visit('shop-staging.localhost', '/')).text).toBe('0');
  });

  it('is filled again when it begins anew', async () => {
    const before = (await world.environment('shop', name)).review?.openedAt;
    const done = await world.cli('review', 'reset', `shop/${name}`, '--yes');
    expect(done).toMatchObject({ status: 0, err: '' });
    await until('it is live again', async () => {
      const one = await world.environment('shop', name);
      return one.state === 'live' && one.moving === null && one.review?.openedAt !== before;
    });
    expect(await rows()).toMatch(/^1 Hoshi/);
  });

  it('that can’t be filled fails the deployment, in words, and the next one fills it', async () => {
    await world.cli('review', 'close', `shop/${name}`);
    const broken = await push({ 'seed.sh': 'echo "no fixtures here"; exit 7\n' }, 'Broken');
    await until('it is a release', async () => (await world.waitRun('shop', broken, 'winter')).release !== null);
    // Nobody but who has closed it opens it again: it has no pull request.
    await world.api().post('/api/projects/shop/reviews', { branch: 'winter' });
    const failed = await until('the deployment has failed', async () => {
      const { failed: one } = await world.environment('shop', name);
      return one?.commit.id === broken ? one : null;
    });
    expect(failed.failure?.says).toMatch(/^seed failed: .*7/);
    expect(failed.failure?.next).toContain('review reset');
    const mended = await push({ 'seed.sh': files('')['seed.sh'] as string }, 'Mended');
    await world.waitLive('shop', name, mended);
    expect(await rows()).toMatch(/^1 Hoshi/);
  });
});
