-- Runs whose entries had their time: what is kept of them is their report, and the line by which lists show them.
create table archived_runs (run text primary key, at text not null, report text not null, words_of_report text not null, line text not null, words text not null, seal text not null);
