/**
 * Starts chains through a small process that stays (`starter.sh`): to start one from a process of the agent's size takes ten times as
 * long. It ends with the agent, and what it has started ends with it; one that has ended is followed by another.
 */
import { type ChildProcess, spawn } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { CodedError } from '../../core/errors/errors.js';

export interface Start {
  /** Where it runs. */
  folder: string;
  /** Folder of named pipes `in`, `out`, `err`, `3`, `4` and `5`, which this process has opened for the other side. */
  pipes: string;
  /** Files of groups that it enters. */
  groups: readonly string[];
  /** Program and arguments. */
  words: readonly string[];
}

export interface Started {
  pid: number;
  /** Who has started it has ended since, and so it was ended, too: that says nothing of what it did. */
  orphaned(): boolean;
}

export interface Starter {
  /** Resolves once its pipes are open. Throws `setup_failed` where it could not be started. */
  start(call: Start): Promise<Started>;
  close(): void;
}

interface Running {
  child: ChildProcess;
  waiting: Map<string, { resolve(started: Started): void; reject(error: Error): void }>;
  over: boolean;
}

const notStarted = (): CodedError => new CodedError('setup_failed', { detail: 'no process could be started' });

export function openStarter(bin: string, env: Record<string, string>): Starter {
  let running: Running | null = null;
  let closed = false;

  const open = (): Running => {
    const child = spawn('setpriv', ['--pdeathsig', 'KILL', 'bash', join(bin, 'starter.sh')], {
      env,
      cwd: '/',
      stdio: ['pipe', 'pipe', 'ignore'],
    });
    const own: Running = { child, waiting: new Map(), over: false };
    const over = () => {
      own.over = true;
      if (running === own) running = null;
      for (const { reject } of own.waiting.values()) reject(notStarted());
      own.waiting.clear();
    };
    child.on('error', over);
    child.on('close', over);
    child.stdin?.on('error', over);
    createInterface({ input: child.stdout as NonNullable<typeof child.stdout> }).on('line', (line) => {
      const [id = '', pid = '-'] = line.split(' ');
      const one = own.waiting.get(id);
      own.waiting.delete(id);
      if (pid === '-') one?.reject(notStarted());
      else one?.resolve({ pid: Number(pid), orphaned: () => own.over });
    });
    return own;
  };
  return {
    start({ folder, pipes, groups, words }) {
      if (closed) return Promise.reject(notStarted());
      running ??= open();
      const own = running;
      const id = randomUUID();
      const fields = [id, folder, pipes, String(groups.length), ...groups, String(words.length), ...words];
      return new Promise((resolve, reject) => {
        own.waiting.set(id, { resolve, reject });
        own.child.stdin?.write(`${fields.join('\0')}\0`);
      });
    },
    close() {
      closed = true;
      running?.child.stdin?.end();
      running?.child.kill('SIGKILL');
    },
  };
}
