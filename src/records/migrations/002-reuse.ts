/**
 * Work that is not done twice: which attempt a task's result comes from, what results are kept, and in what order work is taken.
 *
 * Tasks and definitions that were recorded before get the keys of the language that came with this.
 */
export const name = '002-reuse';

const taskKeys = `'{"cache":[],"retry":0,"resources":{},"reuse":true,"branches":null,"pullRequests":true}'::jsonb`;

export const up = `
alter table tasks add column attempt_id uuid references attempts, add column flaky boolean not null default false;
update tasks t set model = ${taskKeys} || '{"each":{},"shard":null}'::jsonb || jsonb_build_object('of', t.name) || model;
update tasks t set attempt_id = (select a.id from attempts a where a.task_id = t.id order by a.number desc limit 1);
create index tasks_attempt on tasks (attempt_id) where state in ('ready', 'running');

update definitions set model = jsonb_set(model, '{tasks}', coalesce(
  (select jsonb_object_agg(key, ${taskKeys} || '{"each":{},"shards":null}'::jsonb || value) from jsonb_each(model->'tasks')), '{}'::jsonb))
where model is not null;

alter table results add column output_size bigint, add column tests jsonb;
update results r set output_size = t.output_size, tests = t.tests from attempts a join tasks t on t.id = a.task_id where a.id = r.attempt_id;

-- fresh: declared names of tasks whose earlier passes do not count; null: all do, an empty list: none does.
alter table runs add column fresh text[], add column superseded_by int;
create index runs_project on runs (project_id, id desc);
create index runs_branch on runs (project_id, branch) where state in ('waiting', 'running');

-- The lower, the sooner: 0 deployments, 1 main branch, 2 other branches, 3 pull requests, 4 untrusted ones.
alter table attempts add column priority int not null default 2, add column log_gap jsonb;
drop index attempts_waiting;
create index attempts_waiting on attempts (project_id, priority, created_at) where state = 'waiting';
`;
