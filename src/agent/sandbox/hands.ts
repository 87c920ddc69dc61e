/** The folder by which people's terminals are let in beside an instance's program: its sandbox reads it and can't change it. */
import { execFileSync } from 'node:child_process';
import { chownSync, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import type { Account } from './host.js';

/** Where an instance's folder of them lies, and where its sandbox sees it. */
export const handsOf = (folder: string): string => join(folder, 'hands');
export const handsInside = '/run/tsunagi-hands';

/** Makes the folder with the pipe by which the instance is asked. */
export function makeHands(folder: string, account: Account | null): void {
  mkdirSync(handsOf(folder), { recursive: true, mode: 0o755 });
  makePipes(handsOf(folder), ['ask'], account);
}

export function makePipes(folder: string, names: readonly string[], account: Account | null): void {
  execFileSync('mkfifo', ['-m', '600', ...names.map((name) => join(folder, name))]);
  for (const name of names) if (account) chownSync(join(folder, name), account.uid, account.gid);
}
