/** Processes that are kept running: started, started again when they die, ended in order. */
import type { ChildProcess } from 'node:child_process';

export interface Room {
  name: string;
  start(): ChildProcess | Promise<ChildProcess>;
  /** Resolves when it can be used. */
  ready?(): Promise<void>;
  /** The signal that asks it to end. */
  signal: NodeJS.Signals;
}

export interface Kept {
  pid(): number | undefined;
  end(): Promise<void>;
}

/**
 * Keeps one room running. Dying again soon makes the pause before the next start longer.
 * @param longest pause in milliseconds; default 2,000
 */
export async function keepRunning(room: Room, say: (text: string) => void, longest = 2_000): Promise<Kept> {
  let ending = false;
  let child: ChildProcess | null = null;
  let pause = 100;
  let firstFailure: ((error: Error) => void) | null = null;
  const run = async (): Promise<void> => {
    const began = Date.now();
    child = await room.start();
    child.once('error', (error) => say(`${room.name}: ${error.message}`));
    child.once('exit', (code, signal) => {
      if (ending) return;
      if (firstFailure && code !== null) return firstFailure(new Error(`${room.name} ended with ${code} at its start`));
      say(`${room.name} ended (${signal ?? code}) and is started again`);
      pause = Date.now() - began > 10_000 ? 100 : Math.min(longest, pause * 2);
      setTimeout(() => {
        if (!ending) run().catch((error: Error) => say(`${room.name}: ${error.message}`));
      }, pause);
    });
  };
  const end = async () => {
    ending = true;
    const one = child;
    if (!one || one.exitCode !== null || one.signalCode !== null) return;
    const gone = new Promise<void>((resolve) => one.once('exit', () => resolve()));
    one.kill(room.signal);
    const timer = setTimeout(() => one.kill('SIGKILL'), 15_000);
    await gone;
    clearTimeout(timer);
  };
  try {
    await new Promise<void>((resolve, reject) => {
      firstFailure = reject;
      run()
        .then(() => room.ready?.())
        .then(() => resolve(), reject);
    });
  } catch (error) {
    // Nobody has it in hand who could end it.
    await end();
    throw error;
  }
  firstFailure = null;
  return { pid: () => child?.pid, end };
}
