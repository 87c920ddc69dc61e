/** Reviews begin with copies of databases in use: snapshots of those, and what each copy is of. */
export const name = '022-snapshots';
export const up = `
create table snapshots (
  id uuid primary key,
  -- Whose data it is.
  resource_id uuid not null references resources,
  -- On which server it stands.
  place text not null,
  actor text not null,
  state text not null default 'asked',
  -- No newer one has taken its place.
  wanted boolean not null default true,
  issue jsonb,
  tries int not null default 0,
  -- Copies of which the scrub was lost with its agent.
  lost int not null default 0,
  fence bigint not null default 0,
  due_at timestamptz default now(),
  lease_until timestamptz,
  -- What makes it fit for others, and the deployment whose code that is.
  scrub jsonb,
  deployment_id uuid references deployments,
  attempt_id uuid references attempts,
  -- The password of the login that scrub has.
  sealed bytea,
  -- Milliseconds for which somebody wants to make data of it.
  fresh_ms bigint not null,
  -- The moment of which it is, and what it takes on disk.
  of_at timestamptz,
  bytes bigint,
  created_at timestamptz not null default now(),
  ready_at timestamptz,
  ended_at timestamptz
);
create index snapshots_due on snapshots (due_at) where due_at is not null and lease_until is null;
create index snapshots_held on snapshots (lease_until) where lease_until is not null;
create index snapshots_of on snapshots (resource_id, created_at desc);
create index snapshots_scrubbed on snapshots (attempt_id) where state = 'scrubbing';

-- What its data begins as (null: empty); the snapshot it waits for, or was made of; why it began otherwise; the moment of its data.
alter table resources add column origin jsonb;
alter table resources add column snapshot_id uuid references snapshots;
alter table resources add column origin_issue jsonb;
alter table resources add column data_of timestamptz;
create index resources_of_snapshot on resources (snapshot_id) where snapshot_id is not null;

-- The scrub with which an owner has permitted copies of its data; null: nobody has.
alter table environments add column copies jsonb;
`;
