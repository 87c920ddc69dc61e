/** What people set: variables and secrets by version; sources that are looked at; what is said of an environment that waits. */
export const name = '004-start';

export const up = `
alter table projects
  add column variables int not null default 0,
  add column credential bytea,
  add column draft text,
  add column private_allowed boolean not null default false,
  add column paused_at timestamptz,
  add column poll_at timestamptz,
  add column poll_failures int not null default 0,
  add column poll_issue jsonb,
  add column removed_at timestamptz,
  add column status_url text,
  add column status_after bigint not null default 0,
  add column status_due timestamptz,
  add column status_failures int not null default 0,
  add column status_issue jsonb;
create index projects_poll on projects (poll_at) where poll_at is not null;

-- scope: '' for the project, else the name of an environment (of all reviews: that of their plan). One row a change; the newest counts.
create table variables (
  project_id uuid not null references projects,
  scope text not null,
  name text not null,
  version int not null,
  secret boolean not null,
  value text,
  sealed bytea,
  removed boolean not null default false,
  actor text not null,
  at timestamptz not null default now(),
  primary key (project_id, scope, name, version)
);

-- secrets: variable → { scope, name, version, then }. Values are never written here.
alter table deployments add column secrets jsonb not null default '{}';
-- Why it takes nothing by itself; null when it does.
alter table environments add column issue jsonb;
`;
