/** A release that was made in one house and goes through another one's environments, by that one's rules. */
import { execFile } from 'node:child_process';
import { copyFileSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createPrivateKey } from 'node:crypto';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { layoutOf } from '../../src/core/release/layout.js';
import { type Envelope, seal, type Statement } from '../../src/core/release/envelope.js';
import type { Board } from '../../src/wire/overview.js';
import type { Promotion, Release } from '../../src/wire/releases.js';
import { pack } from 'tar-stream';
import { app, appDefinition, type Checkout, openWorld, until, type World } from './world.js';

const run = promisify(execFile);
let there: World;
let here: World;
let site: Checkout;
let file: string;
let keys: string;

/** What the site that gets releases says of itself: its environments, and nothing that builds. */
const siteDefinition = appDefinition
  .replace(/tasks:[\s\S]*?release:\n {2}needs: \[unit\]\n/, 'release:\n')
  .replace('verify: { reads: [check.js, package.json], run: node check.js }', 'verify: { run: "true" }');

const imported = (world: World, path = file, key = keys) =>
  world.cli('release', 'import', path, '--key', key, '--project', 'shop');

beforeAll(async () => {
  [there, here] = [await openWorld(), await openWorld()];
  const made = await there.hosted('shop', { ...app('from elsewhere'), 'tsunagi.yaml': appDefinition });
  await made.checkout.push();
  await there.waitLive('shop', 'staging', made.first);
  file = join(there.folder, 'shop-r1.tar');
  keys = join(there.folder, 'keys.json');
  writeFileSync(keys, (await there.cli('key', 'list', '--json')).out);
  await there.cli('release', 'export', 'r1', '--project', 'shop', '--to', file);
  ({ checkout: site } = await here.hosted('shop', { ...app('its own'), 'tsunagi.yaml': siteDefinition }));
  await site.push();
  await until('staging', () => here.environment('shop', 'staging').catch(() => null));
});
afterAll(async () => {
  await here?.close();
  await there?.close();
});

describe('a release from elsewhere', () => {
  it('is refused by keys that have not signed it, and nothing of it is kept', async () => {
    const own = join(here.folder, 'own.json');
    writeFileSync(own, (await here.cli('key', 'list', '--json')).out);
    const before = readdirSync(join(here.folder, 'house/service/blobs/blobs/sha256')).length;
    const { status, err } = await imported(here, file, own);
    expect([status === 0, err]).toEqual([false, expect.stringMatching(/None of the given keys vouches/)]);
    const bytes = readFileSync(file);
    writeFileSync(`${file}.cut`, bytes.subarray(0, bytes.length - 5_000));
    expect((await imported(here, `${file}.cut`)).err).toMatch(/no whole export/);
    writeFileSync(`${file}.none`, '');
    expect((await imported(here, `${file}.none`)).err).toMatch(/no whole export/);
    expect(readdirSync(join(here.folder, 'house/service/blobs/blobs/sha256'))).toHaveLength(before);
    expect(readdirSync(join(here.folder, 'house/service/blobs/incoming'))).toEqual([]);
  });

  it('is taken in by an owner alone', async () => {
    const { token } = await here.api().post<{ token: string }>('/api/tokens', { name: 'releaser', role: 'releaser' });
    const x = JSON.parse(readFileSync(keys, 'utf8')).keys[0].x;
    const send = (
      query: string,
      headers: Record<string, string>,
      body: Uint8Array<ArrayBuffer> | string = new Uint8Array(readFileSync(file)),
    ) => fetch(`${here.url}/api/projects/shop/releases/import?${query}`, { method: 'POST', headers, body });
    const type = { 'content-type': 'application/x-tar' };
    expect((await send(`key=${x}`, { ...type, authorization: `Bearer ${token}` })).status).toBe(403);
    expect((await send(`key=${x}`, type)).status).toBe(401);
    const owner = { authorization: `Bearer ${here.house.token}` };
    expect((await send('key=short', { ...owner, ...type })).status).toBe(400);
    expect((await send('', { ...owner, ...type })).status).toBe(400);
    expect((await send(`key=${x}`, { ...owner, 'content-type': 'application/json' }, '{}')).status).toBe(415);
  });

  it('is one of this house, once, also where two bring it at the same time', async () => {
    const answers = await Promise.all([imported(here), imported(here)]);
    expect(answers.map(({ status, err }) => [status, err])).toEqual([
      [0, ''],
      [0, ''],
    ]);
    expect(answers[0]?.out).toMatch(/shop r\d+ is what was made as shop r1 at http/);
    const again = await imported(here);
    expect(again.out.split('\n')[0]).toBe(answers[0]?.out.split('\n')[0]);
    const { items } = await here.api().get<{ items: Release[] }>('/api/projects/shop/releases');
    const found = items.filter((one) => one.imported);
    expect(found).toHaveLength(1);
    expect(found[0]).toMatchObject({
      digest: (await there.release('shop', 1)).digest,
      run: null,
      imported: { service: there.url, project: 'shop', number: 1 },
    });
    const told = await until('it is told', async () => (await here.events('type=release.imported'))[0]);
    expect(told).toMatchObject({ subject: `r${found[0]?.number}`, data: { service: there.url } });
    const list = await here.cli('release', 'list', '--project', 'shop');
    expect(list.out).toMatch(/import/);
    expect((await here.cli('release', 'show', `r${found[0]?.number}`, '--project', 'shop')).out).toMatch(
      /import +shop r1/,
    );
  });

  it('goes to staging and on to production by the rules of here', async () => {
    const { items } = await here.api().get<{ items: Release[] }>('/api/projects/shop/releases');
    const release = items.find((one) => one.imported) as Release;
    const look = (name: string) =>
      here.api().get<Promotion>(`/api/projects/shop/environments/${name}/promotion?release=${release.number}`);
    // What was verified there counts for nothing here.
    const before = await look('production');
    expect(before.allowed).toBe(false);
    expect(before.rules.map(({ rule, state }) => [rule, state])).toEqual(
      expect.arrayContaining([
        ['tasks', 'met'],
        ['verified', 'not met'],
      ]),
    );
    expect(before.rules.find(({ rule }) => rule === 'tasks')?.says).toMatch(/made and tested at http.* as shop r1/);
    const { number } = await here.act('shop', 'staging', { kind: 'deploy', release: release.number });
    expect((await here.waitDeployment('shop', number)).state).toBe('live');
    expect((await here.visit('shop-staging.localhost', '/api')).text).toMatch(/from elsewhere/);
    expect((await here.visit('shop-staging.localhost', '/')).text).toMatch(/from elsewhere/);
    await until('it may go on', async () => (await look('production')).allowed);
    const promoted = await here.act('shop', 'production', { kind: 'promote', release: release.number });
    expect((await here.waitDeployment('shop', promoted.number)).state).toBe('live');
    const { url } = await here.environment('shop', 'production');
    expect((await here.visit(new URL(url).hostname, '/api')).text).toMatch(/from elsewhere/);
    const board = await here.api().get<Board>('/api/board');
    expect(JSON.stringify(board)).toMatch(/production/);
    const compared = await here.cli('compare', 'production', 'r1', '--project', 'shop');
    expect([compared.status, compared.err]).toEqual([0, '']);
  });

  it('is not passed on as if it had been made here', async () => {
    const { items } = await here.api().get<{ items: Release[] }>('/api/projects/shop/releases');
    const { number } = items.find((one) => one.imported) as Release;
    const { err, status } = await here.cli('release', 'export', `r${number}`, '--project', 'shop', '--to', `${file}.2`);
    expect([status === 0, err]).toEqual([false, expect.stringMatching(/was made at http.*cannot say how/)]);
  });

  it('says that files are missing which `verify` reads, until their commit is here', async () => {
    const { items } = await here.api().get<{ items: Release[] }>('/api/projects/shop/releases');
    const release = items.find((one) => one.imported) as Release;
    const reading = await site.commitAndPush({
      'tsunagi.yaml': siteDefinition.replace(
        '{ run: "true" }',
        '{ reads: [check.js, package.json], run: node check.js }',
      ),
    });
    await here.waitLive('shop', 'staging', reading);
    const ask = () => here.act('shop', 'staging', { kind: 'deploy', release: release.number });
    await expect(ask()).rejects.toMatchObject({ code: 'release_without_files' });
    await site.git('fetch', '-q', join(there.folder, 'shop'), 'main');
    await site.git('push', '-q', 'origin', 'FETCH_HEAD:refs/heads/from-elsewhere');
    const asked = await until('its commit is here', ask);
    const done = await here.waitDeployment('shop', asked.number);
    expect([done.state, done.failure?.says ?? null]).toEqual(['live', null]);
  });
});

/** The export again, with what is stated changed and signed anew by the key that signed it. */
async function restated(change: (predicate: Record<string, never>) => void): Promise<string> {
  const read = async (name: string) =>
    (await run('tar', ['-xOf', file, name], { encoding: 'buffer', maxBuffer: 1e8 })).stdout;
  const names = (await run('tar', ['-tf', file])).stdout.trim().split('\n');
  const files = new Map<string, Buffer>();
  for (const name of names) files.set(name, await read(name));
  const blob = <T>(digest: string) => JSON.parse(String(files.get(`blobs/sha256/${digest.slice(7)}`))) as T;
  const { manifests } = JSON.parse(String(files.get('index.json'))) as {
    manifests: { digest: string; size: number; artifactType?: string; annotations?: Record<string, string> }[];
  };
  const key = createPrivateKey(readFileSync(join(there.folder, 'house/service/keys/release.pem')));
  const envelopes = {} as Record<'provenance' | 'evidence', Envelope>;
  for (const one of manifests.filter(({ artifactType }) => artifactType)) {
    const manifest = blob<{ config: { digest: string }; layers: { digest: string }[] }>(one.digest);
    const body = blob<Envelope>(manifest.layers[0]?.digest as string);
    const statement = JSON.parse(Buffer.from(body.payload, 'base64').toString()) as Statement;
    const kind = one.artifactType?.includes('evidence') ? 'evidence' : 'provenance';
    if (kind === 'evidence') change(statement.predicate as never);
    envelopes[kind] = seal(statement, [key]);
    for (const digest of [one.digest, manifest.layers[0]?.digest as string, manifest.config.digest])
      files.delete(`blobs/sha256/${digest.slice(7)}`);
  }
  const [release, ...parts] = manifests.filter(({ artifactType }) => !artifactType);
  const { index, documents } = layoutOf(
    {
      number: 1,
      digest: release?.digest as string,
      size: release?.size as number,
      parts: parts.map(({ digest, size, annotations }) => ({
        digest,
        size,
        name: String(annotations?.['org.opencontainers.image.ref.name']).slice('r1-'.length),
      })),
    },
    envelopes,
  );
  const tar = pack();
  files.set('index.json', Buffer.from(index));
  for (const { digest, text } of documents) files.set(`blobs/sha256/${digest.slice(7)}`, Buffer.from(text));
  for (const [name, content] of files) tar.entry({ name }, content);
  tar.finalize();
  const chunks: Buffer[] = [];
  for await (const chunk of tar) chunks.push(chunk as Buffer);
  const path = join(there.folder, `${Math.random()}.tar`);
  writeFileSync(path, Buffer.concat(chunks));
  return path;
}

describe('what is stated, though a trusted key has signed it', () => {
  it('is taken when nothing is changed in it', async () => {
    copyFileSync(keys, `${keys}.same`);
    expect((await imported(here, await restated(() => {}))).err).toBe('');
  });

  it.each<
    [
      string,
      RegExp,
      (predicate: {
        plan: { parts: Record<string, Record<string, unknown>> } & Record<string, unknown>;
        line: string;
        commit: { id: string };
      }) => void,
    ]
  >([
    [
      'a folder outside',
      /a path of its part page cannot be/,
      ({ plan }) => void (plan.parts.page = { ...plan.parts.page, root: '../../..' }),
    ],
    [
      'a kind of part that there is not',
      /its plan has another form/,
      ({ plan }) => void (plan.parts.page = { ...plan.parts.page, kind: 'ship' }),
    ],
    ['a member that nobody knows', /its plan has another form/, ({ plan }) => void (plan.crew = 1)],
    [
      'a part without bytes',
      /its part more is not among/,
      ({ plan }) => void (plan.parts.more = { ...plan.parts.page, name: 'more' } as never),
    ],
    [
      'prepare in no part',
      /prepare runs in no part/,
      ({ plan }) => void (plan.prepare = { part: 'none', run: 'x', again: true, stops: false }),
    ],
    [
      'a variable from nowhere',
      /variable X comes from nowhere/,
      ({ plan }) => void (plan.variables = { X: { kind: 'resource', resource: 'none', field: 'url', append: '' } }),
    ],
    ['what a stranger wrote', /a stranger has written/, (predicate) => void (predicate.line = 'pr-4')],
    ['no commit', /no form that is known/, (predicate) => void (predicate.commit.id = '--upload-pack=x')],
  ])('is refused with %s', async (_what, says, change) => {
    const { err, status } = await imported(here, await restated(change as never));
    expect([status === 0, err]).toEqual([false, expect.stringMatching(says)]);
  });
});
