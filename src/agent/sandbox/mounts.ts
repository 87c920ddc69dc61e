/**
 * The places at which folders of the machine are shown in the project's folder. bubblewrap makes what is missing on the way and
 * follows links while it does, with the machine's own folders still in its sight: so all of the way is there before it starts.
 */
import { chownSync, lstatSync, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { CodedError } from '../../core/errors/errors.js';
import type { ChainWork } from './work.js';
import type { Account } from './host.js';

/**
 * Makes the places in the upper folder, where nothing of the work has been yet. Throws `cache_link` where a layer has anything but
 * a folder on the way, or where one place lies in another, whose content earlier work has written.
 */
export function makeMountPoints(
  folder: string,
  { layers, binds }: Pick<ChainWork, 'layers' | 'binds'>,
  account: Account | null,
): void {
  for (const { to } of binds) {
    if (binds.some((other) => other.to !== to && `${to}/`.startsWith(`${other.to.replace(/\/$/, '')}/`)))
      throw new CodedError('cache_link', { path: to });
    if (!to.startsWith('/project/')) continue;
    const steps = to.slice('/project/'.length).split('/').filter(Boolean);
    for (let count = 1; count <= steps.length; count++) {
      const path = steps.slice(0, count).join('/');
      if (!layers.every((layer) => isFolderOrNothing(join(layer, path)))) throw new CodedError('cache_link', { path });
      const place = join(folder, 'u', path);
      mkdirSync(place, { recursive: true, mode: 0o755 });
      if (account) chownSync(place, account.uid, account.gid);
    }
  }
}

function isFolderOrNothing(path: string): boolean {
  try {
    return lstatSync(path).isDirectory();
  } catch (error) {
    // A step before it that is no folder was refused already.
    return (error as NodeJS.ErrnoException).code === 'ENOENT';
  }
}
