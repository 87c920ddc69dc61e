/** Processes by /proc (see proc(5)). */
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';

/** The first part of the id of this boot: ticks begin again at each. Empty where the kernel does not say it. */
const boot = (() => {
  try {
    return readFileSync('/proc/sys/kernel/random/boot_id', 'latin1').slice(0, 8);
  } catch {
    return '';
  }
})();

/** When a process was started: the boot, and clock ticks since then. Null: no such process. With the id it names a process for good. */
export function startTime(pid: number): string | null {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'latin1');
    const fields = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
    return fields[0] === 'Z' || fields[0] === 'X' ? null : fields[19] === undefined ? null : `${boot}.${fields[19]}`;
  } catch {
    return null;
  }
}

/** The first process of a sandbox, as bubblewrap wrote it down; null before that. */
export function firstProcess(folder: string): number | null {
  try {
    return (JSON.parse(readFileSync(join(folder, 'info'), 'utf8')) as { 'child-pid': number })['child-pid'];
  } catch {
    return null;
  }
}

export function childrenOf(pid: number): number[] {
  try {
    return readdirSync(`/proc/${pid}/task`).flatMap((task) =>
      readFileSync(`/proc/${pid}/task/${task}/children`, 'latin1').split(' ').filter(Boolean).map(Number),
    );
  } catch {
    return [];
  }
}

/** All processes below one, the nearest first. */
export function descendantsOf(pid: number): number[] {
  const found: number[] = [];
  for (let queue = childrenOf(pid); queue.length; queue = queue.flatMap(childrenOf)) found.push(...queue);
  return found;
}

/**
 * The program of a sandbox: below its first process, past the shell that waits for it. The shell has no reason to hear TERM:
 * it would end at once and take the program with it.
 */
export function programOf(first: number): number | null {
  let at = childrenOf(first)[0] ?? null;
  while (at !== null && nameOf(at) === 'bash') {
    const below = childrenOf(at);
    if (below.length === 0) return at;
    at = below[0] as number;
  }
  return at;
}

/** The ids of a process in its own namespace and in those around it, the outermost first; empty when it is gone. */
export function insideIds(pid: number): number[] {
  try {
    const found = /^NSpid:\s*(.*)$/m.exec(readFileSync(`/proc/${pid}/status`, 'latin1'))?.[1];
    return found ? found.split(/\s+/).map(Number) : [];
  } catch {
    return [];
  }
}

export function nameOf(pid: number): string {
  try {
    return readFileSync(`/proc/${pid}/comm`, 'utf8').trim();
  } catch {
    return '';
  }
}

export function signal(pid: number, name: 'SIGTERM' | 'SIGKILL'): void {
  try {
    process.kill(pid, name);
  } catch {
    // It has ended by itself.
  }
}

/**
 * Ports on which something listens in the network of a process, lowest first; none are looked for beyond the one that is `wanted`. The
 * kernel goes through all of its table for each of the two files (4 ms): most programs listen by the second.
 */
export function listeningPorts(pid: number, wanted: number | null = null): number[] {
  const ports = new Set<number>();
  for (const file of ['tcp6', 'tcp']) {
    if (wanted !== null && ports.has(wanted)) break;
    try {
      for (const line of readFileSync(`/proc/${pid}/net/${file}`, 'latin1').split('\n').slice(1)) {
        const [, local, , state] = line.trim().split(/\s+/);
        if (state === '0A' && local) ports.add(Number.parseInt(local.slice(local.lastIndexOf(':') + 1), 16));
      }
    } catch {
      // The process is gone.
    }
  }
  return [...ports].sort((a, b) => a - b);
}

/** The loopback address on which alone a port is listened on in the network of a process, or null. */
export function onlyLoopback(pid: number | null, port: number): string | null {
  const found: string[] = [];
  for (const file of pid === null ? [] : ['tcp', 'tcp6']) {
    try {
      for (const line of readFileSync(`/proc/${pid}/net/${file}`, 'latin1').split('\n').slice(1)) {
        const [, local, , state] = line.trim().split(/\s+/);
        if (state === '0A' && local && Number.parseInt(local.slice(local.lastIndexOf(':') + 1), 16) === port)
          found.push(local.slice(0, local.lastIndexOf(':')));
      }
    } catch {
      // The process is gone.
    }
  }
  // As the kernel writes them: words of four bytes, each in the order of the machine.
  const names = found.map((hex) =>
    /^[0-9A-F]{6}7F$/.test(hex) ? '127.0.0.1' : hex === '00000000000000000000000001000000' ? '::1' : null,
  );
  return names.length > 0 && names.every((name) => name !== null) ? (names[0] as string) : null;
}
