/** How much databases of environments may hold, and who may still write to one that holds more. */
export const name = '019-sizes';
export const up = `
-- Bytes that it may hold; null: as much as its server has.
alter table resources add column most bigint;
-- What programs may do with it, by what was seen of its size; and what its server was told of that.
alter table resources add column access text not null default 'open';
alter table resources add column told_access text not null default 'open';
`;
