create table notes (
  id bigint generated always as identity primary key,
  text text not null,
  at timestamptz not null default now()
);
