-- What marks rest on has a version that only rises: that of the device, and of all recorders. What a
-- recorder that goes has counted stays with its site.
alter table site add column outlived bigint not null default 0;

create function outlive() returns trigger language plpgsql as $$
begin
  if old.kind = 'recorder' and (tg_op = 'DELETE' or new.kind <> 'recorder') then
    update site set outlived = outlived + old.version + 1 where id = old.site_id;
  end if;
  return null;
end $$;
create trigger outlive after delete or update of kind on device for each row execute function outlive();

-- Marks that were judged by a version which fell since are judged anew.
update source set judged = 0;
update mark set inputs_version = 0;

-- What was changed on a device stays in the log when the device goes.
alter table change add column of_place text not null default '';
alter table change alter column device_id drop not null;
alter table change drop constraint change_device_id_fkey;
alter table change add foreign key (device_id) references device on delete set null;
create function keep_place() returns trigger language plpgsql as $$
begin
  update change c set of_place = coalesce((select s.name from source s where s.id = c.source_id), old.place) where c.device_id = old.id;
  return old;
end $$;
create trigger keep_place before delete on device for each row execute function keep_place();

-- What is written to see whether anything can be.
create table pulse (id int primary key check (id = 1), at timestamptz not null);
