/** What an agent hands over as pictures is somebody else's bytes: of whatever is no picture that was asked for nothing is kept. */
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { PNG } from 'pngjs';
import { type Header, pack } from 'tar-stream';
import { type BlobStore, openBlobs } from '../../src/blobs/store.js';
import { wording, CodedError } from '../../src/core/errors/errors.js';
import { mostPictureBytes, type Page } from '../../src/core/pictures/pages.js';
import { keepPictures } from '../../src/engine/pictures/keep.js';

let folder: string;
let blobs: BlobStore;
beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-kept-'));
  blobs = await openBlobs(folder);
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

type Entry = [header: string | (Partial<Header> & { name: string }), body?: Buffer | string];

async function handed(...entries: Entry[]): Promise<string> {
  const tar = pack();
  for (const [header, body = ''] of entries)
    tar.entry((typeof header === 'string' ? { name: header } : header) as Header, body);
  tar.finalize();
  return (await blobs.put(Readable.from(tar))).digest;
}
const png = (width = 1280, height = 800) => {
  const one = new PNG({ width: 4, height: 4 });
  const bytes = PNG.sync.write(one);
  bytes.writeUInt32BE(width, 16);
  bytes.writeUInt32BE(height, 20);
  return bytes;
};
const page = (change: Partial<Page> = {}): Page => ({
  path: '/',
  after: { status: 200, why: null },
  before: null,
  share: null,
  restless: 0,
  areas: [],
  ...change,
});
const told = (...pages: unknown[]): Entry => ['pictures/result.json', JSON.stringify({ pages })];
/** Why it is refused. */
const refused = async (digest: Promise<string>, asked = ['/']): Promise<string> => {
  try {
    await keepPictures({ blobs }, await digest, asked);
    return 'it was kept';
  } catch (error) {
    if (!(error instanceof CodedError)) throw error;
    return wording(error.issue).says;
  }
};

describe('what an agent hands over', () => {
  it('is kept by the digest of each picture', async () => {
    const share = page({
      before: { status: 200, why: null },
      share: 0.25,
      areas: [{ x: 1, y: 2, width: 3, height: 4 }],
    });
    const digest = await handed(
      [{ name: 'pictures/', type: 'directory' }],
      ['pictures/0-after.png', png()],
      ['pictures/0-small.png', png(320, 200)],
      told(share),
    );
    const { pages, files } = await keepPictures({ blobs }, digest, ['/']);
    expect(pages).toEqual([share]);
    expect(files.map((one) => [one.page, one.file, one.width, one.height])).toEqual([
      [0, 'after', 1280, 800],
      [0, 'small', 320, 200],
    ]);
    for (const one of files) expect(await blobs.size(one.digest)).toBe(one.bytes);
  });

  it.each<[string, Entry[], RegExp]>([
    ['a file of another name', [['pictures/0-after.svg', '<svg/>'], told(page())], /nobody asked for/],
    ['a kind that nobody knows', [['pictures/0-sideways.png', png()], told(page())], /nobody asked for/],
    ['a page too many', [['pictures/1-after.png', png()], told(page())], /nobody asked for/],
    ['a page in words', [['pictures/x-after.png', png()], told(page())], /nobody asked for/],
    ['a link', [[{ name: 'pictures/0-after.png', type: 'symlink', linkname: 'result.json' }], told(page())], /links/],
    ['what is no PNG', [['pictures/0-after.png', '<script>alert(1)</script>'], told(page())], /no PNG/],
    ['a PNG that says it is vast', [['pictures/0-after.png', png(60_000, 60_000)], told(page())], /no PNG of a size/],
    ['a PNG without a pixel', [['pictures/0-after.png', png(0, 800)], told(page())], /no PNG of a size/],
    ['a PNG of many bytes', [['pictures/0-after.png', Buffer.alloc(mostPictureBytes + 1)], told(page())], /too large/],
    ['nothing told', [['pictures/0-after.png', png()]], /nothing is told/],
    ['text that is no JSON', [['pictures/result.json', '{']], /nothing is told/],
    ['text without an end', [['pictures/result.json', `"${'a'.repeat(300_000)}"`]], /too long/],
    ['another form', [told({ ...page(), more: 1 })], /another form/],
    ['a share above all', [told(page({ share: 1.5 }))], /another form/],
    ['an area beyond the page', [told(page({ areas: [{ x: 0, y: 9_000, width: 1, height: 1 }] }))], /another form/],
    ['no pages', [told()], /other pages/],
    ['pages that nobody asked for', [told(page({ path: '/other' }))], /other pages/],
    ['more pages than may be', [told(...Array.from({ length: 9 }, () => page()))], /another form/],
  ])('is refused where it holds %s', async (_, entries, why) => {
    expect(await refused(handed(...entries))).toMatch(why);
  });

  it('is refused where its bytes are gone, or no tar', async () => {
    expect(await refused(Promise.resolve(`sha256:${'0'.repeat(64)}`))).toMatch(/bytes are gone/);
    await expect(keepPictures({ blobs }, (await blobs.putText('no tar at all')).digest, ['/'])).rejects.toThrow();
    await expect(
      keepPictures(
        { blobs },
        await handed(...Array.from({ length: 60 }, (): Entry => ['pictures/0-after.png', png()])),
        ['/'],
      ),
    ).rejects.toThrow();
    await expect(
      keepPictures({ blobs }, await handed(['../../etc/passwd', 'x'], told(page())), ['/']),
    ).rejects.toThrow();
  });

  it('is never kept in part, whatever it is', async () => {
    await fc.assert(
      fc.asyncProperty(fc.uint8Array({ maxLength: 2_000 }), fc.string({ maxLength: 40 }), async (bytes, name) => {
        const path = name.replace(/[^ -~]|\//g, '') || 'x';
        const digest = handed([`pictures/${path}`, Buffer.from(bytes)], told(page()));
        await expect(keepPictures({ blobs }, await digest, ['/'])).rejects.toThrow();
      }),
      { numRuns: 100 },
    );
  });
});
