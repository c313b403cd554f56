-- Everything Tide Step keeps. {identity} stands for the store's own way of numbering rows.
create table settings (name text primary key, value text not null);
create table counters (name text primary key, value bigint not null);
create table documents (kind text not null, id text not null, revision bigint not null, digest text not null, body text not null, at text not null, author text not null, primary key (kind, id, revision));
create table plans (digest text primary key, estate text not null, kind text not null, body text not null, at text not null, author text not null);
create table runs (id text primary key, plan text not null, parent text, opened_at text not null, epoch bigint not null default 0, owner text, ended text);
create table journal (position {identity}, run text not null, sequence bigint not null, epoch bigint not null, at text not null, event text not null, unique (run, sequence));
create table reservations (subject text primary key, run text not null);
create table outputs (run text not null, attempt text not null, body text not null, primary key (run, attempt));
create table answers (key text primary key, request text not null, body text not null, at text not null);
create index runs_open on runs (ended);
insert into counters (name, value) values ('epoch', 0);
