/** Pull requests of sources that send no events: refs that are looked at with the branches. */
export const name = '025-pull-refs';
export const up = `
-- The pattern of these refs, and when they were looked at first: what was there then is known, and is none that was opened.
alter table projects add column pull_refs text;
alter table projects add column pull_refs_at timestamptz;

create table pulled (
  project_id uuid not null references projects,
  number int not null,
  head text not null,
  primary key (project_id, number)
);
`;
