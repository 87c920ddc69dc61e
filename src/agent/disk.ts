/** Watches how much a piece of work writes into a folder. */
import { execFile } from 'node:child_process';

/** Milliseconds between two looks; a look that took long is followed by a longer pause. */
const everyMs = 1_500;

/** Calls `full` once when the files below the folder take more than `limit` bytes. */
export function watchDisk(folder: string, limit: number, full: () => void): { stop(): void } {
  let stopped = false;
  let timer: NodeJS.Timeout;
  const look = () => {
    const began = performance.now();
    execFile('du', ['-s', '-x', '--block-size=1', folder], { timeout: 60_000 }, (_error, out) => {
      if (stopped) return;
      // Files that go away while they are counted make du complain; what it has counted is good.
      if (Number.parseInt(out, 10) > limit) {
        stopped = true;
        full();
      } else next(Math.max(everyMs, (performance.now() - began) * 10));
    });
  };
  const next = (ms: number) => {
    timer = setTimeout(look, ms);
    timer.unref();
  };
  next(everyMs);
  return {
    stop() {
      stopped = true;
      clearTimeout(timer);
    },
  };
}
