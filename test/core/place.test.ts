/** How large and how many, and where they go. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { largestRoom, place, type Room, type Waiting } from '../../src/core/placement/place.js';
import { sizeOf } from '../../src/core/scale/sizes.js';
import { bytesText, parseSize, sizeSource } from '../../src/core/sizes.js';

const MiB = 1024 ** 2;
const room = (id: string, change: Partial<Room> = {}): Room => ({
  id,
  name: id,
  memory: 1024 * MiB,
  taken: 0,
  places: 10,
  has: {},
  ...change,
});
const waits = (id: string, of = 'd api', memory = 256 * MiB, only: string[] | null = null): Waiting => ({
  id,
  of,
  memory,
  only,
});

describe('a place for an instance', () => {
  it('is where its volumes are, or nowhere for now', () => {
    const rooms = [room('a'), room('b', { taken: 700 * MiB })];
    const placed = place(
      [
        waits('1', 'd api', 256 * MiB, ['b']),
        waits('2', 'd api', 256 * MiB, []),
        waits('3', 'd api', 512 * MiB, ['b']),
        waits('4'),
      ],
      rooms,
    );
    // The one behind those that wait is not held up by them.
    expect([...placed]).toEqual([
      ['1', 'b'],
      ['4', 'a'],
    ]);
  });
  it('is with whoever has the fewest of its part, then the most memory left', () => {
    const placed = place([waits('1'), waits('2'), waits('3')], [room('a', { taken: 256 * MiB }), room('b')]);
    expect([...placed]).toEqual([
      ['1', 'b'],
      ['2', 'a'],
      ['3', 'b'],
    ]);
    expect(place([waits('1')], [room('a', { has: { 'd api': 1 } }), room('b', { taken: 700 * MiB })]).get('1')).toBe(
      'b',
    );
  });
  it('is nowhere where nobody has room, and others do not wait for it', () => {
    const placed = place([waits('big', 'd big', 2048 * MiB), waits('small')], [room('a')]);
    expect([...placed]).toEqual([['small', 'a']]);
    expect(place([waits('1')], [room('a', { places: 0 })]).size).toBe(0);
    expect(largestRoom([room('a', { taken: 24 * MiB }), room('b', { places: 0, memory: 9_000 * MiB })])).toBe(
      1_000 * MiB,
    );
    expect(largestRoom([room('a', { memory: null })])).toBeNull();
    expect(largestRoom([])).toBe(0);
  });
  it('never takes more than there is, is the same each time, and leaves no room that would do', () => {
    const rooms = fc.array(fc.record({ memory: fc.integer({ min: 0, max: 8 }), places: fc.nat(4) }), { maxLength: 4 });
    const waiting = fc.array(
      fc.record({ part: fc.constantFrom('api', 'bell'), memory: fc.integer({ min: 1, max: 4 }) }),
      {
        maxLength: 12,
      },
    );
    fc.assert(
      fc.property(rooms, waiting, (given, list) => {
        const all = given.map((one, at) => room(String.fromCharCode(97 + at), one));
        const wanted = list.map((one, at) => waits(String(at), `d ${one.part}`, one.memory));
        const placed = place(wanted, all);
        expect([...place(wanted, all)]).toEqual([...placed]);
        const left = new Map(
          all.map((one) => {
            const own = wanted.filter((each) => placed.get(each.id) === one.id);
            const memory = (one.memory ?? 0) - own.reduce((sum, each) => sum + each.memory, 0);
            expect(memory).toBeGreaterThanOrEqual(0);
            expect(own.length).toBeLessThanOrEqual(one.places ?? 0);
            return [one.id, own.length < (one.places ?? 0) ? memory : 0];
          }),
        );
        for (const one of wanted)
          if (!placed.has(one.id)) for (const memory of left.values()) expect(memory).toBeLessThan(one.memory);
      }),
    );
  });
});

describe('a size', () => {
  it('is what a person has set, else what the environment says, else what the part says', () => {
    const part = { name: 'api', instances: 2, auto: null, memory: null, cpu: 0.5 };
    const plan = { parts: { api: { instances: 3, auto: null, memory: 512 * MiB, cpu: null } } };
    expect(sizeOf(part, { parts: {} }, {})).toEqual({ instances: 2, auto: null, memory: null, cpu: 0.5 });
    expect(sizeOf(part, plan, {})).toEqual({ instances: 3, auto: null, memory: 512 * MiB, cpu: 0.5 });
    expect(sizeOf(part, plan, { api: { instances: 5, cpu: 2 } })).toEqual({
      instances: 5,
      auto: null,
      memory: 512 * MiB,
      cpu: 2,
    });
  });
  it('between bounds is what was found, within them; who says a number wants that number', () => {
    const auto = { min: 2, max: 6, cpu: 0.7 };
    const part = { name: 'api', instances: 1, auto, memory: null, cpu: null };
    const count = (set: object, planned: object | null = null) =>
      sizeOf(
        part,
        { parts: planned ? { api: { instances: null, auto: null, memory: null, cpu: null, ...planned } } : {} },
        { api: set },
      ).instances;
    expect([count({}), count({ found: { instances: 4, at: 1 } }), count({ found: { instances: 9, at: 1 } })]).toEqual([
      2, 4, 6,
    ]);
    expect([count({ instances: 1, found: { instances: 4, at: 1 } }), count({}, { instances: 3 })]).toEqual([1, 3]);
    expect(count({ found: { instances: 4, at: 1 } }, { auto: { min: 1, max: 3, cpu: 0.5 } })).toBe(3);
  });
  it('is written with a letter', () => {
    expect([parseSize('256M'), parseSize('1.5G'), parseSize('12'), parseSize('0M'), parseSize('1T')]).toEqual([
      256 * MiB,
      1536 * MiB,
      null,
      null,
      null,
    ]);
    expect([sizeSource(256 * MiB), sizeSource(2048 * MiB)]).toEqual(['256M', '2G']);
    expect([bytesText(12), bytesText(1536), bytesText(40.25 * MiB), bytesText(1536 * MiB)]).toEqual([
      '12 B',
      '1.5 KiB',
      '40.3 MiB',
      '1.5 GiB',
    ]);
  });
  it('stands with a part and with an environment, and belongs to programs', () => {
    const text = (size: string, environment: string) => `tsunagi: 1
release:
  parts:
    page: { kind: site, root: web }
    api: { kind: server, start: node api.js, at: /api${size} }
environments:
  staging: { branch: main, parts: { ${environment} } }
`;
    const read = (size: string, environment: string) => parseDefinition(text(size, environment));
    const { definition } = read(', memory: 256M, cpu: 0.5', 'api: { instances: 3, memory: 1G }');
    expect(definition?.release?.parts.api).toMatchObject({ memory: 256 * MiB, cpu: 0.5, instances: 1 });
    expect(definition?.environments.staging?.parts).toEqual({
      api: { instances: 3, auto: null, memory: 1024 * MiB, cpu: null },
    });
    const codes = (size: string, environment: string) => read(size, environment).issues.map((one) => one.code);
    expect(codes('', 'apy: { instances: 3 }')).toEqual(['unknown_part']);
    expect(codes('', 'page: { instances: 3 }')).toEqual(['key_not_for']);
    expect(codes(', memory: 1T', 'api: { cpu: 0 }')).toHaveLength(2);
    expect(read(', instances: { min: 1, max: 4, cpu: 70% }', '').definition?.release?.parts.api).toMatchObject({
      instances: 1,
      auto: { min: 1, max: 4, cpu: 0.7 },
    });
    expect(codes(', instances: { min: 5, max: 4, cpu: 70% }', '')).toEqual(['bounds_crossed']);
    expect(codes(', instances: { min: 1, max: 4 }', '')).toEqual(['required_key']);
    expect(codes(', memory: 1M', 'api: { instances: 51 }')).toHaveLength(2);
  });
});
