-- How often a name or an address may try to sign in, over all servers: what is left of
-- its tries. Lost in a crash of the database: then everyone has all of them again.
create unlogged table gate (
  key text primary key,
  left_over double precision not null,
  at timestamptz not null default now()
);

-- How many sign-ins of a device were ever begun: who counted its tries sees by it
-- whether somebody began another since.
alter table device add column tries bigint not null default 0;

-- The ten letters of a source are made from its own marks alone, found by their key,
-- however many marks there are.
create or replace function mark_changed() returns trigger language plpgsql as $$
declare touched bigint[];
begin
  -- An upsert fires both triggers, the one that has nothing to do too.
  if tg_op <> 'DELETE' then
    if not exists (select 1 from new_marks) then return null; end if;
  end if;
  if tg_op = 'INSERT' then
    insert into mark_count as c select site_id, stage, state, act, count(*), sum(changes) from new_marks group by 1, 2, 3, 4 order by 1, 2, 3, 4
      on conflict (site_id, stage, state, act) do update set n = c.n + excluded.n, changes = c.changes + excluded.changes;
  elsif tg_op = 'DELETE' then
    update mark_count c set n = c.n - x.n, changes = c.changes - x.changes from (select site_id, stage, state, act, count(*) n, sum(changes) changes from old_marks group by 1, 2, 3, 4) x
      where (c.site_id, c.stage, c.state, c.act) = (x.site_id, x.stage, x.state, x.act);
    return null;
  else
    insert into mark_count as c select site_id, stage, state, act, sum(n), sum(changes) from
      (select site_id, stage, state, act, 1 n, changes from new_marks union all select site_id, stage, state, act, -1, -changes from old_marks) x
      group by 1, 2, 3, 4 having sum(n) <> 0 or sum(changes) <> 0 order by 1, 2, 3, 4
      on conflict (site_id, stage, state, act) do update set n = c.n + excluded.n, changes = c.changes + excluded.changes;
  end if;
  select array_agg(distinct source_id) into touched from new_marks;
  update source s set standing = x.standing from
    (select i.id, (select string_agg(state_letter(m.state), '' order by m.stage) from mark m where m.source_id = i.id) standing from unnest(touched) i(id)) x
    where s.id = x.id and s.standing is distinct from x.standing and x.standing is not null;
  return null;
end $$;

-- How many devices of a network, and of a recorder, are worked on at once.
alter table site add column at_once_network int not null default 64 check (at_once_network between 1 and 256);
alter table site add column at_once_recorder int not null default 4 check (at_once_recorder between 1 and 32);

-- The newest inputs that a source was judged by: who judged older ones was overtaken,
-- also where what the newer one said left the marks as they were.
alter table source add column judged bigint not null default 0;
update source s set judged = m.v from (select source_id, max(inputs_version) v from mark group by 1) m where m.source_id = s.id;
