-- A site that a person made is a site as any other: it can be renamed and put away, its
-- networks say what is looked at in them, and a camera may carry a note.
alter table site add column put_away_at timestamptz;

-- The code that the first person types, by its hash; there is one only while nobody can
-- sign in.
create table first_code (
  hash bytea primary key,
  made_at timestamptz not null default now()
);

alter table network add column gateway inet;                        -- null: its first address
alter table network add column time_server inet;                    -- null: as the site asks
alter table network add column ports int[] not null default '{}';   -- looked at besides the usual ones
alter table network add column at_once int not null default 0       -- devices worked on at once; 0: as the site asks
  check (at_once between 0 and 256);

alter table device add column note text not null default '';
