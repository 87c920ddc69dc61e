#!/usr/bin/env node
/**
 * Runs the checks and the tests, and closes with one plain line. Arguments go to Jest.
 *
 * Two suites run beside each other, with real databases, browsers and sandboxes: on a busy machine a wait may be too short though
 * nothing is wrong. Where few suites of a whole run failed, those are run again, one alone, and what passes then is named as unsteady:
 * it is to be mended, and fails nothing. What fails twice has failed.
 */
import { spawnSync } from 'node:child_process';
import { chmodSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const folder = mkdtempSync(join(tmpdir(), 'tsunagi-results-'));
// Databases run under an account of their own.
chmodSync(folder, 0o711);
const env = {
  ...process.env,
  NODE_OPTIONS: `${process.env.NODE_OPTIONS ?? ''} --experimental-vm-modules --no-warnings`,
  // Clusters of databases that suites copy instead of making their own.
  TSUNAGI_TEST_MADE: join(folder, 'made'),
};
/** Suites of a whole run that may be run again, and the minutes after which none is begun any more. */
const most = 8;
const patience = 75;
const begun = Date.now();

/** Jest with these arguments: its exit status, and what it says of each suite; null when it did not come to an end. */
function jest(args) {
  const output = join(folder, `${Math.random()}.json`);
  const { status } = spawnSync(
    process.execPath,
    [join(root, 'node_modules/jest/bin/jest.js'), '--json', `--outputFile=${output}`, ...args],
    { cwd: root, env, stdio: ['ignore', 'inherit', 'inherit'] },
  );
  try {
    return { status: status ?? 1, results: JSON.parse(readFileSync(output, 'utf8')) };
  } catch {
    return { status: status ?? 1, results: null };
  }
}

const args = process.argv.slice(2);
// A run of all suites plays a part of what is much the same (test/house/turn.ts); which one, its commit says.
const head = spawnSync('git', ['rev-parse', 'HEAD'], { cwd: root, encoding: 'utf8' }).stdout ?? '';
if (args.length === 0) env.TSUNAGI_TEST_TURN = String(Number.parseInt(head.slice(0, 6), 16) || 0);
let { status, results } = jest(args);
if (results === null) process.stdout.write('0 passed, 1 failed, 0 skipped\n');
else {
  let { numPassedTests: passed, numFailedTests: failed } = results;
  const names = results.testResults.filter((one) => one.status === 'failed').map((one) => relative(root, one.name));
  const unsteady = [];
  if (args.length === 0 && status !== 0 && names.length > 0 && names.length <= most) {
    process.stdout.write(`\nRun again, one alone: ${names.join(', ')}\n`);
    for (const name of names) {
      if (Date.now() - begun > patience * 60_000) break;
      const before = results.testResults.find((one) => relative(root, one.name) === name).assertionResults;
      const again = jest(['--runInBand', '--runTestsByPath', name]);
      if (again.status !== 0 || again.results === null) continue;
      unsteady.push(name);
      passed += again.results.numPassedTests - before.filter((one) => one.status === 'passed').length;
      failed -= before.filter((one) => one.status === 'failed').length;
    }
    if (unsteady.length === names.length) status = 0;
  }
  for (const name of unsteady) process.stdout.write(`unsteady: ${name} failed beside others and passed alone\n`);
  process.stdout.write(`${passed} passed, ${failed} failed, ${results.numPendingTests} skipped\n`);
}
rmSync(folder, { recursive: true, force: true });
process.exit(status);
