/** Deployments of several projects that go together or not at all. */
export const name = '032-joints';
export const up = `
create sequence joint_numbers as int;
create table joints (
  id uuid primary key,
  number int not null default nextval('joint_numbers') unique,
  -- The name that the environment has in each of the projects.
  environment text not null,
  actor text not null,
  state text not null default 'gathering',
  -- Who goes: projects and deployments by name, number and id, as they were when it was asked for.
  members jsonb not null,
  -- Why it is to go back, and who wants that.
  back jsonb,
  back_by text,
  -- Why none went, or all went back.
  issue jsonb,
  -- Projects that had gone on since, or had nothing to go back to.
  stayed text[] not null default '{}',
  due_at timestamptz default now(),
  created_at timestamptz not null default now(),
  state_since timestamptz not null default now()
);
create index joints_due on joints (due_at) where due_at is not null;
alter table deployments add column joint_id uuid references joints;
-- Its number, for whoever shows many deployments.
alter table deployments add column joint_number int;
create index deployments_joint on deployments (joint_id) where joint_id is not null;
`;
