create table person (
  id bigint generated always as identity primary key,
  login text not null unique check (login = lower(login) and length(login) between 1 and 64),
  name text not null,
  password_hash text not null,
  created_at timestamptz not null default now()
);
create table sessions (
  token text primary key,
  data bytea not null,
  expiry timestamptz not null
);
create index on sessions (expiry);

create table site (
  id bigint generated always as identity primary key,
  name text not null,
  zone text not null,        -- name in the zone database
  zone_posix text not null,  -- POSIX TZ, as devices take it
  demo boolean not null default false,
  created_at timestamptz not null default now()
);
create table membership (
  site_id bigint not null references site on delete cascade,
  person_id bigint not null references person on delete cascade,
  role text not null check (role in ('lead', 'technician', 'viewer')),
  primary key (site_id, person_id)
);
create table network (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  name text not null,
  prefix cidr not null,
  looked_at timestamptz,
  look jsonb,               -- what the last look heard, in numbers
  unique (site_id, prefix)
);
create table credential_set (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  name text not null,
  username text not null,
  sealed bytea not null default '',  -- the vault's; bound to table, column and row
  make text not null default '',
  factory boolean not null default false,
  unique (site_id, name)
);

create table device (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  kind text not null check (kind in ('camera', 'recorder')),
  place text not null,
  make text not null default '',
  model text not null default '',
  address inet,              -- where it is reached, else where it is expected
  expected_at inet,          -- by the list
  expected boolean not null default false,
  uuid text not null default '',
  mac text not null default '',
  serial text not null default '',
  recorder_id bigint references device on delete set null,  -- planned
  channel int not null default 0,                           -- planned; 0: any
  set_id bigint references credential_set on delete set null,  -- a recorder's account
  version bigint not null default 1,  -- grows with every change of its facts
  position int not null default 0
);
create index on device (site_id, kind);
create index on device (recorder_id);
create table source (
  id bigint generated always as identity primary key,
  device_id bigint not null references device on delete cascade,
  token text not null default '',
  name text not null,
  unique (device_id, token)
);

create table fact (
  device_id bigint not null references device on delete cascade,
  name text not null,
  value jsonb not null,
  via text not null,
  read_at timestamptz not null,
  primary key (device_id, name)
);
create table fact_history (
  id bigint generated always as identity primary key,
  device_id bigint not null references device on delete cascade,
  name text not null,
  value jsonb not null,
  via text not null,
  read_at timestamptz not null
);
create index on fact_history (device_id, name, read_at);

create table try (
  id bigint generated always as identity primary key,
  device_id bigint not null references device on delete cascade,
  set_id bigint references credential_set on delete set null,
  set_name text not null,
  scheme text not null,
  outcome text not null default 'pending' check (outcome in ('pending', 'opened', 'wrong', 'hindered')),
  detail text not null default '',
  at timestamptz not null default now()
);
create index on try (device_id, at);

create table mark (
  source_id bigint not null references source on delete cascade,
  stage smallint not null check (stage between 1 and 10),
  state text not null,
  words text not null,
  sentence text not null,
  inputs_version bigint not null,
  rules_version int not null,
  valid_until timestamptz,
  derived_at timestamptz not null default now(),
  primary key (source_id, stage)
);
create table finding (
  id bigint generated always as identity primary key,
  source_id bigint not null references source on delete cascade,
  stage smallint not null,
  code text not null,
  severity text not null,
  words text not null,
  sentence text not null,
  way_out text not null,
  evidence jsonb not null
);
create index on finding (source_id, stage);

create table run (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  stage smallint not null,
  act text not null check (act in ('read', 'apply', 'prove')),
  title text not null,
  person_id bigint references person,
  stop boolean not null default false,
  started_at timestamptz not null default now(),
  ended_at timestamptz
);
create index on run (site_id, started_at desc);
create table run_step (
  id bigint generated always as identity primary key,
  run_id bigint not null references run on delete cascade,
  device_id bigint references device on delete cascade,
  network_id bigint references network on delete cascade,
  state text not null default 'waiting' check (state in ('waiting', 'working', 'done', 'failed', 'stopped')),
  says text not null default '',
  began_at timestamptz,
  ended_at timestamptz
);
create index on run_step (run_id);

create table change (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  device_id bigint not null references device on delete cascade,
  source_id bigint references source on delete cascade,
  step_id bigint references run_step on delete set null,
  stage smallint not null,
  kind text not null,
  key text not null,
  title text not null,
  from_text text not null,
  to_text text not null,
  why text not null,
  risk text not null,
  undo jsonb not null,
  args jsonb not null,
  later bigint[] not null default '{}',  -- nanoseconds after the first read-back
  state text not null check (state in ('asked', 'sent', 'read back', 'verified', 'failed', 'asks')),
  says text not null default '',
  reads text not null default '',
  writes int not null default 0,         -- how often the write was sent
  person_id bigint references person,
  asked_at timestamptz not null default now(),
  sent_at timestamptz,
  settled_at timestamptz
);
create index on change (device_id, asked_at desc);
create index on change (site_id, asked_at desc);
-- one change of a thing at a time
create unique index on change (device_id, key) where state in ('asked', 'sent', 'read back');

create table lease (
  device_id bigint primary key references device on delete cascade,
  holder text not null,
  fence bigint not null,
  until timestamptz not null
);

create table proof (
  id bigint generated always as identity primary key,
  source_id bigint not null references source on delete cascade,
  step_id bigint references run_step on delete set null,
  test jsonb not null,
  started_at timestamptz not null,
  ended_at timestamptz
);
create index on proof (source_id, started_at desc);

create table audit (
  id bigint generated always as identity primary key,
  site_id bigint references site on delete cascade,
  person_id bigint references person,
  at timestamptz not null default now(),
  act text not null,
  detail text not null default ''
);
create index on audit (site_id, at desc);
