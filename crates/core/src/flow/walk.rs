//! From station to station.

use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use arrow_array::{Array as _, RecordBatch};

use super::{Output, Station, stations_of};
use crate::batch::StationCount;
use crate::change::Marks;
use crate::kinds::{ChangeSupport, Fits};
use crate::plan::transform::Transformed;
use crate::plan::{BatchFolders, Groups, Plan};
use crate::reject::Reason;

/// Rows of an event, on their way to its stations.
#[derive(Clone, Copy)]
pub struct Arriving<'r> {
    /// The rows.
    pub rows: &'r RecordBatch,
    /// What goes along with them, where they are changes.
    pub marks: Option<&'r Marks>,
    /// For each row the one that was decoded; None where they are those.
    pub origin: Option<&'r [u32]>,
}

impl Arriving<'_> {
    /// The row that was decoded for a row of the event.
    pub fn decoded(&self, row: usize) -> usize {
        self.origin.map_or(row, |origin| usize::try_from(origin[row]).unwrap_or(0))
    }
}

/// What a station did with the rows that came to it.
pub struct Passed<'r> {
    /// The station.
    pub station: Station<'r>,
    /// What came to it.
    pub input: Arriving<'r>,
    /// What became of it.
    pub result: Transformed,
    /// What goes along with the rows that go on.
    pub marks: Option<Marks>,
    /// The folders of the rows that go on, where the station is a landing with a path, and all of its rows stayed.
    pub groups: Option<Groups>,
}

impl Passed<'_> {
    /// What the station did, in numbers.
    ///
    /// What waits for a station that remembers counts as what goes on; the station itself counts what it does with it.
    pub fn count(&self) -> StationCount {
        let waits = matches!(self.station.output, Output::State(_));
        StationCount {
            input: self.input.rows.num_rows() as u64,
            output: if waits { 0 } else { self.result.batch.num_rows() as u64 },
            filtered: self.result.filtered,
            rejected: self.result.faults.len() as u64,
            ..StationCount::new(self.station.name)
        }
    }

    /// The newest value of a time column of the event, of the rows that go on.
    pub fn newest(&self, time: Option<usize>) -> Option<i64> {
        let column = self.result.source.columns().get(time?)?.as_primitive_opt::<TimestampMicrosecondType>()?;
        match column.null_count() {
            0 => column.values().iter().copied().max(),
            _ => column.iter().flatten().max(),
        }
    }

    /// For each row that goes on, the row that was decoded; None where they are those.
    pub fn origin(&self) -> Option<Vec<u32>> {
        match (self.input.origin, self.result.origin.as_deref()) {
            (None, None) => None,
            (Some(rows), None) | (None, Some(rows)) => Some(rows.to_vec()),
            (Some(outer), Some(inner)) => Some(inner.iter().map(|i| outer[usize::try_from(*i).unwrap_or(0)]).collect()),
        }
    }
}

/// Sees the rows of each event, and what each station did with them.
pub trait FlowSink {
    /// Rows have come to an event, by its place in the plan.
    fn arrived(&mut self, event: usize, rows: Arriving<'_>) {
        let _ = (event, rows);
    }

    /// A station that makes an event is done; its rows go on from there.
    fn made(&mut self, event: usize, passed: &Passed<'_>);

    /// Rows wait for a station that remembers, by the place of the event that it makes; they are prepared for it.
    fn waits(&mut self, event: usize, passed: Passed<'_>);

    /// A landing's station is done, by the landing's place in the plan; `event` is the one whose rows came to it.
    fn landed(&mut self, landing: usize, event: usize, passed: Passed<'_>);
}

/// Takes rows through a plan.
#[derive(Clone, Copy)]
pub struct Walk<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// What landings know beforehand of the rows that they take.
    pub fits: &'a Fits,
    /// The folders of the batch.
    pub folders: &'a BatchFolders,
    /// The moment at which the batch was opened: the value of `now()`.
    pub now: i64,
}

impl Walk<'_> {
    /// Hands the rows of an event to its landings and to the events made of it, and so on.
    pub fn event(&self, event: usize, rows: Arriving<'_>, sink: &mut impl FlowSink) {
        sink.arrived(event, rows);
        for station in stations_of(self.plan, event) {
            match station.output {
                Output::Landing(place) => sink.landed(place, event, self.land(station, place, rows)),
                Output::State(made) => {
                    let (result, marks) = apply(station, rows, self.now, true);
                    sink.waits(made, Passed { station, input: rows, result, marks, groups: None });
                }
                Output::Event(made) => {
                    if let Some(unfold) = station.unfold {
                        for part in unfold.apply(rows, self.now) {
                            let result = part.pass(station.transform, self.now);
                            let passed = Passed { station, input: part.arriving(), result, marks: None, groups: None };
                            self.go_on(made, &passed, sink);
                        }
                        continue;
                    }
                    let (result, marks) = apply(station, rows, self.now, true);
                    let passed = Passed { station, input: rows, result, marks, groups: None };
                    self.go_on(made, &passed, sink);
                }
            }
        }
    }

    /// Hands on the rows of an event that was made.
    fn go_on(&self, made: usize, passed: &Passed<'_>, sink: &mut impl FlowSink) {
        sink.made(made, passed);
        let origin = passed.origin();
        let onwards = Arriving { rows: &passed.result.batch, marks: passed.marks.as_ref(), origin: origin.as_deref() };
        self.event(made, onwards, sink);
    }

    /// Takes rows through the station of a landing: condition and columns, then folders, then what its store takes.
    fn land<'r>(&self, station: Station<'r>, place: usize, rows: Arriving<'r>) -> Passed<'r> {
        let landing = &self.plan.landings[place];
        let is_mirror = landing.takes() == ChangeSupport::Mirror;
        let (mut result, mut marks) = apply(station, rows, self.now, is_mirror);
        let path = landing.path.as_ref();
        let mut groups = path.and_then(|path| path.refuse(&mut result, self.folders, place, self.now));
        if let Some(fit) = self.fits.get(&landing.label) {
            let kept = result.take_out(fit.unfit(&result.batch), Reason::UNFIT);
            groups = groups.filter(|_| kept.is_none());
            marks = marks.map(|marks| kept.map_or_else(|| marks.clone(), |kept| marks.take(&kept)));
        }
        Passed { station, input: rows, result, marks, groups }
    }
}

fn apply(station: Station<'_>, rows: Arriving<'_>, now: i64, keeps_left: bool) -> (Transformed, Option<Marks>) {
    match rows.marks {
        None => (station.transform.apply(rows.rows, now), None),
        Some(marks) => {
            let (result, marks) = station.transform.apply_changes(rows.rows, marks, now, keeps_left);
            (result, Some(marks))
        }
    }
}
