-- How a view's analytics lie on its picture, as a person said: see scene.Turned.
alter table source add column turned smallint not null default 0 check (turned between 0 and 7);
