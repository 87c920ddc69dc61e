/**
 * A run's step in one statement: `step_run` writes all that follows from what its caller knows of a run, or nothing.
 *
 * A run has a version that every change to it or its tasks raises. Two runs that need the same share one attempt: an index lets
 * only one stand open for a fingerprint of a trust line.
 */
export const name = '006-steps';
export const up = `
alter table runs add column version bigint not null default 0;
alter table attempts add column line text, add column shares text;
create unique index attempts_shared on attempts (project_id, line, shares) where shares is not null and state in ('waiting', 'running') and not stop;

create function raise_run_version() returns trigger language plpgsql as $body$
begin
  if new.version = old.version and (new.state, new.stopped_by, new.superseded_by, new.released, new.fresh) is distinct from
     (old.state, old.stopped_by, old.superseded_by, old.released, old.fresh) then
    new.version := old.version + 1;
  end if;
  return new;
end $body$;
create trigger raise_run_version before update on runs for each row execute function raise_run_version();

create function tell(topic text) returns void language sql as $body$ select pg_notify('tsunagi', topic) $body$;

-- Claims waiting attempts until the agent holds as many as it takes at a time. Deployments come first, then projects take turns:
-- a project's next turn counts what it has running. In a project, main's runs come before pull requests'.
create function claim_attempts(p_agent uuid, p_slots int, p_lease int) returns setof attempts language plpgsql as $body$
declare
  agent agents;
  free int;
begin
  -- Keeps two questions of one agent from claiming at the same time, each not seeing what the other takes.
  select * into agent from agents where id = p_agent for update;
  if not found or agent.full_issue is not null then return; end if;
  free := p_slots - (select count(*) from attempts where agent_id = p_agent and state = 'running');
  if free <= 0 then return; end if;
  return query
    with busy as (
      select project_id, count(*) as count from attempts where state = 'running' group by project_id
    ), waiting as (
      select a.id, a.priority, a.created_at,
        row_number() over (partition by a.project_id order by a.priority, a.created_at)
          + coalesce((select count from busy b where b.project_id = a.project_id), 0) as turn
      from attempts a
      where a.state = 'waiting' and not a.stop and a.needs->>'takes' = any(agent.takes)
        and (a.needs->>'base' is null or a.needs->>'base' = agent.base)
    ), chosen as (
      select a.id from attempts a join waiting w on w.id = a.id where a.state = 'waiting'
      order by (w.priority > 0), w.turn, w.priority, w.created_at limit free for update of a skip locked
    )
    update attempts a set state = 'running', agent_id = p_agent, fence = nextval('fences'),
      lease_until = now() + p_lease * interval '1 ms', started_at = now()
    from chosen where a.id = chosen.id returning a.*;
end $body$;

-- Tasks of a run whose attempts were claimed run now. Gives how many began.
create function begin_tasks(p_run uuid, p_attempts uuid[]) returns int language plpgsql as $body$
declare
  count int;
begin
  with begun as (
    update tasks t set state = 'running', started_at = coalesce(t.started_at, now()), ended_at = null
    where t.run_id = p_run and t.attempt_id = any(p_attempts) and t.state = 'ready' returning t.*
  ), commands as (
    insert into commands (attempt_id, position, text, state, started_at)
    select b.attempt_id, 0, coalesce(b.model->'run'->>0, ''), 'running', now() from begun b join attempts a on a.id = b.attempt_id and a.task_id = b.id
    on conflict do nothing
  ), told as (
    insert into events (type, project_id, subject, actor, data)
    select 'attempt.started', a.project_id, 'run ' || r.number, 'agent', jsonb_build_object('task', b.name, 'attempt', a.number)
    from begun b join attempts a on a.id = b.attempt_id join runs r on r.id = b.run_id order by b.position
  ) select count(*) into count from begun;
  if count > 0 then perform tell('events'); end if;
  return count;
end $body$;

-- The same for attempts of whichever runs, locked by their ids as everyone locks them.
create function begin_attempts(p_attempts uuid[]) returns table (run uuid, version bigint) language plpgsql as $body$
declare
  one uuid;
begin
  for one in select distinct t.run_id from tasks t where t.attempt_id = any(p_attempts) and t.state = 'ready' order by t.run_id loop
    perform 1 from runs r where r.id = one for update;
    if begin_tasks(one, p_attempts) > 0 then
      update runs r set version = r.version + 1 where r.id = one returning r.id, r.version into run, version;
      return next;
    end if;
  end loop;
end $body$;

-- Numbers the events whose order is settled: those of transactions below the oldest one that is open, and says whether some are left. One caller does it at a time.
create function number_events(out numbered int, out left_over boolean) language plpgsql as $body$
begin
  numbered := 0;
  left_over := true;
  if not pg_try_advisory_xact_lock(7403122) then return; end if;
  with settled as (
    select id, row_number() over (order by xid, id) as place from events
    where number is null and xid < pg_snapshot_xmin(pg_current_snapshot())
  ), last as (select coalesce(max(number), 0) as number from events where number is not null), done as (
    update events e set number = last.number + settled.place from settled, last where e.id = settled.id returning 1
  ) select count(*) into numbered from done;
  left_over := exists (select 1 from events where number is null);
  if numbered > 0 then perform tell('feed'); end if;
end $body$;

-- Who may call is known by heart, and forgotten when it changes.
create function tell_callers() returns trigger language plpgsql as $body$ begin perform tell('callers'); return null; end $body$;
create trigger tell_callers after delete or update of removed_at, expires_at, role, project_id, person_id on tokens for each statement execute function tell_callers();
create trigger tell_callers after delete or update of role, name on people for each statement execute function tell_callers();
create trigger tell_callers after delete on sessions for each statement execute function tell_callers();

-- p: see records/steps.ts. Errors: TS001 the run is another by now; TS002 an attempt is not held (its place is the message);
-- TS003 an attempt works for other runs too; TS004 a pass or an open attempt came or went meanwhile.
create function step_run(p_run uuid, p_version bigint, p jsonb) returns jsonb language plpgsql as $body$
declare
  run runs;
  one jsonb;
  try record;
  other record;
  joined jsonb := '[]';
  claimed jsonb := '[]';
  given uuid[] := '{}';
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
    perform 1 from attempts a where a.id = (one->>'attempt')::uuid and a.state = (one->>'from')
      and (not one ? 'agent' or a.agent_id = (one->>'agent')::uuid) and (not one ? 'fence' or a.fence = (one->>'fence')::bigint)
      and (not one ? 'lapsed' or a.lease_until < now()) for no key update;
    if not found then raise exception '%', one->>'place' using errcode = 'TS002'; end if;
    if not (p ? 'shared') and exists (select 1 from tasks t where t.attempt_id = (one->>'attempt')::uuid
        and t.run_id <> p_run and t.state in ('ready', 'running')) then
      raise exception 'shared' using errcode = 'TS003';
    end if;
    insert into commands (attempt_id, position, text, state, exit, ms, started_at, first_line)
    select (one->>'attempt')::uuid, c.position, c.text, case when c.exit = 0 then 'passed' else 'failed' end, c.exit, c.ms,
      now() - c.ms * interval '1 ms', coalesce(c.first_line, 0)
    from jsonb_to_recordset(one->'commands') as c(position int, text text, exit int, ms int, first_line bigint)
    on conflict (attempt_id, position) do update set state = excluded.state, exit = excluded.exit, ms = excluded.ms,
      first_line = greatest(commands.first_line, excluded.first_line);
    update attempts set state = one->>'state', issue = nullif(one->'issue', 'null'), ended_at = now(), lease_until = null
    where id = (one->>'attempt')::uuid;
    update commands set state = case when one->>'state' = 'passed' then state else one->>'state' end,
      first_line = coalesce((one->'firstLines'->>position)::bigint, first_line)
    where attempt_id = (one->>'attempt')::uuid
      and (state = 'running' and one->>'state' <> 'passed' or first_line <> (one->'firstLines'->>position)::bigint);
    perform tell('log:' || (one->>'attempt'));
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

  update tasks t set state = case when j.state = 'running' then 'running' else c.state end,
    issue = case when c.state in ('passed', 'reused') then null else coalesce(c.issue, t.issue) end,
    fingerprint = coalesce(c.fingerprint, t.fingerprint), inputs = coalesce(c.inputs, t.inputs),
    output = coalesce(c.output, t.output), output_size = coalesce(c.size, t.output_size), tests = coalesce(c.tests, t.tests),
    attempt_id = coalesce(j.attempt, c.attempt, t.attempt_id), flaky = coalesce(c.flaky, t.flaky),
    started_at = case when c.began then coalesce(t.started_at, (select a.started_at from attempts a where a.id = t.attempt_id))
      when j.state = 'running' then coalesce(t.started_at, now()) else t.started_at end,
    ended_at = case when c.state in ('waiting', 'ready', 'running') then null else now() end
  from jsonb_to_recordset(p->'tasks') as c(id uuid, state text, issue jsonb, fingerprint text, inputs jsonb, output text, size bigint,
      tests jsonb, attempt uuid, flaky boolean, began boolean)
    left join jsonb_to_recordset(joined) as j(try uuid, attempt uuid, state text) on j.try = c.attempt
  where t.id = c.id and t.run_id = p_run;

  if jsonb_array_length(p->'cut') > 0 then
    update attempts a set state = 'stopped', ended_at = now()
    where a.state = 'waiting' and a.id in (select t.attempt_id from tasks t where t.id in (select u::uuid from jsonb_array_elements_text(p->'cut') u))
      and not exists (select 1 from tasks t where t.attempt_id = a.id and t.state in ('ready', 'running'));
  end if;

  insert into events (type, project_id, subject, actor, data)
  select e.type, run.project_id, 'run ' || run.number, e.actor, e.data
  from jsonb_to_recordset(p->'events') as e(type text, actor text, data jsonb);
  if jsonb_array_length(p->'events') > 0 then perform tell('events'); end if;

  for one in select * from jsonb_array_elements(coalesce(p->'claims', '[]')) loop
    claimed := claimed || coalesce((
      select jsonb_agg(to_jsonb(c) || jsonb_build_object('fence', c.fence::text))
      from claim_attempts((one->>'agent')::uuid, (one->>'slots')::int, (one->>'lease')::int) c), '[]');
  end loop;
  if jsonb_array_length(claimed) > 0 then
    perform begin_tasks(p_run, array(select (c->>'id')::uuid from jsonb_array_elements(claimed) c));
  end if;

  left_over := left_over + (select count(*) from unnest(given) g where not exists (
    select 1 from jsonb_array_elements(claimed) c where (c->>'id')::uuid = g));
  if left_over > 0 then perform tell('attempts'); end if;

  if p ? 'ends' then
    -- A run of the same branch or pull request may be waiting for this one to end.
    update runs r set due_at = now() where r.project_id = run.project_id and r.state = 'waiting' and r.allowed and r.number > run.number
      and (run.branch is not null or run.pull_request is not null) and r.pull_request is not distinct from run.pull_request
      and (run.pull_request is not null or r.branch is not distinct from run.branch);
    if found then perform tell('runs'); end if;
  elsif (p->>'releaseFirst')::boolean then
    perform tell('runs');
  end if;
  return jsonb_build_object('version', run.version, 'joined', joined, 'claimed', claimed);
end $body$;
`;
