/** What each deployment was made of, and what was named as migrations of a release. */
export const name = '030-made-of';
export const up = `
-- Null: it is older than this.
alter table deployments add column made_of jsonb;
-- Of 10,000: what it has of the traffic until somebody ends that; null: it takes all of it.
alter table deployments add column split int;
alter table releases add column migrations jsonb;
`;
