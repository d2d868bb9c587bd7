-- The application whose fragments a token may load and store; '' for tokens without that right.
alter table token add column namespace text not null default '';
