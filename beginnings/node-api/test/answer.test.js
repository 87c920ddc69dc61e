import assert from 'node:assert/strict';
import { test } from 'node:test';
import { answer } from '../src/answer.js';

const store = () => {
  const kept = [];
  return { all: async () => kept, add: async (text) => kept[kept.push({ text }) - 1] };
};

test('a note is kept, and listed', async () => {
  const notes = store();
  assert.equal((await answer('POST', '/notes', { text: ' hello ' }, notes)).status, 201);
  assert.deepEqual((await answer('GET', '/notes', null, notes)).body, [{ text: 'hello' }]);
});

test('what is no note is refused', async () => {
  for (const body of [null, {}, { text: '' }, { text: 1 }, { text: 'x'.repeat(501) }])
    assert.equal((await answer('POST', '/notes', body, store())).status, 422);
});

test('other paths and methods are refused', async () => {
  assert.equal((await answer('GET', '/other', null, store())).status, 404);
  assert.equal((await answer('DELETE', '/notes', null, store())).status, 405);
});
