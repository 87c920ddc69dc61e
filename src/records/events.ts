import { type Db, type EventRecord, keepEvents, queryOne, query } from './database.js';

/** One thing that happened. `subject` is written as people write it: `run 131`, `d17`, `sailings/production`. */
export interface NewEvent extends EventRecord {
  type: EventType;
}

/** CDEvents words where they have one for the thing, the glossary's otherwise. */
export const eventTypes = [
  'person.added',
  'person.removed',
  'person.invited',
  'token.added',
  'token.removed',
  'person.role',
  'session.ended',
  'key.rotated',
  'project.added',
  'project.renamed',
  'project.changed',
  'project.paused',
  'project.resumed',
  'project.removed',
  'variables.changed',
  'source.failing',
  'agent.registered',
  'agent.lost',
  'edge.registered',
  'push.recorded',
  'push.refused',
  'repository.cleared',
  'repository.filtered',
  'records.restored',
  'branch.removed',
  'pull-request.opened',
  'pull-request.updated',
  'pull-request.closed',
  'intake.refused',
  'intake.failed',
  'definition.drafted',
  'definition.accepted',
  'definition.refused',
  'run.recorded',
  'run.allowed',
  'run.planned',
  'run.ended',
  'run.stop-asked',
  'task.ready',
  'task.skipped',
  'task.reused',
  'run.trimmed',
  'release.bytes-removed',
  'task.ended',
  'attempt.started',
  'attempt.ended',
  'release.made',
  'release.imported',
  'evidence.recorded',
  'environment.made',
  'review.refused',
  'environment.held',
  'environment.lifted',
  'freeze.set',
  'freeze.ended',
  'rules.loosened',
  'rules.accepted',
  'approval.given',
  'approval.withdrawn',
  'environment.restarted',
  'environment.scaled',
  'environment.wished',
  'environment.asleep',
  'environment.awake',
  'environment.wake-failed',
  'environment.kept',
  'review.link-made',
  'review.link-ended',
  'environment.closing',
  'environment.closed',
  'environment.health',
  'deployment.requested',
  'deployment.stop-asked',
  'deployment.state',
  'deployment.failing',
  'deployment.replaced',
  'deployment.ended-old',
  'traffic.moved',
  'traffic.stopped',
  'traffic.shared',
  'cutover.ordered',
  'together.asked',
  'together.moved',
  'together.live',
  'together.ended',
  'together.returned',
  'instance.asked',
  'instance.ready',
  'instance.failed',
  'instance.ended',
  'instance.lost',
  'resource.ready',
  'resource.access',
  'resource.failed',
  'resource.removal-asked',
  'resource.removed',
  'resource.connected',
  'resource.rotated',
  'login.opened',
  'login.closed',
  'backup.asked',
  'snapshot.asked',
  'snapshot.ready',
  'snapshot.failed',
  'snapshot.removed',
  'environment.copies',
  'picture.asked',
  'picture.taken',
  'picture.failed',
  'backup.kept',
  'backup.failed',
  'backup.tried',
  'backup.removed',
  'restore.asked',
  'restore.done',
  'restore.failed',
  'address.added',
  'address.proven',
  'address.certified',
  'address.failed',
  'address.lost',
  'address.renamed',
  'address.removed',
  'job.begun',
  'job.ended',
  'job.missed',
  'job.stop-asked',
  'terminal.opened',
  'terminal.ended',
  'destination.added',
  'destination.removed',
  'destination.left-out',
  'prices.set',
  'alert.began',
  'alert.ended',
  'alert.added',
  'alert.removed',
  'delivery.given-up',
  'stray.found',
  'stray.removed',
] as const;
export type EventType = (typeof eventTypes)[number];

export interface EventRow {
  number: string;
  type: EventType;
  project: string | null;
  subject: string;
  actor: string;
  data: Record<string, unknown>;
  at: Date;
}

/** Records events in the transaction of what they tell. They get their number from the feed loop. */
export const recordEvents = async (db: Db, ...events: NewEvent[]): Promise<void> =>
  events.length === 0 ? undefined : keepEvents(db, events);

/**
 * Numbers the events whose order is settled: those of transactions below the oldest one still open. Commits do not happen in
 * the order of ids; only this number may be used as a cursor. Says how many were numbered, and whether some are left; one service does it at a time.
 */
export const numberEvents = async (db: Db): Promise<{ numbered: number; left: boolean }> =>
  (await queryOne<{ numbered: number; left: boolean }>(
    db,
    'select numbered, left_over as left from number_events()',
  )) ?? {
    numbered: 0,
    left: false,
  };

export interface EventFilter {
  /** Only events with a higher number. */
  after?: string;
  /** Only events with a lower number. */
  before?: string;
  project?: string;
  type?: string;
  subject?: string;
  actor?: string;
  /** Only what people did; the evidence that an act of theirs left is none. */
  people?: boolean;
  /** First words of types. */
  kinds?: readonly string[];
  limit: number;
  newestFirst: boolean;
}

export function listEvents(db: Db, filter: EventFilter): Promise<EventRow[]> {
  return query<EventRow>(
    db,
    `select e.number, e.type, p.name as project, e.subject, e.actor, e.data, e.at
     from events e left join projects p on p.id = e.project_id
     where e.number is not null
       and ($1::bigint is null or e.number > $1) and ($2::bigint is null or e.number < $2)
       and ($3::text is null or e.project_id = (select id from projects where name = $3))
       and ($4::text is null or e.type = $4) and ($5::text is null or e.subject = $5)
       ${filter.actor === undefined ? '' : 'and e.actor = $7'}
       ${filter.people ? `and e.actor not in ('engine', 'agent', 'the clock') and e.type <> 'evidence.recorded'` : ''}
       ${filter.kinds === undefined ? '' : `and split_part(e.type, '.', 1) in (${filter.kinds.map((kind) => `'${kind}'`).join(', ')})`}
     order by e.number ${filter.newestFirst ? 'desc' : 'asc'} limit $6`,
    [
      filter.after ?? null,
      filter.before ?? null,
      filter.project ?? null,
      filter.type ?? null,
      filter.subject ?? null,
      filter.limit,
      ...(filter.actor === undefined ? [] : [filter.actor]),
    ],
  );
}

export const eventByNumber = (db: Db, number: string): Promise<EventRow | null> =>
  queryOne<EventRow>(
    db,
    `select e.number, e.type, p.name as project, e.subject, e.actor, e.data, e.at
     from events e left join projects p on p.id = e.project_id where e.number = $1::bigint`,
    [number],
  );

export const lastEventNumber = async (db: Db): Promise<string> =>
  (await queryOne<{ number: string }>(db, 'select coalesce(max(number), 0) as number from events'))?.number ?? '0';

export interface Seal {
  first: string;
  last: string;
  hash: Buffer;
  signature: Buffer;
}

/** Seals the events since the last seal: `hash` covers the earlier seal's hash and each event. Returns null when there are none. */
export async function sealEvents(
  db: Db,
  hashOf: (parts: string[], before: Buffer | null) => Buffer,
  sign: (hash: Buffer) => Buffer,
): Promise<Seal | null> {
  const locked = await queryOne<{ ok: boolean }>(db, 'select pg_try_advisory_xact_lock(7403123) as ok');
  if (!locked?.ok) return null;
  const last = await queryOne<{ last_number: string; hash: Buffer }>(
    db,
    'select last_number, hash from seals order by last_number desc limit 1',
  );
  const events = await sealedEvents(db, last?.last_number ?? '0', null);
  const first = events[0];
  const end = events.at(-1);
  if (!first || !end) return null;
  const hash = hashOf(
    events.map((event) => event.text),
    last?.hash ?? null,
  );
  const signature = sign(hash);
  await query(db, 'insert into seals (first_number, last_number, hash, signature) values ($1, $2, $3, $4)', [
    first.number,
    end.number,
    hash,
    signature,
  ]);
  return { first: first.number, last: end.number, hash, signature };
}

export const listSeals = (db: Db): Promise<Seal[]> =>
  query<Seal>(db, 'select first_number as first, last_number as last, hash, signature from seals order by last_number');

export interface SealCheck {
  /** Seals that fit, and the number of the last event below them. */
  seals: number;
  upTo: string;
  /** The first stretch of events whose seal does not fit what is recorded now. */
  wrong: { first: string; last: string } | null;
}

/** Makes every seal again from what is recorded now, and compares. */
export async function checkSeals(
  db: Db,
  hashOf: (parts: string[], before: Buffer | null) => Buffer,
  signed: (hash: Buffer, signature: Buffer) => boolean,
): Promise<SealCheck> {
  let before: Buffer | null = null;
  let upTo = '0';
  let seals = 0;
  for (const seal of await listSeals(db)) {
    const events = await sealedEvents(db, upTo, seal.last);
    const hash = hashOf(
      events.map((event) => event.text),
      before,
    );
    const whole = Number(seal.first) === Number(upTo) + 1 && events.length === Number(seal.last) - Number(upTo);
    if (!whole || !hash.equals(seal.hash) || !signed(seal.hash, seal.signature))
      return { seals, upTo, wrong: { first: seal.first, last: seal.last } };
    before = seal.hash;
    upTo = seal.last;
    seals++;
  }
  return { seals, upTo, wrong: null };
}

/** Events after `after` up to `upTo` as the texts that seals are made of. */
export function sealedEvents(db: Db, after: string, upTo: string | null): Promise<{ number: string; text: string }[]> {
  return query(
    db,
    `select number, jsonb_build_array(number, type, project_id, subject, actor, data, extract(epoch from at)::text)::text as text
     from events where number > $1 and ($2::bigint is null or number <= $2) order by number limit 10000`,
    [after, upTo],
  );
}
