/** Names of people, and texts that nest without end. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { deepest, isDeeper } from '../../src/core/json-depth.js';
import { isReservedPerson, lookOf } from '../../src/core/people.js';

describe('the name of a person', () => {
  it.each(['engine', 'Engine', 'ENGINE', 'еngine', 'agent', 'Tsunagi', 'this_machine', 'unknown'])(
    '%s is not free',
    (name) => {
      expect(isReservedPerson(name)).toBe(true);
    },
  );
  it.each(['aoi', 'Nagi', '葵', 'Ødegård', 'engineer'])('%s is free', (name) => {
    expect(isReservedPerson(name)).toBe(false);
  });
  it('looks like another one whatever letters it is written in', () => {
    for (const [one, other] of [
      ['Mika', 'Мікa'],
      ['aoi', 'AOI'],
      ['nori', 'n0ri'],
      ['Nagi San', 'nagi-san'],
      ['José', 'Jose'],
    ] as const)
      expect(lookOf(one)).toBe(lookOf(other));
    expect(lookOf('aoi')).not.toBe(lookOf('aio'));
  });
});

describe('a text of JSON', () => {
  it('is measured without being read', () => {
    fc.assert(
      fc.property(fc.json({ maxDepth: 8 }), (text) => {
        const depth = (value: unknown): number =>
          value !== null && typeof value === 'object' ? 1 + Math.max(0, ...Object.values(value).map(depth)) : 0;
        const own = depth(JSON.parse(text));
        expect(isDeeper(text, own)).toBe(false);
        if (own > 0) expect(isDeeper(text, own - 1)).toBe(true);
      }),
    );
    expect(isDeeper('['.repeat(deepest + 1))).toBe(true);
    expect(isDeeper(JSON.stringify('['.repeat(1_000) + '\\"{'.repeat(100)))).toBe(false);
    expect(isDeeper('['.repeat(200_000))).toBe(true);
  });
});
