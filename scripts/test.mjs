#!/usr/bin/env node
/**
 * Runs the checks and the tests, and closes with one plain line. Arguments go to Jest.
 *
 * Two suites run beside each other, with real databases, browsers and sandboxes: on a busy machine a wait may be too short though
 * nothing is wrong. Where few suites of a whole run failed, those are run again, one alone, and what passes then is named as unsteady:
 * it is to be mended, and fails nothing. What fails twice has failed.
 *
 * A whole run has an hour. On a machine that is too slow for that it does without some of a third of the suites, another third for
 * another commit, and names them (order.mjs, in-time.mjs): two thirds are always played.
 */
import { spawnSync } from 'node:child_process';
import { chmodSync, mkdtempSync, readFileSync, rmSync, statfsSync } from 'node:fs';
import { freemem, tmpdir } from 'node:os';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const GiB = 1024 ** 3;
/** Houses write and remove a great deal: in memory, where there is enough of it. The name is short, as names of sockets have to be. */
function roomForHouses() {
  try {
    const { type, bavail, bsize } = statfsSync('/dev/shm');
    return type === 0x01021994 && bavail * bsize > 8 * GiB && freemem() > 12 * GiB ? '/dev/shm' : tmpdir();
  } catch {
    return tmpdir();
  }
}
const folder = mkdtempSync(join(roomForHouses(), 'ts-'));
// Databases and work run under accounts of their own.
chmodSync(folder, 0o1777);
const env = {
  ...process.env,
  NODE_OPTIONS: `${process.env.NODE_OPTIONS ?? ''} --experimental-vm-modules --no-warnings`,
  TMPDIR: folder,
  // A transaction that locks rows in another order than all others fails (src/records/locks.ts).
  TSUNAGI_STRICT_LOCKS: '1',
  // Clusters of databases that suites copy instead of making their own.
  TSUNAGI_TEST_MADE: join(folder, 'made'),
};
const begun = Date.now();
/** Minutes of a whole run: until a suite may be left out, until none is run again, and until what still runs is ended. */
const minutes = { late: 60, again: 72, end: 82 };
const minute = 60_000;
/** Suites of a whole run that may be run again. */
const most = 8;

/** Jest with these arguments, for so many milliseconds: its exit status, and what it says of each suite; null when it did not come to an end. */
function jest(args, timeout) {
  const output = join(folder, `${Math.random()}.json`);
  const { status } = spawnSync(
    process.execPath,
    [
      join(root, 'node_modules/jest/bin/jest.js'),
      // What a suite that failed has left behind must not be waited for.
      '--forceExit',
      `--cacheDirectory=${join(tmpdir(), 'tsunagi-jest')}`,
      '--json',
      `--outputFile=${output}`,
      ...args,
    ],
    { cwd: root, env, stdio: ['ignore', 'inherit', 'inherit'], timeout, killSignal: 'SIGKILL' },
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
const whole = args.length === 0;
if (whole) {
  env.TSUNAGI_TEST_TURN = String(Number.parseInt(head.slice(0, 6), 16) || 0);
  env.TSUNAGI_TEST_UNTIL = String(begun + minutes.late * minute);
}
/** What is left of a whole run, in milliseconds; without end where suites were named. */
const left = () => (whole ? Math.max(1, begun + minutes.end * minute - Date.now()) : undefined);
let { status, results } = jest(args, left());
if (results === null) process.stdout.write('0 passed, 1 failed, 0 skipped\n');
else {
  let passed = results.numPassedTests;
  // A suite that could not be read at all has no cases to fail.
  let failed = results.numFailedTests + results.numRuntimeErrorTestSuites;
  const names = results.testResults.filter((one) => one.status === 'failed').map((one) => relative(root, one.name));
  const unsteady = [];
  if (whole && status !== 0 && names.length > 0 && names.length <= most) {
    process.stdout.write(`\nRun again, one alone: ${names.join(', ')}\n`);
    for (const name of names) {
      if (Date.now() - begun > minutes.again * minute) break;
      const before = results.testResults.find((one) => relative(root, one.name) === name).assertionResults;
      const again = jest(['--runInBand', '--runTestsByPath', name], left());
      if (again.status !== 0 || again.results === null) continue;
      unsteady.push(name);
      passed += again.results.numPassedTests - before.filter((one) => one.status === 'passed').length;
      failed -= before.filter((one) => one.status === 'failed').length || 1;
    }
    if (unsteady.length === names.length) status = 0;
  }
  for (const name of unsteady) process.stdout.write(`unsteady: ${name} failed beside others and passed alone\n`);
  const skipped = results.testResults
    .filter(({ assertionResults: [only] }) => only?.title === 'not played, for lack of time')
    .map((one) => relative(root, one.name));
  if (skipped.length > 0)
    process.stdout.write(`Not played, for lack of time: ${skipped.join(', ')}. \`npm test -- NAME\` plays one.\n`);
  process.stdout.write(`${passed} passed, ${failed} failed, ${results.numPendingTests} skipped\n`);
}
rmSync(folder, { recursive: true, force: true });
process.exit(status);
