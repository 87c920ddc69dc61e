/** What is let go when it is old, and who has no room. */
export const name = '003-space';

export const up = `
alter table runs add column trimmed_at timestamptz;
alter table releases add column gone_at timestamptz;
create index runs_kept on runs (project_id, number) where trimmed_at is null;
create index releases_kept on releases (project_id, number) where gone_at is null;
create index tasks_output on tasks (output) where output is not null;
create index tasks_of_attempt on tasks (attempt_id) where attempt_id is not null;
create index results_output on results (output) where output is not null;
create index results_attempt on results (attempt_id);

-- What stored bytes a release needs: its documents and layers.
create table release_blobs (
  release_id uuid not null references releases,
  digest text not null,
  primary key (release_id, digest)
);
create index release_blobs_digest on release_blobs (digest);
insert into release_blobs (release_id, digest)
  select distinct id, d from (
    select id, digest as d from releases
    union all select r.id, p->>'digest' from releases r, jsonb_array_elements(r.parts) p
    union all select r.id, l->>'digest' from releases r, jsonb_array_elements(r.parts) p, jsonb_array_elements(p->'layers') l
  ) all_blobs where d is not null;

-- Why an agent takes nothing new; null when it does.
alter table agents add column full_issue jsonb;
`;
