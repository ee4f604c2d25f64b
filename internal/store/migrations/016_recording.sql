-- Recording plans of a site, by name: what is kept when nothing happens, what when something does.
create table recording_plan (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  name text not null check (name <> ''),
  plan jsonb not null,
  changed_at timestamptz not null default now()
);
create unique index on recording_plan (site_id, lower(name));

-- The plan that was chosen for a view; null: nobody chose.
alter table source add column plan_id bigint references recording_plan on delete set null;
create index on source (plan_id) where plan_id is not null;

-- For how many days a site's recordings are kept: at least by its contract, at most by its privacy
-- rule; 0: nobody said. And how often something is taken to happen where nobody counted, in percent.
alter table site add column keep_least int not null default 0 check (keep_least between 0 and 3650);
alter table site add column keep_most int not null default 0 check (keep_most between 0 and 3650);
alter table site add column active_percent int not null default 10 check (active_percent between 0 and 100);

-- That a view goes to no other recorder than the one that it is planned for, and the name of those
-- that go to one recorder together; empty: it goes alone.
alter table source add column locked boolean not null default false;
alter table source add column together text not null default '';

-- What is known of a recorder that has no way in but its own screen; null: it has an interface.
alter table device add column bench jsonb;

-- What a person typed in at such a recorder's screen, by channel.
create table bench_entry (
  recorder_id bigint not null references device on delete cascade,
  channel int not null check (channel between 1 and 256),
  source_id bigint not null references source on delete cascade,
  profile text not null,
  by_name text not null,
  typed_at timestamptz not null default now(),
  primary key (recorder_id, channel)
);
create index on bench_entry (source_id);
