/** Which commit broke it. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { type Halved, halve, type Judged } from '../../src/core/plan/halve.js';

const names = (count: number) => Array.from({ length: count }, (_, at) => `c${at + 1}`);

/** Judges until it is known; gives how many were judged. */
function play(
  commits: string[],
  judge: (commit: string) => Judged,
  known = new Map<string, Judged>(),
): [Halved, number] {
  for (let count = 0; ; count++) {
    const found = halve({ commits, known });
    if ('first' in found) return [found, count];
    if (known.has(found.next)) throw new Error(`${found.next} is judged twice`);
    known.set(found.next, judge(found.next));
  }
}

describe('the first bad commit', () => {
  it('is found with few runs, wherever it is', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 300 }), fc.nat(), (count, where) => {
        const commits = names(count);
        const broke = where % count;
        const begun = halve({ commits, known: new Map() });
        const [found, judged] = play(commits, (one) => (commits.indexOf(one) >= broke ? 'bad' : 'good'));
        expect(found).toEqual({ first: commits[broke], doubt: [] });
        expect(judged).toBeLessThanOrEqual(Math.ceil(Math.log2(count)) + 1);
        if ('next' in begun) expect(judged).toBeLessThanOrEqual(begun.steps);
      }),
    );
  });

  it('takes what has been judged before for known, and judges none twice', () => {
    const commits = names(64);
    const known = new Map<string, Judged>([
      ['c20', 'good'],
      ['c24', 'bad'],
      ['c5', 'good'],
    ]);
    const [found, judged] = play(commits, (one) => (commits.indexOf(one) >= 21 ? 'bad' : 'good'), known);
    expect([found, judged]).toEqual([{ first: 'c22', doubt: [] }, 2]);
  });

  it('passes those by that could not be judged, and says which they are', () => {
    const commits = names(9);
    const [found] = play(commits, (one) => {
      const at = commits.indexOf(one);
      return at === 4 || at === 5 ? 'unclear' : at >= 6 ? 'bad' : 'good';
    });
    expect(found).toEqual({ first: 'c7', doubt: ['c5', 'c6'] });
    fc.assert(
      fc.property(
        fc.array(fc.constantFrom('good', 'bad', 'unclear') as fc.Arbitrary<Judged>, { minLength: 1, maxLength: 60 }),
        (truth) => {
          const all = names(truth.length);
          const [end] = play(all, (one) => truth[all.indexOf(one)] as Judged);
          expect('first' in end && (end.first === all.at(-1) || truth[all.indexOf(end.first)] === 'bad')).toBe(true);
        },
      ),
    );
  });

  it('is that of the last time, where it was mended between', () => {
    const commits = names(6);
    const known = new Map<string, Judged>([
      ['c1', 'bad'],
      ['c3', 'good'],
    ]);
    const [found] = play(commits, (one) => (commits.indexOf(one) >= 4 ? 'bad' : 'good'), known);
    expect(found).toEqual({ first: 'c5', doubt: [] });
  });

  it('needs something between the two', () => {
    expect(() => halve({ commits: [], known: new Map() })).toThrow('nothing between');
    expect(halve({ commits: ['c1'], known: new Map() })).toEqual({ first: 'c1', doubt: [] });
  });
});
