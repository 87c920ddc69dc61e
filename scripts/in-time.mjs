/** Runs a suite as Jest does, unless it may be left out and the run has no time left for it: then it counts as skipped. */
import { createRequire } from 'node:module';
import { createEmptyTestResult } from '@jest/test-result';
import { isLate } from './order.mjs';

const { default: run } = createRequire(import.meta.url)('jest-circus/runner');

/** Jest takes no suite without a case. */
const notPlayed = {
  ancestorTitles: [],
  title: 'not played, for lack of time',
  fullName: 'not played, for lack of time',
  status: 'pending',
  failureDetails: [],
  failureMessages: [],
  numPassingAsserts: 0,
};

export default async function inTime(globalConfig, config, environment, runtime, path, send) {
  const until = process.env.TSUNAGI_TEST_UNTIL;
  if (until && Date.now() > Number(until) && isLate(path))
    return { ...createEmptyTestResult(), numPendingTests: 1, testResults: [notPlayed], testFilePath: path };
  return run(globalConfig, config, environment, runtime, path, send);
}
