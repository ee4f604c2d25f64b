-- A program's token may set a site up.
alter table api_token drop constraint api_token_scopes_check;
alter table api_token add constraint api_token_scopes_check check (scopes <@ array['read', 'run', 'apply', 'setup']);
