//! One event's way through a plan: bytes, fields, conditions, columns.

use arrow_array::{Array as _, RecordBatch};

use super::{Rehearsal, RehearsedRecord, StopCause, View};
use crate::expr::{EvalContext, evaluate};
use crate::flow::{Output, Station, stations_of};
use crate::plan::{Plan, Transform};
use crate::state::{LEFT, RIGHT, StatePlan};
use crate::values::json::{write_text, write_value};

/// One value on the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TracedValue {
    /// The name of the field or column.
    pub name: String,
    /// Its type.
    pub ty: String,
    /// Where it comes from: the path in the event, or the expression.
    pub from: String,
    /// The value as text; None for null.
    pub value: Option<String>,
}

/// What one station did with the event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TracedStation {
    /// The station: the name of an event, or the label of a landing.
    pub station: String,
    /// Whether it is a landing.
    pub is_landing: bool,
    /// Each part of the condition with its value; None is null or could not be computed.
    pub conditions: Vec<(String, Option<bool>)>,
    /// The fields or columns, where the event went on.
    pub values: Vec<TracedValue>,
    /// Why it stopped, where it did.
    pub fate: Option<StopCause>,
    /// The folder in which it lands.
    pub folder: Option<String>,
    /// What a station that remembers took of it, where it came there.
    pub gathered: Option<Vec<TracedValue>>,
    /// What that station does with it.
    pub use_of: Use,
    /// The windows that it goes into.
    pub windows: Vec<TracedWindow>,
    /// At a join, the rows of the sample that it is paired with: the first of them, and how many there are.
    pub partners: Option<(Vec<TracedPartner>, usize)>,
    /// Of a list that is unfolded: which element this is, counted from 1, and how many there are.
    pub element: Option<(usize, usize)>,
}

/// A window that the event goes into.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TracedWindow {
    /// Where it begins, in microseconds since 1970.
    pub from: i64,
    /// The first moment after it, in microseconds since 1970.
    pub to: i64,
    /// How many events of the sample are in the group.
    pub events: u64,
    /// The row that the group gives, with all events of the sample; empty where it gives none.
    pub values: Vec<TracedValue>,
    /// Why it gives none.
    pub fault: Option<String>,
}

/// A row that the event is paired with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TracedPartner {
    /// Its event.
    pub event: String,
    /// Its record, by its place in the sample.
    pub record: usize,
    /// The partition.
    pub partition: String,
    /// Its position there.
    pub position: crate::event::Position,
    /// Its fields.
    pub values: Vec<TracedValue>,
}

/// What a station that remembers does with an event.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Use {
    /// It adds the event to its group.
    #[default]
    Grouped,
    /// It pairs the event with others.
    Paired,
    /// It keeps the event, so that others are enriched with it.
    LookedUp,
}

/// The way of one record.
#[derive(Clone, Debug)]
pub struct Trace {
    /// The record.
    pub record: RehearsedRecord,
    /// The stations that it came to, in order.
    pub stations: Vec<TracedStation>,
}

/// The way of a record, by its place in the sample.
pub fn trace(plan: &Plan, rehearsal: &Rehearsal, record: usize) -> Option<Trace> {
    let found = rehearsal.records.get(record)?.clone();
    let event = found.event;
    let mut tracer = Tracer { plan, rehearsal, record, stations: Vec::new() };
    tracer.contract(event);
    Some(Trace { record: found, stations: tracer.stations })
}

pub(super) struct Tracer<'a> {
    pub(super) plan: &'a Plan,
    pub(super) rehearsal: &'a Rehearsal,
    record: usize,
    pub(super) stations: Vec<TracedStation>,
}

impl Tracer<'_> {
    fn contract(&mut self, index: usize) {
        let event = &self.plan.events[index];
        let view = &self.rehearsal.events[index];
        let row = view.row_of(self.record);
        let is_made = event.contract.is_none();
        let fields = event.contract.as_ref().map_or(&[][..], |c| &c.fields);
        let from = |i: usize| {
            let source = if event.context.is_of_changes() { "the change feed" } else { "the broker" };
            let others = match (is_made, self.use_of(index, LEFT) == Use::Paired) {
                (true, true) => "the events of its pair",
                (true, false) => "the events of its group",
                _ => "the other fields",
            };
            let reported = if i < event.fields().len() { others } else { source };
            fields.get(i).map_or_else(|| reported.to_string(), |f| crate::contract::join_path(&f.path))
        };
        // Of the columns that the broker reports, only those that are used were kept.
        let is_kept = |i: usize| i.checked_sub(event.fields().len()).is_none_or(|c| event.context.used[c]);
        let texts: Vec<String> = (0..event.columns.len()).map(from).collect();
        self.stations.push(TracedStation {
            station: event.name.clone(),
            is_landing: false,
            conditions: Vec::new(),
            values: row.map_or_else(Vec::new, |row| {
                let all = values(&view.rows, row, &event.columns, &texts).into_iter().enumerate();
                all.filter(|(i, _)| is_kept(*i)).map(|(_, value)| value).collect()
            }),
            fate: self.fate(&event.name),
            folder: None,
            gathered: None,
            use_of: Use::Grouped,
            windows: Vec::new(),
            partners: None,
            element: None,
        });
        if let Some(row) = row {
            self.onwards(index, row);
        }
    }

    /// The stations that take the rows of an event.
    fn onwards(&mut self, index: usize, row: usize) {
        let rehearsal = self.rehearsal;
        let input = &rehearsal.events[index].rows;
        for station in stations_of(self.plan, index) {
            if let (Some(unfold), Output::Event(made)) = (station.unfold, station.output) {
                self.elements(station, unfold, made, &input.slice(row, 1));
                continue;
            }
            let view = match station.output {
                Output::Landing(place) => &rehearsal.landings[place],
                Output::Event(made) | Output::State(made) => &rehearsal.events[made],
            };
            self.station(station, view, &rehearsal.events[index], row);
            if let (Output::Event(made) | Output::State(made), Some(row)) = (station.output, view.row_of(self.record)) {
                self.onwards(made, row);
            }
        }
    }

    fn station(&mut self, station: Station<'_>, view: &View, from: &View, input_row: usize) {
        let Station { name, transform, output, side, unfold: _ } = station;
        let input = &from.rows;
        let row = view.row_of(self.record);
        let folder = row.and_then(|row| view.folders.get(row)).map(ToString::to_string);
        let gathered = matches!(output, Output::State(_)).then(|| self.gathered(transform, input, input_row)).flatten();
        let state = match output {
            Output::State(made) if gathered.is_some() => self.plan.remembering().find(|(event, _)| *event == made),
            _ => None,
        };
        // What is looked up stands beside what comes to the station.
        let remembering =
            |made: usize| self.plan.remembering().find(|(event, _)| *event == made).map(|(_, state)| state);
        let given = match output {
            Output::State(made) => match remembering(made) {
                Some(StatePlan::Reference(plan)) => &plan.select,
                _ => transform,
            },
            _ => transform,
        };
        let (mut windows, mut partners) = (Vec::new(), None);
        match state {
            Some((_, StatePlan::Window(plan))) => windows = self.windows(station, plan, (from, input_row)),
            Some((made, StatePlan::Join(plan))) => {
                partners = Some(self.partners(station, (made, plan), (from, input_row)));
            }
            _ => {}
        }
        self.stations.push(TracedStation {
            station: name.to_string(),
            is_landing: matches!(output, Output::Landing(_)),
            conditions: conditions(transform, input, input_row, self.rehearsal.now),
            values: row.map_or_else(Vec::new, |row| values(&view.rows, row, &given.columns, &given.texts)),
            fate: self.fate(name),
            folder,
            gathered,
            windows,
            partners,
            use_of: match output {
                Output::State(made) => self.use_of(made, side),
                _ => Use::Grouped,
            },
            element: None,
        });
    }

    fn use_of(&self, event: usize, side: usize) -> Use {
        match self.plan.remembering().find(|(made, _)| *made == event) {
            Some((_, StatePlan::Reference(_))) if side == RIGHT => Use::LookedUp,
            Some((_, StatePlan::Join(_) | StatePlan::Reference(_))) => Use::Paired,
            _ => Use::Grouped,
        }
    }

    /// What a station that gathers events takes of this one; None where it did not come so far.
    fn gathered(&self, transform: &Transform, input: &RecordBatch, row: usize) -> Option<Vec<TracedValue>> {
        let taken = transform.apply(&input.slice(row, 1), self.rehearsal.now).batch;
        let parts = || taken.num_rows() == 1;
        let mut all = parts().then(|| values(&taken, 0, &transform.columns, &transform.texts))?;
        all.retain(|value| !value.name.starts_with('@'));
        Some(all)
    }

    fn fate(&self, station: &str) -> Option<StopCause> {
        let stopped = &self.rehearsal.stopped;
        stopped.iter().find(|s| s.record == self.record && s.station == station).map(|s| s.fate.clone())
    }
}

pub(super) fn conditions(
    transform: &Transform,
    input: &RecordBatch,
    row: usize,
    now: i64,
) -> Vec<(String, Option<bool>)> {
    use arrow_array::cast::AsArray as _;
    let Some(when) = &transform.when else { return Vec::new() };
    let row = input.slice(row, 1);
    let truth = |(text, part): &(String, crate::expr::Expr)| {
        let column = evaluate(part, &EvalContext::new(&row, now)).expand(1);
        let known = column.errors.is_empty() && !column.is_null(0);
        (text.clone(), known.then(|| column.array.as_boolean().value(0)))
    };
    when.parts.iter().map(truth).collect()
}

pub(super) fn values(
    rows: &RecordBatch,
    row: usize,
    columns: &[crate::columns::OutputColumn],
    texts: &[String],
) -> Vec<TracedValue> {
    let value =
        |((array, column), text): ((&arrow_array::ArrayRef, &crate::columns::OutputColumn), &String)| TracedValue {
            name: column.name.clone(),
            ty: column.ty.to_string(),
            from: text.clone(),
            value: (!array.is_null(row)).then(|| {
                let mut out = String::new();
                match column.ty == crate::types::SqlType::Json {
                    true => write_value(&mut out, array.as_ref(), row, true),
                    false => write_text(&mut out, array.as_ref(), row),
                }
                out
            }),
        };
    rows.columns().iter().zip(columns).zip(texts).map(value).collect()
}
