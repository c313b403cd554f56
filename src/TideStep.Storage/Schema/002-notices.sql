-- Notices that are to be sent, and those that were. How far the journal was read for them is a counter.
create table notices (id text primary key, run text not null, rule text not null, moment text not null, body text not null, at text not null, state text not null, attempts bigint not null, next_at text not null, said text);
create index notices_due on notices (state, next_at);
insert into counters (name, value) select 'notices', coalesce(max(position), 0) from journal;
