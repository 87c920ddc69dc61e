import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { changedRefs, type PullRefs, pullOfRef, readPullRefs } from '../../src/core/pull-refs.js';

describe('refs of pull requests', () => {
  it('are a whole name with one star, of no branch and no tag', () => {
    expect(readPullRefs('refs/pull/*/head')).toEqual({ before: 'refs/pull/', after: '/head' });
    expect(readPullRefs('refs/changes/*')).toEqual({ before: 'refs/changes/', after: '' });
    for (const wrong of [
      'refs/pull/*/*',
      'refs/pull/1/head',
      'refs/heads/*',
      'refs/tags/v*',
      'pull/*/head',
      'refs/*',
      'refs/pull/../*',
      'refs//pull/*',
      'refs/pull/*/head.lock',
      'refs/pull/*/',
      'refs/pull/*; rm -rf /',
      '--upload-pack=x*',
      `refs/${'x'.repeat(300)}/*`,
      '',
    ])
      expect([wrong, readPullRefs(wrong)]).toEqual([wrong, null]);
  });
  it('have a number, and nothing else, in the place of the star', () => {
    const refs = readPullRefs('refs/pull/*/head') as PullRefs;
    expect(pullOfRef(refs, 'refs/pull/214/head')).toBe(214);
    for (const other of [
      'refs/pull/0/head',
      'refs/pull/01/head',
      'refs/pull/1/merge',
      'refs/pull/1/2/head',
      'refs/pull//head',
      'refs/pull/-1/head',
      'refs/pull/9999999999/head',
      'refs/heads/refs/pull/1/head',
      'refs/pull/head',
    ])
      expect([other, pullOfRef(refs, other)]).toEqual([other, null]);
  });
  it('are taken in by looks that each have an end, whatever has changed', () => {
    const heads = fc
      .array(fc.tuple(fc.integer({ min: 1, max: 60 }), fc.constantFrom('a', 'b', 'c')), { maxLength: 80 })
      .map((list) => new Map(list));
    fc.assert(
      fc.property(heads, heads, fc.integer({ min: 1, max: 9 }), (before, now, most) => {
        const seen = new Map<number, string>(before);
        for (let looks = 0; ; looks++) {
          const { changes, more } = changedRefs(seen, now, most);
          expect(changes.length).toBeLessThanOrEqual(most);
          for (const change of changes)
            if ('gone' in change) seen.delete(change.number);
            else seen.set(change.number, change.head);
          if (!more) break;
          expect(looks).toBeLessThan(130);
        }
        expect(new Map([...seen].sort())).toEqual(new Map([...now].sort()));
      }),
      { numRuns: 1_000 },
    );
  });
});
