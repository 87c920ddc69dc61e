/**
 * What holds a volume to its size: a file system of its own in a file (ext4, loop-mounted), which takes no byte more and has all of them
 * reserved; or, where nothing may be mounted, a folder whose files are counted.
 */
import { execFile, spawn, spawnSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync } from 'node:fs';
import { mkdir, rm, stat, statfs, truncate, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { promisify } from 'node:util';
import type { VolumeHold } from '../../core/states.js';

const run = promisify(execFile);

export interface Owner {
  uid: number;
  gid: number;
}

export interface Usage {
  /** Bytes that it may hold, and holds. */
  size: number;
  used: number;
}

const mountOptions = 'loop,nosuid,nodev,errors=remount-ro';

/** Whether file systems can be made and mounted here: found out by trying, in `folder`. */
export function findHold(folder: string): VolumeHold {
  if (process.getuid?.() !== 0) return 'counting';
  mkdirSync(folder, { recursive: true });
  const place = mkdtempSync(join(folder, 'try-'));
  const [image, point] = [join(place, 'image'), join(place, 'point')];
  const does = (file: string, args: string[]) =>
    spawnSync(file, args, { stdio: 'ignore', timeout: 10_000 }).status === 0;
  try {
    mkdirSync(point);
    if (!does('fallocate', ['-l', '4M', image]) || !does('mkfs.ext4', ['-q', '-F', image])) return 'counting';
    if (!does('mount', ['-o', mountOptions, image, point])) return 'counting';
    return does('umount', [point]) ? 'filesystem' : 'counting';
  } finally {
    rmSync(place, { recursive: true, force: true });
  }
}

const MiB = 1024 ** 2;

/** MiB of the journal of a file system for so many bytes of files. */
const journalOf = (size: number): number => (size < 128 * MiB ? 4 : size < 1024 * MiB ? 16 : 64);

/** What a file system takes that holds so many bytes of files: its journal, its tables of inodes (1 / 64), and a little. */
export const imageBytes = (size: number): number => Math.ceil((size * 1.02 + (journalOf(size) + 1) * MiB) / MiB) * MiB;

/** For the agent alone. */
export const imageMode = 0o600;

/** Makes a file system for so many bytes of files; `reserve` takes them from the disk at once, so that no write fails later for want of it. */
export async function makeImage(
  image: string,
  size: number,
  owner: Owner | null,
  { reserve }: { reserve: boolean },
): Promise<void> {
  await rm(image, { force: true });
  const bytes = imageBytes(size);
  // Whoever can read the image can read every file of the volume.
  await writeFile(image, '', { mode: imageMode });
  if (reserve) await run('fallocate', ['-l', String(bytes), image]);
  else await truncate(image, bytes);
  // What is reserved is not given back as empty.
  const extended = ['nodiscard', 'lazy_itable_init=0', ...(owner ? [`root_owner=${owner.uid}:${owner.gid}`] : [])];
  await run('mkfs.ext4', [
    '-q',
    '-F',
    '-m',
    '0',
    '-i',
    '16384',
    '-J',
    `size=${journalOf(size)}`,
    '-E',
    extended.join(','),
    image,
  ]);
}

/** Makes a file system larger while it is mounted; false where this process may not (it takes CAP_SYS_RESOURCE). */
export async function growImage(image: string, size: number): Promise<boolean> {
  const before = (await stat(image)).size;
  await run('fallocate', ['-l', String(imageBytes(size)), image]);
  const { stdout } = await run('losetup', ['--noheadings', '--output', 'NAME', '--associated', image]);
  const [device] = stdout.trim().split('\n');
  if (!device) throw new Error('it is not mounted');
  await run('losetup', ['--set-capacity', device]);
  const grown = await run('resize2fs', [device]).then(
    () => true,
    () => false,
  );
  if (grown) return true;
  // Nothing of the file system lies there yet.
  await truncate(image, before);
  await run('losetup', ['--set-capacity', device]);
  return false;
}

/**
 * What is unmounted below a folder from now on goes in every name space that was made since, too (mount_namespaces(7)): a program that
 * was started while some file system was mounted holds on to none but its own.
 */
export async function shareMounts(folder: string): Promise<void> {
  if (!(await isMounted(folder))) await run('mount', ['--bind', folder, folder]);
  await run('mount', ['--make-shared', folder]);
}

/**
 * Mounts a file system, where it is not mounted yet. Two mounts of one file share its device: an instance of an agent before this one may
 * have it mounted in a name space of its own.
 */
export async function mountImage(image: string, point: string): Promise<void> {
  await mkdir(point, { recursive: true, mode: 0o700 });
  if (await isMounted(point)) return;
  await run('mount', ['-o', mountOptions, image, point]);
  // What the file system keeps for its repair is no file of anybody's.
  await rm(join(point, 'lost+found'), { recursive: true, force: true });
}

export const isMounted = (point: string): Promise<boolean> =>
  run('mountpoint', ['--quiet', point]).then(
    () => true,
    () => false,
  );

/** Takes it out of sight at once; whoever has it open still ends first. */
export async function unmount(point: string): Promise<void> {
  if (await isMounted(point)) await run('umount', ['--lazy', point]);
}

export async function usageOf(hold: VolumeHold, point: string, size: number): Promise<Usage> {
  if (hold === 'filesystem') {
    const { blocks, bfree, bsize } = await statfs(point);
    return { size: blocks * bsize, used: (blocks - bfree) * bsize };
  }
  const { stdout } = await run('du', ['--summarize', '--one-file-system', '--block-size=1', point]);
  return { size, used: Number.parseInt(stdout, 10) };
}

/** What was written there is on the disk when this returns. */
export const settleOnDisk = (folder: string): Promise<unknown> => run('sync', ['--file-system', folder]);

/** Regular files below a folder, and their bytes. */
export async function countFiles(folder: string): Promise<{ files: number; bytes: number }> {
  const child = spawn('find', [folder, '-xdev', '-type', 'f', '-printf', '%s\\n'], {
    stdio: ['ignore', 'pipe', 'ignore'],
  });
  const found = { files: 0, bytes: 0 };
  for await (const line of createInterface({ input: child.stdout })) {
    found.files++;
    found.bytes += Number(line);
  }
  return found;
}
