-- What is kept can be told from what was changed, cut or taken away: entries of a run are a chain, every other row has
-- a seal of its own, and what ends a chain or a row of revisions stands beside it. Rows of before get theirs now.
alter table journal add column digest text not null default '';
alter table runs add column length bigint not null default 0;
alter table runs add column head text not null default '';
alter table runs add column seal text not null default '';
alter table documents add column seal text not null default '';
alter table plans add column seal text not null default '';
alter table outputs add column seal text not null default '';
create table document_heads (kind text not null, id text not null, revision bigint not null, first bigint not null default 1, primary key (kind, id));
