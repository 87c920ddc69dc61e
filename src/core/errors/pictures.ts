/** What is said of pictures of environments. */
import { entry, type ErrorEntry } from './entry.js';

export const ofPictures = {
  picture_failed: entry(
    200,
    'No picture could be taken: {detail}',
    'Read its log, then ask again with `tsunagi environment pictures … --again`.',
  ),
  picture_lost: entry(
    200,
    'It was begun {tries} times, and each time its agent went away or it fell asleep.',
    'Ask again with `tsunagi environment pictures … --again`.',
  ),
  picture_wrong: entry(
    200,
    'What an agent handed over is no picture: {detail}.',
    'Look at the agent, then ask again with `tsunagi environment pictures … --again`.',
  ),
  pictures_none: entry(
    409,
    'No pictures are taken of {environment}: {why}.',
    'Declare `pictures` for it on the main branch, and deploy.',
  ),
} as const satisfies Record<string, ErrorEntry>;
