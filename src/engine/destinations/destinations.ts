/** Sends the logs of programs on: each destination by itself, a round after another, so that one that hangs holds nobody else up. */
import { destinationDone, type LogsSent } from '../../core/advance/destinations.js';
import { type LogBatch, linesOf } from '../../core/destinations/lines.js';
import {
  type DestinationRow,
  lockHeldDestination,
  setSent,
  settleDestination,
  takeDestination,
  type Unsent,
  unsentStreams,
} from '../../records/deliveries/destinations.js';
import { recordEvents } from '../../records/events.js';
import { readLog } from '../../records/runs/logs.js';
import type { Context } from '../context.js';
import { whileHeld } from '../held.js';
import { type Lanes, openLanes } from '../lanes.js';
import { rejectedIssue, sendLines } from './send.js';

/** Destinations that one service sends to at a time; streams and bytes of one round, and chunks of a stream that are read at once. */
const lanes = 4;
const streamsAtOnce = 64;
const bytesAtOnce = 2 * 1024 ** 2;
/** Of one stream, where others wait. */
const fewestBytes = 128 * 1024;
const chunksAtOnce = 16;

export const destinationLanes = (context: Context, free: () => void): Lanes =>
  openLanes({
    name: 'destination',
    count: lanes,
    take: () => takeDestination(context.records, context.timing.lease),
    work: (row) => round(context, row),
    free,
    log: context.log,
  });

interface Round {
  batches: LogBatch[];
  positions: { stream: string; position: number; from: number }[];
  /** Bytes that were gone before they could be sent. */
  lost: number;
  more: boolean;
}

async function round(context: Context, row: DestinationRow): Promise<void> {
  const { batches, positions, lost, more } = await gather(context, row);
  const lines = batches.reduce((sum, one) => sum + one.lines.length, 0);
  const sent: LogsSent = lines
    ? await whileHeld(context, 'destinations', row, () => sendLines(context, row, batches))
    : { done: true, rejected: 0, why: null };
  const step = destinationDone(row.tries, more, sent);
  const refused = step.leftOut ? positions.reduce((sum, one) => sum + one.position - one.from, 0) : 0;
  const rejected = sent.done ? sent.rejected : 0;
  // A round without a line says nothing of whether it would have been taken.
  const issue = lines ? step.issue : row.issue;
  const told = rejected ? rejectedIssue(new URL(row.url).host, rejected, (sent.done && sent.why) || '') : issue;
  await context.records.transition('logs.sent', async (db) => {
    if (!(await lockHeldDestination(db, row))) return;
    if (step.moves && positions.length) await setSent(db, row.id, positions);
    const leftBytes = step.moves ? lost + refused : 0;
    await settleDestination(
      db,
      row,
      { ...step, issue: told, tries: lines ? step.tries : row.tries },
      { lines: step.moves && !step.leftOut ? lines - rejected : 0, leftBytes },
    );
    if (leftBytes + rejected > 0)
      await recordEvents(db, {
        type: 'destination.left-out',
        project: row.project_id,
        subject: row.name,
        actor: 'engine',
        data: { bytes: leftBytes, lines: rejected, why: told?.code ?? 'gone before it could be sent' },
      });
  });
}

async function gather(context: Context, row: DestinationRow): Promise<Round> {
  const streams = await unsentStreams(context.records, row, streamsAtOnce);
  const round: Round = { batches: [], positions: [], lost: 0, more: false };
  const share = Math.max(fewestBytes, Math.floor(bytesAtOnce / Math.max(1, streams.length)));
  let room = bytesAtOnce;
  for (const stream of streams) {
    if (room <= 0) {
      round.more = true;
      break;
    }
    const from = stream.gone ? stream.bytes : Math.max(stream.sent, stream.from);
    const lost = from - stream.sent;
    const pieces = stream.gone ? [] : await piecesOf(context, stream, from, Math.min(room, share));
    const { lines, bytes } = linesOf(pieces, stream.ended && reaches(pieces, from, stream.bytes));
    if (bytes === 0 && lost === 0) continue;
    room -= bytes;
    if (from + bytes < stream.bytes && bytes > 0) round.more = true;
    round.lost += lost;
    round.positions.push({ stream: stream.stream, position: from + bytes, from });
    const gap = {
      at: context.now(),
      number: lines[0]?.number ?? 1,
      text: `[${lost} bytes of this log were gone before they could be sent]`,
    };
    if (lost > 0) lines.unshift(gap);
    round.batches.push({ source: sourceOf(stream), lines });
  }
  // What only waits for the end of a line is no reason to look again at once.
  if (streams.length === streamsAtOnce && round.positions.length) round.more = true;
  return round;
}

async function piecesOf(context: Context, stream: Unsent, from: number, room: number) {
  const pieces = [];
  let at = from;
  while (at < stream.bytes && at - from < room) {
    const chunks = await readLog(context.records, stream.stream, at, chunksAtOnce);
    if (chunks.length === 0) break;
    for (const chunk of chunks) {
      pieces.push({ at: chunk.at.getTime(), bytes: chunk.bytes, firstLine: chunk.firstLine + 1 });
      at = chunk.position + chunk.bytes.length;
      if (at - from >= room) break;
    }
  }
  return pieces;
}

const reaches = (pieces: readonly { bytes: Buffer }[], from: number, end: number): boolean =>
  from + pieces.reduce((sum, one) => sum + one.bytes.length, 0) >= end;

const sourceOf = ({ project, environment, host, part, position, release }: Unsent) => ({
  project,
  environment,
  host,
  part,
  instance: `${part}.${position}`,
  release: `r${release}`,
});
