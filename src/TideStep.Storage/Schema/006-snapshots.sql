-- States of runs as they were after one of their entries, for who takes a run up: copies that the journal can rebuild.
create table run_snapshots (run text primary key, sequence bigint not null, digest text not null, plan text not null, shape text not null, body text not null, seal text not null);
-- What runs leave that is asked for over all runs: their rollback points, what they did to those of others, what is left to be done.
create table run_traces (run text primary key, sequence bigint not null, shape text not null, body text not null, seal text not null);
-- Kept beyond the entries: a run of long ago may have made a point void that still lies on its node.
alter table archived_runs add column trace text not null default '';
create index runs_opened on runs (opened_at, id);
create index plans_at on plans (at, digest);
create index notices_at on notices (at, id);
