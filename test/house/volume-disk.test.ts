/** Volumes on a machine's disk: made, filled, mounted again, brought back, whatever dies in between; with a file system and by counting. */
import { execFileSync } from 'node:child_process';
import {
  chmodSync,
  chownSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { buffer } from 'node:stream/consumers';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { findAccounts } from '../../src/agent/sandbox/host.js';
import { discard } from '../../src/agent/files/remove.js';
import type { VolumeHold } from '../../src/core/states.js';
import { findHold } from '../../src/resources/volumes/filesystem.js';
import { openVolumes, type Volumes, volumeFile } from '../../src/resources/volumes/volumes.js';
import { readKept, writeKept } from '../../src/wire/rooms/kept.js';

let root: string;
const owner = findAccounts().live;
const MiB = 1024 ** 2;
const never = new AbortController().signal;
const id = '0a0a0a0a-0000-4000-8000-000000000001';
let holds: VolumeHold[];
beforeAll(() => {
  root = mkdtempSync(join(tmpdir(), 'tsunagi-volumes-'));
  // The programs' account finds its way.
  chmodSync(root, 0o711);
  holds = findHold(join(root, 'try')) === 'filesystem' ? ['filesystem', 'counting'] : ['counting'];
});
const mounts = () =>
  readFileSync('/proc/self/mounts', 'utf8')
    .split('\n')
    .map((line) => line.split(' ')[1] ?? '')
    .filter((point) => point.startsWith(root))
    .sort((a, b) => b.length - a.length);
afterAll(() => {
  for (const point of mounts()) execFileSync('umount', ['--lazy', point]);
  rmSync(root, { recursive: true, force: true });
});

let count = 0;
/** A machine with volumes of a kind; `again` opens them as an agent does that was started anew. */
async function machine(hold: VolumeHold, spare = 0) {
  const base = join(root, `${hold}-${++count}`);
  mkdirSync(base, { mode: 0o711 });
  const again = () =>
    openVolumes({
      folder: join(base, 'volumes'),
      agent: 'agent-1',
      owner,
      hold,
      spare,
      kept: { read: (path) => readKept(path, volumeFile), write: writeKept },
      failed: () => {},
      discard: (path) => discard(base, path),
    });
  return { base, again, volumes: await again() };
}
const put = (volumes: Volumes, name: string, text: string | Buffer) => {
  const file = join(volumes.pathOf(id, 'uploads'), name);
  writeFileSync(file, text);
  if (owner) chownSync(file, owner.uid, owner.gid);
};
const names = (volumes: Volumes) => readdirSync(volumes.pathOf(id, 'uploads')).sort();
async function copy(volumes: Volumes): Promise<Buffer> {
  const archive = volumes.read(id);
  const [bytes] = await Promise.all([buffer(archive.bytes), archive.done]);
  return bytes;
}
const code = (work: Promise<unknown>) =>
  work.then(
    () => null,
    (error: { issue?: { code: string } }) => error.issue?.code ?? String(error),
  );
const each = async (work: (hold: VolumeHold) => Promise<void>) => {
  for (const hold of holds) await work(hold);
};

describe('a volume on a disk', () => {
  it('belongs to the programs alone, and is made once', () =>
    each(async (hold) => {
      const { base, volumes } = await machine(hold);
      await volumes.make(id, 20 * MiB);
      // Neither the folder of images nor an image lets any other account of the machine read it.
      const home = join(base, 'volumes');
      const images = readdirSync(home, { recursive: true, encoding: 'utf8' })
        .map((name) => statSync(join(home, name)))
        .filter((one) => one.isFile() && one.size >= 20 * MiB);
      expect(images.length).toBe(hold === 'filesystem' ? 1 : 0);
      expect(images.every((one) => (one.mode & 0o077) === 0)).toBe(true);
      const place = volumes.pathOf(id, 'uploads');
      const { uid, mode } = statSync(place);
      expect([uid, (mode & 0o777).toString(8)]).toEqual([owner?.uid ?? process.getuid?.(), '700']);
      put(volumes, 'a', 'one');
      await volumes.make(id, 20 * MiB);
      expect(names(volumes)).toEqual(['a']);
      expect(await code(volumes.make(id, 10 * MiB))).toBe('volume_smaller');
      const [seen] = await volumes.look();
      expect(seen).toMatchObject({ id, hold });
      expect(seen?.size).toBeGreaterThan(10 * MiB);
      await volumes.remove(id);
      expect(await volumes.look()).toEqual([]);
      expect(() => volumes.pathOf(id, 'uploads')).toThrow('The volume uploads is not on this agent’s machine');
      await volumes.remove(id);
    }));

  it('is there again after a restart, and says so where it is not', () =>
    each(async (hold) => {
      const { volumes, again, base } = await machine(hold);
      await volumes.make(id, 20 * MiB);
      put(volumes, 'a', 'one');
      // What a machine that was switched off has mounted: nothing.
      for (const point of mounts().filter((one) => one.startsWith(join(base, 'volumes', id))))
        execFileSync('umount', [point]);
      if (hold === 'filesystem') {
        // The bare folder is no place to write to.
        expect(() => volumes.pathOf(id, 'uploads')).toThrow();
        expect(await volumes.look()).toEqual([]);
      }
      const next = await again();
      expect(names(next)).toEqual(['a']);
      rmSync(join(base, 'volumes', id, 'state.json'));
      expect(await code(Promise.resolve().then(() => next.read(id)))).toBe('volume_gone');
    }));

  it('has two mounts of one file at most by one device', async () => {
    if (!holds.includes('filesystem')) return;
    const { volumes, again, base } = await machine('filesystem');
    await volumes.make(id, 20 * MiB);
    put(volumes, 'a', 'one');
    const point = volumes.pathOf(id, 'uploads');
    // Another name space has it mounted still, as that of an instance whose agent was killed.
    const other = join(base, 'other');
    mkdirSync(other);
    execFileSync('mount', ['--bind', point, other]);
    execFileSync('umount', [point]);
    const next = await again();
    writeFileSync(join(other, 'b'), 'two');
    expect(names(next)).toEqual(['a', 'b']);
    const devices = execFileSync('losetup', ['--list', '--noheadings', '--output', 'BACK-FILE'], { encoding: 'utf8' });
    expect(devices.split('\n').filter((line) => line.includes(base))).toHaveLength(1);
    execFileSync('umount', [other]);
  });

  it('takes no more than its disk has, and reserves what it takes', async () => {
    if (!holds.includes('filesystem')) return;
    const { volumes, base } = await machine('filesystem', 1024 ** 5);
    expect(await code(volumes.make(id, 20 * MiB))).toBe('volume_disk');
    expect(existsSync(join(base, 'volumes', id, '1.img'))).toBe(false);
    const { volumes: others, base: place } = await machine('filesystem');
    await others.make(id, 20 * MiB);
    const { blocks } = statSync(join(place, 'volumes', id, '1.img'));
    expect(blocks * 512).toBeGreaterThanOrEqual(20 * MiB);
  });

  it('becomes larger with all its files, at once or while nobody has it open', () =>
    each(async (hold) => {
      const { volumes } = await machine(hold);
      await volumes.make(id, 20 * MiB);
      put(volumes, 'a', 'one');
      const refused = await code(volumes.make(id, 40 * MiB));
      if (refused) {
        expect(refused).toBe('volume_closed_first');
        expect((await volumes.look())[0]?.size).toBeLessThan(21 * MiB);
        put(volumes, 'b', 'still good');
        await volumes.enlarge(id, 'larger', 40 * MiB, never);
      }
      put(volumes, 'c', Buffer.alloc(25 * MiB));
      expect(names(volumes)).toEqual(refused ? ['a', 'b', 'c'] : ['a', 'c']);
      await volumes.make(id, 40 * MiB);
      expect((await volumes.look())[0]?.size).toBeGreaterThan(30 * MiB);
    }));
});

describe('a copy of it', () => {
  it('takes its place whole, once for each wish', () =>
    each(async (hold) => {
      const { volumes, again } = await machine(hold);
      await volumes.make(id, 20 * MiB);
      put(volumes, 'a', 'one');
      symlinkSync('/etc/passwd', join(volumes.pathOf(id, 'uploads'), 'out'));
      const bytes = await copy(volumes);
      // The same files are the same bytes, whatever the machine.
      expect(await copy(volumes)).toEqual(bytes);
      put(volumes, 'b', 'two');
      await volumes.restore(id, 'wish 1', 20 * MiB, Readable.from(bytes), never);
      expect(names(volumes)).toEqual(['a', 'out']);
      put(volumes, 'c', 'three');
      await volumes.restore(id, 'wish 1', 20 * MiB, Readable.from(bytes), never);
      expect(names(volumes)).toEqual(['a', 'c', 'out']);
      expect(names(await again())).toEqual(['a', 'c', 'out']);
      expect(await volumes.tryOut(id, 20 * MiB, Readable.from(bytes), never)).toEqual({ files: 1, bytes: 3 });
      expect(names(volumes)).toEqual(['a', 'c', 'out']);
    }));

  it('that breaks off, is none, or does not fit leaves what was there', () =>
    each(async (hold) => {
      const { volumes, base } = await machine(hold);
      await volumes.make(id, 20 * MiB);
      put(volumes, 'a', Buffer.alloc(MiB, 1));
      const bytes = await copy(volumes);
      const left = () =>
        readdirSync(join(base, 'volumes', id))
          .filter((name) => name !== 'state.json')
          .sort();
      const before = left();
      const torn = new Readable({
        read() {
          this.push(bytes.subarray(0, 500_000));
          this.destroy(new Error('it broke off'));
        },
      });
      expect(await code(volumes.restore(id, 'torn', 20 * MiB, torn, never))).toContain('it broke off');
      expect(
        await code(volumes.restore(id, 'none', 20 * MiB, Readable.from('no archive at all'), never)),
      ).not.toBeNull();
      const given = new AbortController();
      given.abort();
      expect(await code(volumes.restore(id, 'given up', 20 * MiB, Readable.from(bytes), given.signal))).not.toBeNull();
      if (hold === 'filesystem') {
        const { volumes: larger } = await machine('filesystem');
        await larger.make(id, 60 * MiB);
        put(larger, 'big', Buffer.alloc(40 * MiB, 2));
        const more = await copy(larger);
        expect(await code(volumes.restore(id, 'more', 20 * MiB, Readable.from(more), never))).toBe('volume_small');
        expect(await code(volumes.tryOut(id, 20 * MiB, Readable.from(more), never))).toBe('volume_small');
      }
      expect(names(volumes)).toEqual(['a']);
      await discard(base, join(base, 'none'));
      expect(left()).toEqual(before);
    }));

  it('whose agent died over it is forgotten, or counts whole', () =>
    each(async (hold) => {
      const { volumes, again, base } = await machine(hold);
      await volumes.make(id, 20 * MiB);
      put(volumes, 'a', 'one');
      // A generation that nobody has named: half of a restore.
      const half = join(base, 'volumes', id, '2');
      mkdirSync(half, { recursive: true });
      writeFileSync(join(half, 'half'), 'x');
      if (hold === 'filesystem') writeFileSync(`${half}.img`, 'no file system');
      const next = await again();
      expect(names(next)).toEqual(['a']);
      expect(existsSync(`${half}.img`)).toBe(false);
      await next.restore(id, 'again', 20 * MiB, Readable.from(await copy(next)), never);
      expect(names(next)).toEqual(['a']);
    }));

  it('leads no further than its folder, whatever an archive says', () =>
    each(async (hold) => {
      const { volumes, base } = await machine(hold);
      await volumes.make(id, 20 * MiB);
      // An archive that would write through a link of its own, up, and to the root.
      const place = join(base, 'hostile');
      mkdirSync(place);
      writeFileSync(join(place, 'b'), 'gone astray');
      const outside = join(base, 'outside');
      mkdirSync(outside, { mode: 0o777 });
      symlinkSync(outside, join(place, 'link'));
      const file = join(base, 'hostile.tar');
      execFileSync('tar', ['-C', place, '-cf', file, 'link']);
      execFileSync('tar', ['-C', place, '-rf', file, '--transform', 's,^b$,link/b,', 'b']);
      execFileSync('tar', ['-C', place, '-rPf', file, '--transform', `s,^b$,${outside}/c,`, 'b']);
      execFileSync('tar', ['-C', place, '-rPf', file, '--transform', 's,^b$,../../../outside/d,', 'b']);
      await code(volumes.restore(id, 'hostile', 20 * MiB, Readable.from(readFileSync(file)), never));
      expect(readdirSync(outside)).toEqual([]);
    }));
});
