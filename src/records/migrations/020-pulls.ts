/** Pull requests as the newest telling of each thing has them, whatever order events come in. */
export const name = '020-pulls';
export const up = `
alter table pull_requests add column draft boolean not null default false;
alter table pull_requests add column merged boolean not null default false;
-- Field → when it was told to be so, in milliseconds since the epoch; what has none was told by nobody.
alter table pull_requests add column times jsonb not null default '{}';
update pull_requests set times = (
  select jsonb_object_agg(field, floor(extract(epoch from updated_at) * 1000)) from unnest(array['title', 'head', 'base', 'trusted', 'state']) field);
-- When it happened at the code host; of events of before: when it came.
-- Since when an environment is there; and whether one that closes is wanted again, as soon as nothing of it is left.
alter table environments add column opened_at timestamptz not null default now();
update environments set opened_at = created_at;
alter table environments add column reopen boolean not null default false;
-- Programs that ended by themselves, by when.
create index instances_fell on instances (ended_at) where state in ('failed', 'lost');
alter table intake add column told_at timestamptz;
update intake set told_at = at where due_at is not null;
`;
