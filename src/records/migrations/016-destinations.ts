/** Destinations: where the logs of programs go on to, and how far of each stream that is. */
export const name = '016-destinations';
export const up = `
create table destinations (
  id uuid primary key,
  name text not null,
  kind text not null,
  url text not null,
  -- Certificates that it is known by instead of those of everybody (PEM).
  authorities text,
  -- Name and value of a header.
  sealed bytea,
  project_id uuid references projects,
  environment text,
  issue jsonb,
  -- Sendings in a row that were not accepted.
  tries int not null default 0,
  sent_lines bigint not null default 0,
  -- Of what was gone before it could be sent, or was refused for good.
  left_bytes bigint not null default 0,
  sent_at timestamptz,
  fence bigint not null default 0,
  due_at timestamptz default now(),
  lease_until timestamptz,
  actor text not null,
  created_at timestamptz not null default now(),
  removed_at timestamptz
);
create unique index destinations_name on destinations (name) where removed_at is null;

create table sent_logs (
  destination_id uuid not null references destinations on delete cascade,
  stream uuid not null,
  -- Bytes of the stream that are sent, or left out.
  position bigint not null,
  sent_at timestamptz not null default now(),
  primary key (destination_id, stream)
);
create index instances_ended on instances (ended_at);
`;
