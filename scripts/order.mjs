/**
 * The order of suites. Those that kill things take minutes each: they come first, so that none of them is waited for at the end.
 * A third of the suites that open a house comes after all others, another third for another commit: where a whole run has no time left,
 * those are the ones that it does without (scripts/in-time.mjs).
 */
import { readFileSync, readdirSync } from 'node:fs';
import { basename, dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import Sequencer from '@jest/test-sequencer';

const house = join(dirname(dirname(fileURLToPath(import.meta.url))), 'test/house');
const names = readdirSync(house)
  .filter((name) => name.endsWith('.test.ts') && readFileSync(join(house, name), 'utf8').includes('openWorld('))
  .sort();
const long = /recovery|crash|pictures\.test|copied-volumes|beginnings|cutovers|together|volumes\.test/;

/** Whether a suite is of the third that may be left out, in a run whose turn is known. */
export function isLate(path) {
  const turn = process.env.TSUNAGI_TEST_TURN;
  const at = dirname(path) === house ? names.indexOf(basename(path)) : -1;
  return Boolean(turn) && at >= 0 && (at + Number(turn)) % 3 === 0;
}

export default class extends Sequencer {
  sort(tests) {
    const rank = ({ path }) => (isLate(path) ? 2 : 0) + (long.test(path) ? 0 : 1);
    return super.sort(tests).sort((a, b) => rank(a) - rank(b));
  }
}
