alter table figure add column work text not null default '';
comment on column figure.work is 'Work that was done and saved, by name: name=spent/saved, and so on; two lists one behind the other are their sum.';

---- create above / drop below ----

alter table figure drop column work;
