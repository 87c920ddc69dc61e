/** Columns of the second pass over safety: protected main branches, and refs that were removed from a repository. */
export const name = '035-safe-ground';
export const up = `
alter table projects
  -- Main of a hosted project can be neither deleted nor rewritten by a push.
  add column protect boolean not null default true,
  -- Refs that no push and no fetch of ours makes, found in its repository and deleted.
  add column foreign_refs text[] not null default '{}',
  add column foreign_refs_at timestamptz;
alter table deployments
  -- What a revert from it goes back to (core/advance/back). Known when it becomes live; of a revert, when it is asked for.
  add column back_id uuid references deployments,
  -- Of a revert: the deployment that it leaves and the one that it brings back, and whether it undoes a revert.
  add column leaves_id uuid references deployments,
  add column restores_id uuid references deployments,
  add column undoes boolean not null default false,
  -- Of a revert: the hold as it was before, which an undo brings back. {by, why}, or null.
  add column held_before jsonb;
-- What was live before this was known goes back as it did: to the newest release before it of which no deployment here was reverted.
update deployments d set back_id = (
  select o.id from deployments o
  where o.environment_id = d.environment_id and o.number < d.number and o.live_at is not null and o.state = 'replaced'
    and o.release_id <> d.release_id
    and not exists (
      select 1 from deployments x where x.environment_id = o.environment_id and x.release_id = o.release_id and x.state = 'reverted')
  order by o.number desc limit 1)
where d.live_at is not null;
-- A release may be in good health from one moment on for longer and longer: each span is evidence of its own.
drop index evidence_once;
create unique index evidence_once on evidence (release_id, kind, name, source, coalesce(detail->>'from', ''), coalesce(detail->>'to', ''));
-- Since when no agent could take it.
alter table runs add column unplaced_at timestamptz;
create index runs_unplaced on runs (unplaced_at) where unplaced_at is not null;
create table installation (
  one boolean primary key default true check (one),
  -- Random, and another one after each restore (records/installation).
  epoch uuid not null default gen_random_uuid(),
  -- Where these records were at the last start: system identifier, timeline, database, table. Empty before the first.
  place text not null default ''
);
insert into installation default values;
alter table people add column removed_at timestamptz;
create index deployments_reverts on deployments (environment_id, number) where kind = 'revert';
`;
