/** Suites that kill things take minutes each: they come first, so that none of them is waited for at the end. */
import Sequencer from '@jest/test-sequencer';

const long = /recovery|crash|pictures\.test|copied-volumes|beginnings/;

export default class extends Sequencer {
  sort(tests) {
    const all = super.sort(tests);
    return [...all.filter(({ path }) => long.test(path)), ...all.filter(({ path }) => !long.test(path))];
  }
}
