/** Terminals: who was inside an environment, with what, for how long, and how it ended. Nothing of what was typed or shown is kept. */
export const name = '015-terminals';
export const up = `
create table terminals (
  id uuid primary key,
  project_id uuid not null references projects,
  environment_id uuid not null references environments,
  deployment_id uuid not null references deployments,
  part text not null,
  -- The instance beside whose program it runs; null: in a sandbox of its own.
  instance_id uuid references instances,
  caller_id uuid not null,
  who text not null,
  -- Program and arguments; none: a shell.
  command text[] not null,
  tty boolean not null,
  state text not null default 'asked',
  -- Good once: the person's stream shows it.
  ticket bytea not null,
  -- Address of the service that holds the person's stream, what that terminal is called there, and the size of its window.
  door text,
  term text,
  columns int not null default 80,
  rows int not null default 24,
  agent_id uuid references agents,
  fence bigint not null default 0,
  -- Somebody has ended it.
  stop boolean not null default false,
  why text,
  exit int,
  issue jsonb,
  since timestamptz not null default now(),
  created_at timestamptz not null default now(),
  opened_at timestamptz,
  ended_at timestamptz
);
create index terminals_at_work on terminals (state, created_at) where state <> 'ended';
create index terminals_of on terminals (environment_id, created_at desc);
`;
