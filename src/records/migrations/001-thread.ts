/**
 * The first tables: the thread from a push to production.
 *
 * `due_at` on runs, deployments and environments is the engine's work list: a row is taken when it is due and put off
 * (or cleared) in the transaction that did the work, so that a restart misses nothing.
 */
export const name = '001-thread';

export const up = `
create table people (
  id uuid primary key,
  name text not null unique,
  role text not null,
  created_at timestamptz not null default now()
);

create table projects (
  id uuid primary key,
  name text not null unique,
  source text not null,
  main_branch text not null,
  folder text not null default '',
  url text,
  event_secret bytea,
  definition_commit text,
  definition_run int not null default 0,
  runs int not null default 0,
  releases int not null default 0,
  deployments int not null default 0,
  created_at timestamptz not null default now()
);

create table tokens (
  id uuid primary key,
  hash bytea not null unique,
  kind text not null,
  name text not null,
  person_id uuid references people,
  role text,
  project_id uuid references projects,
  created_at timestamptz not null default now(),
  expires_at timestamptz,
  used_at timestamptz,
  removed_at timestamptz
);

create table sign_ins (
  hash bytea primary key,
  person_id uuid not null references people,
  expires_at timestamptz not null,
  used_at timestamptz
);

create table sessions (
  hash bytea primary key,
  person_id uuid not null references people,
  role text not null,
  created_at timestamptz not null default now(),
  expires_at timestamptz not null
);

create table answers (
  actor text not null,
  key text not null,
  request bytea not null,
  status int not null,
  body jsonb not null,
  at timestamptz not null default now(),
  primary key (actor, key)
);
create index answers_at on answers (at);

create table events (
  id bigint generated always as identity primary key,
  xid xid8 not null default pg_current_xact_id(),
  number bigint unique,
  type text not null,
  project_id uuid references projects,
  subject text not null,
  actor text not null,
  data jsonb not null default '{}',
  at timestamptz not null default clock_timestamp()
);
create index events_unnumbered on events (id) where number is null;
create index events_project on events (project_id, number);
create index events_subject on events (subject, number);

create table seals (
  last_number bigint primary key,
  first_number bigint not null,
  hash bytea not null,
  signature bytea not null,
  at timestamptz not null default now()
);

create table intake (
  project_id uuid not null references projects,
  event_id text not null,
  source text not null,
  type text not null,
  body jsonb not null,
  state text not null default 'waiting',
  tries int not null default 0,
  due_at timestamptz default now(),
  issue jsonb,
  at timestamptz not null default now(),
  primary key (project_id, source, event_id)
);
create index intake_due on intake (due_at) where due_at is not null;

create table pushes (
  id uuid primary key,
  project_id uuid not null references projects,
  branch text not null,
  before_commit text,
  commit text,
  state text not null default 'intended',
  actor text not null,
  at timestamptz not null default now()
);
create index pushes_open on pushes (project_id) where state = 'intended';

create table branches (
  project_id uuid not null references projects,
  name text not null,
  head text not null,
  updated_at timestamptz not null default now(),
  primary key (project_id, name)
);

create table commits (
  project_id uuid not null references projects,
  id text not null,
  title text not null,
  author text not null,
  at timestamptz not null,
  primary key (project_id, id)
);

create table definitions (
  project_id uuid not null references projects,
  commit text not null,
  model jsonb,
  issues jsonb not null default '[]',
  primary key (project_id, commit)
);

create table pull_requests (
  project_id uuid not null references projects,
  number int not null,
  title text not null,
  head text not null,
  base text not null,
  trusted boolean not null,
  state text not null,
  updated_at timestamptz not null default now(),
  primary key (project_id, number)
);

create table agents (
  id uuid primary key,
  token_id uuid not null references tokens,
  name text not null unique,
  boot uuid not null,
  class text[] not null,
  slots int not null,
  address text not null,
  tools jsonb not null,
  base text not null,
  sandbox jsonb not null,
  seen_at timestamptz not null default now(),
  lease_until timestamptz not null
);

create table edges (
  id uuid primary key,
  token_id uuid not null references tokens,
  name text not null unique,
  acknowledged bigint not null default 0,
  seen_at timestamptz not null default now()
);

create table runs (
  id uuid primary key,
  project_id uuid not null references projects,
  number int not null,
  commit text not null,
  branch text,
  pull_request int,
  line text not null,
  state text not null default 'waiting',
  cause text not null,
  actor text not null,
  allowed boolean not null default true,
  stopped_by text,
  issue jsonb,
  warnings jsonb not null default '[]',
  tasks_total int not null default 0,
  tasks_ended int not null default 0,
  released boolean not null default false,
  planned_at timestamptz,
  due_at timestamptz default now(),
  created_at timestamptz not null default now(),
  started_at timestamptz,
  ended_at timestamptz,
  unique (project_id, number)
);
create index runs_due on runs (due_at) where due_at is not null;
create index runs_commit on runs (project_id, commit);
create index runs_state on runs (state, id);
create index runs_recent on runs (id desc);

create table tasks (
  id uuid primary key,
  run_id uuid not null references runs,
  name text not null,
  position int not null,
  state text not null default 'waiting',
  evidence boolean not null,
  model jsonb not null,
  files jsonb not null,
  pinned jsonb not null,
  inputs jsonb,
  fingerprint text,
  output text,
  output_size bigint,
  tests jsonb,
  issue jsonb,
  started_at timestamptz,
  ended_at timestamptz,
  unique (run_id, name)
);
create index tasks_fingerprint on tasks (fingerprint) where fingerprint is not null;

create table releases (
  id uuid primary key,
  project_id uuid not null references projects,
  number int not null,
  digest text not null,
  commit text not null,
  branch text,
  pull_request int,
  run_id uuid not null unique references runs,
  parts jsonb not null,
  plan jsonb not null,
  created_at timestamptz not null default now(),
  unique (project_id, number)
);
create index releases_branch on releases (project_id, branch, number desc);

create table evidence (
  id uuid primary key,
  release_id uuid not null references releases,
  digest text not null,
  kind text not null,
  name text not null,
  source text not null,
  detail jsonb not null,
  at timestamptz not null default now(),
  unique (release_id, kind, name, source)
);

create table environments (
  id uuid primary key,
  project_id uuid not null references projects,
  name text not null,
  kind text not null,
  plan_name text not null,
  pull_request int,
  host text not null unique,
  state text not null default 'empty',
  health text not null default 'good',
  held_by text,
  held_why text,
  live_id uuid,
  serving_id uuid,
  table_version bigint not null default 0,
  due_at timestamptz default now(),
  created_at timestamptz not null default now(),
  closed_at timestamptz,
  unique (project_id, name)
);
create index environments_due on environments (due_at) where due_at is not null;

create table deployments (
  id uuid primary key,
  project_id uuid not null references projects,
  number int not null,
  environment_id uuid not null references environments,
  release_id uuid not null references releases,
  kind text not null,
  actor text not null,
  state text not null default 'queued',
  state_since timestamptz not null default now(),
  failure jsonb,
  notes jsonb not null default '[]',
  definition_commit text,
  environment_plan jsonb not null,
  variables jsonb not null,
  replaces_id uuid references deployments,
  live_at timestamptz,
  replaced_at timestamptz,
  warm_until timestamptz,
  due_at timestamptz default now(),
  created_at timestamptz not null default now(),
  ended_at timestamptz,
  unique (project_id, number)
);
create index deployments_due on deployments (due_at) where due_at is not null;
create index deployments_environment on deployments (environment_id, number desc);
alter table environments add foreign key (live_id) references deployments, add foreign key (serving_id) references deployments;

create sequence fences;

create table attempts (
  id uuid primary key,
  kind text not null,
  task_id uuid references tasks,
  deployment_id uuid references deployments,
  project_id uuid not null references projects,
  number int not null,
  state text not null default 'waiting',
  needs jsonb not null,
  agent_id uuid references agents,
  fence bigint,
  lease_until timestamptz,
  stop boolean not null default false,
  issue jsonb,
  log_bytes bigint not null default 0,
  log_lines bigint not null default 0,
  created_at timestamptz not null default now(),
  started_at timestamptz,
  ended_at timestamptz
);
create index attempts_waiting on attempts (created_at) where state = 'waiting';
create index attempts_lease on attempts (lease_until) where state = 'running';
create index attempts_task on attempts (task_id);
create index attempts_deployment on attempts (deployment_id);
create index attempts_agent on attempts (agent_id) where state = 'running';

create table commands (
  attempt_id uuid not null references attempts,
  position int not null,
  text text not null,
  state text not null,
  exit int,
  started_at timestamptz not null,
  ms int,
  first_line bigint not null default 0,
  primary key (attempt_id, position)
);

create table log_chunks (
  stream uuid not null,
  position bigint not null,
  bytes int not null,
  command int not null,
  first_line bigint not null,
  lines int not null,
  packed bytea not null,
  at timestamptz not null default now(),
  primary key (stream, position)
) partition by range (stream);
create table log_chunks_rest partition of log_chunks default;

create table instances (
  id uuid primary key,
  deployment_id uuid not null references deployments,
  started_for uuid not null references deployments,
  part text not null,
  kind text not null,
  position int not null,
  state text not null default 'waiting',
  wanted boolean not null default true,
  restarts int not null default 0,
  agent_id uuid references agents,
  fence bigint,
  address text,
  port int,
  exit int,
  issue jsonb,
  log_bytes bigint not null default 0,
  log_lines bigint not null default 0,
  start_at timestamptz not null default now(),
  created_at timestamptz not null default now(),
  ready_at timestamptz,
  ended_at timestamptz
);
create index instances_deployment on instances (deployment_id);
create index instances_waiting on instances (start_at) where state = 'waiting';
create index instances_agent on instances (agent_id) where state in ('starting', 'ready');

create table results (
  project_id uuid not null references projects,
  line text not null,
  fingerprint text not null,
  attempt_id uuid not null references attempts,
  state text not null,
  output text,
  at timestamptz not null default now(),
  primary key (project_id, line, fingerprint, attempt_id)
);

-- One row a host that has or had an address. Edges ask for the rows above the version they have; no body means that the host is gone.
create sequence route_versions;
create table routes (
  host text primary key,
  environment_id uuid not null references environments,
  body jsonb,
  version bigint not null
);
create index routes_version on routes (version);
`;
