-- What is enrolled is a view of a device, its source: it has a name, a planned recorder
-- and channel, facts, changes, accepted findings and steps of its own. What belongs to the
-- device itself is kept once, without a source.

-- nth counts a device's views: 1 is the first, which is there before anyone picked.
alter table source add column nth int not null default 1;
update source s set nth = n.nth from (select id, row_number() over (partition by device_id order by token <> '', id) nth from source) n where n.id = s.id;
alter table source add column recorder_id bigint references device on delete set null; -- planned
alter table source add column channel int not null default 0;                          -- planned; 0: any
update source s set recorder_id = d.recorder_id, channel = case when s.nth = 1 then d.channel else 0 end from device d where d.id = s.device_id;
alter table device drop column recorder_id, drop column channel;
alter table source drop column token;
create unique index on source (device_id, nth);
create index on source (recorder_id) where recorder_id is not null;

-- view is the source's number, and 0 for what is the device's own.
alter table fact add column source_id bigint references source on delete cascade;
alter table fact add column view bigint not null generated always as (coalesce(source_id, 0)) stored;
alter table fact drop constraint fact_pkey;
alter table fact add primary key (device_id, name, view);
alter table fact_history add column source_id bigint references source on delete cascade;
update fact f set source_id = s.id from source s where s.device_id = f.device_id and s.nth = 1
  and f.name in ('stream.measured', 'stream.looked', 'camera.rules', 'route.inputs', 'route.looked');
update fact_history f set source_id = s.id from source s where s.device_id = f.device_id and s.nth = 1
  and f.name in ('stream.measured', 'stream.looked', 'camera.rules', 'route.inputs', 'route.looked');
create index on fact (source_id) where source_id is not null;
create index on fact_history (source_id) where source_id is not null;

alter table acceptance add column source_id bigint references source on delete cascade;
alter table acceptance add column view bigint not null generated always as (coalesce(source_id, 0)) stored;
alter table acceptance drop constraint acceptance_pkey;
alter table acceptance add primary key (device_id, stage, code, view);
update acceptance a set source_id = s.id from source s where s.device_id = a.device_id and s.nth = 1 and a.stage > 3;

-- A change outlives the view that it was made for.
alter table change drop constraint change_source_id_fkey;
alter table change add foreign key (source_id) references source on delete set null;
update change c set source_id = null where stage <= 3;
update change c set source_id = s.id from source s where s.device_id = c.device_id and s.nth = 1 and c.stage > 3 and c.source_id is null;
drop index change_device_id_key_idx;
create unique index on change (device_id, key, coalesce(source_id, 0)) where state in ('asked', 'sent', 'read back');

alter table run_step add column source_id bigint references source on delete cascade;
update run_step t set source_id = s.id from run r, source s where r.id = t.run_id and r.stage > 3 and s.device_id = t.device_id and s.nth = 1;
create index on run_step (source_id) where source_id is not null;

-- An act of a mark may be offered at the device's first view.
alter table mark drop constraint mark_act_check;
alter table mark add constraint mark_act_check check (act in ('', 'read', 'apply', 'walk', 'shared'));
-- A finding of the device is kept at its first view.
delete from finding f using source s where s.id = f.source_id and s.nth > 1 and f.stage <= 3;

-- step_begin as before; the recorder that counts is that of the step's view, else of the
-- device's first that is planned for one.
create or replace function step_begin(p_step bigint, p_device bigint, p_holder text, p_ttl interval, p_net bigint, p_net_most int, p_rec_most int, p_recorder boolean,
  out verdict text, out fence bigint) language plpgsql as $$
declare r record; rec bigint;
begin
  perform set_config('synchronous_commit', 'off', true); -- a step that is lost with the database is done again
  fence := 0;
  select t.state, t.source_id, run.stop into r from run_step t join run on run.id = t.run_id where t.id = p_step;
  if not found or r.state not in ('waiting', 'working') then verdict := 'settled'; return; end if;
  if p_device <> 0 then
    if not r.stop and p_net <> 0 and not claim_slot('network/' || p_net, p_net_most, p_holder, p_ttl) then verdict := 'full'; return; end if;
    if not r.stop and p_recorder then
      select case when d.kind = 'recorder' then d.id else (select s.recorder_id from source s where s.device_id = d.id and s.recorder_id is not null
        order by s.id = r.source_id desc nulls last, s.nth limit 1) end into rec from device d where d.id = p_device;
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
