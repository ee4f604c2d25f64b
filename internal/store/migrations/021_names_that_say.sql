-- Facts are called what they are: when a stage was asked for, a device's address settings, that no first password was
-- set, how many sign-ins were refused. What is known stays known.
update fact set name = n.new from (values ('find.looked', 'find.asked'), ('access.looked', 'access.asked'), ('stream.looked', 'stream.asked'),
  ('route.looked', 'route.asked'), ('device.seat', 'device.ip')) n(old, new) where fact.name = n.old;
update fact_history set name = n.new from (values ('find.looked', 'find.asked'), ('access.looked', 'access.asked'), ('stream.looked', 'stream.asked'),
  ('route.looked', 'route.asked'), ('device.seat', 'device.ip')) n(old, new) where fact_history.name = n.old;

update fact set value = value - 'virgin' || jsonb_build_object('no_password', value -> 'virgin') where name in ('access.asked', 'find.seen', 'device.info') and value ? 'virgin';
update fact_history set value = value - 'virgin' || jsonb_build_object('no_password', value -> 'virgin') where name in ('access.asked', 'find.seen', 'device.info') and value ? 'virgin';

create function renamed_slots(slots jsonb) returns jsonb language sql immutable as $$
  select coalesce(jsonb_agg(case when s ? 'knocks' then s - 'knocks' || jsonb_build_object('auth_failures', s -> 'knocks') else s end order by nth), '[]')
  from jsonb_array_elements(slots) with ordinality x(s, nth)
$$;
update fact set value = jsonb_set(value, '{slots}', renamed_slots(value -> 'slots')) where name = 'recorder.status' and jsonb_typeof(value -> 'slots') = 'array';
update fact_history set value = jsonb_set(value, '{slots}', renamed_slots(value -> 'slots')) where name = 'recorder.status' and jsonb_typeof(value -> 'slots') = 'array';
drop function renamed_slots(jsonb);
