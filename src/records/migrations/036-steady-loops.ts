/** What loops and claims read is bounded: wakes of other environments, what waits for edges, and the claim of attempts. */
export const name = '036-steady-loops';
export const up = `
create index environments_table_version on environments (table_version);
-- Environments of a project that look again because another one there went live. Written in that one's transaction, which then locks
-- itself alone; the engine takes a row, wakes them and deletes it.
create table wakes (
  id bigint generated always as identity primary key,
  project_id uuid not null references projects,
  -- Reviews of this plan that are awake; null: the standing environments.
  plan text,
  -- One environment alone: what a wake of the project becomes, so that one that is locked delays no other one.
  environment_id uuid references environments
);
create index wakes_project on wakes (project_id);
-- Whether an approval is its author's depends on what the release brings, and that on the release that was live: its commit ('' for
-- none). With another one live the flag is computed again.
alter table approvals add column against text;
-- From where an edge last asked.
alter table edges add column address text;
-- When a service last read an operator's certificate in its folder.
alter table certificates add column read_at timestamptz;
-- The attribute by which main's files are pointers to what is kept elsewhere; null: there is none.
alter table projects add column filtered text;
create index releases_commit on releases (project_id, commit);
create index attempts_waiting_jobs on attempts (created_at) where state = 'waiting' and kind = 'job';
create index attempts_waiting_pictures on attempts (created_at) where state = 'waiting' and kind = 'picture';

-- Of each project only the first of those that wait are read, by the index attempts_waiting.
create or replace function claim_attempts(p_agent uuid, p_slots int, p_lease int) returns setof attempts language plpgsql as $body$
declare
  agent agents;
  free int;
  free_jobs int;
  free_pictures int;
begin
  -- Keeps two questions of one agent from claiming at the same time, each not seeing what the other takes.
  select * into agent from agents where id = p_agent for update;
  if not found or agent.full_issue is not null then return; end if;
  -- Jobs hold nothing up, and neither do pictures: of those an agent takes one at a time, besides.
  select p_slots - count(*) filter (where kind not in ('job', 'picture')), p_slots - count(*) filter (where kind = 'job'),
      least(p_slots, 1) - count(*) filter (where kind = 'picture') into free, free_jobs, free_pictures
    from attempts where agent_id = p_agent and state = 'running';
  if free > 0 then
    return query
      with recursive projects as (
        (select project_id from attempts where state = 'waiting' order by project_id limit 1)
        union all
        select (select a.project_id from attempts a where a.state = 'waiting' and a.project_id > p.project_id order by a.project_id limit 1)
        from projects p where p.project_id is not null
      ), busy as (
        select project_id, count(*) as count from attempts where state = 'running' group by project_id
      ), waiting as (
        select f.id, f.priority, f.created_at,
          row_number() over (partition by p.project_id order by f.priority, f.created_at)
            + coalesce((select count from busy b where b.project_id = p.project_id), 0) as turn
        from projects p cross join lateral (
          select a.id, a.priority, a.created_at from attempts a
          where a.project_id = p.project_id and a.state = 'waiting' and a.kind not in ('job', 'picture') and not a.stop
            and a.needs->>'takes' = any(agent.takes)
            and (a.needs->>'base' is null or a.needs->>'base' = agent.base)
            and case when a.kind in ('prepare', 'seed', 'verify') then volumes_let(a.deployment_id, part_of_attempt(a.kind, a.part, a.deployment_id), p_agent) else true end
          -- Some more than it takes: other agents that ask at the same moment have locked the first ones.
          order by a.priority, a.created_at limit free + 32) f
        where p.project_id is not null
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
  if free_pictures > 0 then
    return query
      with chosen as (
        select a.id from attempts a
        where a.state = 'waiting' and a.kind = 'picture' and not a.stop and a.needs->>'takes' = any(agent.takes)
          and agent.tools ? (a.needs->>'tool')
        order by a.created_at limit free_pictures for update of a skip locked
      )
      update attempts a set state = 'running', agent_id = p_agent, fence = nextval('fences'),
        lease_until = now() + p_lease * interval '1 ms', started_at = now()
      from chosen where a.id = chosen.id returning a.*;
  end if;
end $body$;
alter function claim_attempts(uuid, int, int) set plan_cache_mode = 'force_generic_plan';
`;
