import { execFileSync } from 'node:child_process';
import { existsSync, lstatSync, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { type Header, pack } from 'tar-stream';
import type { FileSource } from '../../src/agent/files/compose.js';
import { openLayers } from '../../src/agent/files/layers.js';
import { openBlobs } from '../../src/blobs/store.js';
import type { TreeFile } from '../../src/core/fingerprint/inputs.js';
import { timeOfDigest } from '../../src/blobs/layer.js';
import { timeOfObject } from '../../src/core/objects.js';
import { unpackLayer } from '../../src/blobs/unpack.js';
import { layerKey, layerOf, someOf } from '../../src/git/layer.js';
import { openPushHead } from '../../src/git/push-head.js';
import { startRoom } from './rooms.js';
import { app, appDefinition, openWorld, until, type World } from './world.js';

let folder: string;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-ground-'));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));
const place = (name: string) => {
  execFileSync('mkdir', ['-p', join(folder, name)]);
  return join(folder, name);
};
const tar = (...entries: (Partial<Header> & { name: string; text?: string })[]) => {
  const stream = pack();
  for (const { text, ...header } of entries) stream.entry(header as Header, text ?? '');
  stream.finalize();
  return stream as unknown as Readable;
};

describe('a layer', () => {
  it.each([
    ['climbs', { name: '../outside', text: 'x' }],
    ['is absolute', { name: '/etc/outside', text: 'x' }],
    ['climbs in the middle', { name: 'a/../../outside', text: 'x' }],
    ['is a device', { name: 'dev', type: 'character-device' as const }],
    ['is a pipe', { name: 'pipe', type: 'fifo' as const }],
    ['links hard to the outside', { name: 'hard', type: 'link' as const, linkname: '../../etc/passwd' }],
  ])('whose entry %s is refused', async (_name, entry) => {
    const into = place(`bad ${_name}`);
    await expect(unpackLayer(tar(entry), { into, links: true })).rejects.toMatchObject({
      issue: { code: 'output_unsafe' },
    });
    expect(readdirSync(into)).toEqual([]);
  });
  it('that writes through its own link is refused', async () => {
    const target = place('target');
    await expect(
      unpackLayer(tar({ name: 'l', type: 'symlink', linkname: target }, { name: 'l/file', text: 'x' }), {
        into: place('through'),
        links: true,
      }),
    ).rejects.toMatchObject({ issue: { code: 'output_unsafe' } });
    expect(readdirSync(target)).toEqual([]);
  });
  it('keeps links where they are wanted, drops them where files are served, and sets times', async () => {
    const entries = () =>
      tar({ name: 'l', type: 'symlink', linkname: '/etc/passwd' }, { name: 'f', text: 'f', mtime: new Date() });
    const digest = `sha256:${'7'.repeat(64)}`;
    const [kept, served] = [place('kept'), place('served')];
    await unpackLayer(entries(), { into: kept, links: true, time: timeOfDigest(digest) });
    await unpackLayer(entries(), { into: served, links: false });
    expect(lstatSync(join(kept, 'l')).isSymbolicLink()).toBe(true);
    expect(lstatSync(join(kept, 'f')).mtime).toEqual(timeOfDigest(digest));
    expect(timeOfDigest(digest).getUTCFullYear()).toBeGreaterThanOrEqual(2010);
    expect(readdirSync(served)).toEqual(['f']);
  });
  it('is the same folder, whether it is small or goes through tar', async () => {
    const mtime = new Date(1_000_000_000_000);
    const entries = [
      { name: 'd/e/f', text: 'deep', mtime },
      { name: 'run', text: '#!', mode: 0o711, mtime },
      { name: 'd/g/', type: 'directory' as const, mtime: new Date(1_100_000_000_000) },
      { name: 'd/l', type: 'symlink' as const, linkname: '../run', mtime },
      { name: 'empty', text: '', mtime },
    ];
    const pad = Array.from({ length: 70 }, (_, at) => ({ name: `pad/${at}`, text: 'x', mtime }));
    const facts = (into: string) =>
      readdirSync(into, { recursive: true, encoding: 'utf8' })
        .filter((path) => !path.startsWith('pad'))
        .sort()
        .map((path) => {
          const { mode, mtimeMs, uid, size } = lstatSync(join(into, path));
          return [path, mode.toString(8), mtimeMs, uid, (mode & 0o170000) === 0o040000 ? 0 : size];
        });
    const [small, large] = [place('small'), place('large')];
    const owner = process.getuid?.() === 0 ? { uid: 4711, gid: 4711 } : null;
    await unpackLayer(tar(...entries), { into: small, links: true, owner });
    await unpackLayer(tar(...entries, ...pad), { into: large, links: true, owner });
    expect(facts(small)).toEqual(facts(large));
    expect(facts(small).map(([path]) => path)).toEqual(['d', 'd/e', 'd/e/f', 'd/g', 'd/l', 'empty', 'run']);
    // A path that stands there twice, and a file below a file, end in the same way, too.
    await unpackLayer(tar({ name: 'a', text: '1' }, { name: 'a', text: '2' }), { into: place('twice'), links: true });
    expect(readFileSync(join(folder, 'twice/a'), 'utf8')).toBe('2');
    await expect(
      unpackLayer(tar({ name: 'a', text: '1' }, { name: 'a/b', text: '2' }), { into: place('below'), links: true }),
    ).rejects.toMatchObject({ issue: { code: 'setup_failed' } });
  });
  it('of files is made of what other layers have: one changed file is one file fetched', async () => {
    const repository = place('many');
    const git = (...args: string[]) => execFileSync('git', ['-C', repository, ...args], { encoding: 'utf8' }).trim();
    git('init', '-q');
    const hash = (text: string) =>
      execFileSync('git', ['-C', repository, 'hash-object', '-w', '--stdin'], { input: text, encoding: 'utf8' }).trim();
    const files: TreeFile[] = Array.from({ length: 100 }, (_, at) => ({
      path: `src/${at % 7}/${at}.txt`,
      mode: at % 10 ? '100644' : '100755',
      id: hash(`text ${at}`),
    }));
    files.push({ path: 'src/link', mode: '120000', id: hash('0/0.txt') });
    const asked: string[] = [];
    const source = (list: TreeFile[]): FileSource => ({
      count: list.length,
      whole: async () => {
        asked.push('whole');
        return layerOf(join(repository, '.git'), list);
      },
      list: async () => list,
      some: async (names) => {
        asked.push(...names);
        return layerOf(join(repository, '.git'), someOf(list, names));
      },
    });
    const layers = openLayers(place('agent'), null);
    const fill = (list: TreeFile[]) => layers.files(layerKey(list), source(list));
    const first = await fill(files);
    const changed = files.map((file, at) => (at === 3 ? { ...file, id: hash('changed') } : file));
    // The same bytes at another place, and as a program, are another file each.
    changed.push(
      { ...(files[5] as TreeFile), path: 'moved/here' },
      { ...(files[6] as TreeFile), path: 'run', mode: '100755' },
    );
    const second = await fill(changed);
    expect(asked).toEqual(['whole', `100644-${changed[3]?.id}`, `100755-${files[6]?.id}`].sort().reverse());
    const inode = (at: string, path: string) => lstatSync(join(at, path)).ino;
    expect(inode(second, 'src/1/1.txt')).toBe(inode(first, 'src/1/1.txt'));
    expect(readFileSync(join(second, 'src/3/3.txt'), 'utf8')).toBe('changed');
    const unpacked = place('compared');
    await unpackLayer(layerOf(join(repository, '.git'), changed), { into: unpacked, links: true });
    const facts = (into: string) =>
      readdirSync(into, { recursive: true, encoding: 'utf8' })
        .sort()
        .map((path) => [path, lstatSync(join(into, path)).mode, lstatSync(join(into, path)).mtimeMs]);
    expect(facts(second)).toEqual(facts(unpacked));
    // What is gone from here is fetched again.
    rmSync(first, { recursive: true });
    rmSync(join(second, 'src/1'), { recursive: true });
    const third = await fill(changed.slice(1));
    expect(facts(third).length).toBeGreaterThan(100);
    expect(readFileSync(join(third, 'src/1/1.txt'), 'utf8')).toBe('text 1');
    // What no folder can hold is refused as ever.
    await expect(fill([...changed, { path: '../outside', mode: '100644', id: hash('bad') }])).rejects.toMatchObject({
      issue: { code: 'output_unsafe' },
    });
    expect(existsSync(join(folder, 'agent/store/outside'))).toBe(false);
    layers.close();
  });
  it('of the same files is the same bytes, with times from the objects', async () => {
    const repository = place('repository');
    const git = (...args: string[]) => execFileSync('git', ['-C', repository, ...args], { encoding: 'utf8' }).trim();
    git('init', '-q');
    const id = execFileSync('git', ['-C', repository, 'hash-object', '-w', '--stdin'], {
      input: 'text\r\n',
      encoding: 'utf8',
    }).trim();
    const files = [
      { path: 'b/é.txt', mode: '100755', id },
      { path: 'a', mode: '100644', id },
    ];
    const bytes = async (list: typeof files) => {
      const parts: Buffer[] = [];
      for await (const chunk of layerOf(join(repository, '.git'), list)) parts.push(chunk as Buffer);
      return Buffer.concat(parts);
    };
    expect((await bytes(files)).equals(await bytes([...files].reverse()))).toBe(true);
    expect(layerKey(files)).toBe(layerKey([...files].reverse()));
    expect(timeOfObject(id).getUTCFullYear()).toBeLessThan(2010);
    const into = place('files');
    await unpackLayer(Readable.from([await bytes(files)]), { into, links: true });
    expect(readFileSync(join(into, 'b/é.txt'), 'utf8')).toBe('text\r\n');
    expect(lstatSync(join(into, 'b/é.txt')).mode & 0o777).toBe(0o755);
    expect(lstatSync(join(into, 'a')).mtime).toEqual(timeOfObject(id));
  });
});

describe('the store', () => {
  it('keeps bytes by digest and refuses others', async () => {
    const blobs = await openBlobs(place('blobs'));
    const { digest } = await blobs.putText('price');
    expect(await blobs.size(digest)).toBe(5);
    await expect(blobs.put(Readable.from(['ebb']), digest)).rejects.toMatchObject({ issue: { code: 'digest_wrong' } });
    await expect(blobs.open('sha256:../../etc/passwd')).rejects.toMatchObject({ issue: { code: 'not_found' } });
    expect(await blobs.open(`sha256:${'0'.repeat(64)}`)).toBeNull();
    expect(readdirSync(join(blobs.folder, 'incoming'))).toEqual([]);
  });
});

describe('the head of a push', () => {
  const parsePush = (bytes: Buffer) => openPushHead().push(bytes);
  const line = (text: string) => (text.length + 4).toString(16).padStart(4, '0') + text;
  it('is read when it is whole, and refused when it is none', () => {
    const id = 'a'.repeat(40);
    const whole = Buffer.from(
      `${line(`${'0'.repeat(40)} ${id} refs/heads/main\0 report-status side-band-64k`)}0000PACK`,
      'latin1',
    );
    expect(parsePush(whole)).toMatchObject({
      commands: [{ before: null, after: id, ref: 'refs/heads/main' }],
      capabilities: ['report-status', 'side-band-64k'],
    });
    for (let length = 0; length < whole.length - 5; length++) expect(parsePush(whole.subarray(0, length))).toBeNull();
    for (const bad of ['zzzz', '0001', '0009hello', 'ffff']) expect(() => parsePush(Buffer.from(bad))).toThrow();
    const command = `${'0'.repeat(40)} ${id} refs/heads/a`;
    const refused = {
      'a certificate': line('push-cert\0report-status') + line('certificate version 0.1\n') + line('push-cert-end\n'),
      'a line that begins as one about a shallow commit': line(`shallow ${id} refs/heads/a`),
      'a shallow line without an id': line('shallow x'),
      'a shallow line with capabilities': line(`shallow ${id}\0atomic`),
      'a newline in a name': line(`${command}\nrefs/replace/${id}`),
      'a newline before the capabilities': line(`${command}\n\0report-status`),
      'two newlines at the end': line(`${command}\n\n`),
      'capabilities on a later line': line(command) + line(`${command}b\0report-status`),
      'a NUL in the capabilities': line(`${command}\0report-status\0atomic`),
      'ids of another length': line(`${'0'.repeat(64)} ${'a'.repeat(64)} refs/heads/a`),
      'an empty line': line(''),
    };
    const taken = Object.entries(refused).filter(([, bytes]) => {
      try {
        return parsePush(Buffer.from(`${bytes}0000`, 'latin1'));
      } catch {
        return false;
      }
    });
    expect(taken).toEqual([]);
    expect(parsePush(Buffer.from(`${line(`${id} ${id} refs/heads/\xff`)}0000`, 'latin1'))?.commands[0]?.ref).toBeNull();
  });
});

describe('without pasta', () => {
  let world: World;
  beforeAll(async () => {
    world = await openWorld({ env: { TSUNAGI_NETWORK: 'relay' } });
  });
  afterAll(() => world?.close());

  it('ports go through a relay, and the outside is not there', async () => {
    const { checkout, first } = await world.hosted('relay', { ...app('by relay'), 'tsunagi.yaml': appDefinition });
    await checkout.push();
    await world.waitLive('relay', 'staging', first);
    expect(JSON.parse((await world.visit('relay-staging.localhost', '/api')).text).text).toBe('by relay');
    expect((await world.api().get<{ items: { sandbox: object }[] }>('/api/agents')).items[0]?.sandbox).toMatchObject({
      network: 'relay',
    });
    expect((await world.environment('relay', 'staging')).verified).toBe(true);
  });

  it('two services on one database share the work, each thing once', async () => {
    const second = await startRoom(world, 'service', 10);
    try {
      const { checkout, first } = await world.hosted('shared', { ...app('shared'), 'tsunagi.yaml': appDefinition });
      await checkout.push();
      const commits = [first];
      for (let n = 0; n < 6; n++)
        commits.push(await checkout.commitAndPush({ 'note.txt': String(n) }, `note ${n}`, `branch-${n}`));
      for (const commit of commits) expect((await world.waitRun('shared', commit)).state).toBe('passed');
      const { items } = await world.api().get<{ items: { number: number }[] }>('/api/runs?project=shared&limit=50');
      expect(items.map((one) => one.number).sort()).toEqual([1, 2, 3, 4, 5, 6, 7]);
      await world.waitLive('shared', 'staging', first);
      const there = await fetch(`${second.url}/api/projects/shared/runs/1`, {
        headers: { authorization: `Bearer ${world.house.token}` },
      });
      expect(await there.json()).toMatchObject({ state: 'passed', release: expect.any(Number) });
      const releases = (await world.api().get<{ items: { run: number }[] }>('/api/projects/shared/releases')).items.map(
        (one) => one.run,
      );
      expect(new Set(releases).size).toBe(releases.length);
    } finally {
      await second.end();
    }
    await until('one service goes on alone', async () => (await fetch(`${world.url}/api/health`)).ok);
  });
});
