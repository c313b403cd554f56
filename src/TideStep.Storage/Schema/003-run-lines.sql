-- Runs as lists show them, each as it was after one of its entries: rebuilt from the journal wherever that has gone on.
create table run_lines (run text primary key, sequence bigint not null, body text not null, words text not null);
