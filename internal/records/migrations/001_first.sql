create table ledger (
    only_one boolean primary key default true check (only_one),
    sequence bigint not null
);
comment on table ledger is 'The sequence of the last purge. Its row is locked by each purge until it commits, so that the order of the numbers is the order of the commits.';
insert into ledger (sequence) values (0);

create table purge (
    sequence bigint primary key,
    at       timestamptz not null default now(),
    actor    text not null,
    reason   text not null,
    mode     text not null check (mode in ('drop', 'stale')),
    selector jsonb not null
);

create table purge_applied (
    sequence bigint not null references purge on delete cascade,
    node     text not null,
    at       timestamptz not null default now(),
    took_us  bigint not null,
    sweep_us bigint not null,
    entries  bigint not null,
    bytes    bigint not null,
    routes   jsonb not null,
    primary key (sequence, node)
);

create table revision (
    number bigint generated always as identity primary key,
    at     timestamptz not null default now(),
    actor  text not null,
    note   text not null,
    source text not null
);

create table route_switch (
    route text primary key,
    off   boolean not null,
    at    timestamptz not null default now(),
    actor text not null
);
comment on table route_switch is 'Routes switched off at run time; the route named * is all of them.';

create table figure (
    at              timestamptz not null,
    node            text not null,
    made_up         boolean not null default false,
    route           text not null,
    outcome         text not null,
    cause           text not null,
    status          smallint not null,
    requests        bigint not null,
    bytes           bigint not null,
    origin_requests bigint not null,
    origin_us       bigint not null,
    saved_us        bigint not null,
    latency         bytea not null
);
comment on table figure is 'Requests counted in time buckets; rows are only added, and later merged into longer buckets.';
create index figure_at on figure (at);

create table token (
    id      text primary key,
    name    text not null,
    rights  text[] not null,
    hash    bytea not null unique,
    created timestamptz not null default now(),
    revoked timestamptz
);

---- create above / drop below ----

drop table token, figure, route_switch, revision, purge_applied, purge, ledger;
