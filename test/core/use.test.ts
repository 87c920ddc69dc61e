import { usesBut } from '../../src/core/cutover/use.js';

describe('what counts as use', () => {
  const uses = usesBut({
    paths: ['/health', '/internal/*/ping'],
    headers: { 'user-agent': ['*monitor*', 'probe/*'], 'x-check': ['*'] },
  });

  it('is everything but the paths that are named, and what lies below them', () => {
    expect(uses('/', {})).toBe(true);
    expect(uses('/healthy', {})).toBe(true);
    expect(uses('/health', {})).toBe(false);
    expect(uses('/health/deep', {})).toBe(false);
    expect(uses('//health', {})).toBe(false);
    expect(uses('/internal/a/ping', {})).toBe(false);
    expect(uses('/internal/a/b/ping', {})).toBe(true);
  });

  it('is not what comes with a header whose value fits, whatever its case', () => {
    expect(uses('/', { 'user-agent': 'Mozilla/5.0 (compatible; Some-MONITOR/2; +http://x/y)' })).toBe(false);
    expect(uses('/', { 'user-agent': 'probe/1' })).toBe(false);
    expect(uses('/', { 'user-agent': 'a probe/1' })).toBe(true);
    expect(uses('/', { 'x-check': '1' })).toBe(false);
    expect(uses('/', { 'x-check': '' })).toBe(true);
    expect(uses('/', { 'x-check': ['', 'b'] })).toBe(false);
  });

  it('takes no longer for a long header than for a short one', () => {
    const many = usesBut({ paths: [], headers: { 'user-agent': [`${'*a'.repeat(60)}*!`] } });
    expect(many('/', { 'user-agent': 'a'.repeat(1_000_000) })).toBe(true);
  });
});
