-- Addresses that are looked at though they belong to no network of the site: a laptop's
-- bench, one camera as it came out of its box.
alter table network add column bench boolean not null default false;
-- How often the networks are looked at by themselves, in minutes (0: never), and where
-- clocks are to take their time from: 'recorder', 'dhcp' or the address of a server.
alter table site add column look_every int not null default 0 check (look_every between 0 and 10080);
alter table site add column look_asked_at timestamptz;
alter table site add column time_source text not null default 'recorder';
-- Sets for a network, sets made for one device, and what others left.
alter table credential_set add column network_id bigint references network on delete set null;
alter table credential_set add column device_id bigint references device on delete cascade;
alter table credential_set add column former boolean not null default false;
create index on credential_set (device_id) where device_id is not null;
create index on credential_set (site_id) where device_id is null;
create index on device (site_id) where kind = 'recorder';
alter table device add column allow_basic boolean not null default false;  -- a person allowed its password in clear
alter table device add column views int not null default 0;               -- how many of its video sources were picked; 0: nobody decided
-- The video source of the device that a row of the Board shows; empty: its first.
alter table source add column video text not null default '';

-- A person's word that a finding stands and is lived with.
create table acceptance (
  device_id bigint not null references device on delete cascade,
  stage smallint not null,
  code text not null,
  person_id bigint references person,
  at timestamptz not null default now(),
  primary key (device_id, stage, code)
);
-- The least firmware that a site asks of a make and model; an empty model: of all.
create table firmware_least (
  site_id bigint not null references site on delete cascade,
  make text not null,
  model text not null default '',
  least text not null,
  primary key (site_id, make, model)
);
-- What changed on the networks from one look to the next.
create table happening (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  device_id bigint references device on delete cascade,
  at timestamptz not null default now(),
  kind text not null check (kind in ('appeared', 'vanished', 'moved', 'firmware', 'replaced', 'lost')),
  place text not null,
  says text not null
);
create index on happening (site_id, at desc);

alter table try drop constraint try_outcome_check;
alter table try add constraint try_outcome_check check (outcome in ('pending', 'opened', 'wrong', 'hindered', 'locked'));
alter table finding add column accepted boolean not null default false;
