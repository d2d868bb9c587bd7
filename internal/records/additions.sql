-- What was added to the tables without a number of its own, since the program before this one
-- does not start with a database whose number it does not know. Programs from this one on do, so
-- that what comes next goes into migrations/.

-- A random mark tells a row from the one that has its number in another history of the
-- ledger, as after a failover or a restore that lost the last purges.
alter table purge add column if not exists mark uuid not null default gen_random_uuid();

-- The newest row is the place that every node checks: it is never forgotten.
insert into purge (sequence, actor, reason, mode, selector)
    select sequence, 'start', 'the newest purge, which had been forgotten', 'drop', '{}' from ledger
    where sequence > 0 and not exists (select from purge where purge.sequence = ledger.sequence);

alter table change_source add column if not exists owed text not null default '';
comment on column change_source.owed is 'Why everything must be purged before the source is read on; empty if nothing is owed.';

alter table change_source add column if not exists ahead text not null default '';
comment on column change_source.ahead is 'How far each query of a table was read beyond the cursor, which waits for the transactions that had not ended then.';

alter table node add column if not exists trouble text not null default '';
comment on column node.trouble is 'What the node has to do without, in words; empty if nothing.';

alter table token add column if not exists at_most bigint not null default 0;
comment on column token.at_most is 'Bytes of memory that the fragments of its namespace may take on a node; 0: as much as there is.';

create table if not exists hottest (
    node    text not null,
    started timestamptz not null,
    list    bytea not null,
    primary key (node, started)
);
comment on table hottest is 'What a node was asked for most, in JSON, for the present life of the node and the one before.';

create table if not exists size (
    at            timestamptz not null,
    node          text not null,
    tier          text not null,
    entries       bigint not null,
    bytes         bigint not null,
    limit_bytes   bigint not null,
    added         bigint not null,
    evicted       bigint not null,
    expired       bigint not null,
    purged        bigint not null,
    evicted_age_s double precision not null,
    primary key (at, node, tier)
);
comment on table size is 'What each tier of each node had at the end of a minute, and what came and went in it.';
