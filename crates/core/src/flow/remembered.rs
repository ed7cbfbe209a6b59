//! The stations of a lane that remember, and the way of rows through them.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};

use super::made::made_chunk;
use super::{Arriving, FixedTime, FlowSink, Walk};
use crate::batch::{BatchMarks, StationCount, StationMark, arrival_in};
use crate::change::Marks;
use crate::event::{Chunk, ListPart, RecordSpan, RowOrigin};
use crate::failure::{Failure, Outcome};
use crate::plan::transform::RowFault;
use crate::plan::{ArrivalPlan, Plan};
use crate::state::{
    BatchEnd, Changed, Given, NEVER, SEALED_AFTER, Standing, StateInput, StatePlan, StateStore, Station,
    StationChanges, TimeReached, Unread, WATERMARKS_STATION, Watermarks,
};
use crate::types::SqlType;
use crate::values::time::DAY;

/// Rows that wait for a station that remembers.
pub struct Waiting {
    /// The event that the station makes, by its place in the plan.
    pub event: usize,
    /// The rows, prepared for it.
    pub rows: RecordBatch,
    /// The records that they came from.
    pub origin: RowOrigin,
    /// What is known of the time, where they came from other than the chunk itself: the watermark.
    pub watermark: Option<i64>,
    /// Of a join, the side that they come from; else 0.
    pub side: usize,
    /// What goes along with them, where they are changes.
    pub marks: Option<Marks>,
}

/// What came out of a station that remembers.
pub struct Remembered<'r> {
    /// The event that it makes, by its place in the plan.
    pub event: usize,
    /// What came to it; None where it gave something on at the end of a batch.
    pub waiting: Option<&'r Waiting>,
    /// What it did, as far as it has not been counted.
    pub count: StationCount,
    /// Rows that it could not take, and the records that these came from.
    pub faults: &'r [(RowFault, RowOrigin)],
    /// The rows that go on.
    pub rows: Option<Arriving<'r>>,
    /// The records of the rows that go on: those that came in, or what the station made of many, as JSON.
    pub chunk: &'r Arc<Chunk>,
    /// Where each of them stands.
    pub spans: &'r Arc<[RecordSpan]>,
}

/// The stations of one lane that remember, with what they keep.
pub struct Memory<'a> {
    plan: &'a Plan,
    store: Box<dyn StateStore + 'a>,
    /// By the place of the event that each makes; one that is made of another comes after it.
    pub(super) stations: BTreeMap<usize, OneStation<'a>>,
    /// Of each arrival of the lane.
    clocks: Vec<ArrivalClock>,
    waiting: VecDeque<Waiting>,
    /// Where the stations stood at the end of the batch.
    marks: BatchMarks,
    /// Where events are read again: how far time had come then.
    pub(super) fixed: Option<FixedTime>,
}

/// How far the event time of one arrival has come.
struct ArrivalClock {
    /// The arrival's name in the ledger.
    arrival: String,
    watermarks: Watermarks,
    /// What was left to read when the last chunk had been read.
    unread: Unread,
    /// Of a list, whether its present reading has rejects: which rows these are is not known, so that none counts as gone.
    is_spoiled: bool,
}

/// Where the watermark of what a station takes comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Source {
    /// An arrival of the lane, by its place.
    Arrival(usize),
    /// Another station that remembers, by the place of its event.
    Station(usize),
}

pub(super) struct OneStation<'a> {
    pub(super) name: &'a str,
    plan: &'a StatePlan,
    station: Box<dyn Station>,
    /// Where the watermark of what it takes comes from: of a join, from both sides.
    sources: Vec<Source>,
    /// How many rows it has made so far.
    pub(super) made: u64,
    /// The same, as it was kept last.
    pub(super) stored_made: u64,
}

/// How the watermarks of a lane are kept.
const WATERMARKS: (&str, &str) = (WATERMARKS_STATION, "newest event time of each partition");

/// The name under which a station's count of made rows is kept.
const MADE: &[u8] = b"@made";

/// What ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// A batch: more follow.
    Batch,
    /// A run that has read all there is. Stations may close everything then.
    CaughtUp,
    /// A sample: everything closes, to be seen.
    Everything,
}

/// The event times of the good rows of an event, where stations that remember want to know.
pub fn event_times(plan: &Plan, event: usize, rows: &RecordBatch) -> Vec<Option<i64>> {
    let Some(clock) = plan.events[event].clock else { return Vec::new() };
    match plan.events[event].columns[clock].ty {
        SqlType::Date => {
            let days = rows.column(clock).as_primitive::<Date32Type>().iter();
            days.map(|day| day.map(|day| i64::from(day) * DAY)).collect()
        }
        _ => rows.column(clock).as_primitive::<TimestampMicrosecondType>().iter().collect(),
    }
}

/// What receives rows on their way through the stations that remember.
pub trait MemorySink: FlowSink {
    /// Something came out of a station that remembers. Its rows go on from here next.
    fn remembered(&mut self, out: &Remembered<'_>);

    /// The rows that have come to wait for stations since the last call.
    fn take_waiting(&mut self) -> Vec<Waiting>;
}

impl<'a> Memory<'a> {
    /// The stations that rows of the events of these arrivals reach, with what they have kept. None where there are no such
    /// stations. The first arrival is the one whose lane it is.
    ///
    /// # Errors
    /// Where what was kept cannot be read, or is of another station under the same name.
    pub fn open(plan: &'a Plan, arrivals: &[&ArrivalPlan], store: Box<dyn StateStore + 'a>) -> Outcome<Option<Self>> {
        let clock = |arrival: &&ArrivalPlan| ArrivalClock {
            arrival: arrival.label.clone(),
            watermarks: Watermarks::default(),
            unread: Unread::default(),
            is_spoiled: false,
        };
        let clocks = arrivals.iter().map(clock).collect();
        let mut memory = Self {
            plan,
            store,
            stations: BTreeMap::new(),
            clocks,
            waiting: VecDeque::new(),
            marks: BatchMarks::default(),
            fixed: None,
        };
        for (place, arrival) in arrivals.iter().enumerate() {
            for event in arrival.events() {
                memory.open_below(event, Source::Arrival(place))?;
            }
        }
        if memory.stations.is_empty() {
            return Ok(None);
        }
        let clocks = &mut memory.clocks;
        memory.store.each(WATERMARKS.0, &mut |key, value| {
            let damaged = || Failure::internal("the watermarks in the ledger are damaged");
            let place = std::str::from_utf8(key).ok().and_then(|partition| clock_of(clocks, partition));
            // An arrival that the lane had once, and has no more, holds nothing.
            let Some(place) = place else { return Ok(()) };
            clocks[place].watermarks.restore(key, value).ok_or_else(damaged)
        })?;
        Ok(Some(memory))
    }

    fn open_below(&mut self, event: usize, source: Source) -> Outcome<()> {
        let plan = self.plan;
        for making in &plan.events[event].makes {
            let mut next = source;
            if let Some(state) = &making.state {
                let is_known = self.stations.contains_key(&making.event);
                if !is_known {
                    let name = plan.events[making.event].name.as_str();
                    let station = state.open(name, &plan.pipeline, self.store.as_ref())?;
                    let made = self.store.values(&numbers(name), &[MADE])?.into_iter().next().flatten();
                    let made = made.and_then(|value| Some(u64::from_le_bytes(value.try_into().ok()?))).unwrap_or(0);
                    let one = OneStation { name, plan: state, station, sources: Vec::new(), made, stored_made: made };
                    self.stations.insert(making.event, one);
                }
                // Rows that are looked up have no time of their own.
                let is_reference = matches!(state, StatePlan::Reference(_));
                let sources = &mut self.station(making.event)?.sources;
                let tells_time = making.side == 0 || !is_reference;
                if tells_time && !sources.contains(&source) {
                    sources.push(source);
                }
                if state.has_own_time() {
                    next = Source::Station(making.event);
                }
                // Both sides lead here: what comes after is opened once.
                let leads_on = if is_reference { making.side == 0 } else { !is_known };
                if !leads_on {
                    continue;
                }
            }
            self.open_below(making.event, next)?;
        }
        Ok(())
    }

    /// Takes what waits after a chunk through the stations, in order. `times` are the event times of the chunk's good
    /// rows; empty where the event has none.
    ///
    /// # Errors
    /// Where what was kept cannot be read.
    pub fn take(
        &mut self,
        walk: &Walk<'_>,
        (partition, list): (&Arc<str>, Option<ListPart>),
        times: &[Option<i64>],
        unread: &Unread,
        waiting: Vec<Waiting>,
        sink: &mut impl MemorySink,
    ) -> Outcome<()> {
        let own = clock_of(&self.clocks, partition).ok_or_else(|| Failure::internal("a chunk of no arrival"))?;
        self.set_unread(unread);
        self.waiting.extend(waiting);
        // One bound for all stations, so that a watermark does not depend on where chunks end.
        let ahead = self.stations.values().map(|s| s.plan.ahead()).min().unwrap_or(0);
        let latest = walk.now.saturating_add(ahead);
        while let Some(next) = self.waiting.pop_front() {
            let next = self.without_late(next, sink)?;
            let watermarks = match (self.fixed_of(&next)?, next.watermark) {
                (Some(fixed), _) => fixed,
                (None, Some(watermark)) => self.level(&next, watermark)?,
                (None, None) => {
                    let one = self.station(next.event)?;
                    let (sources, idle) = (one.sources.clone(), one.plan.idle());
                    let others = self.held(&sources, Some((own, partition)), idle).unwrap_or(i64::MAX);
                    let before = self.clocks[own].watermarks.before(partition, times, latest, others);
                    let of = |row| before.get(next.origin.decoded(row)).copied().unwrap_or(NEVER);
                    (0..next.rows.num_rows()).map(of).collect()
                }
            };
            self.pass(walk, &next, &watermarks, sink)?;
        }
        let is_spoiled = list.is_some_and(|list| list.is_end) && std::mem::take(&mut self.clocks[own].is_spoiled);
        if let Some(list) = list.filter(|list| list.is_end && !is_spoiled) {
            self.read_whole(walk, own, list.reading, sink)?;
        }
        let clock = &mut self.clocks[own];
        clock.watermarks.advance(partition, times, latest, clock.unread.at);
        Ok(())
    }

    /// Rows of a list were rejected in its present reading.
    pub fn note_rejects(&mut self, partition: &str) {
        if let Some(own) = clock_of(&self.clocks, partition) {
            self.clocks[own].is_spoiled = true;
        }
    }

    /// A list has been read whole: the references that look its rows up forget those that it has no more.
    fn read_whole(&mut self, walk: &Walk<'_>, own: usize, reading: u64, sink: &mut impl MemorySink) -> Outcome<()> {
        let arrival = self.plan.arrivals.iter().find(|arrival| arrival.label == self.clocks[own].arrival);
        for event in arrival.map_or_else(Vec::new, |arrival| self.plan.looked_up_by(arrival.event)) {
            let given = self.station(event)?.station.read_whole(reading)?;
            self.made(walk, event, (None, Vec::new(), NEVER), given, sink)?;
        }
        Ok(())
    }

    /// The watermark of rows that another station made at a watermark: the other side of a join may be behind.
    fn level(&mut self, next: &Waiting, watermark: i64) -> Outcome<Vec<i64>> {
        let one = self.station(next.event)?;
        let (sources, idle) = (one.sources.clone(), one.plan.idle());
        let held = self.held(&sources, None, idle).map_or(watermark, |held| held.min(watermark));
        Ok(vec![held; next.rows.num_rows()])
    }

    fn set_unread(&mut self, unread: &Unread) {
        if let [one] = self.clocks.as_mut_slice() {
            one.unread = unread.clone();
            return;
        }
        let mut left = vec![Vec::new(); self.clocks.len()];
        for partition in unread.partitions.iter() {
            if let Some(place) = clock_of(&self.clocks, partition) {
                left[place].push(Arc::clone(partition));
            }
        }
        for (clock, left) in self.clocks.iter_mut().zip(left) {
            clock.unread = Unread { partitions: left.into(), at: unread.at };
        }
    }

    /// What holds the watermark of some sources, one partition left out of account; None where nothing does.
    fn held(&self, sources: &[Source], left_out: Option<(usize, &str)>, idle: i64) -> Option<i64> {
        let held = |source: &Source| match source {
            Source::Arrival(place) => {
                let clock = &self.clocks[*place];
                let left_out = left_out.filter(|(own, _)| own == place).map(|(_, partition)| partition);
                clock.watermarks.held(left_out, &clock.unread, idle)
            }
            Source::Station(event) => Some(self.stations.get(event).map_or(NEVER, |above| above.station.passed())),
        };
        sources.iter().filter_map(held).min()
    }

    pub(super) fn station(&mut self, event: usize) -> Outcome<&mut OneStation<'a>> {
        self.stations.get_mut(&event).ok_or_else(|| Failure::internal("rows wait for a station that is not there"))
    }

    /// Takes rows through one station, and what it gives on to the stations below.
    fn pass(&mut self, walk: &Walk<'_>, next: &Waiting, watermarks: &[i64], sink: &mut impl MemorySink) -> Outcome<()> {
        let Self { stations, store, .. } = self;
        let one = stations.get_mut(&next.event).ok_or_else(|| Failure::internal("no such station"))?;
        let reading = next.origin.chunk.list.map_or(0, |list| list.reading);
        let marks = next.marks.as_ref();
        let input = StateInput { rows: &next.rows, watermarks, now: walk.now, side: next.side, reading, marks };
        // Rows that it makes now are judged by those that it has made before.
        let passed = one.station.passed();
        let mut given = one.station.take(input, store.as_ref())?;
        let faults = std::mem::take(&mut given.faults);
        let faults: Vec<(RowFault, RowOrigin)> = faults.into_iter().map(|f| (f, next.origin.clone())).collect();
        if given.origin.is_none() {
            return self.made(walk, next.event, (Some(next), faults, passed), given, sink);
        }
        let decoded: Option<Vec<u32>> = given.origin.as_ref().map(|rows| {
            let of = |row: &u32| u32::try_from(next.origin.decoded(usize::try_from(*row).unwrap_or(0))).unwrap_or(0);
            rows.iter().map(of).collect()
        });
        let rows = given.rows.as_ref().map(|rows| Arriving { rows, marks: None, origin: decoded.as_deref() });
        let (chunk, spans) = (&next.origin.chunk, &next.origin.spans);
        let waiting = Some(next);
        let out = Remembered { event: next.event, waiting, count: given.count, faults: &faults, rows, chunk, spans };
        sink.remembered(&out);
        if let Some(rows) = rows.filter(|rows| rows.rows.num_rows() > 0) {
            walk.event(next.event, rows, sink);
            // The time of what goes on is that of the chunk still.
            self.queue(sink, next.watermark);
        }
        Ok(())
    }

    /// Hands on the rows that a station has made of what it remembers, after reporting those that it could not take.
    fn made(
        &mut self,
        walk: &Walk<'_>,
        event: usize,
        (waiting, faults, passed): (Option<&Waiting>, Vec<(RowFault, RowOrigin)>, i64),
        given: Given,
        sink: &mut impl MemorySink,
    ) -> Outcome<()> {
        let plan = self.plan;
        let one = self.station(event)?;
        let Given { rows, lost, count, .. } = given;
        let has_made = rows.as_ref().is_some_and(|rows| rows.num_rows() > 0) || !lost.is_empty();
        let empty: (Arc<Chunk>, Arc<[RecordSpan]>) = (Arc::new(Chunk::default()), Arc::from([]));
        if waiting.is_some() || !has_made {
            let count = if has_made { StationCount::new(one.name) } else { count.clone() };
            let (chunk, spans) = waiting.map_or((&empty.0, &empty.1), |w| (&w.origin.chunk, &w.origin.spans));
            sink.remembered(&Remembered { event, waiting, count, faults: &faults, rows: None, chunk, spans });
        }
        if !has_made {
            return Ok(());
        }
        let columns = &plan.events[event].columns;
        let rows = rows.unwrap_or_else(|| RecordBatch::new_empty(crate::plan::transform::schema_of(columns)));
        let first = one.made;
        one.made += (rows.num_rows() + lost.len()) as u64;
        let (chunk, spans) = made_chunk(one.name, first, &rows, columns, &lost);
        let origin = |row: usize| RowOrigin {
            chunk: Arc::clone(&chunk),
            spans: Arc::clone(&spans),
            rows: Some(Arc::from([u32::try_from(row).unwrap_or(u32::MAX)])),
        };
        // What was lost stands after the rows.
        let lost = lost.into_iter().enumerate();
        let faults: Vec<(RowFault, RowOrigin)> =
            lost.map(|(i, (fault, _))| (RowFault { row: 0, ..fault }, origin(rows.num_rows() + i))).collect();
        let arriving = Arriving { rows: &rows, marks: None, origin: None };
        let (rows_out, chunk, spans) = (Some(arriving), &chunk, &spans);
        sink.remembered(&Remembered { event, waiting: None, count, faults: &faults, rows: rows_out, chunk, spans });
        if rows.num_rows() > 0 {
            walk.event(event, arriving, sink);
            self.queue(sink, Some(passed));
        }
        Ok(())
    }

    /// Takes over what has come to wait; `watermark` is what is known of its time, where that is not of a chunk.
    fn queue(&mut self, sink: &mut impl MemorySink, watermark: Option<i64>) {
        self.waiting.extend(sink.take_waiting().into_iter().map(|waiting| Waiting { watermark, ..waiting }));
    }

    /// The watermark of what a station takes.
    fn watermark(&self, event: usize) -> i64 {
        let Some(one) = self.stations.get(&event) else { return NEVER };
        // Where all are silent, the newest event of all says how far time has come.
        let newest = |source: &Source| match source {
            Source::Arrival(place) => self.clocks[*place].watermarks.newest(),
            Source::Station(_) => NEVER,
        };
        let held = self.held(&one.sources, None, one.plan.idle());
        held.unwrap_or_else(|| one.sources.iter().map(newest).max().unwrap_or(NEVER))
    }

    /// Ends a batch, or everything: what closes goes on. It may be much, and comes in parts: after each of them `taken` may take
    /// it out of the sink.
    ///
    /// # Errors
    /// Where what was kept cannot be read, or `taken` fails.
    pub fn end<S: MemorySink>(
        &mut self,
        walk: &Walk<'_>,
        ending: Ending,
        sink: &mut S,
        mut taken: impl FnMut(&mut S) -> Outcome<()>,
    ) -> Outcome<()> {
        let events: Vec<usize> = self.stations.keys().copied().collect();
        for event in events {
            let reached = self.watermark(event);
            let name = self.station(event)?.name;
            let then = self.fixed.as_ref().and_then(|fixed| fixed.now.stations.get(name).copied());
            let one = self.station(event)?;
            let all = match ending {
                Ending::Batch => false,
                Ending::CaughtUp => one.plan.closes_when_caught_up(),
                Ending::Everything => true,
            };
            let mark = then.unwrap_or(StationMark { reached, all, made: one.stored_made });
            // Rows that it makes now are judged by those that it has made before.
            let passed = one.station.passed();
            self.marks.stations.insert(name.to_string(), mark);
            let mut has_more = true;
            while has_more {
                let Self { stations, store, .. } = self;
                let one = stations.get_mut(&event).ok_or_else(|| Failure::internal("no such station"))?;
                let given = one.station.end(mark.reached, mark.all, store.as_ref())?;
                has_more = given.has_more;
                self.made(walk, event, (None, Vec::new(), passed), given, sink)?;
                self.pass_waiting(walk, passed, sink)?;
                taken(sink)?;
            }
        }
        Ok(())
    }

    /// Takes what a station has made at the end of a batch through the stations below it.
    fn pass_waiting(&mut self, walk: &Walk<'_>, passed: i64, sink: &mut impl MemorySink) -> Outcome<()> {
        while let Some(next) = self.waiting.pop_front() {
            let next = self.without_late(next, sink)?;
            let watermarks = match self.fixed_of(&next)? {
                Some(fixed) => fixed,
                None => self.level(&next, next.watermark.unwrap_or(passed))?,
            };
            self.pass(walk, &next, &watermarks, sink)?;
        }
        Ok(())
    }

    /// Where the stations stood at the end of the last batch.
    pub fn take_marks(&mut self) -> BatchMarks {
        let newest = self.newest().max().unwrap_or(NEVER);
        BatchMarks { newest, ..std::mem::take(&mut self.marks) }
    }

    /// Whether an end now would close something.
    pub fn would_close(&mut self, caught_up: bool, unread: &Unread) -> bool {
        self.set_unread(unread);
        let would = |(event, one): (&usize, &OneStation<'_>)| {
            let all = caught_up && one.plan.closes_when_caught_up();
            one.station.would_give(self.watermark(*event), all)
        };
        self.stations.iter().any(would)
    }

    /// The newest event time of each arrival.
    pub fn newest(&self) -> impl Iterator<Item = i64> {
        self.clocks.iter().map(|clock| clock.watermarks.newest())
    }

    /// What the stations hold, each with its name, and how far event time has come.
    pub fn standing(&self) -> (Vec<(&'a str, &'a StatePlan, Standing)>, TimeReached) {
        let stations = self.stations.values().map(|one| (one.name, one.plan, one.station.standing()));
        let reached = self.clocks.iter().map(|clock| clock.watermarks.reached());
        (stations.collect(), reached.reduce(TimeReached::with).unwrap_or_default())
    }

    /// What has changed since the last call, for the seal of the batch of this number.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn changes(&mut self, now: i64, number: u64) -> Outcome<Vec<StationChanges>> {
        let sealed = self.store.kept(WATERMARKS.0)?.map(|kept| kept.batch);
        let unsealed = sealed.map_or(SEALED_AFTER, |sealed| number.saturating_sub(sealed.saturating_add(1)));
        let idle = self.stations.values().map(|s| s.plan.idle()).max().unwrap_or(0);
        let mut all = vec![StationChanges {
            station: WATERMARKS.0.into(),
            manner: WATERMARKS.1.into(),
            changed: Changed {
                changes: self.clocks.iter_mut().flat_map(|c| c.watermarks.changes(&c.unread, idle)).collect(),
                ..Changed::default()
            },
        }];
        let events: Vec<usize> = self.stations.keys().copied().collect();
        for event in events {
            let reached = self.watermark(event);
            let Some(one) = self.stations.get_mut(&event) else { continue };
            let watermark = self.fixed.as_ref().map_or(reached, |fixed| fixed.now.reached(one.name));
            let changed = one.station.changes(BatchEnd { watermark, now, unsealed }, self.store.as_ref())?;
            let manner = one.plan.manner();
            all.push(StationChanges { station: one.name.to_string(), manner, changed });
            if one.made != one.stored_made {
                one.stored_made = one.made;
                let value = Some(one.made.to_le_bytes().to_vec());
                let change = crate::state::StateChange { key: MADE.into(), value, due: None };
                let (station, manner) = (numbers(one.name), "rows made".to_string());
                let changed = Changed { changes: vec![change], ..Changed::default() };
                all.push(StationChanges { station, manner, changed });
            }
        }
        Ok(all)
    }
}

/// The clock of the arrival of a partition.
fn clock_of(clocks: &[ArrivalClock], partition: &str) -> Option<usize> {
    match arrival_in(partition) {
        None => Some(0),
        Some(arrival) => clocks.iter().position(|clock| clock.arrival == arrival),
    }
}

/// The name under which a station's count of made rows is kept.
fn numbers(name: &str) -> String {
    format!("@made.{name}")
}
