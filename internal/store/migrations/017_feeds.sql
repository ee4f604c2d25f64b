-- Which channels of other recorders a recorder takes; null: it takes cameras.
alter table device add column feeds jsonb;

-- What a channel is called at its recorder's own screen; empty: as the place is.
alter table bench_entry add column name text not null default '';
