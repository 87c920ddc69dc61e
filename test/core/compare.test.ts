/** What differs between two lists of things. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { changesBetween, partFiles } from '../../src/core/compare/compare.js';

const same = (a: number, b: number) => a === b;

describe('what differs', () => {
  it('is told by name, and what is the same is left out', () => {
    expect(
      changesBetween(
        new Map([
          ['a', 1],
          ['b', 2],
          ['c', 3],
        ]),
        new Map([
          ['d', 4],
          ['c', 3],
          ['b', 5],
        ]),
        same,
      ),
    ).toEqual([
      { name: 'a', what: 'removed', from: 1, to: null },
      { name: 'b', what: 'changed', from: 2, to: 5 },
      { name: 'd', what: 'added', from: null, to: 4 },
    ]);
  });
  it('leads from one list to the other, whatever they are', () => {
    const list = fc.dictionary(fc.string({ maxLength: 3 }), fc.nat(3)).map((one) => new Map(Object.entries(one)));
    fc.assert(
      fc.property(list, list, (from, to) => {
        const result = new Map(from);
        for (const { name, what, to: now } of changesBetween(from, to, same))
          if (what === 'removed') result.delete(name);
          else result.set(name, now as number);
        expect([...result].sort()).toEqual([...to].sort());
        expect(changesBetween(to, to, same)).toEqual([]);
      }),
    );
  });
  it('takes of the layers of a part the last one that has a path', () => {
    const file = (digest: string) => ({ size: 1, digest });
    expect([
      ...partFiles([
        new Map([['a', file('1')]]),
        new Map([
          ['a', file('2')],
          ['b', file('3')],
        ]),
      ]),
    ]).toEqual([
      ['a', file('2')],
      ['b', file('3')],
    ]);
  });
});
