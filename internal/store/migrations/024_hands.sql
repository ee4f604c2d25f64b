-- Who holds a camera by hand: its number rises with every taking, so that who held it before moves nothing any more.
-- Where it looked when it was first taken is kept until it looks there again, or a person leaves it where it is.
create table hand (
  device_id bigint primary key references device on delete cascade,
  number bigint generated always as identity unique,
  source_id bigint not null references source on delete cascade,
  person_id bigint references person on delete cascade,
  token_id bigint references api_token on delete cascade,
  home jsonb not null,
  taken_at timestamptz not null default now(),
  kept_at timestamptz not null default now()
);
