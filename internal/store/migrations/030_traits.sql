-- What analytics tell of an object besides its class: colour, plate, speed, what is carried or worn.
alter table seen add column traits jsonb not null default '{}';
