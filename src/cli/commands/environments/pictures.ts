/** environment pictures: how an environment looks, beside where its change leads to. */
import { createWriteStream, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import type { Command } from 'commander';
import { pictureFiles, shareText } from '../../../core/pictures/pages.js';
import type { Picture, PictureList, PicturePage } from '../../../wire/environments/pictures.js';
import { download, environmentPlace, get, post } from '../../api.js';
import { ago, faint, plain, say, table } from '../../print.js';
import { give, type Shared, shared } from '../shared.js';

/** Milliseconds between two looks at one that is being taken, and for which it is waited for. */
const askMs = 400;
const longestMs = 5 * 60_000;

export function pictureCommands(environment: Command): void {
  shared(
    environment
      .command('pictures <environment>')
      .description('how its pages look, and how much of them differs from where its change leads to'),
    'tsunagi environment pictures sailings/pr-214 --save shots',
  )
    .option('--again', 'have them taken anew, and wait for that')
    .option('--save <folder>', 'write them there as PNG files')
    .action(async (text: string, options: Shared & { again?: boolean; save?: string }) => {
      const { path, project, name } = await environmentPlace(text, options.project);
      const list = options.again ? await taken(path) : await get<PictureList>(`${path}/pictures`);
      const [newest] = list.items;
      const shown = list.items.find((one) => one.pages.length > 0) ?? null;
      const saved = options.save && shown ? await save(shown, options.save) : [];
      give(options, list, () => {
        if (!newest) return say(`No picture was taken of ${project}/${name}.`);
        show(list, newest, shown);
        for (const file of saved) say(`Saved ${file}`);
      });
      if (newest?.state === 'failed') process.exitCode = 1;
    });
}

async function taken(path: string): Promise<PictureList> {
  await post(`${path}/pictures`);
  for (const until = Date.now() + longestMs; ; ) {
    const list = await get<PictureList>(`${path}/pictures`);
    const state = list.items[0]?.state;
    if ((state !== 'asked' && state !== 'taking') || !list.able || Date.now() > until) return list;
    await new Promise((resolve) => setTimeout(resolve, askMs));
  }
}

function show({ able }: PictureList, newest: Picture, shown: Picture | null): void {
  const of = (one: Picture) => `r${one.release}`;
  if (newest.state === 'taking') say(`One of ${of(newest)} is being taken.`);
  if (newest.state === 'asked')
    say(
      able
        ? `One of ${of(newest)} is taken in a moment.`
        : `One of ${of(newest)} waits: no agent has Chromium and takes what is untrusted.`,
    );
  if (newest.issue) {
    say(plain(newest.issue.says));
    say(faint(plain(newest.issue.next)));
  }
  if (!shown) return;
  const beside = shown.beside ? `${shown.beside.environment} (r${shown.beside.release})` : null;
  say(`${of(shown)}${beside ? ` beside ${beside}` : ''}, taken ${ago(shown.takenAt)}:`);
  say(
    table(
      ['PAGE', 'DIFFERS', 'PLACES', 'ANSWERS', 'SIZE'],
      shown.pages.map((page) => [
        plain(page.path),
        page.share === null ? '' : shareText(page.share),
        page.share === null ? '' : String(page.areas.length),
        page.after.why ?? String(page.after.status ?? ''),
        sizeOf(page),
      ]),
    ),
  );
}

const sizeOf = ({ images: { after } }: PicturePage): string => (after ? `${after.width} × ${after.height}` : '');

/** Gives the names of the files that were written. */
async function save(picture: Picture, folder: string): Promise<string[]> {
  mkdirSync(folder, { recursive: true });
  const files: string[] = [];
  for (const [at, { images }] of picture.pages.entries())
    for (const file of pictureFiles) {
      const image = images[file];
      if (!image) continue;
      const to = join(folder, `${at}-${file}.png`);
      await pipeline(await download(image.url), createWriteStream(to));
      files.push(to);
    }
  return files;
}
