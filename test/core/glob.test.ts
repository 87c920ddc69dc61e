import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import picomatch from 'picomatch';
import { compileGlob } from '../../src/core/glob';
import { select } from '../../src/core/paths';

describe('a pattern', () => {
  it.each([
    ['src', ['src', 'src/a', 'src/b/c'], ['srcs', 'a/src']],
    ['*.md', ['a.md', '.md', '.a.md'], ['a/b.md', 'a.mdx/b.md']],
    ['src/*', ['src/a', 'src/a/b'], ['src']],
    ['**/test', ['test', 'a/test', 'a/b/test/c'], ['tests', 'a/tests']],
    ['a/**/z', ['a/z', 'a/b/z', 'a/b/c/z/d'], ['a', 'a/b', 'z']],
    ['a/**', ['a/b', 'a/b/c'], ['a', 'b/a']],
    ['*/**', ['a/b', 'a/b/c'], ['a']],
    ['**', ['a', 'a/b'], []],
    ['a*b*c', ['abc', 'axbxc', 'abbcc'], ['acb', 'ab', 'abcd']],
    ['[a]{b}(c)!+?', ['[a]{b}(c)!+?'], ['ab', 'a']],
  ])('%s means what it says', (pattern, fits, others) => {
    const matches = compileGlob(pattern);
    expect(fits.filter((path) => !matches(path))).toEqual([]);
    expect(others.filter((path) => matches(path))).toEqual([]);
  });

  const step = fc.stringMatching(/^[ab.]{1,4}$/).filter((text) => !/^\.+$/.test(text));
  const starred = fc.oneof(
    step,
    fc.stringMatching(/^[ab*]{1,5}$/).filter((text) => !/\*\*/.test(text)),
    fc.constant('**'),
  );
  it('fits the same paths as a library of globs', () => {
    fc.assert(
      fc.property(
        fc.array(starred, { minLength: 1, maxLength: 5 }),
        fc.array(step, { minLength: 1, maxLength: 6 }),
        (pattern, path) => {
          const text = pattern.join('/');
          const options = { dot: true, nobrace: true, noext: true, nonegate: true };
          // They let `a/**` mean `a` itself, besides; here it is what lies below.
          const said = text.endsWith('/**') ? `${text}/*` : text;
          const theirs = [said, `${said}/**`].some((one) => picomatch(one, options)(path.join('/')));
          expect(compileGlob(text)(path.join('/'))).toBe(theirs);
        },
      ),
      { numRuns: 2_000, ...(process.env.TSUNAGI_SEED ? { seed: Number(process.env.TSUNAGI_SEED) } : {}) },
    );
  });

  it('takes no longer for what is made to take long', () => {
    const name = 'a'.repeat(250);
    const paths = Array.from({ length: 2_000 }, (_, at) => `${name}/${'a/'.repeat(40)}${at}`);
    // Ways to match grow with the power of the stars; what is looked at does not.
    expect(
      select(paths, ['*a*a*a*a*a*a*a*ab', '**/a/**/a/**/a/**/a/**/a/**/b', `${'*a'.repeat(120)}b`]).idle,
    ).toHaveLength(3);
  });
});
