-- The ledger, version 4: which arrivals have begun, also those that found no partition yet.

create table begun (
  pipeline text not null,
  arrival  text not null,
  at       integer not null,               -- 0 where only its positions tell
  primary key (pipeline, arrival)
) strict;

insert into begun select distinct pipeline, arrival, 0 from position;
