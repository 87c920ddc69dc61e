/** What is told to whom: conditions that begin and end, subscriptions with a cursor each, and what was told. */
export const name = '012-deliveries';
export const up = `
-- What is wrong now.
create table conditions (
  topic text not null,
  place text not null,
  of text not null,
  project_id uuid references projects,
  environment text,
  says text not null,
  seen_at timestamptz not null,
  -- Its beginning was told.
  begun_at timestamptz,
  -- It was not there when last looked.
  gone_at timestamptz,
  primary key (topic, place)
);

create table subscriptions (
  id uuid primary key,
  -- As people call it; of a code host and of a person's own: null.
  name text,
  channel text not null,
  topics text[] not null default '{}',
  project_id uuid references projects,
  environment text,
  -- Whose own it is about.
  person_id uuid references people,
  -- A mail address, or the address of a webhook; of a code host its project has it.
  target text not null default '',
  -- What its events are signed with.
  sealed bytea,
  -- Number of the event up to which it was told what there is to tell.
  after bigint not null default 0,
  issue jsonb,
  fence bigint not null default 0,
  due_at timestamptz,
  lease_until timestamptz,
  actor text not null,
  created_at timestamptz not null default now(),
  removed_at timestamptz
);
create unique index subscriptions_names on subscriptions (name) where removed_at is null and name is not null;
create unique index subscriptions_hosts on subscriptions (project_id) where removed_at is null and channel = 'code-host';
create unique index subscriptions_people on subscriptions (person_id) where removed_at is null and person_id is not null;
create index subscriptions_due on subscriptions (due_at) where due_at is not null;
create index subscriptions_leased on subscriptions (lease_until) where lease_until is not null;

create table deliveries (
  id uuid primary key,
  subscription_id uuid not null references subscriptions,
  -- Of the first event that it tells.
  number bigint not null,
  items jsonb not null,
  state text not null default 'waiting',
  tries int not null default 0,
  issue jsonb,
  -- Not sent before.
  not_before timestamptz not null default now(),
  created_at timestamptz not null default now(),
  ended_at timestamptz
);
create index deliveries_waiting on deliveries (subscription_id, number) where state = 'waiting';
create index deliveries_of on deliveries (subscription_id, id);

-- States of runs are told by the same means; projects keep the address, and what is wrong with it.
insert into subscriptions (id, channel, project_id, after, due_at, actor)
  select gen_random_uuid(), 'code-host', id, status_after, now(), 'engine' from projects where status_url is not null and removed_at is null;
-- Columns in which the version before kept how far it had told; nobody reads them any more.
update projects set status_due = null;
-- Of each kind of subscription: what is newer than it was told.
create index events_told_hosts on events (project_id, number) where type in ('run.planned', 'run.ended');
create index events_told_alerts on events (number) where type in ('alert.began', 'alert.ended');
create index events_told_people on events (number) where type in ('run.ended', 'deployment.state');
`;
