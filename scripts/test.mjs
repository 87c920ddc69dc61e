#!/usr/bin/env node
/** Runs the checks and the tests, and closes with one plain line. Arguments go to Jest. */
import { spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const folder = mkdtempSync(join(tmpdir(), 'tsunagi-results-'));
const output = join(folder, 'results.json');
const env = {
  ...process.env,
  NODE_OPTIONS: `${process.env.NODE_OPTIONS ?? ''} --experimental-vm-modules --no-warnings`,
};
const jest = spawnSync(
  process.execPath,
  [join(root, 'node_modules/jest/bin/jest.js'), '--json', `--outputFile=${output}`, ...process.argv.slice(2)],
  {
    cwd: root,
    env,
    stdio: ['ignore', 'inherit', 'inherit'],
  },
);
try {
  const { numPassedTests, numFailedTests, numPendingTests } = JSON.parse(readFileSync(output, 'utf8'));
  process.stdout.write(`${numPassedTests} passed, ${numFailedTests} failed, ${numPendingTests} skipped\n`);
} catch {
  process.stdout.write('0 passed, 1 failed, 0 skipped\n');
}
rmSync(folder, { recursive: true, force: true });
process.exit(jest.status ?? 1);
