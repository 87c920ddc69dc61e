/** A file of results → test cases; the form is told from its content. */
import { parseJunit } from './junit.js';
import type { Reading } from './model.js';
import { isTap, parseTap } from './tap.js';

/** Never throws: what can't be read is said in `detail`. */
export function readResults(text: string): Reading {
  const plain = text.replace(/^\uFEFF/, '');
  if (/^\s*</.test(plain)) return parseJunit(plain);
  if (isTap(plain)) return parseTap(plain);
  return { results: null, detail: 'it is neither JUnit XML nor TAP' };
}
