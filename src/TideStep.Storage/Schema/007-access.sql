-- People, programs' tokens and sessions, each as one row with its digest; sessions and tokens are found by the hash of what is shown.
create table access (kind text not null, id text not null, revision bigint not null, body text not null, seal text not null, primary key (kind, id));
-- Who did what: append-only, each line's seal over that of the line before it. A line whose cut is set stands for all that were taken away up to it.
create table record (number bigint primary key, at text not null, who text not null, about text not null, body text not null, seal text not null, cut text);
create index record_at on record (at);
create index record_who on record (who, number);
create index record_about on record (about, number);
