/** Runs a suite as Jest does, unless it may be left out and the run has no time left for it: then it counts as skipped. */
import { createRequire } from 'node:module';
import { isLate } from './order.mjs';

const { default: run } = createRequire(import.meta.url)('jest-circus/runner');

/** The result of such a suite, as Jest wants it: none without a case. */
const nothing = {
  skipped: true,
  leaks: false,
  numPassingTests: 0,
  numFailingTests: 0,
  numPendingTests: 1,
  numTodoTests: 0,
  openHandles: [],
  perfStats: { start: 0, end: 0, runtime: 0, slow: false, loadTestEnvironmentStart: 0, loadTestEnvironmentEnd: 0 },
  snapshot: { added: 0, fileDeleted: false, matched: 0, unchecked: 0, uncheckedKeys: [], unmatched: 0, updated: 0 },
  testResults: [
    {
      ancestorTitles: [],
      title: 'not played, for lack of time',
      fullName: 'not played, for lack of time',
      status: 'pending',
      failureDetails: [],
      failureMessages: [],
      numPassingAsserts: 0,
    },
  ],
};

export default async function inTime(globalConfig, config, environment, runtime, path, send) {
  const until = process.env.TSUNAGI_TEST_UNTIL;
  if (until && Date.now() > Number(until) && isLate(path)) return { ...nothing, testFilePath: path };
  return run(globalConfig, config, environment, runtime, path, send);
}
