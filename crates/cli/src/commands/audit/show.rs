//! What an audit found, for people and for programs.

use serde_json::value::RawValue;
use serde_json::{Value, json};
use sluice_core::audit::{Comparable, Difference, DifferenceKind, KeyRange, ranges};
use sluice_core::names::shown;
use sluice_core::types::SqlType;
use sluice_core::units::{show_count, show_many};

use super::reload::TableReload;
use super::{Compared, LeftOut};
use crate::args::AuditArgs;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style};

/// Ranges of keys that are shown at most.
const RANGES: usize = 8;

/// Characters of a value at most.
const WIDEST: usize = 48;

pub(super) fn as_text(pipeline: &str, compared: &[Compared<'_>], left_out: &[LeftOut], args: &AuditArgs) -> String {
    let mut out = format!("{}\n", style::bold(pipeline));
    let mut table = Table::new(&[
        ("mirror", Align::Left),
        ("at the source", Align::Right),
        ("in the mirror", Align::Right),
        ("missing", Align::Right),
        ("extra", Align::Right),
        ("differs", Align::Right),
    ]);
    for one in compared {
        let count = |kind| {
            let count = one.found.differences.iter().filter(|d| d.kind == kind).count() as u64;
            if count == 0 { "0".to_string() } else { style::warn(&show_count(count)) }
        };
        let mut row =
            vec![one.mirror.landing.label.clone(), show_count(one.found.source), show_count(one.found.mirror)];
        row.extend([DifferenceKind::Missing, DifferenceKind::Extra, DifferenceKind::Differs].map(count));
        table.row(row);
    }
    out.push_str(&table.render(screen_width()));
    compared.iter().for_each(|one| remarks(&mut out, one));
    for (label, why) in left_out {
        out.push_str(&format!("{} {label} was not compared: {why}\n", style::warn("!")));
    }
    let differ = compared.iter().filter(|one| !one.found.differences.is_empty());
    differ.for_each(|one| differing(&mut out, one, args.rows));
    remedy(&mut out, pipeline, compared, args);
    out
}

fn remarks(out: &mut String, one: &Compared<'_>) {
    let label = &one.mirror.landing.label;
    let left_out = &one.mirror.compared.left_out;
    if !left_out.is_empty() {
        let columns = left_out.iter().map(|c| format!("`{c}`")).collect::<Vec<_>>().join(", ");
        out.push_str(&format!("  {label}: not compared, since they depend on the change or the time: {columns}\n"));
    }
    if one.found.filtered > 0 {
        out.push_str(&format!("  {label}: {} not meet its condition\n", rows_do(one.found.filtered)));
    }
    if one.found.rejected > 0 {
        let rows = show_many(one.found.rejected, "row");
        out.push_str(&format!(
            "{} {label}: {rows} at the source cannot be read or computed, and do not land\n",
            style::warn("!")
        ));
    }
    if one.found.changing > 0 {
        let rows = show_many(one.found.changing, "row");
        out.push_str(&format!(
            "{} {label}: {rows} changed each time they were read, and were not compared\n",
            style::warn("!")
        ));
    }
    if one.found.beyond > 0 {
        let rows = show_many(one.found.beyond, "row");
        let why = match one.found.differences.is_empty() {
            true => format!("so much changed meanwhile that {rows} were not compared; try again when less changes"),
            false => format!("so much differs that {rows} were not looked at one by one"),
        };
        out.push_str(&format!("{} {label}: {why}\n", style::warn("!")));
    }
}

fn rows_do(count: u64) -> String {
    format!("{} at the source {}", show_many(count, "row"), if count == 1 { "does" } else { "do" })
}

/// The rows of a mirror that differ: their ranges of keys, then some of them.
fn differing(out: &mut String, one: &Compared<'_>, most: usize) {
    let all = &one.found.differences;
    let compared = &one.mirror.compared;
    let key = key_names(compared);
    let label = style::bold(&one.mirror.landing.label);
    out.push_str(&format!("\n{label}: {}, by {key}\n", show_many(all.len() as u64, "row")));
    let found = ranges(all, RANGES);
    if found.len() > 1 || all.len() > most {
        let mut table = Table::new(&[("from", Align::Left), ("to", Align::Left), ("rows", Align::Right)]);
        for range in &found {
            table.row(vec![key_text(&range.first), key_text(&range.last), show_count(range.rows())]);
        }
        out.push_str(&table.render(screen_width()));
    }
    let mut table = Table::new(&[
        ("key", Align::Left),
        ("what", Align::Left),
        ("column", Align::Left),
        ("at the source", Align::Left),
        ("in the mirror", Align::Left),
    ]);
    for difference in all.iter().take(most) {
        let (first, what) = (key_text(&difference.key), difference.kind.word().to_string());
        let cells = columns(compared, difference);
        if cells.is_empty() {
            table.row(vec![first, what, String::new(), String::new(), String::new()]);
            continue;
        }
        for (number, (column, source, mirror)) in cells.into_iter().enumerate() {
            let (first, what) = if number == 0 { (first.clone(), what.clone()) } else { Default::default() };
            table.row(vec![first, what, column, cut(&source), cut(&mirror)]);
        }
    }
    if most > 0 {
        out.push_str(&table.render(screen_width()));
    }
    if all.len() > most {
        out.push_str(&format!("  and {} more; --rows N shows more of them\n", show_count((all.len() - most) as u64)));
    }
}

/// The columns that differ, each with both values; none for a row that one side lacks.
fn columns(compared: &Comparable, difference: &Difference) -> Vec<(String, String, String)> {
    let (Some(source), Some(mirror)) = (&difference.source, &difference.mirror) else { return Vec::new() };
    let (source, mirror) = (Comparable::split(source), Comparable::split(mirror));
    let columns = compared.columns.iter().zip(source.iter().zip(&mirror));
    let differs = columns.filter(|(_, (a, b))| a.get() != b.get());
    differs.map(|(column, (a, b))| (column.name.clone(), a.get().into(), b.get().into())).collect()
}

fn key_names(compared: &Comparable) -> String {
    compared.key.iter().map(|place| compared.columns[*place].name.as_str()).collect::<Vec<_>>().join(", ")
}

/// A key as it is shown: its values, without what an array adds.
fn key_text(key: &str) -> String {
    cut(&Comparable::split(key).iter().map(|value| value.get()).collect::<Vec<_>>().join(", "))
}

/// A value that fits the screen, with nothing that a terminal would obey.
fn cut(text: &str) -> String {
    let clean = shown(text).to_string();
    match clean.char_indices().nth(WIDEST) {
        Some((end, _)) => format!("{}…", &clean[..end]),
        None => clean,
    }
}

/// What to do next.
fn remedy(out: &mut String, pipeline: &str, compared: &[Compared<'_>], args: &AuditArgs) {
    let differs = compared.iter().any(|one| !one.found.differences.is_empty());
    let is_same = compared.iter().all(|one| one.found.is_same() && one.found.changing == 0);
    let catch_up = if args.catch_up { " --catch-up" } else { "" };
    let unsure = compared.iter().any(|one| one.found.unsure && !one.found.differences.is_empty());
    if unsure {
        out.push_str(&format!(
            "\nthese rows may be changes that have not landed yet. To be certain, let the pipeline catch up:\n  {}\n",
            style::command(&format!("sluice audit {pipeline} --catch-up"))
        ));
    } else if differs && !args.reload {
        out.push_str(&format!(
            "\nto load these rows again:\n  {}\n",
            style::command(&format!("sluice audit {pipeline}{catch_up} --reload"))
        ));
    } else if is_same {
        let (count, rows) = (compared.len() as u64, compared.iter().map(|one| one.found.source).sum());
        let are = if count == 1 { "is equal to its source" } else { "are equal to their sources" };
        let (mirrors, rows) = (show_many(count, "mirror"), show_many(rows, "row"));
        out.push_str(&format!("{} {mirrors} with {rows} {are}\n", style::good("✓")));
    }
}

/// The values of a key.
fn digits(key: &str) -> Value {
    serde_json::from_str(key).unwrap_or_default()
}

/// The values of a row; decimals as texts, so that they keep their digits.
fn row(values: &str, decimals: &[bool]) -> Value {
    let one = |(value, is_decimal): (Box<RawValue>, &bool)| match is_decimal {
        true if value.get() != "null" => Value::String(value.get().into()),
        _ => serde_json::from_str(value.get()).unwrap_or_default(),
    };
    Comparable::split(values).into_iter().zip(decimals).map(one).collect()
}

pub(super) fn as_json(pipeline: &str, compared: &[Compared<'_>], left_out: &[LeftOut], again: &[TableReload]) {
    let range = |r: &KeyRange| {
        json!({
            "from": digits(&r.first),
            "to": digits(&r.last),
            "missing": r.counts[0], "extra": r.counts[1], "differs": r.counts[2],
        })
    };
    let one = |c: &Compared<'_>| {
        let decimals: Vec<bool> =
            c.mirror.compared.columns.iter().map(|c| matches!(c.ty, SqlType::Decimal { .. })).collect();
        let values = |text: &Option<String>| text.as_deref().map(|text| row(text, &decimals));
        let difference = |d: &Difference| {
            let (source, mirror) = (values(&d.source), values(&d.mirror));
            json!({ "key": digits(&d.key), "what": d.kind.word(), "source": source, "mirror": mirror })
        };
        let names = |places: &mut dyn Iterator<Item = usize>| -> Vec<String> {
            places.map(|place| c.mirror.compared.columns[place].name.clone()).collect()
        };
        json!({
            "landing": c.mirror.landing.label,
            "same": c.found.is_same() && c.found.changing == 0,
            "certain": !c.found.unsure,
            "source_rows": c.found.source,
            "mirror_rows": c.found.mirror,
            "filtered": c.found.filtered,
            "rejected": c.found.rejected,
            "changing": c.found.changing,
            "not_looked_at": c.found.beyond,
            "key": names(&mut c.mirror.compared.key.iter().copied()),
            "columns": names(&mut (0..c.mirror.compared.columns.len())),
            "columns_left_out": c.mirror.compared.left_out,
            "ranges": ranges(&c.found.differences, RANGES).iter().map(range).collect::<Vec<_>>(),
            "differences": c.found.differences.iter().map(difference).collect::<Vec<_>>(),
        })
    };
    let left_out = left_out.iter().map(|(label, why)| json!({ "landing": label, "why": why }));
    output::json(
        "audit",
        json!({
            "pipeline": pipeline,
            "mirrors": compared.iter().map(one).collect::<Vec<_>>(),
            "not_compared": left_out.collect::<Vec<_>>(),
            "loaded_again": again.iter().map(|a| json!({ "table": a.table, "rows": a.rows })).collect::<Vec<_>>(),
        }),
    );
}
