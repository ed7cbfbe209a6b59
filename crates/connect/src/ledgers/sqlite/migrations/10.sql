-- The ledger, version 10: notices, and which of their messages have reached whom.

create table notice (
  id       integer primary key,
  rule     text not null,               -- [notice.NAME] of sluice.toml
  pipeline text not null,
  subject  text not null,               -- what of the pipeline, where there can be several
  began_at integer not null,
  message  text not null,
  help     text not null,
  over_at  integer,
  over     text                         -- how it was over
) strict;

-- One at a time of each rule, pipeline and subject, and few of all are open.
create unique index notice_open on notice (rule, pipeline, subject) where over_at is null;

create table notice_message (
  notice    integer not null references notice (id),
  phase     text not null check (phase in ('begins', 'over')),
  recipient text not null,
  tries     integer not null default 0,
  try_at    integer not null,           -- when it is tried next
  error     text,                       -- why the last try failed
  sent_at   integer,
  primary key (notice, phase, recipient)
) strict;

create index notice_message_waiting on notice_message (recipient, notice) where sent_at is null;

-- Totals by the hour in which batches were opened, kept by triggers: a million batches are not added up to show a figure. Batches of
-- lanes beside others (`~`) read events again and do not count.
create table batch_hour (
  pipeline     text not null,
  start        integer not null,
  settled      integer not null default 0,
  sealed       integer not null default 0,
  read         integer not null default 0,
  bytes        integer not null default 0,
  rejected     integer not null default 0,
  landed       integer not null default 0,          -- rows, rejects not counted
  longest      integer not null default 0,          -- from opening to settling
  last_settled integer,
  primary key (pipeline, start)
) strict, without rowid;

insert into batch_hour
  select pipeline, (opened_at / 3600000000) * 3600000000 as hour,
         sum(state = 'settled'), sum(state = 'sealed'), sum(read), sum(bytes), sum(rejected),
         sum((select coalesce(sum(l.rows), 0) from batch_landing l
              where l.pipeline = b.pipeline and l.lane = b.lane and l.number = b.number
                and l.landing <> 'rejects' and l.landed_at is not null)),
         coalesce(max(case when state = 'settled' then settled_at - opened_at end), 0), max(settled_at)
  from batch b where state <> 'open' and instr(lane, '~') = 0
  group by pipeline, hour;

create trigger batch_hour_of_new after insert on batch when instr(new.lane, '~') = 0 begin
  insert into batch_hour (pipeline, start)
    select new.pipeline, (new.opened_at / 3600000000) * 3600000000
    where not exists (select 1 from batch_hour where pipeline = new.pipeline
                        and start = (new.opened_at / 3600000000) * 3600000000);
  update batch_hour set
    settled = settled + (new.state = 'settled'), sealed = sealed + (new.state = 'sealed'),
    read = read + iif(new.state <> 'open', new.read, 0), bytes = bytes + iif(new.state <> 'open', new.bytes, 0),
    rejected = rejected + iif(new.state <> 'open', new.rejected, 0),
    last_settled = nullif(max(coalesce(last_settled, 0), coalesce(new.settled_at, 0)), 0)
  where new.state <> 'open' and pipeline = new.pipeline and start = (new.opened_at / 3600000000) * 3600000000;
end;

create trigger batch_hour_of_changed after update of state, read, bytes, rejected, settled_at on batch
when instr(new.lane, '~') = 0 begin
  update batch_hour set
    settled = settled + (new.state = 'settled') - (old.state = 'settled'),
    sealed = sealed + (new.state = 'sealed') - (old.state = 'sealed'),
    read = read + iif(new.state <> 'open', new.read, 0) - iif(old.state <> 'open', old.read, 0),
    bytes = bytes + iif(new.state <> 'open', new.bytes, 0) - iif(old.state <> 'open', old.bytes, 0),
    rejected = rejected + iif(new.state <> 'open', new.rejected, 0) - iif(old.state <> 'open', old.rejected, 0),
    longest = max(longest, iif(new.state = 'settled', coalesce(new.settled_at - new.opened_at, 0), 0)),
    last_settled = nullif(max(coalesce(last_settled, 0), coalesce(new.settled_at, 0)), 0)
  where pipeline = new.pipeline and start = (new.opened_at / 3600000000) * 3600000000;
end;

create trigger batch_hour_of_new_landing after insert on batch_landing
when new.landed_at is not null and new.landing <> 'rejects' and instr(new.lane, '~') = 0 begin
  update batch_hour set landed = landed + new.rows
  where pipeline = new.pipeline
    and start = (select (opened_at / 3600000000) * 3600000000 from batch
                 where pipeline = new.pipeline and lane = new.lane and number = new.number);
end;

create trigger batch_hour_of_landed after update of rows, landed_at on batch_landing
when new.landing <> 'rejects' and instr(new.lane, '~') = 0 begin
  update batch_hour set landed = landed + iif(new.landed_at is not null, new.rows, 0)
                                        - iif(old.landed_at is not null, old.rows, 0)
  where pipeline = new.pipeline
    and start = (select (opened_at / 3600000000) * 3600000000 from batch
                 where pipeline = new.pipeline and lane = new.lane and number = new.number);
end;

-- The event time of the newest row that a landing got of a batch.
alter table batch_landing add column newest integer;

-- The newest batches, the slowest and the largest are found without looking at all of them.
create index batch_opened on batch (pipeline, opened);
create index batch_longest on batch (pipeline, settled_at - opened_at) where state = 'settled';
create index batch_largest on batch (pipeline, bytes) where state = 'settled';

-- What a start asks for is found without looking at all batches: a condition has to stand in a query as it stands in its index.
drop index batch_unsettled;
create index batch_open on batch (pipeline, lane) where state = 'open';
create index batch_sealed on batch (pipeline, lane, number) where state = 'sealed';
create index batch_landing_waiting on batch_landing (pipeline) where landed_at is null;

-- Runs that ended before they were asked to.
create table failure (
  id       integer primary key,
  pipeline text not null,
  at       integer not null,
  kind     text not null,
  message  text not null,
  help     text
) strict;

create index failure_of_pipeline on failure (pipeline, id);

insert into failure (pipeline, at, kind, message, help) select pipeline, at, kind, message, help from run_end order by at;
