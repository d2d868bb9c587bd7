alter table finding drop constraint finding_kind_check;
alter table finding add constraint finding_kind_check check (kind in ('key', 'changed', 'unkeyed-cookie', 'unkeyed-field'));
comment on table finding is 'What was noticed of routes'' keys: hits whose answer was not what the origin would have given, and cookies and fields that come with many requests though the key leaves them out. The newest thousand are kept.';

---- create above / drop below ----

delete from finding where kind not in ('key', 'changed');
alter table finding drop constraint finding_kind_check;
alter table finding add constraint finding_kind_check check (kind in ('key', 'changed'));
