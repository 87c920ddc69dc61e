/** Who may look at reviews: links that people give away, and what lets a browser in. */
export const name = '023-gate';
export const up = `
create table links (
  id uuid primary key,
  environment_id uuid not null references environments,
  hash bytea not null unique,
  actor text not null,
  created_at timestamptz not null default now(),
  expires_at timestamptz not null,
  removed_at timestamptz,
  -- The last time that somebody came by it.
  used_at timestamptz
);
create index links_of on links (environment_id) where removed_at is null;

create table passes (
  hash bytea primary key,
  environment_id uuid not null references environments,
  -- By whose session at the console, or by which link.
  session_id uuid,
  link_id uuid references links,
  -- What it was exchanged for: good once.
  code bytea unique,
  created_at timestamptz not null default now(),
  expires_at timestamptz not null,
  check ((session_id is null) <> (link_id is null))
);
create index passes_of on passes (environment_id);
create index passes_over on passes (expires_at);
`;
