-- Marks at size: the site they are of, and the act that would move each on.
alter table mark add column site_id bigint references site on delete cascade;
update mark m set site_id = d.site_id from source s join device d on d.id = s.device_id where s.id = m.source_id;
alter table mark alter column site_id set not null;
alter table mark add column act text not null default '' check (act in ('', 'read', 'apply', 'walk'));
alter table mark add column changes int not null default 0;   -- proposed
create index on mark (site_id, stage, act) where act <> '';
create index on mark (valid_until) where valid_until is not null;
create index on mark (rules_version);
create index on fact (name, device_id);

-- What pages ask of all marks at once, kept beside them by the database: how many
-- there are of each kind, and each source's ten states as ten letters.
create table mark_count (
  site_id bigint not null references site on delete cascade,
  stage smallint not null,
  state text not null,
  act text not null,
  n int not null,
  changes int not null,
  primary key (site_id, stage, state, act)
);
create function state_letter(state text) returns text language sql immutable as
  $$ select case state when 'ready' then 'r' when 'needs' then 'n' when 'blocked' then 'b' when 'working' then 'w' when 'stale' then 's' when 'na' then 'a' else 'y' end $$;
alter table source add column site_id bigint references site on delete cascade;
update source s set site_id = d.site_id from device d where d.id = s.device_id;
alter table source alter column site_id set not null;
alter table source add column standing text not null default 'yyyyyyyyyy';
create index on source (site_id);
create function mark_changed() returns trigger language plpgsql as $$
begin
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
  update source s set standing = x.standing from (select m.source_id, string_agg(state_letter(m.state), '' order by m.stage) standing from mark m
    where m.source_id in (select source_id from new_marks) group by 1) x where s.id = x.source_id and s.standing <> x.standing;
  return null;
end $$;
create trigger mark_inserted after insert on mark referencing new table as new_marks for each statement execute function mark_changed();
create trigger mark_updated after update on mark referencing new table as new_marks old table as old_marks for each statement execute function mark_changed();
create trigger mark_deleted after delete on mark referencing old table as old_marks for each statement execute function mark_changed();
insert into mark_count select site_id, stage, state, act, count(*), sum(changes) from mark group by 1, 2, 3, 4;
update source s set standing = x.standing from (select source_id, string_agg(state_letter(state), '' order by stage) standing from mark group by 1) x where x.source_id = s.id;

-- What opened a device, for the order of tries on others like it.
alter table device add column opened_set bigint references credential_set on delete set null;
update device d set opened_set = c.id from fact f join credential_set c on c.id = (f.value->>'set_id')::bigint where f.device_id = d.id and f.name = 'access.account';
create index on device (site_id, make) where opened_set is not null;
create index on device (site_id, position, id);
create index on device (site_id, address);

-- Programs.
create table api_token (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  name text not null,
  hash bytea not null unique,       -- SHA-256 of the token, which is random enough
  scopes text[] not null check (scopes <@ array['read', 'run', 'apply']),
  person_id bigint references person,
  created_at timestamptz not null default now(),
  expires_at timestamptz,
  used_at timestamptz,
  ended_at timestamptz
);
create index on api_token (site_id);

-- People.
create table invitation (
  id bigint generated always as identity primary key,
  site_id bigint not null references site on delete cascade,
  role text not null check (role in ('lead', 'technician', 'viewer')),
  note text not null,
  hash bytea not null unique,
  person_id bigint references person,   -- who invited
  created_at timestamptz not null default now(),
  expires_at timestamptz not null,
  used_at timestamptz,
  used_by bigint references person
);
create index on invitation (site_id);
create table signin (
  id bigint generated always as identity primary key,
  person_id bigint not null references person on delete cascade,
  address text not null,
  agent text not null,
  began_at timestamptz not null default now(),
  seen_at timestamptz not null default now(),
  ended_at timestamptz
);
create index on signin (person_id) where ended_at is null;
delete from sessions;   -- tokens are kept hashed from here on: everyone signs in once more

alter table audit add column token_id bigint references api_token on delete set null;

-- Changes that are taken back, and the fence of whoever wrote last.
alter table change drop constraint change_state_check;
alter table change add constraint change_state_check check (state in ('asked', 'sent', 'read back', 'verified', 'failed', 'asks', 'undoing', 'undone'));
alter table change add column undo_of bigint references change on delete set null;
alter table change add column fence bigint not null default 0;
alter table change add column token_id bigint references api_token on delete set null;
create index on change (step_id);
create index on change (undo_of) where undo_of is not null;

-- Runs keep their sums when they end; a selection that was a query is told as one.
alter table run add column token_id bigint references api_token on delete set null;
alter table run add column asked_of text not null default '';
alter table run add column total int not null default 0;
alter table run add column done int not null default 0;
alter table run add column failed int not null default 0;
alter table run add column stopped int not null default 0;
update run r set total = t.n, done = t.done, failed = t.failed, stopped = t.stopped from (select run_id, count(*) n, count(*) filter (where state = 'done') done,
  count(*) filter (where state = 'failed') failed, count(*) filter (where state = 'stopped') stopped from run_step group by run_id) t where t.run_id = r.id;
create index on run_step (run_id) where state in ('waiting', 'working');
create index on run_step (device_id);

-- A fact's value without the moment it was read at: what a change of it is judged by.
create function bare_value(v jsonb) returns jsonb language sql immutable as $$ select case jsonb_typeof(v) when 'object' then v - 'at' else v end $$;

-- Servers that share this database, and what they hold.
create table server (
  id text primary key,
  began_at timestamptz not null default now(),
  heard_at timestamptz not null default now()
);
create unlogged table claim (   -- one row for each of the devices of a network or recorder that may be worked on at once
  scope text not null,
  slot int not null,
  holder text not null default '',
  until timestamptz not null default '-infinity',
  primary key (scope, slot)
);

-- claim_slot takes one of most slots of a scope for holder, and says whether it
-- could. Slots that others are just taking are passed by, never waited for.
create function claim_slot(p_scope text, p_most int, p_holder text, p_ttl interval) returns boolean language plpgsql as $$
declare got int;
begin
  for i in 1..2 loop
    update claim c set holder = p_holder, until = now() + p_ttl
      where c.scope = p_scope and c.slot = (select x.slot from claim x where x.scope = p_scope and x.slot <= p_most and x.until <= now() limit 1 for update skip locked)
      returning slot into got;
    if got is not null then return true; end if;
    if i = 2 or exists (select 1 from claim where scope = p_scope and slot = p_most) then return false; end if;
    insert into claim (scope, slot) select p_scope, s from generate_series(1, p_most) s on conflict do nothing;
  end loop;
  return false;
end $$;

-- step_begin takes all that one step needs, or nothing: a slot of its network (0:
-- none is asked for) and of a recorder, and the device's lease with a fence that only
-- grows. It answers go, held (another works on the device), full (a limit is
-- reached), settled or stopped.
create function step_begin(p_step bigint, p_device bigint, p_holder text, p_ttl interval, p_net bigint, p_net_most int, p_rec_most int, p_recorder boolean,
  out verdict text, out fence bigint) language plpgsql as $$
declare r record; rec bigint;
begin
  perform set_config('synchronous_commit', 'off', true); -- a step that is lost with the database is done again
  fence := 0;
  select t.state, run.stop into r from run_step t join run on run.id = t.run_id where t.id = p_step;
  if not found or r.state not in ('waiting', 'working') then verdict := 'settled'; return; end if;
  if p_device <> 0 then
    if not r.stop and p_net <> 0 and not claim_slot('network/' || p_net, p_net_most, p_holder, p_ttl) then verdict := 'full'; return; end if;
    if not r.stop and p_recorder then
      select case when kind = 'recorder' then id else recorder_id end into rec from device where id = p_device;
      if rec is not null and not claim_slot('recorder/' || rec, p_rec_most, p_holder, p_ttl) then
        perform claims_back(p_holder);
        verdict := 'full';
        return;
      end if;
    end if;
    insert into lease as l (device_id, holder, fence, until) values (p_device, p_holder, 1, now() + p_ttl)
      on conflict (device_id) do update set holder = excluded.holder, until = excluded.until, fence = l.fence + 1
      where l.until <= now() or l.holder = excluded.holder returning l.fence into fence;
    if fence is null then
      perform claims_back(p_holder);
      verdict := 'held'; fence := 0;
      return;
    end if;
  end if;
  update run_step set state = case when r.stop then 'stopped' else 'working' end, began_at = coalesce(began_at, now()) where id = p_step and state in ('waiting', 'working');
  if not found then -- settled in the meantime: nothing is held for it
    perform claims_back(p_holder);
    update lease set until = now() where device_id = p_device and holder = p_holder;
    verdict := 'settled';
    return;
  end if;
  verdict := case when r.stop then 'stopped' else 'go' end;
end $$;

-- claims_back gives back the slots that a holder has.
create function claims_back(p_holder text) returns void language sql as $$ update claim set until = '-infinity' where holder = p_holder and until > now() $$;
create index on claim (holder);

-- step_end settles a step and, with its last, the run; and gives back what
-- step_begin took. It does nothing and says false where another holds the device
-- with a later fence. p_state waiting means: it is tried again.
create function step_end(p_step bigint, p_device bigint, p_holder text, p_fence bigint, p_state text, p_says text) returns boolean language plpgsql as $$
declare run_of bigint; was text;
begin
  perform set_config('synchronous_commit', 'off', true);
  perform claims_back(p_holder);
  if p_device <> 0 then
    update lease set until = now() where device_id = p_device and holder = p_holder and fence = p_fence;
    if not found then return false; end if;
  end if;
  update run_step set state = case when state = 'stopped' then state else p_state end, says = p_says, ended_at = case when p_state <> 'waiting' then now() end
    where id = p_step and state in ('waiting', 'working', 'stopped') and ended_at is null returning run_id into run_of;
  if run_of is null or p_state = 'waiting' then return true; end if;
  -- One at a time, so that the last of a run's steps sees that it is the last.
  perform 1 from run where id = run_of for no key update;
  if not exists (select 1 from run_step t where t.run_id = run_of and t.state in ('waiting', 'working')) then
    update run r set ended_at = now(), done = t.done, failed = t.failed, stopped = t.stopped from (select count(*) filter (where state = 'done') done,
      count(*) filter (where state = 'failed') failed, count(*) filter (where state = 'stopped') stopped from run_step where run_id = run_of) t
      where r.id = run_of and r.ended_at is null;
  end if;
  return true;
end $$;
