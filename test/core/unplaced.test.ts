import { describe, expect, it } from '@jest/globals';
import { unplaced, unplacedMostMs, unplacedToldMs } from '../../src/core/plan/unplaced.js';

describe('a run that no agent can take', () => {
  it.each([
    [0, { ends: false, againMs: 2_000 }],
    [unplacedToldMs - 1, { ends: false, againMs: 2_000 }],
    [unplacedToldMs, { ends: false, againMs: 10_000 }],
    [unplacedMostMs - 1, { ends: false, againMs: 10_000 }],
    [unplacedMostMs, { ends: true }],
  ])('after %s ms', (waited, becomes) => {
    expect(unplaced(waited)).toEqual(becomes);
  });
});
