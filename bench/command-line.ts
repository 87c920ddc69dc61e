/** The command line's start to the end of `--help`, against `node -e 0`. */
import { execFile } from 'node:child_process';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { type Figure, pair, timed } from './harness.js';

const bundle = join(dirname(dirname(fileURLToPath(import.meta.url))), 'tsunagi.js');

export async function commandLine(): Promise<Figure[]> {
  const run = promisify(execFile);
  return [
    await pair({
      name: 'command line, --help, to node -e 0',
      unit: 'ms',
      rounds: 25,
      measure: () => timed(() => run(process.execPath, [bundle, '--help'])),
      baseline: () => timed(() => run(process.execPath, ['-e', '0'])),
      goal: { text: '≤ 1.40 ×', met: (_, ratio) => (ratio ?? 9) <= 1.4 },
    }),
  ];
}
