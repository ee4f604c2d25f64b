-- Which of its streams a person wants recorded, and which looked at: {"record": token, "view": token}.
alter table source add column uses jsonb not null default '{}';
