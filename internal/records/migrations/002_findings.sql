create table finding (
    id        bigint generated always as identity primary key,
    at        timestamptz not null,
    node      text not null,
    route     text not null,
    url       text not null,
    key       text not null,
    kind      text not null check (kind in ('key', 'changed')),
    stored    text not null,
    origin    text not null,
    separator text not null
);
comment on table finding is 'Hits whose answer was not what the origin would have given. The newest thousand are kept.';

---- create above / drop below ----

drop table finding;
