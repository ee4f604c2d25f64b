-- Rules of analytics that were drawn here for a view, whether or not its camera has them.
create table drawn_rule (
  id bigint generated always as identity primary key,
  source_id bigint not null references source on delete cascade,
  name text not null check (length(name) between 1 and 64),
  rule jsonb not null,
  changed_at timestamptz not null default now()
);
create unique index on drawn_rule (source_id, name);
