import { describe, expect, it } from '@jest/globals';
import { makeHub } from '../../src/service/hub';
import { makeKnown } from '../../src/service/known';

describe('what is known for a moment', () => {
  const open = () => {
    const hub = makeHub();
    let now = 1_000;
    let asked = 0;
    const known = makeKnown<string>(hub, 'callers', () => now);
    hub.heard('*');
    return {
      hub,
      known,
      get: (value: string | null = 'Mika') =>
        known.get('key', async () => {
          asked++;
          return value;
        }),
      asked: () => asked,
      later: (ms: number) => {
        now += ms;
      },
    };
  };

  it('is asked for once, and again after five seconds', async () => {
    const { get, asked, later } = open();
    expect([await get(), await get('other'), asked()]).toEqual(['Mika', 'Mika', 1]);
    later(5_001);
    expect([await get('Sora'), asked()]).toEqual(['Sora', 2]);
  });

  it('is forgotten when its change is told, and what was asked before that is not kept', async () => {
    const { hub, known, get, asked } = open();
    await get();
    hub.heard('other');
    expect(await get('x')).toBe('Mika');
    hub.heard('callers');
    expect(await get('x')).toBe('x');
    known.clear();
    let give = (_: string) => {};
    const slow = known.get(
      'slow',
      () =>
        new Promise((resolve) => {
          give = resolve;
        }),
    );
    hub.heard('callers');
    give('old');
    expect(await slow).toBe('old');
    expect(await known.get('slow', async () => 'new')).toBe('new');
    expect(asked()).toBe(2);
  });

  it('is not kept while nobody tells, nor when there is nothing', async () => {
    const { hub, get, asked } = open();
    await get(null);
    expect(await get()).toBe('Mika');
    hub.heard('!');
    expect([await get('a'), await get('b'), asked()]).toEqual(['a', 'b', 4]);
    hub.heard('*');
    // Anything may have happened meanwhile.
    expect([await get('c'), await get('d')]).toEqual(['c', 'c']);
  });

  it('holds a bounded number', async () => {
    const { known } = open();
    for (let n = 0; n < 6_000; n++) await known.get(String(n), async () => 'x');
    expect(await known.get('0', async () => 'new')).toBe('new');
    expect(await known.get('5999', async () => 'new')).toBe('x');
  });
});
