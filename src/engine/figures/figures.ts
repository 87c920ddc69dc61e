/** Figures: checked and taken in, rolled up, and drawn as lines. */
import {
  beginOf,
  chart,
  type Figure,
  resolution,
  rollUp,
  type Series,
  settleSeconds,
} from '../../core/figures/figures.js';
import {
  addFigures,
  isNewBatch,
  makeFigureTables,
  readFigures,
  rolledUp,
  rollOn,
} from '../../records/figures/figures.js';
import { markUsed, markWorked } from '../../records/deployments/life.js';
import type { Db } from '../../records/database.js';
import type { Context } from '../context.js';
import { type HostSlices, takeSlices } from '../deployments/shares.js';

/** Seconds that one step of rolling up takes at most. */
const most = { 10: 3_600, 60: 86_400 };
/** Milliseconds of processor time in ten seconds with which a worker counts as at work, where that is use. */
const busyMs = 200;
/** Seconds for which what comes late is still taken. */
const lateSeconds = 6 * 3_600;

export async function rollFigures(context: Context): Promise<boolean> {
  const now = context.now() / 1_000;
  let any = false;
  for (const step of [10, 60] as const) {
    const until = beginOf(now - settleSeconds, step === 10 ? 60 : 3_600);
    any = (await context.records.transition('figures.rolled-up', (db) => rollOn(db, step, until, most[step]))) || any;
  }
  return any;
}

export const tendFigures = (context: Context): Promise<void> =>
  makeFigureTables(context.records, Math.floor(context.now() / 1_000));

/** Takes a batch in, once. What is older than six hours, or of the future, is left out. */
export async function takeFigures(
  context: Context,
  { sender, boot, batch }: { sender: string; boot: string; batch: number },
  figures: readonly Figure[],
  uses: readonly { environment: string; at: number }[] = [],
  slices: readonly HostSlices[] = [],
): Promise<void> {
  const now = context.now() / 1_000;
  const fit = figures.filter((one) => one.at > now - lateSeconds && one.at < now + 60 && one.at % 10 === 0);
  const fresh = await context.records.transition('figures.taken', async (db) => {
    if (!(await isNewBatch(db, sender, boot, batch))) return false;
    await addFigures(db, fit);
    // A clock that is ahead keeps nothing awake for longer.
    await markUsed(
      db,
      uses.map(({ environment, at }) => ({ environment, at: Math.min(at, context.now()) })),
    );
    const works = fit.filter((one) => one.cpu > busyMs);
    await markWorked(
      db,
      works.map(({ environment, part, at }) => ({ environment, part, at: at * 1_000 })),
    );
    // Last, and in one order: no environment is waited for by whoever holds a deployment.
    for (const one of [...slices].sort((a, b) => (a.host < b.host ? -1 : 1))) await takeSlices(db, one);
    return true;
  });
  if (fresh) await context.told.take(context.records, fit);
}

export interface Lines {
  /** Seconds since the epoch of the first point, and between two. */
  from: number;
  width: number;
  points: number;
  series: Series[];
}

/** Lines of an environment over a span; what is not rolled up yet is taken from the finer step. */
export async function linesOf(
  db: Db,
  environment: string,
  { from, until, part, by }: { from: number; until: number; part: string | null; by: 'part' | 'instance' },
): Promise<Lines> {
  const { step, width } = resolution(until - from);
  const begin = beginOf(from, step);
  const points = Math.max(1, Math.ceil((until - begin) / width));
  const read = (of: 10 | 60 | 3_600, a: number, b: number) =>
    a < b ? readFigures(db, of, environment, a, b, part) : Promise.resolve([]);
  let figures: Figure[];
  if (step === 10) figures = await read(10, begin, until);
  else {
    const minutes = await rolledUp(db, 10);
    const hours = step === 60 ? minutes : await rolledUp(db, 60);
    const coarse = await read(step, begin, Math.min(until, hours));
    const middle = step === 60 ? [] : await read(60, Math.max(begin, hours), Math.min(until, minutes));
    const fine = rollUp(await read(10, Math.max(begin, minutes), until), 60);
    figures = [...coarse, ...middle, ...fine];
  }
  return { from: begin, width, points, series: chart(figures, { from: begin, width, points, by }) };
}
