/** Jobs: parts that run by the clock and end. */
export const name = '013-jobs';
export const up = `
update releases set plan = jsonb_set(plan, '{parts}', (
  select coalesce(jsonb_object_agg(key, '{"schedule": null, "timeoutMs": null}'::jsonb || part), '{}') from jsonb_each(plan->'parts') as each(key, part)))
where jsonb_typeof(plan->'parts') = 'object';

-- Of a job: which part it is, and where.
alter table attempts add column part text, add column environment_id uuid references environments;
-- Never two at once.
create unique index attempts_job on attempts (environment_id, part) where kind = 'job' and state in ('waiting', 'running');
create index attempts_jobs on attempts (environment_id, part, id desc) where kind = 'job';

create table jobs (
  id uuid primary key,
  environment_id uuid not null references environments,
  part text not null,
  -- As the live release has it.
  schedule jsonb not null,
  -- From which pauses count.
  anchor_at timestamptz not null default now(),
  next_at timestamptz not null,
  -- Times that passed without it, since it last ran.
  missed int not null default 0,
  created_at timestamptz not null default now(),
  unique (environment_id, part)
);
create index jobs_next on jobs (next_at);
`;
