-- A program is shown what it will change as a person is.
alter table preview
  alter column person_id drop not null,
  add column token_id bigint references api_token on delete cascade,
  add check ((person_id is null) <> (token_id is null));
create index on preview (token_id) where token_id is not null;

-- How often in a row who tries was refused: each time the wait grows.
alter table gate add column missed int not null default 0;
alter table gate drop column left_over;

-- What else is on a site's networks and takes part in its work: the desk that shows pictures,
-- the station that gets alarms, boxes that look at streams, servers that tell the time.
create table system (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  kind text not null check (kind in ('desk', 'station', 'analyser', 'time')),
  name text not null,
  address inet not null,
  set_id bigint references credential_set on delete set null,
  note text not null default '',
  asked_at timestamptz,   -- null: never
  answers boolean not null default false,
  says text not null default '',  -- what it answered, or how it didn't
  unique (site_id, name)
);
create index on system (set_id) where set_id is not null;
