-- What a person was shown before it is written: device by device, from and to. Just that
-- is made, once, by the run that it becomes.
create table preview (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  person_id bigint not null references person on delete cascade,
  stage smallint not null,
  title text not null,
  asked_of text not null default '',
  lines jsonb not null,
  idle int not null default 0,       -- selected, and nothing is proposed for them
  under_way int not null default 0,  -- selected, and being changed just now
  made_at timestamptz not null default now(),
  taken_at timestamptz,
  run_id bigint references run on delete cascade
);
create index on preview (made_at);
create index on preview (run_id) where run_id is not null;
create index on preview (person_id);
