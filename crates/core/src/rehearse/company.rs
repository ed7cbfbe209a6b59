//! What one event meets at a station that remembers: the events of its window, and the rows that it is paired with.

use std::collections::HashSet;
use std::sync::Arc;

use arrow_array::{BooleanArray, RecordBatch};
use arrow_select::filter::filter_record_batch;

use super::View;
use super::trace::{TracedPartner, TracedWindow, Tracer, values};
use crate::flow::Station;
use crate::plan::Transform;
use crate::state::{JoinPlan, WindowPlan, windows_of};

/// So many partners are shown.
const MOST: usize = 5;

/// The rows of an event as a station takes them, without those that it rejected.
struct Taken {
    rows: RecordBatch,
    /// For each of them its row among those of the event.
    origin: Vec<usize>,
}

impl Tracer<'_> {
    fn taken(&self, station: &str, transform: &Transform, view: &View) -> Option<Taken> {
        let done = transform.apply(&view.rows, self.rehearsal.now);
        let stopped = self.rehearsal.stopped.iter().filter(|stopped| stopped.station == station);
        let stopped: HashSet<usize> = stopped.map(|stopped| stopped.record).collect();
        let origin = |row: usize| done.origin.as_ref().map_or(row, |o| usize::try_from(o[row]).unwrap_or(row));
        let all: Vec<usize> = (0..done.batch.num_rows()).map(origin).collect();
        let is_taken = |row: &usize| view.records.get(*row).is_some_and(|record| !stopped.contains(record));
        let keep: Vec<bool> = all.iter().map(is_taken).collect();
        let rows = filter_record_batch(&done.batch, &BooleanArray::from(keep)).ok()?;
        Some(Taken { rows, origin: all.into_iter().filter(is_taken).collect() })
    }

    /// The windows that a row of an event goes into.
    pub(super) fn windows(
        &self,
        station: Station<'_>,
        plan: &Arc<WindowPlan>,
        (view, row): (&View, usize),
    ) -> Vec<TracedWindow> {
        let now = self.rehearsal.now;
        let Some(taken) = self.taken(station.name, station.transform, view) else { return Vec::new() };
        let Some(own) = taken.origin.iter().position(|origin| *origin == row) else { return Vec::new() };
        let columns = &plan.select.columns;
        let windows = windows_of(plan, &taken.rows, own, now).unwrap_or_default();
        let shown = windows.into_iter().map(|window| TracedWindow {
            from: window.from,
            to: window.to,
            events: window.events,
            values: window.row.map_or_else(Vec::new, |row| values(&row, 0, columns, &plan.select.texts)),
            fault: window.fault,
        });
        shown.collect()
    }

    /// The rows of the other event that a row is paired with, and how many there are.
    pub(super) fn partners(
        &self,
        station: Station<'_>,
        (made, plan): (usize, &JoinPlan),
        (view, row): (&View, usize),
    ) -> (Vec<TracedPartner>, usize) {
        let of =
            |index: usize| self.plan.events[index].makes.iter().find(|m| m.event == made && m.side != station.side);
        let other = (0..self.plan.events.len()).find_map(|index| Some((index, of(index)?)));
        let none = (Vec::new(), 0);
        let Some((index, making)) = other else { return none };
        let other_view = &self.rehearsal.events[index];
        let Some(taken) = self.taken(station.name, &making.transform, other_view) else { return none };
        let own = station.transform.apply(&view.rows.slice(row, 1), self.rehearsal.now).batch;
        if own.num_rows() != 1 {
            return none;
        }
        let found = plan.partners(station.side, &own, &taken.rows, self.rehearsal.now).unwrap_or_default();
        let event = &self.plan.events[index];
        let shown = found.iter().take(MOST).filter_map(|place| {
            let row = *taken.origin.get(usize::try_from(*place).ok()?)?;
            let record = *other_view.records.get(row)?;
            let fields = event.fields().len();
            let columns = &event.columns[..fields];
            let texts = vec![String::new(); fields];
            Some(TracedPartner {
                event: event.name.clone(),
                record,
                partition: self.rehearsal.records[record].partition.to_string(),
                position: self.rehearsal.records[record].position,
                values: values(&other_view.rows, row, columns, &texts),
            })
        });
        (shown.collect(), found.len())
    }
}
