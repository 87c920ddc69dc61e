/** How delivery goes, a row a day: what is counted of runs and deployments once they have ended. */
export const name = '033-delivery';
export const up = `
create table task_days (
  project_id uuid not null references projects,
  task text not null,
  day date not null,
  ran int not null,
  reused int not null,
  failed int not null,
  flaky int not null,
  -- Milliseconds.
  took_ms bigint not null,
  saved_ms bigint not null,
  -- Lengths, as counts by bucket (core/delivery/spread).
  took jsonb not null,
  waited jsonb not null,
  primary key (project_id, day, task)
);
create table flaky_days (
  project_id uuid not null references projects,
  task text not null,
  test text not null,
  day date not null,
  times int not null,
  primary key (project_id, day, task, test)
);
create table delivery_days (
  project_id uuid not null references projects,
  environment_id uuid not null references environments,
  day date not null,
  live int not null,
  seen int not null,
  failed int not null,
  unseen int not null,
  lead jsonb not null,
  pushed jsonb not null,
  built jsonb not null,
  waited jsonb not null,
  brought jsonb not null,
  restored jsonb not null,
  primary key (project_id, day, environment_id)
);
-- Who did what: of one person, and of all but the service itself.
create index events_actor on events (actor, number) where number is not null;
create index events_people on events (number) where actor not in ('engine', 'agent') and number is not null;
-- Whether it has been counted.
alter table runs add column counted boolean not null default false;
create index runs_uncounted on runs (id) where not counted and ended_at is not null;
alter table deployments
  -- When some of the traffic was led to it first.
  add column seen_at timestamptz,
  -- Since when it is not in good health.
  add column poor_at timestamptz,
  -- Null, then 'live', then 'over': how much of it has been counted.
  add column counted text,
  -- Number of the newest run of which something has been live there, with this one.
  add column newest_run int;
update deployments set seen_at = live_at where live_at is not null;
create index deployments_uncounted on deployments (id)
  where counted is distinct from 'over' and state in ('live', 'replaced', 'failed', 'reverted');
`;
