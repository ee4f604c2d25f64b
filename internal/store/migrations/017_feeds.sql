-- Which channels of other recorders a recorder takes; null: it takes cameras.
alter table device add column feeds jsonb;
