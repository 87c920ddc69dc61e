/** Rules that count, approvals, freezes, good health over time, and what an owner overrides. */
export const name = '028-rules';
export const up = `
-- The rules that count; null: those that main declares.
alter table environments add column rules jsonb;
-- By hand, of an owner: by, why, until.
alter table environments add column frozen_by jsonb;
-- Since when what is live is in good health without a pause; null: it is not.
alter table environments add column healthy_since timestamptz;
update environments set healthy_since = now() where live_id is not null and live_id = serving_id and health = 'good';

-- An owner's: by, why, and the rules that were not met.
alter table deployments add column override jsonb;

-- Of one thing there may be several by now: a release was in good health more than once.
alter table evidence drop constraint evidence_release_id_kind_name_source_key;
create unique index evidence_once on evidence (release_id, kind, name, source, coalesce(detail->>'from', ''));

create table approvals (
  id uuid primary key,
  environment_id uuid not null references environments,
  release_id uuid not null references releases,
  digest text not null,
  person_id uuid not null references people,
  -- They have written some of what it brings.
  author boolean not null,
  at timestamptz not null default now(),
  withdrawn_at timestamptz
);
create unique index approvals_once on approvals (environment_id, release_id, person_id) where withdrawn_at is null;
`;
