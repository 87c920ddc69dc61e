/** Identifies a process beyond its number, which the kernel reuses, above all after a reboot (proc(5)). */
import { readdirSync, readFileSync, readlinkSync } from 'node:fs';

/** The boot id and the clock tick at which a process began: no other process with its number has both. Null: there is no such process. */
export function beginningOf(pid: number): string | null {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
    // The program's name is in parentheses and may contain spaces and parentheses. Field 22 is the 20th after it.
    const ticks = stat.slice(stat.lastIndexOf(')') + 2).split(' ')[19];
    return `${readFileSync('/proc/sys/kernel/random/boot_id', 'utf8').trim()} ${ticks}`;
  } catch {
    return null;
  }
}

/** Whether this process exists and has the word as an argument, or as the name of its program. */
export function runsWith(pid: number, word: string): boolean {
  try {
    const words = readFileSync(`/proc/${pid}/cmdline`, 'utf8').split('\0');
    return words.includes(word) || words[0]?.split('/').at(-1) === word;
  } catch {
    return false;
  }
}

/** Whether a process that we may look at has this folder as its working folder. */
export const workIn = (folder: string): boolean =>
  readdirSync('/proc').some((pid) => {
    try {
      return /^\d+$/.test(pid) && readlinkSync(`/proc/${pid}/cwd`) === folder;
    } catch {
      return false;
    }
  });
