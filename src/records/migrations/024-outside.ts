/** Reviews of strangers' pull requests: apart from all others, and only on agents that take what is untrusted. */
export const name = '024-outside';
export const up = `
-- Of a pull request whose author may not write there.
alter table environments add column outside boolean not null default false;

-- Agents that may have a part of a deployment; null: any. Volumes are on one machine; what strangers have written runs where that is allowed.
create or replace function volumes_hold(p_deployment uuid, p_part text) returns uuid[] language sql stable as $body$
  with held as (
    select case when count(*) = 0 then null
      when bool_and(v.agent_id is not null and not v.closed and r.state not in ('removing', 'removed')) and count(distinct v.agent_id) = 1 then array_agg(distinct v.agent_id)
      else '{}' end as agents
    from deployments d join releases l on l.id = d.release_id
      cross join lateral jsonb_array_elements_text(coalesce(l.plan->'parts'->p_part->'volumes', '[]')) as named(name)
      left join resources r on r.environment_id = d.environment_id and r.name = named.name and r.state <> 'removed'
      left join volumes v on v.resource_id = r.id and v.state = 'there'
    where d.id = p_deployment
  )
  select case when not e.outside then held.agents else (
    select coalesce(array_agg(a.id), '{}') from agents a
    where 'untrusted' = any(a.takes) and (held.agents is null or a.id = any(held.agents))) end
  from deployments d join environments e on e.id = d.environment_id cross join held
  where d.id = p_deployment
$body$;

-- What verifies goes where its programs may.
create or replace function claim_attempts(p_agent uuid, p_slots int, p_lease int) returns setof attempts language plpgsql as $body$
declare
  agent agents;
  free int;
  free_jobs int;
begin
  -- Keeps two questions of one agent from claiming at the same time, each not seeing what the other takes.
  select * into agent from agents where id = p_agent for update;
  if not found or agent.full_issue is not null then return; end if;
  select p_slots - count(*) filter (where kind <> 'job'), p_slots - count(*) filter (where kind = 'job') into free, free_jobs
    from attempts where agent_id = p_agent and state = 'running';
  if free > 0 then
    return query
      with busy as (
        select project_id, count(*) as count from attempts where state = 'running' group by project_id
      ), waiting as (
        select a.id, a.priority, a.created_at,
          row_number() over (partition by a.project_id order by a.priority, a.created_at)
            + coalesce((select count from busy b where b.project_id = a.project_id), 0) as turn
        from attempts a
        where a.state = 'waiting' and a.kind <> 'job' and not a.stop and a.needs->>'takes' = any(agent.takes)
          and (a.needs->>'base' is null or a.needs->>'base' = agent.base)
          and case when a.kind in ('prepare', 'seed', 'verify') then volumes_let(a.deployment_id, part_of_attempt(a.kind, a.part, a.deployment_id), p_agent) else true end
      ), chosen as (
        select a.id from attempts a join waiting w on w.id = a.id where a.state = 'waiting'
        order by (w.priority > 0), w.turn, w.priority, w.created_at limit free for update of a skip locked
      )
      update attempts a set state = 'running', agent_id = p_agent, fence = nextval('fences'),
        lease_until = now() + p_lease * interval '1 ms', started_at = now()
      from chosen where a.id = chosen.id returning a.*;
  end if;
  if free_jobs > 0 then
    return query
      with chosen as (
        select a.id from attempts a
        where a.state = 'waiting' and a.kind = 'job' and not a.stop and a.needs->>'takes' = any(agent.takes)
          and volumes_let(a.deployment_id, part_of_attempt(a.kind, a.part, a.deployment_id), p_agent)
        order by a.created_at limit free_jobs for update of a skip locked
      )
      update attempts a set state = 'running', agent_id = p_agent, fence = nextval('fences'),
        lease_until = now() + p_lease * interval '1 ms', started_at = now()
      from chosen where a.id = chosen.id returning a.*;
  end if;
end $body$;
alter function claim_attempts(uuid, int, int) set plan_cache_mode = 'force_generic_plan';
`;
