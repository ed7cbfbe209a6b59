//! `sluice ledger --fields`: which fields have events had, and what has changed?

use serde_json::json;
use sluice_core::contract::Contract;
use sluice_core::drift::{Drift, FieldHistory, FieldRecord};
use sluice_core::plan::Plan;
use sluice_core::units::{show_count, show_many, show_share};
use sluice_core::{limit, names};

use crate::args::{Arguments, OutputKind};
use crate::exit::Exit;
use crate::output::problems::wrap;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style};

pub(super) fn show(arguments: &Arguments, plan: &Plan, records: Vec<FieldRecord>) -> Exit {
    let history = FieldHistory::new(records);
    let name = &plan.pipeline;
    let events: Vec<(&str, &Contract)> = contracts(plan).filter(|(event, _)| history.events(event) > 0).collect();
    if arguments.output == OutputKind::Json {
        let one = |(event, contract): &(&str, &Contract)| {
            let all = history.events(event);
            let field = |record: &FieldRecord| {
                let drifts = record.drifts(contract, all);
                json!({ "record": record, "named": is_named(contract, &record.field), "drifts": drifts })
            };
            json!({ "event": event, "events": all, "fields": history.fields(event).map(field).collect::<Vec<_>>() })
        };
        output::json(
            "ledger-fields",
            json!({ "pipeline": name, "events": events.iter().map(one).collect::<Vec<_>>() }),
        );
        return Exit::Fine;
    }
    if events.is_empty() {
        output::print(&format!("{}: no fields have been counted yet\n", style::bold(name)));
        return Exit::Fine;
    }
    for (place, (event, contract)) in events.into_iter().enumerate() {
        let gap = if place > 0 { "\n" } else { "" };
        output::print(&format!("{gap}{}", of_event(&history, event, contract)));
    }
    Exit::Fine
}

/// The events that arrive, with their contracts.
fn contracts(plan: &Plan) -> impl Iterator<Item = (&str, &Contract)> {
    plan.events.iter().filter_map(|event| Some((event.name.as_str(), event.contract.as_ref()?)))
}

fn is_named(contract: &Contract, field: &str) -> bool {
    contract.fields.iter().any(|f| f.name == field)
}

fn of_event(history: &FieldHistory, event: &str, contract: &Contract) -> String {
    let all = history.events(event);
    let mut out = format!("{} · {}\n\n", style::bold(event), show_many(all, "event"));
    let mut table = Table::new(&[
        ("field", Align::Left),
        ("contract", Align::Left),
        ("with a value", Align::Right),
        ("", Align::Right),
        ("first", Align::Left),
        ("last", Align::Left),
    ]);
    let batch = |name: &str| name.split(' ').next().map_or(String::new(), |number| format!("batch {number}"));
    let row = |name: &str, ty: String, record: Option<&FieldRecord>| match record.filter(|r| r.filled > 0) {
        None => vec![names::shown(name), ty, "0".into(), String::new(), String::new(), style::dim("never")],
        Some(r) => {
            let last = match r.since {
                0 => style::dim("still there"),
                since => format!("{}, {} ago", batch(&r.last_batch), show_many(since, "event")),
            };
            let share = show_share(r.filled as f64 / all.max(r.filled) as f64);
            vec![names::shown(name), ty, show_count(r.filled), share, batch(&r.first_batch), last]
        }
    };
    let records: Vec<&FieldRecord> = history.fields(event).collect();
    for field in &contract.fields {
        table.row(row(
            &field.name,
            limit::shown(field.ty, field.limit),
            records.iter().find(|r| r.field == field.name).copied(),
        ));
    }
    let mut others: Vec<&&FieldRecord> = records.iter().filter(|r| !is_named(contract, &r.field)).collect();
    others.sort_by_key(|r| (r.before, r.field.clone()));
    for record in others {
        table.row(row(&record.field, style::dim("not named"), Some(record)));
    }
    out.push_str(&table.render(screen_width()));
    let drifts: Vec<String> = records
        .iter()
        .flat_map(|r| r.drifts(contract, all).into_iter().map(|drift| mark(drift, &r.told(drift))))
        .collect();
    if !drifts.is_empty() {
        out.push_str(&format!("\n{}", drifts.concat()));
    }
    out
}

fn mark(drift: Drift, told: &str) -> String {
    let mark = match drift {
        Drift::New => style::dim("+"),
        Drift::Gone | Drift::Unfit => style::warn("!"),
    };
    // Under each other, whatever the width.
    let lines = wrap(told, screen_width().saturating_sub(5), 0);
    format!("  {mark} {}\n", lines.join("\n    "))
}

/// How many lines `status` has for fields that drift.
const SHOWN: usize = 5;

/// A value that did not fit is shown for so long after it came: a day, in microseconds.
const RECENT: i64 = 24 * 3_600 * 1_000_000;

/// How a field of a pipeline's events has changed.
pub(crate) struct FieldDrift {
    /// The event.
    pub event: String,
    /// The field.
    pub field: String,
    /// How.
    pub drift: Drift,
    /// The same in words, with an example.
    pub told: String,
}

/// What has changed of the fields of a pipeline's events, for `status` and for notices.
pub(crate) fn drifts(plan: &Plan, records: Vec<FieldRecord>, now: i64) -> Vec<FieldDrift> {
    let history = FieldHistory::new(records);
    let mut found = Vec::new();
    for (event, contract) in contracts(plan) {
        let all = history.events(event);
        for record in history.fields(event) {
            let is_recent = record.unfit_at.is_some_and(|at| now - at < RECENT);
            let drifts = record.drifts(contract, all).into_iter().filter(|d| *d != Drift::Unfit || is_recent);
            found.extend(drifts.map(|drift| FieldDrift {
                event: event.to_string(),
                field: record.field.clone(),
                drift,
                told: record.told(drift),
            }));
        }
    }
    found
}

/// The same as lines.
pub(crate) fn drift_lines(pipeline: &str, drifts: &[FieldDrift]) -> String {
    let mut out = String::new();
    for FieldDrift { event, drift, told, .. } in drifts.iter().take(SHOWN) {
        out.push_str(&mark(*drift, &format!("{event}: {told}")));
    }
    if !drifts.is_empty() {
        let more = drifts.len().saturating_sub(SHOWN);
        let more = if more > 0 { format!("{more} more: ") } else { String::new() };
        out.push_str(&format!("    {more}{}\n", style::command(&format!("sluice ledger {pipeline} --fields"))));
    }
    out
}
