-- A program is shown what it will change as a person is.
alter table preview
  alter column person_id drop not null,
  add column token_id bigint references api_token on delete cascade,
  add check ((person_id is null) <> (token_id is null));
create index on preview (token_id) where token_id is not null;

-- How often in a row who tries was refused: each time the wait grows.
alter table gate add column missed int not null default 0;
alter table gate drop column left_over;
