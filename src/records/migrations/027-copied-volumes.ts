/** Reviews begin with copies of volumes, too. */
export const name = '027-copied-volumes';
export const up = `
-- Of a snapshot of a volume: its files, as a tar; and what its scrub has handed over, until it is looked at.
alter table snapshots add column digest text;
alter table snapshots add column output text;
create index snapshots_bytes on snapshots (digest) where digest is not null;
create index snapshots_output on snapshots (output) where output is not null;
`;
