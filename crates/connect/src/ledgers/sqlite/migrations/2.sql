-- The ledger, version 2: positions that somebody sets, and events that are read again.

create table position_change (
  pipeline  text not null,
  arrival   text not null,
  partition text not null,
  old_major integer,                       -- null where the partition had no position
  old_minor integer,
  new_major integer not null,
  new_minor integer not null,
  at        integer not null,
  reason    text not null
) strict;

create table replay (
  pipeline text not null,
  number   integer not null,               -- the lanes of its batches end in ~NUMBER
  what     text not null,
  reason   text not null,
  at       integer not null,
  ended_at integer,
  primary key (pipeline, number)
) strict;

-- A batch that took the place of another one.
create table batch_stead (
  pipeline     text not null,
  lane         text not null,
  number       integer not null,
  first_lane   text not null,              -- the batch that read the events first
  first_number integer not null,
  last_lane    text not null,              -- the batch whose work had landed until then
  last_number  integer not null,
  primary key (pipeline, lane, number)
) strict;

create index batch_stead_last on batch_stead (pipeline, last_lane, last_number);
