/** Figures: taken in once, whoever sends them twice; added to what is there; read by environment and time. */
import { type Figure, keptFor, rollUp, type Step, steps } from '../../core/figures/figures.js';
import { type Db, json, query, queryOne } from '../database.js';

const dayName = (time: number): string => new Date(time).toISOString().slice(0, 10);

/** Begin and end (milliseconds) of the table that a time falls into: hours have one a month, so that a month is read from few. */
function tableOf(step: Step, time: number, ahead: number): { begin: number; end: number } {
  const at = new Date(time);
  const of = (by: number) =>
    step === 3_600
      ? Date.UTC(at.getUTCFullYear(), at.getUTCMonth() + by, 1)
      : Date.UTC(at.getUTCFullYear(), at.getUTCMonth(), at.getUTCDate() + by);
  return { begin: of(ahead), end: of(ahead + 1) };
}

/** Makes the tables of now and of the time around it, and drops those of which nothing is kept any more. `now` in seconds. */
export async function makeFigureTables(db: Db, now: number): Promise<void> {
  const there = (
    await query<{ name: string }>(
      db,
      `select relname as name from pg_class where relkind = 'r' and relname ~ '^figures_[0-9]+_[0-9]{8}$'`,
    )
  ).map((row) => row.name);
  for (const step of steps) {
    const name = (time: number) => `figures_${step}_${dayName(time).replaceAll('-', '')}`;
    for (const ahead of [-1, 0, 1]) {
      const { begin, end } = tableOf(step, now * 1_000, ahead);
      if (!there.includes(name(begin)))
        await query(
          db,
          `create table if not exists ${name(begin)} partition of figures_${step} for values from ('${dayName(begin)}Z') to ('${dayName(end)}Z')`,
        );
    }
    // The table before that of the oldest that is kept is the first that nobody asks for.
    const oldest = name(tableOf(step, (now - keptFor[step]) * 1_000, 0).begin);
    for (const one of there)
      if (one.startsWith(`figures_${step}_`) && one < oldest) await query(db, `drop table if exists ${one}`);
  }
}

/** Whether this batch is new: one that was taken in already is answered as done. Of a sender that began anew all is new. */
export const isNewBatch = async (db: Db, sender: string, boot: string, batch: number): Promise<boolean> =>
  (await queryOne(
    db,
    `insert into senders (name, boot, batch) values ($1, $2, $3)
     on conflict (name) do update set boot = excluded.boot, batch = excluded.batch, at = now()
     where senders.boot <> excluded.boot or senders.batch < excluded.batch returning 1 as ok`,
    [sender, boot, batch],
  )) !== null;

const row = (one: Figure) => ({
  ...one,
  times: `{${one.times.join(',')}}`,
  at: new Date(one.at * 1_000).toISOString(),
});

/** Adds figures of a step to what is there. */
async function addTo(db: Db, step: Step, figures: readonly Figure[]): Promise<void> {
  if (figures.length === 0) return;
  await query(
    db,
    `insert into figures as f (step, at, environment_id, deployment, part, instance, requests, errors, bytes, times, cpu, memory)
     select $1, r.at, r.environment, r.deployment, r.part, r.instance, r.requests, r.errors, r.bytes, r.times::int[], r.cpu, r.memory
     from jsonb_to_recordset($2::jsonb) as r(at timestamptz, environment uuid, deployment int, part text, instance text,
       requests int, errors int, bytes bigint, times text, cpu int, memory bigint)
     on conflict (step, environment_id, at, deployment, part, instance) do update set requests = f.requests + excluded.requests,
       errors = f.errors + excluded.errors, bytes = f.bytes + excluded.bytes, times = add_counts(f.times, excluded.times),
       cpu = f.cpu + excluded.cpu, memory = greatest(f.memory, excluded.memory)`,
    [step, json(figures.map(row))],
  );
}

/** Takes figures of ten seconds in. What is late goes into the minutes and hours too into which its time was rolled up already. */
export async function addFigures(db: Db, figures: readonly Figure[]): Promise<void> {
  // Nobody rolls up meanwhile, so that nothing falls between.
  const done = new Map(
    (
      await query<{ step: Step; done: number }>(
        db,
        'select step, extract(epoch from done_at)::float8 as done from rollups order by step for share',
      )
    ).map((one) => [one.step, one.done]),
  );
  await addTo(db, 10, figures);
  const late = figures.filter((one) => one.at < (done.get(10) ?? 0));
  if (late.length === 0) return;
  const minutes = rollUp(late, 60);
  await addTo(db, 60, minutes);
  await addTo(
    db,
    3_600,
    rollUp(
      minutes.filter((one) => one.at < (done.get(60) ?? 0)),
      3_600,
    ),
  );
}

const columns = `extract(epoch from at)::float8 as at, environment_id as environment, deployment, part, instance, requests, errors,
  bytes::float8 as bytes, times::text as times, cpu, memory::float8 as memory`;

/** A time as text of a statement: where it stands in the text, only the tables of its days are planned for. */
const literal = (second: number): string => `timestamptz '${new Date(second * 1_000).toISOString()}'`;

/** Figures of a step in a span of seconds: of one environment, or (`null`) of all. */
export async function readFigures(
  db: Db,
  step: Step,
  environment: string | null,
  from: number,
  until: number,
  part: string | null = null,
): Promise<Figure[]> {
  const rows = await query<Omit<Figure, 'times'> & { times: string }>(
    db,
    `select ${columns} from figures
     where step = ${step} and at >= ${literal(from)} and at < ${literal(until)}
       ${environment === null ? '' : 'and environment_id = $1'} ${part === null ? '' : `and part = $${environment === null ? 1 : 2}`}`,
    [environment, part].filter((one) => one !== null),
  );
  // `{1,2}`: read as a list at once, which for many of them is worth it.
  return rows.map((one) => ({ ...one, times: JSON.parse(`[${one.times.slice(1, -1)}]`) as number[] }));
}

/** How far a step is rolled up into the next: seconds. */
export const rolledUp = async (db: Db, step: 10 | 60): Promise<number> =>
  (
    await queryOne<{ done: number }>(
      db,
      'select extract(epoch from done_at)::float8 as done from rollups where step = $1',
      [step],
    )
  )?.done ?? 0;

/** Rolls what lies between what was done and `until` up into the next step, at most `most` seconds of it; false when there was nothing. */
export async function rollOn(db: Db, step: 10 | 60, until: number, most: number): Promise<boolean> {
  const mark = await queryOne<{ done: number }>(
    db,
    'select extract(epoch from done_at)::float8 as done from rollups where step = $1 for update skip locked',
    [step],
  );
  if (!mark || mark.done >= until) return false;
  const end = Math.min(until, mark.done + most);
  const next = step === 10 ? 60 : 3_600;
  await addTo(db, next, rollUp(await readFigures(db, step, null, mark.done, end), next));
  await query(db, 'update rollups set done_at = to_timestamp($2) where step = $1', [step, end]);
  return true;
}
