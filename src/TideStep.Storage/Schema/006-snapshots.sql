-- States of runs as they were after one of their entries, for who takes a run up: copies that the journal can rebuild.
create table run_snapshots (run text primary key, sequence bigint not null, digest text not null, plan text not null, shape text not null, body text not null, seal text not null);
