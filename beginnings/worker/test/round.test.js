import assert from 'node:assert/strict';
import { test } from 'node:test';
import { round } from '../src/round.js';

test('what was done is not done again', () => {
  const done = new Set();
  assert.deepEqual(round(['a', 'b'], done), ['a', 'b']);
  assert.deepEqual(round(['b', 'c'], done), ['c']);
  assert.deepEqual(round([], done), []);
});
