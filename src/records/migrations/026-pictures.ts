/** Pictures of what deployments show, beside what is live where their change leads to. */
export const name = '026-pictures';
export const up = `
create table pictures (
  id uuid primary key,
  environment_id uuid not null references environments,
  deployment_id uuid not null unique references deployments,
  -- What it stands beside; null: nothing.
  beside_id uuid references deployments,
  state text not null default 'asked',
  issue jsonb,
  -- Times that it was begun in vain.
  tries int not null default 0,
  fence bigint not null default 0,
  due_at timestamptz default now(),
  lease_until timestamptz,
  attempt_id uuid references attempts,
  -- What an agent has handed over, until it is looked at: a tar.
  output text,
  -- What was found, a page each; the files of each page stand in picture_files while their bytes are kept.
  pages jsonb,
  -- How much of the pages that were compared differs; null: none was.
  share float8,
  created_at timestamptz not null default now(),
  taken_at timestamptz
);
create index pictures_due on pictures (due_at) where due_at is not null and lease_until is null;
create index pictures_held on pictures (lease_until) where lease_until is not null;
create index pictures_of on pictures (environment_id, created_at desc);
create index pictures_taken_by on pictures (attempt_id) where state = 'taking';

create table picture_files (
  picture_id uuid not null references pictures,
  page int not null,
  file text not null,
  digest text not null,
  bytes int not null,
  width int not null,
  height int not null,
  primary key (picture_id, page, file)
);
create index picture_files_digest on picture_files (digest);

-- A picture goes to an agent that has what takes it.
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
      with busy as (
        select project_id, count(*) as count from attempts where state = 'running' group by project_id
      ), waiting as (
        select a.id, a.priority, a.created_at,
          row_number() over (partition by a.project_id order by a.priority, a.created_at)
            + coalesce((select count from busy b where b.project_id = a.project_id), 0) as turn
        from attempts a
        where a.state = 'waiting' and a.kind not in ('job', 'picture') and not a.stop and a.needs->>'takes' = any(agent.takes)
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

-- A picture holds nothing up: neither sleep nor the end.
create or replace function life_of(p_id uuid, p_silence int) returns jsonb language plpgsql stable as $body$
begin
  return (
    select jsonb_build_object(
      'project', n.name,
      'release', case when r.id is not null then jsonb_build_object('plan', r.plan) end,
      'deployment', case when d.id is not null then jsonb_build_object('environment_plan', d.environment_plan, 'fresh', d.fresh) end,
      'plan', case when e.kind = 'review' then (
        select f.model->'environments'->e.plan_name from definitions f where f.project_id = n.id and f.commit = n.definition_commit) end,
      'instances', coalesce((
        select jsonb_agg(jsonb_build_object('id', i.id, 'part', i.part, 'kind', i.kind, 'position', i.position, 'state', i.state,
          'wanted', i.wanted, 'still', i.still, 'issue', i.issue,
          'asked', extract(epoch from i.created_at) * 1000, 'ended', extract(epoch from i.ended_at) * 1000) order by i.id)
        from instances i join deployments x on x.id = i.deployment_id
        where (x.id = e.live_id or e.state = 'closing' and x.environment_id = e.id)
          and (i.wanted or i.ended_at is null or i.ended_at >= e.state_since)), '[]'),
      'moving', (select count(*) from deployments m where m.environment_id = e.id
        and m.state in ('queued', 'preparing', 'starting', 'cutover', 'verifying')),
      'working', exists (select 1 from attempts a join deployments m on m.id = a.deployment_id
        where m.environment_id = e.id and a.kind <> 'picture' and a.state in ('waiting', 'running')),
      'terminals', exists (select 1 from terminals t where t.environment_id = e.id and t.state in ('wanted', 'given', 'open')),
      'pushed', (select extract(epoch from max(m.created_at)) * 1000 from deployments m where m.environment_id = e.id),
      'job', (select extract(epoch from min(j.next_at)) * 1000 from jobs j where j.environment_id = e.id),
      'routed', coalesce((select o.body is not null from routes o where o.host = e.host), false),
      'asleep', coalesce((select o.body->'asleep' = 'true' from routes o where o.host = e.host), false),
      'acknowledged', not exists (select 1 from edges g where (g.acknowledged < e.table_version or g.without ? e.host)
        and g.seen_at > now() - p_silence * interval '1 ms'
        and not exists (select 1 from tokens t where t.id = g.token_id and t.removed_at is not null)),
      'acknowledged_by_all', not exists (select 1 from edges g where (g.acknowledged < e.table_version or g.without ? e.host)
        and not exists (select 1 from tokens t where t.id = g.token_id and t.removed_at is not null)),
      'freezes', not exists (select 1 from instances i join agents g on g.id = i.agent_id
        where i.deployment_id = e.live_id and i.wanted and i.state in ('starting', 'ready', 'frozen')
          and not coalesce((g.sandbox->>'freezes')::boolean, false)),
      'before', case when e.state in ('waking', 'asleep') then (
        select count(*) from environments o where o.state = 'waking' and o.depth = 'ended' and o.id <> e.id
          and (e.state = 'asleep' or (o.state_since, o.id) < (e.state_since, e.id))) else 0 end,
      'agents', (select count(*) from agents where 'live' = any(takes) and lease_until > now()),
      'resources', case when e.state = 'closing' then (
        select count(*) from resources q where q.environment_id = e.id and q.state <> 'removed') else 0 end)
    from environments e join projects n on n.id = e.project_id
      left join deployments d on d.id = e.live_id left join releases r on r.id = d.release_id
    where e.id = p_id);
end $body$;
alter function life_of(uuid, int) set plan_cache_mode = 'force_generic_plan';
`;
