//! What became of the events, landing by landing: rows in beside rows out.

use std::collections::{BTreeSet, HashSet};

use serde_json::{Value, json};
use sluice_core::plan::{LandingPlan, Plan};
use sluice_core::rehearse::compare::ExpectedDifference;
use sluice_core::rehearse::{Rehearsal, StopCause, View, reasons};
use sluice_core::types::SqlType;
use sluice_core::units::{show_count, show_many};
use sluice_core::values::json::write_value;

use super::sampled::Sampled;
use crate::args::RehearseArgs;
use crate::output::rows::{Cell, Rows, cut, heading, value_text};
use crate::output::table::screen_width;
use crate::output::{self, style};

/// Cells that changed since the last result: station, partition, position, and the column or None for a whole row.
#[derive(Default)]
pub(super) struct Marks(HashSet<(String, String, u64, Option<String>)>);

impl Marks {
    pub(super) fn of(differences: &[ExpectedDifference]) -> Self {
        let mark =
            |d: &ExpectedDifference| (d.key.station.clone(), d.key.partition.clone(), d.key.position, d.column.clone());
        Self(differences.iter().map(mark).collect())
    }

    fn has(&self, station: &str, record: &sluice_core::rehearse::RehearsedRecord, column: Option<&str>) -> bool {
        if self.0.is_empty() {
            return false;
        }
        let key = |column: Option<&str>| {
            (station.to_string(), record.partition.to_string(), record.position.major, column.map(str::to_string))
        };
        self.0.contains(&key(column)) || self.0.contains(&key(None))
    }
}

/// The result for people.
pub(super) fn as_text(
    args: &RehearseArgs,
    plan: &Plan,
    rehearsal: &Rehearsal,
    sampled: &Sampled,
    only: Option<usize>,
    marks: &Marks,
) -> String {
    let width = screen_width();
    let count = rehearsal.arrived().len() as u64;
    let which = match (sampled.is_kept, sampled.more) {
        (true, _) => show_many(count, "kept event"),
        (false, true) => format!("a sample of {}", show_many(count, "event")),
        (false, false) => format!("all {}", show_many(count, "event")),
    };
    let mut out = format!("{}: {which} rehearsed; nothing was written\n", style::bold(&plan.pipeline));
    if sampled.without_time > 0 {
        let text =
            format!("{} without a time that can be read were left out", show_many(sampled.without_time, "record"));
        out.push_str(&format!(" {} {text}\n", style::warn("!")));
    }
    if rehearsal.records.is_empty() {
        out.push_str("no event is there; `sluice check` looks at folders and names\n");
        return out;
    }
    for event in plan.events.iter().filter(|_| only.is_none()) {
        station(&mut out, rehearsal, &event.name, "good", width);
    }
    for (index, landing) in plan.landings.iter().enumerate().filter(|(i, _)| only.is_none_or(|o| o == *i)) {
        station(&mut out, rehearsal, &landing.label, "rows", width);
        let view = &rehearsal.landings[index];
        folders(&mut out, view, width);
        if args.show > 0 && !view.records.is_empty() {
            out.push_str(&beside(args, plan, landing, rehearsal, view, marks, width));
        }
    }
    out
}

/// One station: its counts, and why events stopped there.
fn station(out: &mut String, rehearsal: &Rehearsal, name: &str, good: &str, width: usize) {
    let Some(count) = rehearsal.counts.iter().find(|c| c.station == name) else { return };
    let mut text =
        format!("\n{}: {} in → {} {good}", style::bold(name), show_count(count.input), show_count(count.output));
    if count.filtered > 0 {
        text.push_str(&format!(", {} filtered", show_count(count.filtered)));
    }
    if let Some(held) = u64::try_from(count.held).ok().filter(|held| *held > 0) {
        text.push_str(&format!(", {} held", show_count(held)));
    }
    if count.unmatched > 0 {
        text.push_str(&format!(", {} unmatched", show_count(count.unmatched)));
    }
    if count.repeated > 0 {
        text.push_str(&format!(", {} repeated", show_count(count.repeated)));
    }
    if count.rejected > 0 {
        text.push_str(&format!(", {}", style::warn(&format!("{} rejected", show_count(count.rejected)))));
    }
    out.push_str(&text);
    out.push('\n');
    let found = reasons(rehearsal, name);
    for (fate, count, first) in found.iter().take(8) {
        let count = format!("{:>7}", show_count(*count));
        let event = style::dim(&format!("(event {})", first + 1));
        match fate {
            StopCause::Filtered { part, is_null } => {
                let not = if *is_null { "null, not true" } else { "not true" };
                let part = cut(part, width.saturating_sub(50).max(30));
                out.push_str(&format!("{count}  filtered  {not}: {part} {event}\n"));
            }
            StopCause::Repeated => out.push_str(&format!("{count}  repeated  {event}\n")),
            StopCause::Rejected { reason, field, message } => {
                let field = field.as_ref().map(|f| format!("{f}: ")).unwrap_or_default();
                let message = cut(&format!("{field}{message}"), width.saturating_sub(45).max(30));
                out.push_str(&format!("{count}  {}  {message} {event}\n", style::warn(reason.word())));
            }
        }
    }
    if found.len() > 8 {
        out.push_str(&format!("         … {} more reasons\n", found.len() - 8));
    }
}

fn folders(out: &mut String, view: &View, width: usize) {
    let folders: BTreeSet<&str> = view.folders.iter().map(AsRef::as_ref).collect();
    let Some(first) = folders.first() else { return };
    let text = match folders.len() {
        1 => format!("into {first}"),
        n => format!("into {}, such as {first}", show_many(n as u64, "folder")),
    };
    out.push_str(&format!("  {}\n", style::dim(&cut(&text, width - 3))));
}

/// Rows in beside rows out: on the left what the landing reads and changes, on the right what lands.
fn beside(
    args: &RehearseArgs,
    plan: &Plan,
    landing: &LandingPlan,
    rehearsal: &Rehearsal,
    view: &View,
    marks: &Marks,
    width: usize,
) -> String {
    let event = &plan.events[landing.event];
    let input = &rehearsal.events[landing.event];
    let input_rows = input.rows_by_record(rehearsal.records.len());
    let mut reads = landing.transform.reads(&event.columns);
    let shown: Vec<usize> = chosen(view, rehearsal, &landing.label, landing, marks, args.show);
    let mut left_out = Vec::new();
    loop {
        let mut rows = Rows::default();
        rows.columns.push(("event".into(), true));
        rows.columns.extend(reads.iter().map(|i| heading(&event.columns[*i])));
        if !reads.is_empty() {
            rows.columns.push(("→".into(), false));
        }
        rows.columns.extend(landing.columns().iter().map(heading));
        for row in &shown {
            let record = view.records[*row];
            let mut cells = vec![plain(Some((record + 1).to_string()))];
            let from = input_rows[record];
            cells.extend(reads.iter().map(|i| plain(from.and_then(|r| value_text(&input.rows, *i, r)))));
            if !reads.is_empty() {
                cells.push(plain(Some("→".into())));
            }
            for (i, column) in landing.columns().iter().enumerate() {
                let marked = marks.has(&landing.label, &rehearsal.records[record], Some(&column.name));
                cells.push(Cell { text: value_text(&view.rows, i, *row), marked });
            }
            rows.rows.push(cells);
        }
        // What lands is shown before what was read for it.
        if reads.is_empty() || rows.fits(width, 2) {
            let mut out = rows.render(width, 2);
            if !left_out.is_empty() {
                left_out.reverse();
                let text = format!("  … columns not shown: {}", left_out.join(", "));
                out.push_str(&format!("{}\n", style::dim(&cut(&text, width))));
            }
            return out;
        }
        left_out.extend(reads.pop().map(|i| event.columns[i].name.clone()));
    }
}

/// The rows to show: changed ones first, then the first.
fn chosen(
    view: &View,
    rehearsal: &Rehearsal,
    station: &str,
    landing: &LandingPlan,
    marks: &Marks,
    count: usize,
) -> Vec<usize> {
    let changed = |row: &usize| {
        let record = &rehearsal.records[view.records[*row]];
        landing.columns().iter().any(|c| marks.has(station, record, Some(&c.name)))
    };
    let mut rows: Vec<usize> = match marks.0.is_empty() {
        true => Vec::new(),
        false => (0..view.records.len()).filter(changed).take(count).collect(),
    };
    for row in 0..view.records.len() {
        if rows.len() >= count {
            break;
        }
        if !rows.contains(&row) {
            rows.push(row);
        }
    }
    rows.sort_unstable();
    rows
}

fn plain(text: Option<String>) -> Cell {
    Cell { text, marked: false }
}

/// The result for programs.
pub(super) fn as_json(args: &RehearseArgs, plan: &Plan, rehearsal: &Rehearsal, sampled: &Sampled, only: Option<usize>) {
    let stopped: Vec<Value> = rehearsal
        .counts
        .iter()
        .flat_map(|c| reasons(rehearsal, &c.station).into_iter().map(move |found| stopped(&c.station, &found)))
        .collect();
    let landings: Vec<Value> = plan
        .landings
        .iter()
        .enumerate()
        .filter(|(i, _)| only.is_none_or(|o| o == *i))
        .map(|(i, landing)| one(args, plan, landing, rehearsal, &rehearsal.landings[i]))
        .collect();
    output::json(
        "rehearse",
        json!({
            "pipeline": plan.pipeline, "events": rehearsal.arrived().len(), "more": sampled.more,
            "without_time": sampled.without_time, "stations": rehearsal.counts, "stopped": stopped, "landings": landings,
        }),
    );
}

fn stopped(station: &str, (fate, count, first): &(StopCause, u64, usize)) -> Value {
    match fate {
        StopCause::Filtered { part, is_null } => json!({
            "station": station, "what": "filtered", "condition": part, "is_null": is_null, "count": count,
            "first_event": first + 1,
        }),
        StopCause::Repeated => json!({
            "station": station, "what": "repeated", "count": count, "first_event": first + 1,
        }),
        StopCause::Rejected { reason, field, message } => json!({
            "station": station, "what": "rejected", "reason": reason.word(), "field": field, "message": message,
            "count": count, "first_event": first + 1,
        }),
    }
}

fn one(args: &RehearseArgs, plan: &Plan, landing: &LandingPlan, rehearsal: &Rehearsal, view: &View) -> Value {
    let event = &plan.events[landing.event];
    let input = &rehearsal.events[landing.event];
    let input_rows = input.rows_by_record(rehearsal.records.len());
    let rows: Vec<Value> = view
        .records
        .iter()
        .enumerate()
        .take(args.show)
        .map(|(row, record)| {
            json!({
                "event": record + 1,
                "folder": view.folders.get(row),
                "in": input_rows[*record].map(|r| object(&input.rows, r, &event.columns)),
                "out": object(&view.rows, row, landing.columns()),
            })
        })
        .collect();
    let folders: BTreeSet<&str> = view.folders.iter().map(AsRef::as_ref).collect();
    json!({ "name": landing.label, "rows": view.records.len(), "folders": folders.len(), "first": rows })
}

fn object(
    rows: &arrow_array::RecordBatch,
    row: usize,
    columns: &[sluice_core::columns::OutputColumn],
) -> serde_json::Map<String, Value> {
    let value = |(i, column): (usize, &sluice_core::columns::OutputColumn)| {
        let mut text = String::new();
        write_value(&mut text, rows.column(i).as_ref(), row, column.ty == SqlType::Json);
        (column.name.clone(), serde_json::from_str(&text).unwrap_or(Value::Null))
    };
    columns.iter().enumerate().map(value).collect()
}
