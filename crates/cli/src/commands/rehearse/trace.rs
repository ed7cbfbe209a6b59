//! One event's way, step by step.

use serde_json::{Value, json};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::plan::Plan;
use sluice_core::rehearse::trace::{Trace, TracedStation, TracedValue, Use, trace};
use sluice_core::rehearse::{Rehearsal, StopCause};
use sluice_core::units::{show_count, show_many};
use sluice_core::values::time::show_timestamp;

use crate::args::{Arguments, OutputKind};
use crate::exit::Exit;
use crate::output::rows::{Cell, Rows, cut};
use crate::output::table::screen_width;
use crate::output::{self, problems, style};

pub(super) fn show(arguments: &Arguments, plan: &Plan, rehearsal: &Rehearsal, number: u64) -> Outcome<Exit> {
    let index = usize::try_from(number - 1).unwrap_or(usize::MAX);
    let Some(way) = trace(plan, rehearsal, index) else {
        let count = rehearsal.records.len() as u64;
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("there is no event {number}: the sample has {}", show_many(count, "event")),
        )
        .with_help("take more with --events N"));
    };
    match arguments.output {
        OutputKind::Json => as_json(number, &way),
        OutputKind::Text => output::print(&as_text(number, &way)),
    }
    Ok(Exit::Fine)
}

fn as_text(number: u64, way: &Trace) -> String {
    let width = screen_width();
    let record = &way.record;
    let mut out = format!(
        "{} {}, byte {} ({})\n",
        style::bold(&format!("event {number}:")),
        record.partition,
        record.position,
        show_many(record.bytes.len() as u64, "byte"),
    );
    if let Some(head) = &record.head {
        out.push_str(&format!(
            "  {}\n",
            style::dim(&cut(String::from_utf8_lossy(head).trim_start_matches('\u{feff}').trim(), width - 3))
        ));
    }
    for line in in_lines(&String::from_utf8_lossy(&record.bytes), width - 3) {
        out.push_str(&format!("  {line}\n"));
    }
    for station in &way.stations {
        station_text(&mut out, station, width);
    }
    out
}

/// A text over as many lines as it takes: of the bytes nothing is left out.
fn in_lines(text: &str, width: usize) -> Vec<String> {
    let shown = text.replace('\n', "⏎").replace('\t', "⇥");
    let letters: Vec<char> = shown.chars().collect();
    letters.chunks(width.max(20)).map(|c| c.iter().collect()).collect()
}

fn station_text(out: &mut String, station: &TracedStation, width: usize) {
    let what = if station.is_landing { "landing" } else { "event" };
    let element = station.element.map(|(number, of)| format!(", element {number} of {of}")).unwrap_or_default();
    out.push_str(&format!("\n{} {}{element}\n", style::dim(what), style::bold(&station.station)));
    for (part, truth) in &station.conditions {
        let (sign, word) = match truth {
            Some(true) => (style::good("✓"), "true"),
            Some(false) => (style::warn("✗"), "false"),
            None => (style::warn("✗"), "null"),
        };
        out.push_str(&format!("  {sign} {part} {}\n", style::dim(&format!("is {word}"))));
    }
    match &station.fate {
        Some(StopCause::Filtered { .. }) => out.push_str(&format!("  {}\n", style::warn("filtered"))),
        Some(StopCause::Repeated) => out.push_str(&format!("  {}: it had come before\n", style::warn("repeated"))),
        Some(StopCause::Rejected { reason, field, message }) => {
            let field = field.as_ref().map(|f| format!("{f}: ")).unwrap_or_default();
            out.push_str(&format!("  {}: {field}{message}\n", style::warn(&format!("rejected, {}", reason.word()))));
        }
        None if station.values.is_empty() && station.gathered.is_some() => {
            let of = station.gathered.iter().flatten();
            let group: Vec<String> =
                of.map(|v| format!("{} {}", v.name, v.value.as_deref().unwrap_or("null"))).collect();
            let word = match station.use_of {
                Use::Grouped => "gathered",
                Use::Paired => "takes part in the join with",
                Use::LookedUp => "is looked up for",
            };
            for line in problems::wrap(&format!("{word} {}", group.join(", ")), width.saturating_sub(2), 0) {
                let line = line.strip_prefix(word).map_or(line.clone(), |rest| format!("{}{rest}", style::good(word)));
                out.push_str(&format!("  {line}\n"));
            }
            company_text(out, station, width);
        }
        None => {}
    }
    if !station.values.is_empty() {
        let heads = if station.is_landing {
            ["column", "type", "value", "as written"]
        } else {
            ["field", "type", "value", "from"]
        };
        out.push_str(&value_rows(&station.values, heads, width, 2));
    }
    if let Some(folder) = &station.folder {
        out.push_str(&format!("  {} {folder}\n", style::dim("into")));
    }
}

fn value_rows(values: &[TracedValue], heads: [&str; 4], width: usize, indent: usize) -> String {
    let text = |t: &str| Cell { text: Some(t.to_string()), marked: false };
    let row = |v: &TracedValue| {
        let from = v.from.split_whitespace().collect::<Vec<_>>().join(" ");
        let from = if from == v.name { String::new() } else { from };
        vec![text(&v.name), text(&v.ty), Cell { text: v.value.clone(), marked: false }, text(&from)]
    };
    let columns = heads.map(|h| (h.to_string(), false)).to_vec();
    Rows { columns, rows: values.iter().map(row).collect(), widest: 72 }.render(width, indent)
}

/// The windows that the event goes into with what they give, and the rows that it is paired with.
fn company_text(out: &mut String, station: &TracedStation, width: usize) {
    for window in &station.windows {
        let (from, to) = (show_timestamp(window.from), show_timestamp(window.to));
        let events = show_many(window.events, "event");
        let gives = match &window.fault {
            Some(fault) => style::warn(&format!("gives no row: {fault}")),
            None if window.values.is_empty() => "gives no row".to_string(),
            None => "gives".to_string(),
        };
        out.push_str(&format!("  window {from} to {to}, with {events} of the sample, {gives}\n"));
        if !window.values.is_empty() {
            out.push_str(&value_rows(&window.values, ["field", "type", "value", "from"], width, 4));
        }
    }
    let Some((partners, count)) = &station.partners else { return };
    if *count == 0 {
        out.push_str("  paired with no row of the sample\n");
    }
    for partner in partners {
        let (event, number) = (&partner.event, show_count(partner.record as u64 + 1));
        let at = format!("{}, byte {}", partner.partition, partner.position);
        out.push_str(&format!("  paired with {event}, event {number} ({at})\n"));
        let fields = partner.values.iter().map(|v| format!("{} {}", v.name, v.value.as_deref().unwrap_or("null")));
        for line in problems::wrap(&fields.collect::<Vec<_>>().join(", "), width.saturating_sub(4), 0) {
            out.push_str(&format!("    {}\n", style::dim(&line)));
        }
    }
    if *count > partners.len() {
        out.push_str(&format!("  and {} more\n", show_count((*count - partners.len()) as u64)));
    }
}

fn values_json(values: &[TracedValue]) -> Vec<Value> {
    values.iter().map(|v| json!({ "name": v.name, "type": v.ty, "from": v.from, "value": v.value })).collect()
}

fn company_json(station: &TracedStation) -> (Vec<Value>, Vec<Value>) {
    let windows = station.windows.iter().map(|w| {
        json!({
            "from": show_timestamp(w.from), "to": show_timestamp(w.to), "events": w.events, "values": values_json(&w.values),
            "fault": w.fault,
        })
    });
    let partners = station.partners.iter().flat_map(|(partners, _)| partners).map(|p| {
        json!({
            "event": p.event, "number": p.record + 1, "partition": p.partition, "position": p.position.major,
            "values": values_json(&p.values),
        })
    });
    (windows.collect(), partners.collect())
}

fn as_json(number: u64, way: &Trace) {
    let stations: Vec<Value> = way
        .stations
        .iter()
        .map(|s| {
            let conditions: Vec<_> =
                s.conditions.iter().map(|(part, truth)| json!({ "part": part, "is": truth })).collect();
            let values = values_json(&s.values);
            let (windows, partners) = company_json(s);
            let fate = s.fate.as_ref().map(|fate| match fate {
                StopCause::Filtered { part, is_null } => {
                    json!({ "what": "filtered", "condition": part, "is_null": is_null })
                }
                StopCause::Repeated => json!({ "what": "repeated" }),
                StopCause::Rejected { reason, field, message } => {
                    json!({ "what": "rejected", "reason": reason.word(), "field": field, "message": message })
                }
            });
            json!({
                "station": s.station, "element": s.element.map(|(number, _)| number), "is_landing": s.is_landing, "conditions": conditions, "values": values,
                "stopped": fate, "folder": s.folder, "gathered": s.gathered.is_some() && s.values.is_empty() && s.fate.is_none(),
                "windows": windows, "partners": partners, "partner_count": s.partners.as_ref().map(|(_, count)| count),
            })
        })
        .collect();
    output::json(
        "trace",
        json!({
            "event": number, "partition": way.record.partition, "position": way.record.position.major,
            "bytes": String::from_utf8_lossy(&way.record.bytes), "stations": stations,
        }),
    );
}
