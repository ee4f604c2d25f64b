-- What a change of many makes of the recorders that it touches, a sentence each.
alter table preview add column makes text[] not null default '{}';

-- Named settings of encoders, and the views that they were chosen for: one for each of a view's streams.
create table encoder_setting (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  name text not null check (length(name) between 1 and 60),
  want jsonb not null,
  changed_at timestamptz not null default now()
);
create unique index on encoder_setting (site_id, lower(name));
create table source_setting (
  source_id bigint not null references source on delete cascade,
  stream text not null check (stream in ('', 'record', 'view')),
  setting_id bigint not null references encoder_setting on delete cascade,
  primary key (source_id, stream)
);
create index on source_setting (setting_id);

-- A run that goes on: which stages are read once it ended, in their order, and which run it all began with.
alter table run add column then_read smallint[] not null default '{}';
alter table run add column chain bigint references run on delete set null;
create index on run (id) where then_read <> '{}';
create index on run (chain) where chain is not null;
