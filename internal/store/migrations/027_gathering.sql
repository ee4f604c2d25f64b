-- Views whose analytics are listened to: what they see is gathered by one server at a time.
create table gathering (
  source_id bigint primary key references source on delete cascade,
  asked_at timestamptz not null default now(),
  server text not null default '',
  held_until timestamptz not null default '-infinity',
  again_at timestamptz not null default '-infinity',
  trouble text not null default '',
  documents bigint not null default 0,
  objects bigint not null default 0,
  lost bigint not null default 0,
  without bigint not null default 0
);

-- The times in which they were listened to, and what was seen: an object's points of a few seconds, packed.
create table seen_span (
  source_id bigint not null references source on delete cascade,
  began_at timestamptz not null,
  ended_at timestamptz not null,
  primary key (source_id, began_at)
);
create table seen (
  source_id bigint not null references source on delete cascade,
  began_at timestamptz not null,
  ended_at timestamptz not null,
  object text not null,
  class text not null,
  points bytea not null
) partition by range (ended_at);
create index on seen (source_id, ended_at);
