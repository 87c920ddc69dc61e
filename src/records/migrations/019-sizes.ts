/** How much databases of environments may hold, and who may still write to one that holds more; jobs beside other work. */
export const name = '019-sizes';
export const up = `
-- Bytes that it may hold; null: as much as its server has.
alter table resources add column most bigint;
-- What programs may do with it, by what was seen of its size; and what its server was told of that.
alter table resources add column access text not null default 'open';
alter table resources add column told_access text not null default 'open';

-- Jobs are counted by themselves: one that takes hours holds neither runs nor deployments up, nor they it.
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
          and case when a.kind = 'prepare' then volumes_let(a.deployment_id, part_of_attempt(a.kind, a.part, a.deployment_id), p_agent) else true end
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
