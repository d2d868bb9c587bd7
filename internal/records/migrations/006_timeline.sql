-- What happened to the cache beside purges and revisions, which have tables of their own.
create table time_mark (
    id     bigint generated always as identity primary key,
    at     timestamptz not null default now(),
    kind   text not null,
    name   text not null,
    actor  text not null,
    detail text not null
);
create index on time_mark (at);
create index on purge (at);
comment on table time_mark is 'Switches of routes, releases of applications, restarts of nodes, and what people marked, for the time line.';

alter table finding drop constraint finding_kind_check; -- the program knows the kinds

---- create above / drop below ----

drop table time_mark;
drop index purge_at_idx;
