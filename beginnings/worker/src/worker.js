import { setTimeout as pause } from 'node:timers/promises';
import { round } from './round.js';

const every = Number(process.env.EVERY_SECONDS) * 1000;
const ending = new AbortController();
// Told to end: a round that has begun is brought to its end.
process.on('SIGTERM', () => ending.abort());

/** Put what there is to do in its place. */
const look = async () => [new Date().toISOString().slice(0, 16)];

const done = new Set();
console.log('ready');
while (!ending.signal.aborted) {
  for (const one of round(await look(), done)) console.log('did', one);
  await pause(every, null, { signal: ending.signal }).catch(() => {});
}
