/** The browser that takes pictures, and the program that drives it: found on this machine, and laid where sandboxes may read it. */
import { execFile } from 'node:child_process';
import { cpSync, existsSync, rmSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { picturesInside } from '../../core/pictures/pages.js';

/** Where systems have it: the program itself, not what starts it with files of its own. */
const places = [
  '/usr/lib/chromium/chromium',
  '/usr/lib64/chromium-browser/chromium-browser',
  '/usr/lib/chromium-browser/chromium-browser',
  '/usr/bin/chromium',
];

/** Beside the built agent: what `scripts/build.mjs` makes of take.ts. */
const built = join(dirname(fileURLToPath(import.meta.url)), '../../../pictures');

export interface Chromium {
  path: string;
  version: string;
}

/** `named`: what the operator says: a path, or `none`. Null: there is none here, or it does not start. */
export async function findChromium(named: string | undefined): Promise<Chromium | null> {
  const path = named ?? places.find((one) => existsSync(one));
  if (!path || path === 'none' || !existsSync(built)) return null;
  try {
    const { stdout } = await promisify(execFile)(path, ['--version'], { timeout: 10_000 });
    const version = /\d+(\.\d+)+/.exec(stdout)?.[0];
    return version ? { path, version } : null;
  } catch {
    return null;
  }
}

/** Lays the program into the agent's folder of scripts. */
export function installPictures(bin: string): void {
  const into = join(bin, 'pictures');
  rmSync(into, { recursive: true, force: true });
  if (existsSync(built)) cpSync(built, into, { recursive: true });
}

/** How the program is seen inside. */
export const pictureBind = (bin: string): { from: string; to: string; fixed: true } => ({
  from: join(bin, 'pictures'),
  to: picturesInside,
  fixed: true,
});
