-- That sound may be recorded at a view, as somebody wrote it down; empty: nobody did.
alter table source add column consent text not null default '';
alter table source add column consent_by text not null default '';
alter table source add column consent_at timestamptz;

-- Whose of a selection it is and why it can't be changed, a sentence each.
alter table preview add column cant text[] not null default '{}';

-- Marks of known size on a view's picture: what its pixels per metre are reckoned from.
alter table source add column marks jsonb;

-- What is kept of the pictures that were accepted of a view, by light, to hold others against.
alter table source add column pictures jsonb;

-- The picture that a person accepted of a view, by day and by night.
create table accepted_still (
  source_id bigint not null references source on delete cascade,
  light text not null check (light in ('day', 'night')),
  picture bytea not null,             -- JPEG
  width int not null,
  height int not null,
  person_id bigint references person on delete set null,
  by_name text not null,
  at timestamptz not null default now(),
  primary key (source_id, light)
);

-- Which server reads a view's stream for all who look at it, on whichever server they are.
create table live_reader (
  source_id bigint primary key references source on delete cascade,
  holder text not null,               -- the server
  until timestamptz not null
);

-- A browser that wants to see a view: its offer, and the answer of the server that reads the
-- stream (JSEP, RFC 8829). It is gone soon after nobody looks any more.
create table live_call (
  id bigint generated always as identity primary key,
  source_id bigint not null references source on delete cascade,
  offer text not null,
  answer text,
  trouble text,
  kept_at timestamptz not null default now() -- when its page last said that it still looks
);
create index on live_call (source_id);
create index on live_call (kept_at);

-- That a site asks that streams are encrypted.
alter table site add column encrypt boolean not null default false;
