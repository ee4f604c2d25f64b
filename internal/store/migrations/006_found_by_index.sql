-- What a log of half a million lines, and the deletion of a device, are read by.
create index on audit (person_id, at desc, id desc) where site_id is null;
create index on proof (step_id) where step_id is not null;
create index on change (source_id) where source_id is not null;
create index on happening (device_id) where device_id is not null;
