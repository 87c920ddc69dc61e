/** Log chunks by stream (an attempt or an instance) and byte position; compressed, in partitions by month of the stream's id. */
import { gunzipSync, gzipSync } from 'node:zlib';
import { CodedError } from '../../core/errors/errors.js';
import { countLines } from '../../core/lines.js';
import { json, type Db, notify, queryOne, query } from '../database.js';

export interface Chunk {
  /** Byte position in the stream. */
  position: number;
  /** Index of the command that printed it. */
  command: number;
  /** Number of the first line, from 0. */
  firstLine: number;
  bytes: Buffer;
  /** When it came in. */
  at: Date;
}

/** Lines that were left out before a chunk. */
export interface Gap {
  /** Number of the first of them. */
  line: number;
  lines: number;
  bytes: number;
}

type Stream = { table: 'attempts' | 'instances'; id: string; agent: string; fence: string };

/**
 * Appends bytes at a position. Bytes that are there already are passed over, so a repeat is harmless; a gap is refused with
 * `offset_wrong`, which says where to go on. `skipped` tells what was left out right before these bytes; it counts once, with
 * the bytes. Returns the length of the stream afterwards.
 */
export async function appendLog(
  db: Db,
  stream: Stream,
  position: number,
  command: number,
  bytes: Buffer,
  skipped: { lines: number; bytes: number } | null = null,
): Promise<number> {
  const row = await queryOne<{ log_bytes: number; log_lines: number }>(
    db,
    `select log_bytes::float8 as log_bytes, log_lines::float8 as log_lines
     from ${stream.table}
     where id = $1
       and agent_id = $2
       and fence = $3 for update`,
    [stream.id, stream.agent, stream.fence],
  );
  if (!row) throw new CodedError('fence_old');
  if (position > row.log_bytes) throw new CodedError('offset_wrong', { offset: row.log_bytes });
  const fresh = bytes.subarray(row.log_bytes - position);
  if (fresh.length === 0) return row.log_bytes;
  const lines = countLines(fresh);
  // A repeat that brings a part of what is there already has brought its gap before.
  const gap =
    skipped && position === row.log_bytes && stream.table === 'attempts' ? { line: row.log_lines, ...skipped } : null;
  const firstLine = row.log_lines + (gap?.lines ?? 0);
  await query(
    db,
    `insert into log_chunks (stream, position, bytes, command, first_line, lines, packed)
       values ($1, $2, $3, $4, $5, $6, $7)`,
    [stream.id, row.log_bytes, fresh.length, command, firstLine, lines, gzipSync(fresh, { level: 1 })],
  );
  await query(db, `update ${stream.table} set log_bytes = log_bytes + $2, log_lines = $3 where id = $1`, [
    stream.id,
    fresh.length,
    firstLine + lines,
  ]);
  if (gap) await query(db, 'update attempts set log_gap = $2 where id = $1', [stream.id, json(gap)]);
  if (stream.table === 'instances') await turnOver(db, stream.id, row.log_bytes + fresh.length);
  await notify(db, `log:${stream.id}`);
  return row.log_bytes + fresh.length;
}

/** Bytes of an instance's log that are kept, and by how much it may be longer before its beginning goes. */
const instanceBytes = 64 * 1024 * 1024;
const overBytes = 8 * 1024 * 1024;

/** An instance prints for as long as it lives: what is old of it goes. */
async function turnOver(db: Db, instance: string, length: number): Promise<void> {
  const over = await queryOne(db, 'select 1 as ok from instances where id = $1 and $2::bigint - log_from > $3', [
    instance,
    length,
    instanceBytes + overBytes,
  ]);
  if (!over) return;
  await query(db, 'delete from log_chunks where stream = $1 and position + bytes <= $2', [
    instance,
    length - instanceBytes,
  ]);
  await query(
    db,
    `update instances
     set log_from = coalesce((select min(position) from log_chunks where stream = $1), log_bytes)
     where id = $1`,
    [instance],
  );
}

/** Lets go of the logs of instances, and of what deployments ran, that ended more than `ms` ago; at most `limit` of each at once. Returns how many. */
export async function dropOldLogs(db: Db, ms: number, limit: number): Promise<number> {
  let count = 0;
  for (const [table, which] of [
    ['instances', 'true'],
    ['attempts', 'deployment_id is not null'],
  ] as const) {
    const rows = await query<{ id: string }>(
      db,
      `update ${table} set log_gone = true where id in (
         select id from ${table} where ${which} and not log_gone and ended_at < now() - $1::float8 * interval '1 ms' order by ended_at limit $2 for update skip locked) returning id`,
      [ms, limit],
    );
    if (rows.length)
      await query(db, 'delete from log_chunks where stream = any($1::uuid[])', [rows.map((row) => row.id)]);
    count += rows.length;
  }
  return count;
}

/** Removes partitions of past months that nothing is left in. */
export async function dropEmptyPartitions(db: Db, now: Date): Promise<void> {
  const current = `log_chunks_${now.toISOString().slice(0, 7).replace('-', '_')}`;
  const names = await query<{ name: string }>(
    db,
    `select relname as name from pg_class
     where relname ~ '^log_chunks_[0-9]{4}_[0-9]{2}$'
       and relname < $1
     order by 1`,
    [current],
  );
  for (const { name } of names) {
    if (await queryOne(db, `select 1 as ok from ${name} limit 1`)) continue;
    await query(db, `drop table ${name}`);
  }
}

/** What is left out of an attempt's log, or null. */
export const gapOf = async (db: Db, attempt: string): Promise<Gap | null> =>
  (await queryOne<{ log_gap: Gap | null }>(db, 'select log_gap from attempts where id = $1', [attempt]))?.log_gap ??
  null;

/** Chunks from a position on, at most `limit` of them. */
export async function readLog(db: Db, stream: string, from: number, limit: number): Promise<Chunk[]> {
  const rows = await query<{ position: number; command: number; first_line: number; packed: Buffer; at: Date }>(
    db,
    `select position::float8 as position, command, first_line::float8 as first_line, packed, at
     from log_chunks
     where stream = $1
       and position + bytes > $2
     order by position limit $3`,
    [stream, from, limit],
  );
  return rows.map((row) => {
    const bytes = gunzipSync(row.packed);
    const skip = Math.max(0, from - row.position);
    return {
      position: row.position + skip,
      command: row.command,
      firstLine: row.first_line + countLines(bytes.subarray(0, skip)),
      bytes: bytes.subarray(skip),
      at: row.at,
    };
  });
}

export interface PackedChunk {
  position: number;
  bytes: number;
  firstLine: number;
  /** As it is stored: gzip. */
  packed: Buffer;
}

/** Whole chunks from a position on, as they are stored. */
export const readPacked = (db: Db, stream: string, from: number, limit: number): Promise<PackedChunk[]> =>
  query(
    db,
    `select position::float8 as position, bytes, first_line::float8 as "firstLine", packed
     from log_chunks
     where stream = $1
       and position >= $2
     order by position limit $3`,
    [stream, from, limit],
  );

/** Whole chunks that came in at or after a time, as they are stored; at most `limit`, in their order from a position on. */
export const readPackedSince = (
  db: Db,
  stream: string,
  since: Date,
  from: number,
  limit: number,
): Promise<(PackedChunk & { at: Date })[]> =>
  query(
    db,
    `select position::float8 as position, bytes, first_line::float8 as "firstLine", packed, at
     from log_chunks where stream = $1 and at >= $2 and position >= $3 order by position limit $4`,
    [stream, since, from, limit],
  );

/** The end of a stream: at least its last `bytes` bytes, from the beginning of a chunk. */
export async function tailStart(db: Db, stream: string, bytes: number): Promise<number> {
  const row = await queryOne<{ position: number }>(
    db,
    `select position::float8 as position from log_chunks
     where stream = $1
       and position <= (select max(position + bytes) from log_chunks where stream = $1) - $2
     order by position desc limit 1`,
    [stream, bytes],
  );
  return row?.position ?? 0;
}

/** Makes the partitions of this month and the next; ids of streams grow with time, so a range of ids is a month. */
export async function makeLogPartitions(db: Db, now: Date): Promise<void> {
  for (let ahead = 0; ahead < 2; ahead++) {
    const from = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + ahead, 1));
    const to = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + ahead + 1, 1));
    const name = `log_chunks_${from.toISOString().slice(0, 7).replace('-', '_')}`;
    const exists = await queryOne(db, 'select 1 as ok from pg_class where relname = $1', [name]);
    if (!exists)
      await query(
        db,
        `create table if not exists ${name} partition of log_chunks for values from ('${firstId(from)}') to ('${firstId(to)}')`,
      );
  }
}

/** The lowest UUIDv7 of a time. */
function firstId(at: Date): string {
  const hex = at.getTime().toString(16).padStart(12, '0');
  return `${hex.slice(0, 8)}-${hex.slice(8)}-0000-0000-000000000000`;
}
