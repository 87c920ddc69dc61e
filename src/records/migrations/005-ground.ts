/**
 * What tokens allow, who holds a session, fences of the loops that talk to elsewhere, logs of instances within bounds.
 *
 * Agents' and edges' tokens get the name that was registered with them; of several edges of one token the newest stays.
 */
export const name = '005-ground';
export const up = `
alter table tokens
  add column takes text[],
  add column address text,
  add column port_from int,
  add column port_to int;
update tokens t set takes = '{runs,untrusted,live}', address = coalesce((select a.address from agents a where a.token_id = t.id order by a.seen_at desc limit 1), '127.0.0.1'),
  port_from = 20000, port_to = 31999, name = coalesce((select a.name from agents a where a.token_id = t.id order by a.seen_at desc limit 1), t.name)
where kind = 'agent';
delete from edges e where exists (select 1 from edges o where o.token_id = e.token_id and (o.seen_at, o.id) > (e.seen_at, e.id));
update tokens t set name = coalesce((select e.name from edges e where e.token_id = t.id), t.name) where kind = 'edge';
-- Hosts that an edge has not as the table says: host → { version, issue }.
alter table edges add column without jsonb not null default '{}';
alter table agents rename column class to takes;
alter table agents add column port_from int not null default 20000, add column port_to int not null default 31999;
update attempts set needs = (needs - 'class') || jsonb_build_object('takes', needs->'class') where needs ? 'class';
-- Answers may hold what is shown once: they are encrypted from now on. A repeat of a change that was made right before is made anew.
delete from answers;
alter table answers drop column body, add column sealed bytea;
-- A session ends with the token that began it; people see where they are signed in.
delete from sessions;
alter table sessions
  drop column role,
  add column id uuid not null,
  add column token_id uuid references tokens,
  add column client text not null default '',
  add column seen_at timestamptz not null default now(),
  add unique (id);
alter table projects add column poll_fence int not null default 0, add column status_fence int not null default 0;
-- Whose results its run read: own, or an untrusted pull request's.
alter table releases add column line text not null default 'own';
update releases l set line = r.line from runs r where r.id = l.run_id;
-- How often planning it was begun without coming to an end.
alter table runs add column planning_tries int not null default 0;
-- The first byte of an instance's log that is kept, and the number of its line.
alter table instances add column log_from bigint not null default 0;
alter table attempts add column log_gone boolean not null default false;
alter table instances add column log_gone boolean not null default false;
create index attempts_of_deployments on attempts (ended_at) where deployment_id is not null and not log_gone;
create index instances_over on instances (ended_at) where ended_at is not null and not log_gone;
-- Since when a refusal of this kind was last recorded: strangers do not write into the record as often as they like.
alter table projects add column intake_refused_at timestamptz;
`;
