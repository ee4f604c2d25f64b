-- Sets of reference pictures, of who or what is known. The pictures are sealed.
create table known_set (
  id bigint primary key generated always as identity,
  key uuid not null default gen_random_uuid() unique, -- by which analysers know it: no other set has it, in no other database
  site_id bigint not null references site on delete cascade,
  name text not null,
  kind text not null check (kind in ('face', 'vehicle', 'thing')),
  least real not null check (least > 0 and least <= 1),
  nearly real not null check (nearly >= 0 and nearly <= least),
  tells_nearly boolean not null default false,
  tells_unknown boolean not null default false,
  unique (site_id, name)
);

create table known_entry (
  id bigint primary key generated always as identity,
  set_id bigint not null references known_set on delete cascade,
  name text not null,
  ground text not null,
  since date not null,
  ends date not null,
  gone_at timestamptz, -- its pictures are gone here; the row stays until no analyser holds it
  unique (set_id, name)
);

create table known_picture (
  id bigint primary key generated always as identity,
  entry_id bigint not null references known_entry on delete cascade,
  digest text not null,
  sealed bytea not null,
  added_by text not null,
  added_at timestamptz not null default now()
);
create index on known_picture (entry_id);

-- The area of a view that its analyser looks at; empty: the whole picture.
alter table source add column looks_within text not null default '';
