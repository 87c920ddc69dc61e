/** A release leaves the house: read by programs that know images, checked by whoever has the keys. */
import { execFile, spawn } from 'node:child_process';
import { createHash, createPublicKey } from 'node:crypto';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { crypto as others, dsse } from '@sigstore/core';
import type { Envelope } from '../../src/core/release/envelope.js';
import type { KeySet, ReleaseDetail } from '../../src/wire/releases.js';
import { app, appDefinition, type Checkout, cli, openWorld, until, type World } from './world.js';

const run = promisify(execFile);
let world: World;
let checkout: Checkout;
let release: ReleaseDetail;
let file: string;
let keys: string;

const skopeo = async (...args: string[]): Promise<string> =>
  (await run('skopeo', ['--insecure-policy', ...args], { encoding: 'utf8', maxBuffer: 1e8 })).stdout;
const sha = (text: string | Buffer) => `sha256:${createHash('sha256').update(text).digest('hex')}`;

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('shop', { ...app('one'), 'tsunagi.yaml': appDefinition }));
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
  release = await world.release('shop', 1);
  file = join(world.folder, 'shop-r1.tar');
  keys = join(world.folder, 'keys.json');
  writeFileSync(keys, (await world.cli('key', 'list', '--json')).out);
});
afterAll(() => world?.close());

/** The JSON of a blob of the export. */
const blob = async <T>(digest: string): Promise<T> =>
  JSON.parse((await run('tar', ['-xOf', file, `blobs/sha256/${digest.slice(7)}`], { maxBuffer: 1e8 })).stdout) as T;

describe('an exported release', () => {
  it('is written to a file, and not over one that is there', async () => {
    const { out, status } = await world.cli('release', 'export', 'r1', '--project', 'shop', '--to', file);
    expect(status).toBe(0);
    expect(out).toMatch(/shop r1 is written to .*shop-r1\.tar/);
    expect(existsSync(`${file}.part`)).toBe(false);
    const again = await world.cli('release', 'export', 'r1', '--project', 'shop', '--to', file);
    expect([again.status, again.err]).toEqual([
      expect.not.stringMatching(/^0$/),
      expect.stringMatching(/is there already/),
    ]);
    const absent = await world.cli('release', 'export', 'r99', '--project', 'shop', '--to', `${file}.99`);
    expect(absent.err).toMatch(/r99 of shop/);
    expect(existsSync(`${file}.99`) || existsSync(`${file}.99.part`)).toBe(false);
  });

  it('is checked with no service, and says what is in it', async () => {
    // Nobody is signed in where this runs.
    const { out, status } = await cli(['release', 'verify', file, '--key', keys]);
    expect(status).toBe(0);
    expect(out).toMatch(/shop r1 is whole/);
    expect(out).toContain(release.digest);
    for (const part of release.parts) expect(out).toContain(part.digest.slice(0, 19));
    expect(out).toMatch(/verification +staging/);
    const asJson = JSON.parse((await cli(['release', 'verify', file, '--key', keys, '--json'])).out);
    expect(asJson).toMatchObject({ project: 'shop', number: 1, digest: release.digest });
    expect(asJson.evidence.map((one: { evidence: string }) => one.evidence)).toEqual(
      release.evidence.map(({ evidence }) => evidence),
    );
  });

  it('is refused with a bit changed, by another key, and without one', async () => {
    const bytes = readFileSync(file);
    const layer = bytes.indexOf('server.js');
    bytes[layer + 600] = (bytes[layer + 600] as number) ^ 1;
    writeFileSync(`${file}.bad`, bytes);
    const bad = await cli(['release', 'verify', `${file}.bad`, '--key', keys]);
    expect([bad.status, bad.err]).toEqual([
      expect.any(Number),
      expect.stringMatching(/no whole export.*holds other bytes/s),
    ]);
    expect(bad.status).not.toBe(0);
    const other = join(world.folder, 'other.json');
    const { keys: set } = JSON.parse(readFileSync(keys, 'utf8')) as KeySet;
    writeFileSync(other, JSON.stringify({ keys: [{ ...set[0], x: Buffer.alloc(32, 7).toString('base64url') }] }));
    expect((await cli(['release', 'verify', file, '--key', other])).err).toMatch(/None of the given keys vouches/);
    expect((await cli(['release', 'verify', file, '--key', join(root(), 'package.json')])).err).toMatch(
      /no public key/,
    );
    expect((await cli(['release', 'verify', file])).err).toMatch(/--key/);
    expect((await cli(['release', 'verify', '/nowhere', '--key', keys])).err).toMatch(/The file \/nowhere/);
  });

  it('is opened by an independent verifier of its envelopes', async () => {
    const { keys: set } = await world.api().get<KeySet>('/api/keys/releases');
    const key = createPublicKey({ key: set[0] as never, format: 'jwk' });
    const index = JSON.parse((await run('tar', ['-xOf', file, 'index.json'])).stdout) as {
      manifests: { digest: string; artifactType?: string }[];
    };
    const referring = index.manifests.filter((one) => one.artifactType);
    expect(referring.map((one) => one.artifactType).sort()).toEqual([
      'application/vnd.in-toto.evidence+dsse',
      'application/vnd.in-toto.provenance+dsse',
    ]);
    for (const one of referring) {
      const manifest = await blob<{ subject: { digest: string }; layers: { digest: string }[] }>(one.digest);
      expect(manifest.subject.digest).toBe(release.digest);
      const { payload, payloadType, signatures } = await blob<Envelope>(manifest.layers[0]?.digest as string);
      const bytes = Buffer.from(payload, 'base64');
      const signature = Buffer.from(signatures[0]?.sig as string, 'base64');
      expect(others.verify(dsse.preAuthEncoding(payloadType, bytes), key, signature)).toBe(true);
      const statement = JSON.parse(bytes.toString());
      expect(statement._type).toBe('https://in-toto.io/Statement/v1');
      expect(`sha256:${statement.subject[0].digest.sha256}`).toBe(release.digest);
      if (statement.predicateType === 'https://slsa.dev/provenance/v1') {
        expect(statement.predicate.buildDefinition.resolvedDependencies).toEqual([
          { uri: `git+${world.url}/git/shop`, digest: { gitCommit: release.commit.id } },
        ]);
        expect(statement.predicate.runDetails.builder.id).toBe(world.url);
        expect(statement.predicate.runDetails.metadata.invocationId).toBe(`${world.url}/shop/runs/1`);
      }
    }
  });

  it('is looked at by a program for images, part by part', async () => {
    const raw = await skopeo('inspect', '--raw', `oci-archive:${file}:r1`);
    expect(sha(raw)).toBe(release.digest);
    const api = JSON.parse(await skopeo('inspect', `oci-archive:${file}:r1-api`));
    expect(api).toMatchObject({ Os: 'linux', Labels: { 'org.opencontainers.image.title': 'api' } });
    expect(api.Digest).toBe(release.parts.find(({ name }) => name === 'api')?.digest);
    const { config } = JSON.parse(await skopeo('inspect', '--config', `oci-archive:${file}:r1-api`));
    expect(config).toMatchObject({
      WorkingDir: '/',
      Cmd: ['bash', '-euo', 'pipefail', '-c', 'node server.js'],
      ExposedPorts: { '8080/tcp': {} },
      Env: ['PORT=8080'],
    });
  });

  it('goes to a registry and comes back the same', async () => {
    const port = 18_000 + (process.pid % 1_000);
    const config = join(world.folder, 'registry.yml');
    writeFileSync(
      config,
      `version: 0.1\nlog: { level: error }\nstorage: { filesystem: { rootdirectory: ${join(world.folder, 'registry')} } }\nhttp: { addr: 127.0.0.1:${port} }\n`,
    );
    const registry = spawn('docker-registry', ['serve', config], { stdio: 'ignore' });
    try {
      const at = `docker://127.0.0.1:${port}/kohama/shop:r1`;
      await until('the registry answers', async () => (await fetch(`http://127.0.0.1:${port}/v2/`)).ok);
      await skopeo('copy', '--all', '--preserve-digests', '--dest-tls-verify=false', `oci-archive:${file}:r1`, at);
      const back = join(world.folder, 'back.tar');
      await skopeo('copy', '--all', '--preserve-digests', '--src-tls-verify=false', at, `oci-archive:${back}:r1`);
      expect(sha(await skopeo('inspect', '--raw', `oci-archive:${back}:r1`))).toBe(release.digest);
      // One part alone, packed on its way as registries like it: still an image of the same files.
      const part = `docker://127.0.0.1:${port}/kohama/api:r1`;
      await skopeo('copy', '--dest-tls-verify=false', `oci-archive:${file}:r1-api`, part);
      const { RepoTags, Layers } = JSON.parse(await skopeo('inspect', '--tls-verify=false', part));
      expect(RepoTags).toEqual(['r1']);
      expect(Layers).toHaveLength(JSON.parse(await skopeo('inspect', `oci-archive:${file}:r1-api`)).Layers.length);
    } finally {
      registry.kill('SIGKILL');
    }
  });

  it('is still checked when another key signs, and what is exported then by that one', async () => {
    const before = JSON.parse(readFileSync(keys, 'utf8')) as KeySet;
    const { out } = await world.cli('key', 'rotate', '--of', 'releases');
    expect(out).toMatch(/signs now\n.*for checking/);
    const { keys: set } = await world.api().get<KeySet>('/api/keys/releases');
    expect(set.map(({ kid }) => kid)).toEqual([
      expect.not.stringMatching(before.keys[0]?.kid as string),
      before.keys[0]?.kid,
    ]);
    const now = join(world.folder, 'now.json');
    writeFileSync(now, JSON.stringify({ keys: set }));
    expect((await cli(['release', 'verify', file, '--key', now])).status).toBe(0);
    const later = `${file}.later`;
    await world.cli('release', 'export', 'r1', '--project', 'shop', '--to', later);
    expect((await cli(['release', 'verify', later, '--key', keys])).err).toMatch(/None of the given keys/);
    const found = JSON.parse((await cli(['release', 'verify', later, '--key', now, '--json'])).out);
    expect([found.key, found.digest]).toEqual([set[0]?.kid, release.digest]);
    await until('it is on record', async () =>
      (await world.events('type=key.rotated')).some((one) => one.subject === 'the key of releases'),
    );
    // Another start signs with the same.
    await world.restart();
    expect((await world.api().get<KeySet>('/api/keys/releases')).keys).toEqual(set);
  });

  it('is made by nobody but an owner’s new key, and read by everybody’s', async () => {
    const anyone = await fetch(`${world.url}/api/keys/releases`);
    expect([anyone.status, anyone.headers.get('content-type')]).toEqual([200, expect.stringMatching(/jwk-set\+json/)]);
    expect(await anyone.text()).not.toMatch(/"d"|PRIVATE/);
    expect((await fetch(`${world.url}/api/keys/releases/rotate`, { method: 'POST' })).status).toBe(401);
    expect((await fetch(`${world.url}/api/projects/shop/releases/1/image`)).status).toBe(401);
  });

  it('leaves nothing open when whoever reads it goes away', async () => {
    await checkout.commitAndPush({ 'web/big.bin': Buffer.alloc(30_000_000, 1) }, 'big');
    const made = await until('r2', () => world.release('shop', 2).catch(() => null));
    const open = async () =>
      (
        await run('bash', ['-c', `ls -l /proc/${world.house.rooms.service.pid()}/fd | grep -c blobs/sha256 || true`])
      ).stdout.trim();
    const leaving = new AbortController();
    const answer = await fetch(`${world.url}/api/projects/shop/releases/${made.number}/image`, {
      headers: { authorization: `Bearer ${world.house.token}` },
      signal: leaving.signal,
    });
    await answer.body?.getReader().read();
    await until('it waits in the middle', async () => (await open()) !== '0');
    leaving.abort();
    await until('it is closed', async () => (await open()) === '0');
  });
});

const root = () => process.cwd();
