/** Resources of environments, what opens them, and their backups; sizes of parts, and where there is room for them; figures. */
export const name = '010-environments';
export const up = `
update releases set plan = jsonb_build_object('resources', '{}'::jsonb, 'migrations', null) || plan || jsonb_build_object('prepare',
  case jsonb_typeof(plan->'prepare') when 'object' then plan->'prepare' || '{"again": false}' else 'null'::jsonb end)
where jsonb_typeof(plan) = 'object';
update releases set plan = jsonb_set(plan, '{parts}', (
  select coalesce(jsonb_object_agg(key, '{"memory": null, "cpu": null, "auto": null}'::jsonb || part), '{}') from jsonb_each(plan->'parts') as each(key, part)))
where jsonb_typeof(plan->'parts') = 'object';
update deployments set environment_plan = '{"parts": {}}'::jsonb || environment_plan;

create table resources (
  id uuid primary key,
  environment_id uuid not null references environments,
  name text not null,
  kind text not null,
  -- As the newest deployment asked for it: a plan of the definition.
  plan jsonb not null,
  -- Where it is made: the server of standing environments, of reviews, of work that is not trusted; or 'elsewhere'.
  place text not null,
  -- Address and login of a server elsewhere.
  sealed bytea,
  state text not null default 'asked',
  state_since timestamptz not null default now(),
  -- Nobody has removed it.
  wanted boolean not null default true,
  issue jsonb,
  tries int not null default 0,
  fence bigint not null default 0,
  due_at timestamptz default now(),
  lease_until timestamptz,
  bytes bigint,
  connections int,
  looked_at timestamptz,
  -- The backup that takes the place of what is there.
  restore_id uuid,
  restore_at timestamptz,
  -- The backup of what is there, which is written first.
  restore_after_id uuid,
  next_backup_at timestamptz,
  next_try_at timestamptz,
  created_at timestamptz not null default now(),
  ready_at timestamptz,
  removed_at timestamptz
);
-- One of a name is there at a time; those that are gone stay for the record.
create unique index resources_there on resources (environment_id, name) where state <> 'removed';
create index resources_due on resources (due_at) where due_at is not null;
create index resources_leased on resources (lease_until) where lease_until is not null;
create index resources_plans on resources (next_backup_at, next_try_at) where state = 'ready';

create table logins (
  id uuid primary key,
  resource_id uuid not null references resources,
  -- Of a deployment's programs, or of one try of its prepare; or of a person.
  deployment_id uuid references deployments,
  used_by text not null,
  -- Which of the deployment's logins: counted by rotations, or by tries of prepare.
  turn int not null default 0,
  person text,
  state text not null default 'asked',
  sealed bytea not null,
  expires_at timestamptz,
  created_at timestamptz not null default now(),
  ended_at timestamptz
);
create unique index logins_turn on logins (resource_id, deployment_id, used_by, turn) where deployment_id is not null;
create index logins_there on logins (resource_id) where state <> 'ended';
create index logins_deployment on logins (deployment_id) where state <> 'ended';

create table backups (
  id uuid primary key,
  resource_id uuid not null references resources,
  number int not null,
  -- Of whoever asked, or 'plan'.
  actor text not null,
  -- Made by the plan, or kept until somebody removes it.
  planned boolean not null,
  state text not null default 'asked',
  issue jsonb,
  digest text,
  bytes bigint,
  fence bigint not null default 0,
  due_at timestamptz default now(),
  lease_until timestamptz,
  tries int not null default 0,
  -- The moment of which it is.
  of_at timestamptz,
  tried_at timestamptz,
  tried jsonb,
  created_at timestamptz not null default now(),
  ended_at timestamptz,
  unique (resource_id, number)
);
alter table resources add foreign key (restore_id) references backups, add foreign key (restore_after_id) references backups;
create index backups_work on backups (due_at) where due_at is not null;
create index backups_kept on backups (digest) where digest is not null;

-- Part → how often its programs were wished fresh; of an instance: as of which wish it was started.
alter table deployments add column fresh jsonb not null default '{}', add column turn int not null default 0;
alter table instances add column fresh int not null default 0, add column turn int not null default 0,
  -- Bytes with which it is reckoned where it runs.
  add column memory bigint not null default 268435456;
-- Part → what a person has set of its size.
alter table environments add column sizes jsonb not null default '{}';
-- What its instances may take together; null: it does not say.
alter table agents add column memory bigint, add column places int;

-- Figures of programs: a row for each instance and step (10 s, 1 min, 1 h), in a table for each day.
create table figures (
  step int not null,
  at timestamptz not null,
  environment_id uuid not null,
  deployment int not null,
  part text not null,
  -- Empty for a site, and in hours.
  instance text not null,
  requests int not null,
  errors int not null,
  bytes bigint not null,
  -- Counts of the histogram's buckets.
  times int[] not null,
  cpu int not null,
  memory bigint not null,
  primary key (step, environment_id, at, deployment, part, instance)
) partition by list (step);
create table figures_10 partition of figures for values in (10) partition by range (at);
create table figures_60 partition of figures for values in (60) partition by range (at);
create table figures_3600 partition of figures for values in (3600) partition by range (at);
-- What has been rolled up from a step into the next, exclusive.
create table rollups (
  step int primary key,
  done_at timestamptz not null
);
insert into rollups (step, done_at) values (10, date_trunc('hour', now())), (60, date_trunc('hour', now()));
create function add_counts(a int[], b int[]) returns int[] language sql immutable parallel safe as $body$
  select coalesce(array_agg(coalesce(x, 0) + coalesce(y, 0) order by place), '{}') from unnest(a, b) with ordinality as both_(x, y, place)
$body$;
-- Whoever sends figures again is known by what it sent last.
create table senders (
  name text primary key,
  boot uuid not null,
  batch bigint not null,
  at timestamptz not null default now()
);
`;
