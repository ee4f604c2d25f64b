-- How often a name or an address may try to sign in, over all servers: what is left of
-- its tries. Lost in a crash of the database: then everyone has all of them again.
create unlogged table gate (
  key text primary key,
  left_over double precision not null,
  at timestamptz not null default now()
);
