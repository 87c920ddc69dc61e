import { Readable } from 'node:stream';
import { describe, expect, it } from '@jest/globals';
import { pack } from 'tar-stream';
import { entryText } from '../../src/blobs/entry';
import { diagnoseSite } from '../../src/core/diagnose/site';
import { reviewChanges, secretName, takenVariable, valueLimit } from '../../src/core/variables/change';

describe('pages that are served below a path', () => {
  const why = (page: string, at = '/board') => diagnoseSite({ name: 'page', at }, page)?.data.ref ?? null;
  it.each([
    ['a script', '<script src="/app.js"></script>', '/app.js'],
    ['a script without quotes', '<script type=module src=/app.js>', '/app.js'],
    ['a style', "<link rel='stylesheet' href='/a.css'>", '/a.css'],
    ['a picture', '<p><IMG alt="x" SRC = "/a.png">', '/a.png'],
    ['a path that only begins alike', '<script src="/boards/app.js">', '/boards/app.js'],
    ['the first of several', '<link href="/board/a.css"><script src="/b.js"><img src="/c.png">', '/b.js'],
  ])('ask for %s beside them', (_what, page, ref) => {
    expect(why(page)).toBe(ref);
    expect(why(page, '/')).toBeNull();
  });
  it.each([
    ['what is below them', '<script src="/board/app.js"><link href="/board">'],
    ['what lies beside the page', '<script src="app.js"><img src="./a.png"><link href="../b.css">'],
    ['other hosts', '<script src="//cdn.kohama.example/x.js"><img src="https://kohama.example/a.png">'],
    ['where they only lead to', '<a href="/elsewhere"><form action="/x">'],
    ['nothing', ''],
    ['data', '<link rel="icon" href="data:,"><img src="data:image/png;base64,/9j/4AA">'],
  ])('may ask for %s', (_what, page) => {
    expect(why(page)).toBeNull();
  });
});

describe('a file of a stored layer', () => {
  const layer = () => {
    const tar = pack();
    tar.entry({ name: 'a.txt' }, 'first');
    tar.entry({ name: 'web', type: 'directory' });
    tar.entry({ name: 'web/link.html', type: 'symlink', linkname: '/etc/passwd' });
    tar.entry({ name: './web/index.html' }, '<h1>high water</h1>');
    tar.entry({ name: 'large.bin' }, 'x'.repeat(5_000));
    tar.finalize();
    return Readable.from(tar as unknown as AsyncIterable<Buffer>);
  };
  it('is read by its path', async () => {
    expect(await entryText(layer(), 'web/index.html', 1_000)).toBe('<h1>high water</h1>');
    expect(await entryText(layer(), 'a.txt', 5)).toBe('first');
  });
  it('is nothing where it is not there, is a link or a folder, or is too large', async () => {
    for (const path of ['b.txt', 'web', 'web/link.html', 'large.bin', '', '../a.txt'])
      expect(await entryText(layer(), path, 1_000)).toBeNull();
  });
  it('is an error where the bytes are no tar', async () => {
    await expect(entryText(Readable.from([Buffer.alloc(2_048, 'x')]), 'a.txt', 10)).rejects.toThrow();
  });
});

describe('a change of variables', () => {
  const codes = (...changes: { name: string; value: string | null; secret?: boolean }[]) =>
    reviewChanges(changes.map((one) => ({ secret: false, ...one }))).map((one) => one.code);
  it('is looked at whole, and no value is said', () => {
    expect(codes({ name: 'A', value: '1' }, { name: '_b2', value: '' }, { name: 'GONE', value: null })).toEqual([]);
    expect(
      codes(
        { name: '1A', value: 'x' },
        { name: 'PORT', value: 'x' },
        { name: 'A', value: 'a\0' },
        { name: 'A', value: 'x' },
      ),
    ).toEqual(['variable_name', 'variable_taken', 'variable_value', 'variable_twice']);
    const said = reviewChanges([{ name: 'KEY', value: 'abc', secret: true }]);
    expect(said).toMatchObject([{ code: 'secret_short', data: { name: 'KEY', least: 4 } }]);
    expect(JSON.stringify(said)).not.toContain('abc');
  });
  it('counts bytes, not letters', () => {
    expect(codes({ name: 'A', value: 'x'.repeat(valueLimit) })).toEqual([]);
    expect(codes({ name: 'A', value: '港'.repeat(valueLimit / 2) })).toEqual(['variable_value']);
  });
  it.each(['PATH', 'Path', 'HOME', 'PORT', 'NODE_OPTIONS', 'LD_PRELOAD', 'ld_library_path', 'TSUNAGI_TOKEN'])(
    'cannot take %s, however it is written',
    (name) => {
      expect(takenVariable(name)).toBe(true);
    },
  );
  it.each([
    ['SMS_KEY', true],
    ['key', true],
    ['DB_PASSWORD', true],
    ['GITHOST_TOKEN', true],
    ['PRIVATE_PEM', true],
    ['KEYBOARD', false],
    ['MONKEY', false],
    ['TOKENS_PER_HOUR', false],
    ['COMPASS', false],
  ])('%s speaks of a secret: %s', (name, expected) => {
    expect(secretName(name)).toBe(expected);
  });
});
