/** Traffic that moves in steps: where each deployment is on its way, and how it does beside what it replaces. */
export const name = '029-cutovers';
export const up = `
create table cutovers (
  deployment_id uuid primary key references deployments,
  -- What it is beside.
  before_id uuid references deployments,
  step jsonb not null,
  -- Counts the steps: what edges have counted of another one says nothing of this one.
  stage int not null default 1,
  since timestamptz not null default now(),
  -- What somebody has asked for in this step.
  ordered text,
  ordered_by text,
  tests jsonb not null default '{}',
  -- What came of copies of requests.
  mirrored jsonb,
  -- In words, as soon as there is a sign.
  worse jsonb,
  waits jsonb,
  -- Until when bounds hold though all of the traffic has moved.
  watched_until timestamptz
);
`;
