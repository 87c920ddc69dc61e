import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { accessFor, defaultSizes, mostFor } from '../../src/core/advance/sizes.js';
import { fillText, noticesOf } from '../../src/core/notices.js';

const MiB = 1024 ** 2;
const at = (
  bytes: number,
  access: 'open' | 'reading' | 'shut' = 'open',
  place: 'standing' | 'untrusted' = 'standing',
) => accessFor({ bytes, most: 100, place, access });

describe('a database with a size', () => {
  it('is read alone when it is full, shut a fifth above that, and open again well below', () => {
    expect([at(99), at(100), at(119), at(120)]).toEqual(['open', 'reading', 'reading', 'shut']);
    expect([at(96, 'reading'), at(94, 'reading'), at(99, 'open')]).toEqual(['reading', 'open', 'open']);
    // Who was shut out does not come back only to write on.
    expect([at(110, 'shut'), at(96, 'shut'), at(94, 'shut')]).toEqual(['shut', 'shut', 'open']);
    expect(at(100, 'open', 'untrusted')).toBe('shut');
    expect(accessFor({ bytes: 1e15, most: null, place: 'standing', access: 'shut' })).toBe('open');
  });
  it('has that of its definition, of its place, or of both the less where it is a stranger’s', () => {
    expect(mostFor('standing', null, defaultSizes)).toBeNull();
    expect(mostFor('standing', 5 * MiB, defaultSizes)).toBe(5 * MiB);
    expect(mostFor('review', null, defaultSizes)).toBe(2048 * MiB);
    expect(mostFor('review', 4096 * MiB, defaultSizes)).toBe(4096 * MiB);
    expect(mostFor('untrusted', 4096 * MiB, defaultSizes)).toBe(256 * MiB);
    expect(mostFor('untrusted', MiB, defaultSizes)).toBe(MiB);
    expect(mostFor('elsewhere', MiB, defaultSizes)).toBeNull();
  });
  it('settles at once: a second look at the same bytes says the same', () => {
    const places = fc.constantFrom('standing' as const, 'review' as const, 'untrusted' as const);
    const accesses = fc.constantFrom('open' as const, 'reading' as const, 'shut' as const);
    fc.assert(
      fc.property(fc.nat(300), fc.option(fc.nat(200)), places, accesses, (bytes, most, place, access) => {
        const once = accessFor({ bytes, most, place, access });
        expect(accessFor({ bytes, most, place, access: once })).toBe(once);
        if (most !== null && bytes >= most) expect(once).not.toBe('open');
        if (most !== null && bytes < most * 0.95) expect(once).toBe('open');
        if (place === 'untrusted' && access !== 'reading') expect(once).not.toBe('reading');
      }),
    );
  });
});

describe('what is to be known of a resource', () => {
  const volume = { agent: 'agent-1', alive: true, hold: 'filesystem' as const, path: '/volumes/uploads', left: [] };
  const texts = (one: Parameters<typeof noticesOf>[0]) => noticesOf(one).map(({ text }) => text);
  it('is said of a full one, and of files that are elsewhere or not held', () => {
    expect(texts({ state: 'ready', bytes: 84, most: 100, volume: null })).toEqual([]);
    expect(texts({ state: 'ready', bytes: 85, most: 100, volume: null })).toEqual([
      'It is nearly full: a larger `size` in the definition makes room.',
    ]);
    // What is full says so itself.
    expect(texts({ state: 'ready', bytes: 100, most: 100, volume: null })).toEqual([]);
    expect(texts({ state: 'removed', bytes: 85, most: 100, volume })).toEqual([]);
    const away = {
      ...volume,
      alive: false,
      hold: 'counting' as const,
      left: [{ agent: 'agent-2', alive: false, used: 2048 }],
    };
    expect(texts({ state: 'ready', bytes: 1, most: 100, volume: away })).toEqual([
      'Programs find it at /volumes/uploads, on the machine of agent-1: what uses it runs there.',
      'agent-1 gives no sign of life: what uses the volume waits for it. If that machine is lost, restore a backup on another one.',
      'Its size is counted, and holds nobody up: its agent can’t mount file systems.',
      'What was there before is on agent-2 still (2.0 KiB): it is backed up, then removed, when that agent is back.',
    ]);
  });
  it('has its fill in one line', () => {
    expect([fillText(null, 5), fillText(2048, null), fillText(MiB, 2 * MiB)]).toEqual([
      '',
      '2.0 KiB',
      '1.0 MiB of 2.0 MiB, 50 % full',
    ]);
  });
});
