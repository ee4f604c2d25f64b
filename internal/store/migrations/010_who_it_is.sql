-- A person's word on who answers, and on what it may be sent: each holds for what showed
-- itself then. Which sets a device refused, until someone acts.
alter table device
  add column ours jsonb,
  add column basic_for jsonb,
  add column refused bigint[] not null default '{}';

update device set basic_for = jsonb_build_object('address', host(address), 'uuid', uuid, 'mac', mac, 'serial', serial, 'cert', '')
  where allow_basic and address is not null;

update device d set refused = coalesce((select array_agg(set_id order by set_id) from (select distinct on (t.set_id) t.set_id, t.outcome from try t
  where t.device_id = d.id and t.set_id is not null and t.scheme <> 'web page' and t.outcome in ('opened', 'wrong') order by t.set_id, t.at desc, t.id desc) last
  where outcome = 'wrong'), '{}');
