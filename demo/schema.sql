create table if not exists port (
    slug text primary key, name text not null, island text not null, facilities text not null, rank int not null,
    updated_at timestamptz not null default now());
create table if not exists vessel (
    id int primary key, name text not null, capacity int not null, decks int not null, hull text not null,
    updated_at timestamptz not null default now());
create table if not exists sailing (
    id int generated always as identity primary key,
    from_port text not null references port, to_port text not null references port, vessel_id int not null references vessel,
    departs_at timestamptz not null, arrives_at timestamptz not null,
    status text not null default 'on time' check (status in ('on time', 'delayed', 'cancelled')),
    fare int not null, updated_at timestamptz not null default date_trunc('second', now()));
create index if not exists sailing_departures on sailing (from_port, departs_at);
create index if not exists sailing_departs on sailing (departs_at);
create table if not exists notice (
    id int generated always as identity primary key, title text not null, text text not null,
    severity text not null check (severity in ('info', 'minor', 'severe')), until_at timestamptz not null default now() + interval '30 days');
create table if not exists notice_port (notice_id int not null references notice on delete cascade, port text not null references port, primary key (notice_id, port));
create table if not exists booking (id int generated always as identity primary key, customer text not null, sailing_id int not null references sailing);

-- How often the desk has changed a row: it purges by itself, so that what changes without
-- this was changed by somebody else.
alter table sailing add column if not exists desk_edit int not null default 0;
alter table notice add column if not exists desk_edit int not null default 0;
-- The log holds old values only where it is told to.
alter table sailing replica identity full;
alter table notice replica identity full;
alter table vessel replica identity full;
alter table port replica identity full;
-- What was deleted, for those who look later.
create table if not exists tombstone (kind text not null, id text not null, was jsonb not null, deleted_at timestamptz not null default clock_timestamp());
create or replace function bury() returns trigger language plpgsql as $$
begin
    insert into tombstone (kind, id, was) values (tg_table_name, old.id::text, to_jsonb(old));
    return null;
end $$;
create or replace trigger buried after delete on sailing for each row execute function bury();
create or replace trigger buried after delete on notice for each row execute function bury();
create index if not exists sailing_updated on sailing (updated_at);
