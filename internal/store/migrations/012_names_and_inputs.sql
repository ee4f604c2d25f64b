-- The name servers of a network; none: nobody named one.
alter table network add column dns inet[] not null default '{}';

-- Which of its device's video sources a view is, from 1 in the device's own order; 0: not
-- known, or the device has one. The expected list names it.
alter table source add column input int not null default 0;
update source s set input = e.n from fact f, jsonb_array_elements(case jsonb_typeof(f.value) when 'array' then f.value else '[]' end) with ordinality e(v, n)
  where f.device_id = s.device_id and f.name = 'device.views' and s.video <> '' and e.v->>'token' = s.video and jsonb_array_length(f.value) > 1;
