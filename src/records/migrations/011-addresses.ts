/** Names under which environments are reached, certificates for them, and what edges need to use those. */
export const name = '011-addresses';
export const up = `
update deployments set environment_plan = '{"addresses": []}'::jsonb || environment_plan;

create table certificates (
  id uuid primary key,
  -- As it says itself; one may stand for a whole label: *.example.
  names text[] not null,
  source text not null,
  -- PEM, its own first.
  chain text not null,
  -- The private key, encrypted.
  sealed bytea not null,
  issuer text not null,
  not_before timestamptz not null,
  not_after timestamptz not null,
  -- Counts with each change: edges ask for what is newer than they have.
  version bigint not null,
  created_at timestamptz not null default now(),
  -- No edge is to use it any more.
  removed_at timestamptz
);
create sequence certificate_versions;
create index certificates_version on certificates (version);
create index certificates_names on certificates using gin (names) where removed_at is null;

create table addresses (
  id uuid primary key,
  environment_id uuid not null references environments,
  host text not null,
  kind text not null,
  -- The definition of the main branch names it.
  declared boolean not null default false,
  actor text not null,
  state text not null,
  state_since timestamptz not null default now(),
  issue jsonb,
  tries int not null default 0,
  fence bigint not null default 0,
  due_at timestamptz default now(),
  lease_until timestamptz,
  certificate_id uuid references certificates,
  created_at timestamptz not null default now(),
  removed_at timestamptz
);
create unique index addresses_there on addresses (environment_id, host) where removed_at is null;
-- A name leads to one environment.
create unique index addresses_answered on addresses (host) where removed_at is null and state in ('proven', 'certified');
create index addresses_due on addresses (due_at) where due_at is not null;
create index addresses_leased on addresses (lease_until) where lease_until is not null;
insert into addresses (id, environment_id, host, kind, actor, state)
  select gen_random_uuid(), id, host, 'given', 'engine', 'proven' from environments where state <> 'closed';

-- What a certificate authority asks for under a host (RFC 8555, 8.3): path's last piece → answer.
alter table routes add column proofs jsonb not null default '{}';
-- Public key (X25519, SPKI in DER) for which keys of certificates are encrypted.
alter table edges add column public_key bytea;

-- Accounts with certificate authorities, by the address of their directory.
create table authorities (
  url text primary key,
  account_url text,
  -- The account's private key, encrypted; of the service's own authority: the key with which it signs.
  sealed bytea not null,
  -- The service's own authority: its certificate, PEM.
  root text,
  created_at timestamptz not null default now()
);
`;
