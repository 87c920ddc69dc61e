/** What lets the browser of a picture in: for one environment, while that one attempt runs. What comes with it counts nowhere. */
import { timingSafeEqual } from 'node:crypto';
import { attemptById } from '../../records/runs/attempts.js';
import type { Context, Db } from '../context.js';

const mark = (keys: Context['keys'], environment: string, attempt: string): string =>
  keys.hash(`picture of ${environment} by ${attempt}`);

export const picturePass = ({ keys }: Pick<Context, 'keys'>, environment: string, attempt: string): string =>
  `i.${attempt}.${mark(keys, environment, attempt)}`;

/** Whether a pass is of a picture that is being taken; null: it is no such pass. */
export async function picturePassIsGood(
  { keys }: Pick<Context, 'keys'>,
  db: Db,
  environment: string,
  pass: string,
): Promise<boolean | null> {
  const [, attempt, given] = /^i\.([0-9a-f-]{36})\.([0-9a-f]{64})$/.exec(pass) ?? [];
  if (!attempt || !given) return null;
  if (!timingSafeEqual(Buffer.from(given), Buffer.from(mark(keys, environment, attempt)))) return false;
  return (await attemptById(db, attempt))?.state === 'running';
}

/** Of the address of an image for documents outside. */
export const imageKey = ({ keys }: Pick<Context, 'keys'>, picture: string, page: number, file: string): string =>
  keys.hash(`image ${picture} ${page} ${file}`).slice(0, 24);

export const imageUrl = (context: Pick<Context, 'keys' | 'url'>, picture: string, page: number, file: string): string =>
  `${context.url}/picture/${picture}-${page}-${file}.png?key=${imageKey(context, picture, page, file)}`;
