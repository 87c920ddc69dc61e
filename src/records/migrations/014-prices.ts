/** What memory and processor cost, as owners have set it: the newest counts. */
export const name = '014-prices';
export const up = `
create table prices (
  id uuid primary key,
  currency text not null,
  -- Of one GiB, of one core, for an hour.
  memory float8 not null,
  cpu float8 not null,
  actor text not null,
  at timestamptz not null default now()
);
`;
