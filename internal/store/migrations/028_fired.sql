-- What cameras' rules fired, as they said beside what they saw; and what people said of firings, whether each was right.
create table fired (
  source_id bigint not null references source on delete cascade,
  at timestamptz not null,
  rule text not null,
  topic text not null
);
create index on fired (source_id, at);
create table checked (
  source_id bigint not null references source on delete cascade,
  object text not null check (length(object) between 1 and 64),
  at timestamptz not null,
  was_right boolean not null,
  checked_at timestamptz not null default now(),
  primary key (source_id, object, at)
);
