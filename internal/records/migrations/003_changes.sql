create table node (
    name    text primary key,
    seen    timestamptz not null default clock_timestamp(),
    started timestamptz not null,
    applied bigint not null,
    control text not null
);
comment on table node is 'The nodes that run. One that was not seen for longer than the sync limit is not waited for; it revalidates before it serves.';

create index purge_names on purge using gin (selector jsonb_path_ops);

create table change_source (
    name      text primary key,
    kind      text not null,
    cursor    text,
    deleted   text,
    seen      bytea,
    node      text not null default '',
    checked   timestamptz,
    error     text not null default '',
    failures  int not null default 0,
    behind    bigint,
    retained  bigint,
    detail    text not null default ''
);
comment on table change_source is 'How far each source of content changes was read, and how it is. checked: all that was committed before has been purged.';

create table change_run (
    id       bigint generated always as identity primary key,
    source   text not null,
    trigger  text not null,
    node     text not null,
    began    timestamptz not null,
    ended    timestamptz not null,
    changes  bigint not null,
    skipped  bigint not null,
    tags     bigint not null,
    entries  bigint not null,
    purges   bigint[] not null,
    error    text not null,
    delays   bytea not null
);
comment on table change_run is 'What was read from the sources. delays: a histogram of the times from commit to purged.';
create index change_run_source on change_run (source, id);
create index change_run_ended on change_run (ended);

create table change_item (
    source text not null,
    id     text not null,
    at     timestamptz not null default now(),
    primary key (source, id)
);
comment on table change_item is 'Changes sent by call that carried an id of their own, so that sending one again does nothing. Kept for a week.';

---- create above / drop below ----

drop table change_item, change_run, change_source, node;
drop index purge_names;
