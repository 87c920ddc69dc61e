/** Releases that were made elsewhere. */
export const name = '031-imports';
export const up = `
-- Null: no run of this house made it.
alter table releases alter column run_id drop not null;
-- Where it was made, as what, and whose key vouches for it; null: here.
alter table releases add column imported jsonb;
-- Where a release is and was.
create index deployments_release on deployments (release_id, number desc);
create unique index releases_imported on releases (project_id, digest) where imported is not null;
`;
