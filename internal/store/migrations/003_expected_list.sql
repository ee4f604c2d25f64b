-- A list that was uploaded and not taken yet: one a person and site, for an hour.
create table upload (
  site_id bigint not null references site on delete cascade,
  person_id bigint not null references person on delete cascade,
  name text not null,
  lines jsonb not null,   -- expected.Table
  at timestamptz not null default now(),
  primary key (site_id, person_id)
);
