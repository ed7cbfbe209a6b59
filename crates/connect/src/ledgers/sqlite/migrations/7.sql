-- Which fields the events of a pipeline have had. The row without a field counts the events themselves in `filled`.

create table field (
  pipeline         text not null,
  event            text not null,
  field            text not null,
  before           integer not null,       -- events before the batch that had it first
  filled           integer not null,       -- events with a value
  since            integer not null,       -- events since the batch that had it last
  first_batch      text not null,
  last_batch       text not null,
  first_partition  text,
  first_position   text,
  first_text       text,
  unfit            integer not null,       -- events that were rejected for its value
  unfit_partition  text,
  unfit_position   text,
  unfit_text       text,
  unfit_at         integer,                -- the last of them, in microseconds since 1970
  primary key (pipeline, event, field)
) strict;
