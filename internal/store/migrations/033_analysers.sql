-- An analyser is signed in to, asked for its clock and written to as a recorder is: it is a device of the site.
alter table device drop constraint device_kind_check;
alter table device add constraint device_kind_check check (kind in ('camera', 'recorder', 'analyser'));
insert into device (site_id, kind, place, address, expected_at, expected, set_id, note, position)
  select y.site_id, 'analyser', y.name, y.address, y.address, true, y.set_id, y.note,
    (select coalesce(max(d.position), 0) from device d where d.site_id = y.site_id) + row_number() over (partition by y.site_id order by y.id)
  from system y where y.kind = 'analyser';
delete from system where kind = 'analyser';
alter table system drop constraint system_kind_check;
alter table system add constraint system_kind_check check (kind in ('vms', 'station', 'time'));

-- Who looks at a view that has no analytics of its own, and how: it is paired by a key that no other view has.
alter table source add column key uuid not null default gen_random_uuid();
alter table source add column analyser_id bigint references device on delete set null;
alter table source add column stills real not null default 0;       -- a second
alter table source add column least_score real not null default 0;  -- 0 to 1
alter table source add column paired_at timestamptz;                -- null: it never was
create index on source (analyser_id) where analyser_id is not null;

-- Marks rest on analysers as on recorders: what is told of one that goes still counts.
create or replace function outlive() returns trigger language plpgsql as $$
begin
  if old.kind <> 'camera' and (tg_op = 'DELETE' or new.kind = 'camera') then
    update site set outlived = outlived + old.version + 1 where id = old.site_id;
  end if;
  return null;
end $$;

-- How an analyser does just now is kept as it was read last: of that there is no history.
create or replace function bare_value(v jsonb) returns jsonb language sql immutable as $$ select case jsonb_typeof(v) when 'object' then v - 'at' - 'running' else v end $$;
