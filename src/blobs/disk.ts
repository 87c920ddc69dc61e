/** Whether there is room on a disk for more. */
import { statfs } from 'node:fs/promises';
import type { Issue } from '../core/errors/errors.js';
import { diskIssue } from '../core/sizes.js';

/** Bytes that must be free when nobody says otherwise. */
export const defaultFree = 2 * 1024 ** 3;

/** Says when the disk below a folder has less than `free` bytes left, or null. */
export async function fullDisk(folder: string, free: number, where: string): Promise<Issue | null> {
  const { bavail, bsize } = await statfs(folder);
  return diskIssue(bavail * bsize, free, where);
}
