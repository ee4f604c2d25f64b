-- A reading that is asked for twice while it goes is one: it is told from one that tries a certain
-- account, or makers' default ones.
alter table run add column plain boolean not null default false;
