/** Volumes: files of environments, each on one agent's machine, and what agents are to do to them. */
export const name = '018-volumes';
export const up = `
-- Parts say which volumes they see, sites what is shown meanwhile, and prepare whether the old programs are stopped for it.
update releases set plan = jsonb_set(plan, '{parts}', (
  select jsonb_object_agg(key, '{"volumes": [], "maintenance": null, "http2": false}'::jsonb || value) from jsonb_each(plan->'parts')))
where jsonb_typeof(plan->'parts') = 'object' and plan->'parts' <> '{}'::jsonb;
update releases set plan = jsonb_set(plan, '{prepare}', '{"stops": false}'::jsonb || (plan->'prepare')) where jsonb_typeof(plan->'prepare') = 'object';

create table volumes (
  id uuid primary key,
  resource_id uuid not null references resources,
  -- On whose machine it is.
  agent_id uuid not null references agents,
  state text not null default 'making',
  -- What holds it to its size; null before its agent has said so.
  hold text,
  -- Bytes that it may hold, and holds, as its agent saw it last.
  size bigint,
  used bigint,
  -- Nobody may begin to use it: its files are being changed for others.
  closed boolean not null default false,
  seen_at timestamptz,
  created_at timestamptz not null default now(),
  ended_at timestamptz
);
create unique index volumes_there on volumes (resource_id) where state = 'there';
create unique index volumes_making on volumes (resource_id) where state = 'making';
create index volumes_of on volumes (resource_id) where state <> 'removed';
create index volumes_on on volumes (agent_id) where state <> 'removed';

create table chores (
  id uuid primary key,
  volume_id uuid not null references volumes,
  agent_id uuid not null references agents,
  act text not null,
  -- Which wish it fulfils: the same wish is one chore.
  turn text not null,
  -- Bytes that the volume may hold.
  size bigint,
  -- Stored bytes that it brings back, or tries.
  digest text,
  state text not null default 'asked',
  fence bigint not null default 0,
  -- What came of it: stored bytes, what was counted, or why not.
  kept_digest text,
  kept_bytes bigint,
  found jsonb,
  issue jsonb,
  since timestamptz not null default now(),
  created_at timestamptz not null default now(),
  ended_at timestamptz
);
create unique index chores_open on chores (volume_id, act, turn) where state in ('asked', 'given');
create index chores_at_work on chores (agent_id) where state in ('asked', 'given');
create index chores_of on chores (volume_id, created_at desc);

-- Where the files of a resource go with the next restore; null: where they are.
alter table resources add column restore_agent_id uuid references agents;
-- Of which volume a backup is; null: of the one that programs use.
alter table backups add column volume_id uuid references volumes;

-- Where what sees the volumes of a part can run: null: anywhere; none: nowhere now, since one of them is not ready.
create function volumes_hold(p_deployment uuid, p_part text) returns uuid[] language sql stable as $body$
  select case when count(*) = 0 then null
    when bool_and(v.agent_id is not null and not v.closed and r.state not in ('removing', 'removed')) and count(distinct v.agent_id) = 1 then array_agg(distinct v.agent_id)
    else '{}' end
  from deployments d join releases l on l.id = d.release_id
    cross join lateral jsonb_array_elements_text(coalesce(l.plan->'parts'->p_part->'volumes', '[]')) as named(name)
    left join resources r on r.environment_id = d.environment_id and r.name = named.name and r.state <> 'removed'
    left join volumes v on v.resource_id = r.id and v.state = 'there'
  where d.id = p_deployment
$body$;
-- Whether an agent may run it.
create function volumes_let(p_deployment uuid, p_part text, p_agent uuid) returns boolean language sql stable as $body$
  select held is null or p_agent = any(held) from (select volumes_hold(p_deployment, p_part) as held) as one
$body$;
-- The part whose files and volumes an attempt of a deployment sees.
create function part_of_attempt(p_kind text, p_part text, p_deployment uuid) returns text language sql stable as $body$
  select case p_kind when 'job' then p_part
    when 'prepare' then (select l.plan->'prepare'->>'part' from deployments d join releases l on l.id = d.release_id where d.id = p_deployment) end
$body$;

create or replace function claim_attempts(p_agent uuid, p_slots int, p_lease int) returns setof attempts language plpgsql as $body$
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
        and case when a.kind in ('prepare', 'job') then volumes_let(a.deployment_id, part_of_attempt(a.kind, a.part, a.deployment_id), p_agent) else true end
    ), chosen as (
      select a.id from attempts a join waiting w on w.id = a.id where a.state = 'waiting'
      order by (w.priority > 0), w.turn, w.priority, w.created_at limit free for update of a skip locked
    )
    update attempts a set state = 'running', agent_id = p_agent, fence = nextval('fences'),
      lease_until = now() + p_lease * interval '1 ms', started_at = now()
    from chosen where a.id = chosen.id returning a.*;
end $body$;
alter function claim_attempts(uuid, int, int) set plan_cache_mode = 'force_generic_plan';
`;
