/** What an agent has handed over of its pictures: looked through before anything of it is kept. Nothing of it is decoded here. */
import { Readable } from 'node:stream';
import { buffer } from 'node:stream/consumers';
import { Type } from '@sinclair/typebox';
import { Ajv } from 'ajv';
import { readLayer } from '../../blobs/layer.js';
import { CodedError } from '../../core/errors/errors.js';
import {
  mostHeight,
  mostPages,
  mostPictureBytes,
  type Page,
  type PictureFile,
  pictureFiles,
  pictureWidth,
} from '../../core/pictures/pages.js';
import { pngSize } from '../../core/pictures/png.js';
import type { StoredRow } from '../../records/deployments/pictures.js';
import type { Context } from '../context.js';

const side = Type.Object(
  {
    status: Type.Union([Type.Integer({ minimum: 100, maximum: 599 }), Type.Null()]),
    why: Type.Union([Type.String({ maxLength: 300 }), Type.Null()]),
  },
  { additionalProperties: false },
);
const pixels = Type.Integer({ minimum: 0, maximum: mostHeight });
const share = Type.Number({ minimum: 0, maximum: 1 });
const fits = new Ajv().compile(
  Type.Object(
    {
      pages: Type.Array(
        Type.Object(
          {
            path: Type.String({ maxLength: 302 }),
            after: side,
            before: Type.Union([side, Type.Null()]),
            share: Type.Union([share, Type.Null()]),
            restless: share,
            areas: Type.Array(
              Type.Object({ x: pixels, y: pixels, width: pixels, height: pixels }, { additionalProperties: false }),
              { maxItems: 100 },
            ),
          },
          { additionalProperties: false },
        ),
        { maxItems: mostPages },
      ),
    },
    { additionalProperties: false },
  ),
);
const mostResult = 256 * 1024;
/** Entries of a tar that are looked at: each page's files, what is told of them, and their folder. */
const mostEntries = mostPages * pictureFiles.length + 10;

export interface Kept {
  pages: Page[];
  files: Omit<StoredRow, 'picture_id'>[];
}

const wrong = (detail: string) => new CodedError('picture_wrong', { detail });

/** Reads it to its end and stores each picture by its digest; throws `picture_wrong` where it is anything else. */
export async function keepPictures(
  { blobs }: Pick<Context, 'blobs'>,
  digest: string,
  asked: readonly string[],
): Promise<Kept> {
  const found = await blobs.open(digest);
  if (!found) throw wrong('its bytes are gone');
  const files: Kept['files'] = [];
  let told: string | null = null;
  await readLayer(
    found.stream,
    async (entry, body) => {
      if (entry.kind === 'directory') return;
      if (entry.kind !== 'file') throw wrong('it holds links');
      if (entry.path === 'pictures/result.json') {
        if (entry.size > mostResult) throw wrong('what is told of them is too long');
        told = (await buffer(body)).toString('utf8');
        return;
      }
      const [, page = '', file = ''] = /^pictures\/(\d)-([a-z]+)\.png$/.exec(entry.path) ?? [];
      if (!pictureFiles.includes(file as PictureFile) || Number(page) >= asked.length)
        throw wrong('it holds a file that nobody asked for');
      if (entry.size > mostPictureBytes) throw wrong('a picture is too large');
      const bytes = await buffer(body);
      const size = pngSize(bytes);
      if (!size || size.width > pictureWidth || size.height > mostHeight || size.width * size.height === 0)
        throw wrong('a file is no PNG of a size that was asked for');
      const stored = await blobs.put(Readable.from([bytes]));
      files.push({ page: Number(page), file: file as PictureFile, digest: stored.digest, bytes: stored.size, ...size });
    },
    { entries: mostEntries, bytes: mostEntries * mostPictureBytes, depth: 3 },
  );
  const result = readTold(told ?? '');
  const paths = result.map(({ path }) => path);
  if (paths.length !== asked.length || paths.some((path, at) => path !== asked[at]))
    throw wrong('it is of other pages than were asked for');
  return { pages: result, files };
}

function readTold(text: string): Page[] {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    throw wrong('nothing is told of them');
  }
  if (!fits(value)) throw wrong('what is told of them has another form');
  return (value as { pages: Page[] }).pages;
}
