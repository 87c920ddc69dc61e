/** Columns of the second pass over safety: protected main branches, and refs that were removed from a repository. */
export const name = '035-safe-ground';
export const up = `
alter table projects
  -- Main of a hosted project can be neither deleted nor rewritten by a push.
  add column protect boolean not null default true,
  -- Refs that no push and no fetch of ours makes, found in its repository and deleted.
  add column foreign_refs text[] not null default '{}',
  add column foreign_refs_at timestamptz;
`;
