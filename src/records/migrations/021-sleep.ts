/** Environments sleep, wake and close by themselves; reviews of branches. */
export const name = '021-sleep';
export const up = `
-- Since when it is in its state; how deep it sleeps, or shall (frozen, ended).
alter table environments add column state_since timestamptz not null default now();
alter table environments add column depth text;
-- The last use, and the last time that it was woken or made live.
alter table environments add column used_at timestamptz not null default now();
alter table environments add column woken_at timestamptz not null default now();
-- It does not close by itself before.
alter table environments add column keep_until timestamptz;
-- What was asked of it (awake, asleep), and is not done yet; why the last wake failed.
alter table environments add column wish text;
alter table environments add column wake_issue jsonb;
-- Of a review without a pull request: the branch whose releases it takes.
alter table environments add column branch text;
create index environments_branch on environments (project_id, branch) where branch is not null;
-- Those of a plan that are awake: they may be too many.
create index environments_awake on environments (project_id, plan_name, used_at) where kind = 'review' and state = 'live';

-- It shall stand still; it does when it is in that state.
alter table instances add column still boolean not null default false;
drop index instances_agent;
create index instances_agent on instances (agent_id) where state in ('starting', 'ready', 'frozen');
`;
