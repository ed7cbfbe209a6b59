//! The way of the elements of a list through the stations below the one that unfolds it. Several rows have one record there, so what
//! a station does is computed for each of them.

use arrow_array::RecordBatch;

use super::StopCause;
use super::trace::{TracedStation, Tracer, Use, conditions, values};
use crate::flow::{Arriving, Output, Station, Unfold, stations_of};
use crate::plan::Transformed;

/// So many elements of a list are followed.
const MOST: usize = 5;

impl Tracer<'_> {
    /// The elements of the list of one row.
    pub(super) fn elements(&mut self, station: Station<'_>, unfold: &Unfold, made: usize, row: &RecordBatch) {
        let now = self.rehearsal.now;
        let arriving = Arriving { rows: row, marks: None, origin: None };
        for part in unfold.apply(arriving, now) {
            let rows = part.arriving().rows;
            let count = rows.num_rows();
            if let Some(fault) = part.faults().first() {
                let column = fault.column.clone();
                let fate = StopCause::Rejected { reason: fault.reason, field: column, message: fault.message.clone() };
                self.stations.push(TracedStation { fate: Some(fate), ..named(station.name, false) });
            }
            for number in 0..part.good().min(MOST) {
                let element = Some((number + 1, count));
                if let Some(row) = self.one(station, &rows.slice(number, 1), element) {
                    self.below(made, &row, element);
                }
            }
        }
    }

    /// What one station does with one row; the row that goes on.
    fn one(&mut self, station: Station<'_>, row: &RecordBatch, element: Option<(usize, usize)>) -> Option<RecordBatch> {
        let transform = station.transform;
        let Transformed { batch, faults, .. } = transform.apply(row, self.rehearsal.now);
        let conditions = conditions(transform, row, 0, self.rehearsal.now);
        let goes_on = batch.num_rows() == 1;
        let fate = match faults.first() {
            Some(fault) => Some(StopCause::Rejected {
                reason: fault.reason,
                field: fault.column.clone(),
                message: fault.message.clone(),
            }),
            None if !goes_on => {
                let part = conditions.iter().find(|(_, truth)| *truth != Some(true));
                let (part, truth) = part.cloned().unwrap_or_default();
                Some(StopCause::Filtered { part, is_null: truth.is_none() })
            }
            None => None,
        };
        let mut all = if goes_on { values(&batch, 0, &transform.columns, &transform.texts) } else { Vec::new() };
        all.retain(|value| !value.name.starts_with('@'));
        let remembers = matches!(station.output, Output::State(_));
        let is_landing = matches!(station.output, Output::Landing(_));
        let (gathered, values) = if remembers && goes_on { (Some(all), Vec::new()) } else { (None, all) };
        self.stations.push(TracedStation {
            conditions,
            values,
            fate,
            gathered,
            element,
            ..named(station.name, is_landing)
        });
        goes_on.then_some(batch)
    }

    fn below(&mut self, event: usize, row: &RecordBatch, element: Option<(usize, usize)>) {
        for station in stations_of(self.plan, event) {
            match (station.unfold, station.output) {
                (Some(unfold), Output::Event(made)) => self.elements(station, unfold, made, row),
                (_, Output::Event(made)) => {
                    if let Some(row) = self.one(station, row, element) {
                        self.below(made, &row, element);
                    }
                }
                _ => drop(self.one(station, row, element)),
            }
        }
    }
}

fn named(station: &str, is_landing: bool) -> TracedStation {
    TracedStation {
        station: station.into(),
        is_landing,
        conditions: Vec::new(),
        values: Vec::new(),
        fate: None,
        folder: None,
        gathered: None,
        use_of: Use::Grouped,
        windows: Vec::new(),
        partners: None,
        element: None,
    }
}
