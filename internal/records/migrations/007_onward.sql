create table onward (
    name     text primary key,
    sequence bigint not null,
    mark     text not null,
    told     timestamptz,
    error    text not null default '',
    failures int not null default 0,
    kept     timestamptz not null default now()
);
comment on table onward is 'How far in the ledger each cache or service beyond has been told of purges, and how its last try went.';

---- create above / drop below ----

drop table onward;
