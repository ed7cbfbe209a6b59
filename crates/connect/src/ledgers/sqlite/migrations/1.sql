-- The ledger, version 1. Times are microseconds since 1970 in UTC.

create table ledger (
  id         text not null,               -- the UUID that every batch identity carries
  created_at integer not null
) strict;

create table lane (
  pipeline text not null,
  lane     text not null,
  epoch    integer not null,              -- grows with every take-over
  sealed   integer not null,              -- the number of the last sealed batch
  primary key (pipeline, lane)
) strict;

create table text (
  digest   text primary key,              -- SHA-256 of both
  project  text not null,
  pipeline text not null
) strict;

create table batch (
  pipeline   text not null,
  lane       text not null,
  number     integer not null,
  state      text not null check (state in ('open', 'sealed', 'settled', 'adopted')),
  opened_at  integer not null,
  sealed_at  integer,
  settled_at integer,
  read       integer not null default 0,
  bytes      integer not null default 0,
  rejected   integer not null default 0,
  text       text references text (digest),
  primary key (pipeline, lane, number)
) strict;

create index batch_unsettled on batch (pipeline, state) where state in ('open', 'sealed');

create table batch_range (
  pipeline   text not null,
  lane       text not null,
  number     integer not null,
  place      integer not null,            -- order within the batch
  partition  text not null,
  from_major integer not null,
  from_minor integer not null,
  to_major   integer not null,
  to_minor   integer not null,
  identity   text not null,
  primary key (pipeline, lane, number, place)
) strict;

create table batch_count (
  pipeline text not null,
  lane     text not null,
  number   integer not null,
  place    integer not null,
  station  text not null,
  input    integer not null,
  output   integer not null,
  filtered integer not null,
  merged   integer not null,
  rejected integer not null,
  held     integer not null,
  primary key (pipeline, lane, number, place),
  check (input = output + filtered + merged + rejected + held)
) strict;

create table batch_landing (
  pipeline  text not null,
  lane      text not null,
  number    integer not null,
  place     integer not null,
  landing   text not null,
  rows      integer not null,
  bytes     integer not null,
  work      text not null,                -- what publishing needs, as JSON
  landed_at integer,
  primary key (pipeline, lane, number, landing)
) strict;

create table position (
  pipeline  text not null,
  arrival   text not null,
  partition text not null,
  major     integer not null,
  minor     integer not null,
  identity  text not null,
  primary key (pipeline, arrival, partition)
) strict;
