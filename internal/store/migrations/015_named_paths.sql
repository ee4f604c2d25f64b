-- Streams that a person named by their whole address before anything was found there: the device
-- that is found there gets them.
create table named_path (
  site_id bigint not null references site on delete cascade,
  address inet not null,
  path text not null,
  at timestamptz not null default now(),
  primary key (site_id, address, path)
);
