-- A drawn rule can be off: it is kept, and isn't to be on the camera. was is what it was called when the camera got it.
alter table drawn_rule add column off boolean not null default false, add column was text not null default '';

-- Sets of rules that a site keeps by a name.
create table rule_set (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  name text not null check (length(name) between 1 and 64),
  rules jsonb not null,
  unique (site_id, name)
);
