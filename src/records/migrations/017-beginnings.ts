/** Beginnings: what a hosted project's first commit is made of, until it is there. */
export const name = '017-beginnings';
export const up = `
alter table projects add column beginning text;
`;
