/** Watches how much a piece of work writes into folders. */
import { execFile } from 'node:child_process';
import { promisify } from 'node:util';

const run = promisify(execFile);

/** Milliseconds between two looks; a look that took long is followed by a longer pause. */
const everyMs = 1_500;

export interface DiskBounds {
  bytes: number;
  files: number;
}

/** Calls `full` once, when what lies below the folders takes more bytes, or is more files, than it may. */
export function watchDisk(
  folders: readonly string[],
  bounds: DiskBounds,
  full: (what: 'disk' | 'files') => void,
): { stop(): void; bytes(): number } {
  let stopped = false;
  let counted = 0;
  let timer: NodeJS.Timeout;
  const look = async (): Promise<void> => {
    const began = performance.now();
    const bytes = await count(folders, '--block-size=1');
    counted = bytes;
    const files = bytes > bounds.bytes || stopped ? 0 : await count(folders, '--inodes');
    if (stopped) return;
    if (bytes > bounds.bytes || files > bounds.files) {
      stopped = true;
      full(bytes > bounds.bytes ? 'disk' : 'files');
    } else next(Math.max(everyMs, (performance.now() - began) * 10));
  };
  const next = (ms: number) => {
    timer = setTimeout(() => void look(), ms);
    timer.unref();
  };
  next(everyMs);
  return {
    bytes: () => counted,
    stop() {
      stopped = true;
      clearTimeout(timer);
    },
  };
}

async function count(folders: readonly string[], unit: '--block-size=1' | '--inodes'): Promise<number> {
  const call = run('du', ['-s', '-x', unit, '--', ...folders], { timeout: 60_000 });
  // Files that go away while they are counted make du complain; what it has counted is good.
  const out = await call.then(
    (done) => done.stdout,
    (error: { stdout?: string }) => error.stdout ?? '',
  );
  return out.split('\n').reduce((sum, line) => sum + (Number.parseInt(line, 10) || 0), 0);
}
