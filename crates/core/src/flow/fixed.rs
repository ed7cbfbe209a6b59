//! Time as it was: where events are read again, stations judge them as they did when they were read first.

use std::collections::HashMap;
use std::sync::Arc;

use super::{Memory, MemorySink, Remembered, Waiting};
use crate::batch::{BatchMarks, StationCount};
use crate::event::RowOrigin;
use crate::failure::Outcome;
use crate::plan::transform::{RowFault, filter};
use crate::reject::Reason;

/// The events that came too late at a station, by partition and position, and what was said of them.
pub type LateEvents = HashMap<(Arc<str>, u64), String>;

/// Where the stations stood around a batch that is read again.
///
/// In a run each event is judged by those before it. The order in which partitions came is not known any more, so an event
/// is judged by the end of the batch before its own, unless it came too late then: such events are known by their rejects.
#[derive(Clone, Debug, Default)]
pub struct FixedTime {
    /// At the end of the batch before it.
    pub before: BatchMarks,
    /// At its own end.
    pub now: BatchMarks,
    /// The events that came too late, by station.
    pub late: HashMap<String, LateEvents>,
}

impl FixedTime {
    /// Parts rows that come to a station from those that came too late for it: those to take, and what is wrong with the others.
    pub(super) fn without_late(&self, station: &str, waiting: Waiting) -> (Waiting, Vec<RowFault>) {
        let Some(late) = self.late.get(station) else { return (waiting, Vec::new()) };
        let origin = &waiting.origin;
        let (mut faults, mut is_kept, mut kept) = (Vec::new(), Vec::new(), Vec::new());
        for row in 0..waiting.rows.num_rows() {
            let place = (Arc::clone(&origin.chunk.partition), origin.position(row).major);
            let message = late.get(&place);
            is_kept.push(message.is_none());
            match message {
                Some(message) => {
                    faults.push(RowFault { row, column: None, reason: Reason::LATE, message: message.clone() });
                }
                None => kept.push(u32::try_from(origin.decoded(row)).unwrap_or(u32::MAX)),
            }
        }
        if faults.is_empty() {
            return (waiting, faults);
        }
        let origin = RowOrigin { rows: Some(kept.into()), ..origin.clone() };
        let rows = filter(&waiting.rows, &is_kept.into());
        (Waiting { rows, origin, ..waiting }, faults)
    }
}

impl Memory<'_> {
    /// Reads the next batch again: stations stand where they stood when it was read first.
    pub fn fix(&mut self, fixed: FixedTime) {
        for one in self.stations.values_mut() {
            one.made = fixed.now.stations.get(one.name).map_or(0, |mark| mark.made);
            one.stored_made = one.made;
        }
        self.fixed = Some(fixed);
    }

    /// The watermarks of rows of a batch that is read again.
    pub(super) fn fixed_of(&mut self, next: &Waiting) -> Outcome<Option<Vec<i64>>> {
        let name = self.station(next.event)?.name;
        Ok(self.fixed.as_ref().map(|fixed| vec![fixed.before.reached(name); next.rows.num_rows()]))
    }

    /// Rejects what came too late when it was read first, where it is read again.
    pub(super) fn without_late(&mut self, next: Waiting, sink: &mut impl MemorySink) -> Outcome<Waiting> {
        let name = self.station(next.event)?.name;
        let Some(fixed) = &self.fixed else { return Ok(next) };
        let origin = next.origin.clone();
        let (kept, faults) = fixed.without_late(name, next);
        if !faults.is_empty() {
            let count = StationCount { rejected: faults.len() as u64, ..StationCount::new(name) };
            let faults: Vec<(RowFault, RowOrigin)> = faults.into_iter().map(|fault| (fault, origin.clone())).collect();
            let (chunk, spans) = (&origin.chunk, &origin.spans);
            let (event, waiting) = (kept.event, Some(&kept));
            sink.remembered(&Remembered { event, waiting, count, faults: &faults, rows: None, chunk, spans });
        }
        Ok(kept)
    }
}
