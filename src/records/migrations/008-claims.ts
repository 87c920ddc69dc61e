/**
 * The step of a run with one write of each row: what an agent is given is claimed before the tasks are written, so that a task's
 * row says *ready* and *running* at once. How commands end, how tasks begin, and who waits for a run's end is said in one place each.
 *
 * The functions that stand on the way of every task keep one plan: they are called with a few rows of an index, whoever calls.
 */
export const name = '008-claims';
export const up = `
create or replace function tell(topic text) returns void language plpgsql as $body$ begin perform pg_notify('tsunagi', topic); end $body$;

-- What an attempt's commands came to: p_commands as they were told; with an end (p_state), also those that nothing was said of
-- any more; with p_first_lines, the number of each one's first line.
create function end_commands(p_attempt uuid, p_commands jsonb, p_state text, p_first_lines jsonb) returns void language plpgsql as $body$
begin
  if jsonb_array_length(p_commands) > 0 then
    insert into commands (attempt_id, position, text, state, exit, ms, started_at, first_line)
    select p_attempt, c.position, c.text, case when c.exit = 0 then 'passed' else 'failed' end, c.exit, c.ms,
      now() - c.ms * interval '1 ms', coalesce(c.first_line, 0)
    from jsonb_to_recordset(p_commands) as c(position int, text text, exit int, ms int, first_line bigint)
    on conflict (attempt_id, position) do update set state = excluded.state, exit = excluded.exit, ms = excluded.ms,
      first_line = greatest(commands.first_line, excluded.first_line);
  end if;
  if p_state <> 'passed' or p_first_lines is not null then
    update commands set state = case when state = 'running' and p_state <> 'passed' then p_state else state end,
      first_line = coalesce((p_first_lines->>position)::bigint, first_line)
    where attempt_id = p_attempt
      and (state = 'running' and p_state <> 'passed' or first_line <> (p_first_lines->>position)::bigint);
  end if;
  perform tell('log:' || p_attempt);
end $body$;

-- Records a run under its project's next number, whose row is locked no longer than this statement takes and its transaction goes on.
create function add_run(p_id uuid, p_project uuid, p_commit text, p_branch text, p_pull_request int, p_line text, p_cause text,
  p_actor text, p_allowed boolean, p_fresh text[]) returns int language plpgsql as $body$
declare
  given int;
begin
  update projects set runs = runs + 1 where id = p_project returning runs into given;
  if given is null then raise exception 'no project %', p_project; end if;
  insert into runs (id, project_id, number, commit, branch, pull_request, line, cause, actor, allowed, fresh)
  values (p_id, p_project, given, p_commit, p_branch, p_pull_request, p_line, p_cause, p_actor, p_allowed, p_fresh);
  insert into events (type, project_id, subject, actor, data)
  values ('run.recorded', p_project, 'run ' || given, p_actor, jsonb_build_object('number', given, 'commit', p_commit, 'branch', p_branch,
    'pullRequest', p_pull_request, 'cause', p_cause, 'allowed', p_allowed));
  perform tell('events');
  perform tell('runs');
  return given;
end $body$;

-- Runs of the same branch or pull request may be waiting for this one to end.
create function wake_waiting(p_run uuid) returns void language plpgsql as $body$
begin
  update runs r set due_at = now() from runs b
  where b.id = p_run and r.project_id = b.project_id and r.state = 'waiting' and r.allowed and r.number > b.number
    and (b.branch is not null or b.pull_request is not null) and r.pull_request is not distinct from b.pull_request
    and (b.pull_request is not null or r.branch is not distinct from b.branch);
  if found then perform tell('runs'); end if;
end $body$;

-- The first command of tasks that have just begun, and the events of those whose attempt is their own.
create function say_begun(p_run uuid, p_tasks uuid[]) returns void language plpgsql as $body$
begin
  insert into commands (attempt_id, position, text, state, started_at)
  select t.attempt_id, 0, coalesce(t.model->'run'->>0, ''), 'running', now()
  from tasks t join attempts a on a.id = t.attempt_id and a.task_id = t.id where t.id = any(p_tasks)
  on conflict do nothing;
  insert into events (type, project_id, subject, actor, data)
  select 'attempt.started', a.project_id, 'run ' || r.number, 'agent', jsonb_build_object('task', t.name, 'attempt', a.number)
  from tasks t join attempts a on a.id = t.attempt_id and a.task_id = t.id join runs r on r.id = t.run_id
  where t.id = any(p_tasks) order by t.position;
  perform tell('events');
end $body$;

create or replace function begin_tasks(p_run uuid, p_attempts uuid[]) returns int language plpgsql as $body$
declare
  begun uuid[];
begin
  with now_running as (
    update tasks t set state = 'running', started_at = coalesce(t.started_at, now()), ended_at = null
    where t.run_id = p_run and t.attempt_id = any(p_attempts) and t.state = 'ready' returning t.id
  ) select coalesce(array_agg(r.id), '{}') into begun from now_running r;
  if cardinality(begun) > 0 then perform say_begun(p_run, begun); end if;
  return cardinality(begun);
end $body$;

-- The newest pass of each fingerprint that has no failure beside it.
create function find_passes(p_project uuid, p_lines text[], p_fingerprints text[])
  returns table (fingerprint text, attempt_id uuid, number int, output text, output_size float8, tests jsonb, at timestamptz, run int)
  language plpgsql stable as $body$
begin
  return query
    select distinct on (r.fingerprint) r.fingerprint, r.attempt_id, a.number, r.output, r.output_size::float8, r.tests, r.at, runs.number
    from results r join attempts a on a.id = r.attempt_id join tasks t on t.id = a.task_id join runs on runs.id = t.run_id
    where r.project_id = p_project and r.line = any(p_lines) and r.fingerprint = any(p_fingerprints) and r.state = 'passed'
      and not exists (select 1 from results f
        where f.project_id = p_project and f.line = any(p_lines) and f.fingerprint = r.fingerprint and f.state = 'failed')
    order by r.fingerprint, r.at desc;
end $body$;

-- p: see records/runs/steps.ts. Errors: TS001 the run is another by now; TS002 an attempt is not held (its place is the message);
-- TS003 an attempt works for other runs too; TS004 a pass or an open attempt came or went meanwhile.
create or replace function step_run(p_run uuid, p_version bigint, p jsonb) returns jsonb language plpgsql as $body$
declare
  run runs;
  one jsonb;
  try record;
  other record;
  joined jsonb := '[]';
  claimed jsonb := '[]';
  given uuid[] := '{}';
  taken uuid[] := '{}';
  begun uuid[] := '{}';
  left_over int := 0;
begin
  update runs set version = version + 1, tasks_ended = (p->>'tasksEnded')::int,
    state = coalesce(p->'ends'->>'state', state), issue = coalesce(nullif(p->'ends'->'issue', 'null'), issue),
    ended_at = case when p ? 'ends' then now() else ended_at end,
    due_at = case when p ? 'ends' then null when (p->>'releaseFirst')::boolean then now()
      when due_at = (p->>'stamp')::timestamptz then null else due_at end
  where id = p_run and version = p_version returning * into run;
  if not found then raise exception 'changed' using errcode = 'TS001'; end if;

  for one in select e.value || jsonb_build_object('place', e.place - 1) from jsonb_array_elements(p->'over') with ordinality as e(value, place) loop
    update attempts a set state = one->>'state', issue = nullif(one->'issue', 'null'), ended_at = now(), lease_until = null
    where a.id = (one->>'attempt')::uuid and a.state = (one->>'from')
      and (not one ? 'agent' or a.agent_id = (one->>'agent')::uuid) and (not one ? 'fence' or a.fence = (one->>'fence')::bigint)
      and (not one ? 'lapsed' or a.lease_until < now());
    if not found then raise exception '%', one->>'place' using errcode = 'TS002'; end if;
    if not (p ? 'shared') and exists (select 1 from tasks t where t.attempt_id = (one->>'attempt')::uuid
        and t.run_id <> p_run and t.state in ('ready', 'running')) then
      raise exception 'shared' using errcode = 'TS003';
    end if;
    perform end_commands((one->>'attempt')::uuid, one->'commands', one->>'state', one->'firstLines');
  end loop;

  insert into results (project_id, line, fingerprint, attempt_id, state, output, output_size, tests)
  select run.project_id, run.line, r.fingerprint, r.attempt, r.state, r.output, r.size, r.tests
  from jsonb_to_recordset(p->'results') as r(fingerprint text, attempt uuid, state text, output text, size bigint, tests jsonb)
  on conflict do nothing;
  if p ? 'forget' then delete from results where output = p->>'forget'; end if;

  if jsonb_array_length(p->'used') > 0 then
    -- Whoever removes stored bytes waits, or has removed the results that named them.
    perform pg_advisory_xact_lock_shared(7403130);
    if exists (select 1 from jsonb_array_elements_text(p->'used') u where not exists (
        select 1 from results r where r.attempt_id = u::uuid and r.state = 'passed')) then
      raise exception 'gone' using errcode = 'TS004';
    end if;
  end if;

  for try in select * from jsonb_to_recordset(p->'tries')
      as t(id uuid, task uuid, number int, takes text, base text, priority int, shares text, joins boolean) loop
    if try.joins and exists (
        select 1 from results r where r.project_id = run.project_id and r.line in (run.line, 'own') and r.fingerprint = try.shares
          and r.state = 'passed' and not (p->'ignored' ? r.attempt_id::text)
          and not exists (select 1 from jsonb_array_elements(p->'over') o where (o->>'attempt')::uuid = r.attempt_id))
      and not exists (
        select 1 from results r where r.project_id = run.project_id and r.line in (run.line, 'own') and r.fingerprint = try.shares
          and r.state = 'failed') then
      raise exception 'passed meanwhile' using errcode = 'TS004';
    end if;
    insert into attempts (id, kind, task_id, project_id, number, needs, priority, line, shares)
    values (try.id, 'task', try.task, run.project_id, try.number, jsonb_build_object('takes', try.takes, 'base', try.base), try.priority, run.line, try.shares)
    on conflict do nothing;
    if found then
      given := given || try.id;
    elsif try.joins then
      select a.id, a.state, a.number into other from attempts a where a.project_id = run.project_id and a.line = run.line and a.shares = try.shares
        and a.state in ('waiting', 'running') and not a.stop for share;
      if not found then raise exception 'ended meanwhile' using errcode = 'TS004'; end if;
      joined := joined || jsonb_build_array(jsonb_build_object('try', try.id, 'attempt', other.id, 'state', other.state, 'number', other.number));
      -- A claim passes over what is locked here: agents are asked to look again.
      left_over := left_over + 1;
    else
      insert into attempts (id, kind, task_id, project_id, number, needs, priority, line)
      values (try.id, 'task', try.task, run.project_id, try.number, jsonb_build_object('takes', try.takes, 'base', try.base), try.priority, run.line);
      given := given || try.id;
    end if;
  end loop;

  if jsonb_array_length(p->'cut') > 0 then
    -- Before anything is claimed: what comes to nothing is not to be begun.
    update attempts a set state = 'stopped', ended_at = now()
    where a.state = 'waiting' and a.id in (select t.attempt_id from tasks t where t.id in (select u::uuid from jsonb_array_elements_text(p->'cut') u))
      and not exists (select 1 from tasks t where t.attempt_id = a.id and t.state in ('ready', 'running') and not (p->'cut' ? t.id::text));
  end if;

  for one in select * from jsonb_array_elements(coalesce(p->'claims', '[]')) loop
    for other in select * from claim_attempts((one->>'agent')::uuid, (one->>'slots')::int, (one->>'lease')::int) loop
      claimed := claimed || (to_jsonb(other) || jsonb_build_object('fence', other.fence::text));
      taken := taken || other.id;
    end loop;
  end loop;

  -- Each task's row is written once, whether its attempt was claimed just now or not.
  with changes as (
    select c.*, j.state as joined, coalesce(j.attempt, c.attempt) as works
    from jsonb_to_recordset(p->'tasks') as c(id uuid, state text, issue jsonb, fingerprint text, inputs jsonb, output text, size bigint,
        tests jsonb, attempt uuid, flaky boolean, began boolean)
      left join jsonb_to_recordset(joined) as j(try uuid, attempt uuid, state text) on j.try = c.attempt
  ), written as (
    update tasks t set
      state = case when c.joined = 'running' or c.state = 'ready' and coalesce(c.works, t.attempt_id) = any(taken) then 'running' else c.state end,
      issue = case when c.state in ('passed', 'reused') then null else coalesce(c.issue, t.issue) end,
      fingerprint = coalesce(c.fingerprint, t.fingerprint), inputs = coalesce(c.inputs, t.inputs),
      output = coalesce(c.output, t.output), output_size = coalesce(c.size, t.output_size), tests = coalesce(c.tests, t.tests),
      attempt_id = coalesce(c.works, t.attempt_id), flaky = coalesce(c.flaky, t.flaky),
      started_at = case when c.began then coalesce(t.started_at, (select a.started_at from attempts a where a.id = t.attempt_id))
        when c.joined = 'running' or c.state = 'ready' and coalesce(c.works, t.attempt_id) = any(taken) then coalesce(t.started_at, now())
        else t.started_at end,
      ended_at = case when c.state in ('waiting', 'ready', 'running') then null else now() end
    from changes c where t.id = c.id and t.run_id = p_run returning t.id, t.attempt_id, t.state
  ) select coalesce(array_agg(w.id) filter (where w.state = 'running' and w.attempt_id = any(taken)), '{}') into begun from written w;

  insert into events (type, project_id, subject, actor, data)
  select e.type, run.project_id, 'run ' || run.number, e.actor, e.data
  from jsonb_to_recordset(p->'events') as e(type text, actor text, data jsonb);
  if jsonb_array_length(p->'events') > 0 then perform tell('events'); end if;

  if cardinality(taken) > 0 then
    -- Tasks that were ready before this step, too.
    if exists (select 1 from unnest(taken) k where not k = any(given)) then
      perform begin_tasks(p_run, taken);
    end if;
    if cardinality(begun) > 0 then perform say_begun(p_run, begun); end if;
  end if;

  left_over := left_over + (select count(*) from unnest(given) g where not g = any(taken));
  if left_over > 0 then perform tell('attempts'); end if;

  if p ? 'ends' then
    perform wake_waiting(p_run);
  elsif (p->>'releaseFirst')::boolean then
    perform tell('runs');
  end if;
  return jsonb_build_object('version', run.version, 'joined', joined, 'claimed', claimed);
end $body$;

alter function step_run(uuid, bigint, jsonb) set plan_cache_mode = 'force_generic_plan';
alter function claim_attempts(uuid, int, int) set plan_cache_mode = 'force_generic_plan';
alter function begin_attempts(uuid[]) set plan_cache_mode = 'force_generic_plan';
alter function number_events() set plan_cache_mode = 'force_generic_plan';
alter function add_run(uuid, uuid, text, text, int, text, text, text, boolean, text[]) set plan_cache_mode = 'force_generic_plan';
alter function find_passes(uuid, text[], text[]) set plan_cache_mode = 'force_generic_plan';
`;
