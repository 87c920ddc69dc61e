/** Whether a process is the one that a file remembers: numbers of processes come again, after a reboot above all (proc(5)). */
import { readFileSync } from 'node:fs';

/** What no other process with the same number has: the boot, and the clock tick after it at which this one began. Null: there is none. */
export function beginningOf(pid: number): string | null {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
    // The name of the program stands in parentheses and may hold any; field 22 of all is the 20th after it.
    const ticks = stat.slice(stat.lastIndexOf(')') + 2).split(' ')[19];
    return `${readFileSync('/proc/sys/kernel/random/boot_id', 'utf8').trim()} ${ticks}`;
  } catch {
    return null;
  }
}

/** Whether a process runs in whose words this one stands, or whose program is called so. */
export function runsWith(pid: number, word: string): boolean {
  try {
    const words = readFileSync(`/proc/${pid}/cmdline`, 'utf8').split('\0');
    return words.includes(word) || words[0]?.split('/').at(-1) === word;
  } catch {
    return false;
  }
}
