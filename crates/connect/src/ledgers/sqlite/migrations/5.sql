-- The ledger, version 5: what stations that remember keep, and what they count.

create table state_station (
  id       integer primary key,
  pipeline text not null,
  lane     text not null,
  station  text not null,
  manner   text not null,                  -- what the station is, in words: another one does not understand what is kept
  batch    integer not null,               -- the last one that went through it
  unique (pipeline, lane, station)
) strict;

create table state (
  station integer not null,
  key     blob not null,
  value   blob not null,
  due     integer,                         -- when it may be forgotten, in microseconds since 1970; null: never by itself
  primary key (station, key)
) strict, without rowid;

-- Which keys of a batch are due, together: an index by time would cost as much as the keys themselves.
create table state_due (
  station integer not null,
  batch   integer not null,
  due     integer not null,                -- when all of them are due
  keys    blob not null,                   -- each with its length before it, in 4 bytes, the lowest first
  primary key (station, batch)
) strict;

alter table batch_count rename to old_batch_count;

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
  held     integer not null,               -- less than 0 where it keeps fewer events than before
  repeated integer not null default 0,
  made     integer not null default 0,
  primary key (pipeline, lane, number, place),
  check (input + made = output + filtered + merged + repeated + rejected + held)
) strict;

insert into batch_count
select pipeline, lane, number, place, station, input, output, filtered, merged, rejected, held, 0, 0 from old_batch_count;

drop table old_batch_count;
