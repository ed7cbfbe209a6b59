-- Rows that left a join without a partner.

alter table batch_count rename to old_batch_count;

create table batch_count (
  pipeline  text not null,
  lane      text not null,
  number    integer not null,
  place     integer not null,
  station   text not null,
  input     integer not null,
  output    integer not null,
  filtered  integer not null,
  merged    integer not null,
  rejected  integer not null,
  held      integer not null,              -- less than 0 where it keeps fewer events than before
  repeated  integer not null default 0,
  made      integer not null default 0,
  unmatched integer not null default 0,
  primary key (pipeline, lane, number, place),
  check (input + made = output + filtered + merged + repeated + unmatched + rejected + held)
) strict;

insert into batch_count
select pipeline, lane, number, place, station, input, output, filtered, merged, rejected, held, repeated, made, 0
from old_batch_count;

drop table old_batch_count;
