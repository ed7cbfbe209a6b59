-- The ledger, version 3: the order of opening, all readings of a batch, names of arrivals and landings, how a run ended.

alter table ledger add column opened integer not null default 0;  -- the last place in the order of opening
alter table batch add column opened integer;                      -- its place in that order

update batch set opened = o.place
from (select pipeline, lane, number, row_number() over (order by opened_at, lane, number) as place from batch) o
where o.pipeline = batch.pipeline and o.lane = batch.lane and o.number = batch.number;

-- Rows that older versions landed in keyed tables carry larger numbers: what comes from now on stands after them.
update ledger set opened = 2147483648 where exists (select 1 from batch);

-- A batch that reads events again.
create table reread (
  pipeline     text not null,
  lane         text not null,
  number       integer not null,
  first_lane   text not null,              -- the batch that read the events first
  first_number integer not null,
  whole        integer not null,           -- whether it reads all of that batch
  primary key (pipeline, lane, number)
) strict;

create index reread_first on reread (pipeline, first_lane, first_number);

insert into reread select pipeline, lane, number, first_lane, first_number, 1 from batch_stead;

-- Retries, and replays into another landing, did not name their first batch: it is the one that holds their ranges.
insert into reread
select a.pipeline, a.lane, a.number, m.lane, m.number,
       min(a.from_major = m.from_major and a.from_minor = m.from_minor and a.to_major = m.to_major
           and a.to_minor = m.to_minor)
from batch_range a
join batch_range m on m.pipeline = a.pipeline and m.lane = substr(a.lane, 1, instr(a.lane, '~') - 1)
                  and m.partition = a.partition
                  and (m.from_major, m.from_minor) <= (a.from_major, a.from_minor)
                  and (a.from_major, a.from_minor) < (m.to_major, m.to_minor)
where a.lane like '%~%'
  and not exists (select 1 from reread r where r.pipeline = a.pipeline and r.lane = a.lane and r.number = a.number)
group by a.pipeline, a.lane, a.number;

drop table batch_stead;

-- The names under which arrivals and landings stand here, and what they read and write.
create table known (
  pipeline text not null,
  kind     text not null check (kind in ('arrival', 'landing')),
  name     text not null,
  place    text not null,                  -- empty for one that was given up
  part     text not null,
  primary key (pipeline, kind, name)
) strict;

insert into known select distinct pipeline, 'arrival', arrival, '?', '' from position;
insert into known select distinct pipeline, 'landing', landing, '?', '' from batch_landing where landing <> 'rejects';

-- What somebody decided about an arrival that was not recognised.
create table choice (
  pipeline text not null,
  name     text not null,
  place    text not null,
  part     text not null,
  at       integer not null,
  reason   text not null
) strict;

-- Why the last run of a pipeline ended before it was asked to.
create table run_end (
  pipeline text primary key,
  kind     text not null,
  message  text not null,
  help     text,
  at       integer not null
) strict;
