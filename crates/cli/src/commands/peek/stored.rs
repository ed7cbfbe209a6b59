//! Rows that have landed.

use arrow_array::RecordBatch;
use serde_json::{Value, json};
use sluice_core::columns::OutputColumn;
use sluice_core::failure::Outcome;
use sluice_core::kinds::{Stored, StoredBatch};
use sluice_core::profile::Profile;
use sluice_core::run::Stop;
use sluice_core::units::{show_count, show_many, show_size};

use super::question::Question;
use crate::args::{Arguments, OutputKind, PeekArgs};
use crate::output::rows::Rows;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, profile, style, times};
use crate::progress::Counting;

/// Rows for the table of columns, where nothing else is asked for.
const PROFILED: u64 = 100_000;

pub(super) fn stored(
    arguments: &Arguments,
    args: &PeekArgs,
    label: &str,
    rows: &mut dyn Stored,
    stop: &Stop,
) -> Outcome<()> {
    let columns = rows.summary().columns.clone();
    if args.raw {
        return raw(args, rows, &columns);
    }
    if args.when.is_some() || args.columns.is_some() {
        let mut question = Question::new(args, &columns)?;
        let mut read = 0;
        let counting = Counting::new("rows looked at");
        while let Some(batch) = rows.next()?
            && !stop.is_settling()
        {
            read += batch.num_rows() as u64;
            counting.at(read);
            question.add(&batch);
        }
        counting.finish();
        question.answer().show(arguments, label, &format!("{} looked at", show_many(read, "row")), rows.broken());
        return Ok(());
    }
    let mut found = Profile::default();
    let mut first: Vec<RecordBatch> = Vec::new();
    let mut shown = 0;
    let profiled = args.events.unwrap_or(PROFILED);
    let mut read = 0;
    let counting = Counting::new("rows looked at");
    while let Some(batch) = rows.next()?
        && !stop.is_settling()
    {
        read += batch.num_rows() as u64;
        counting.at(read);
        if found.events < profiled {
            let left = usize::try_from(profiled - found.events).unwrap_or(usize::MAX);
            found.add_rows(&batch.slice(0, batch.num_rows().min(left)));
        }
        // The rows that are shown may be of several files.
        if shown < args.show && batch.num_rows() > 0 {
            let rows = batch.slice(0, batch.num_rows().min(args.show - shown));
            shown += rows.num_rows();
            first.push(rows);
        }
        // What the files say of themselves needs no reading.
        if found.events >= profiled && rows.summary().rows.is_some() {
            break;
        }
    }
    counting.finish();
    let first = match first.first().map(RecordBatch::schema) {
        Some(schema) => arrow_select::concat::concat_batches(&schema, &first).ok(),
        None => None,
    };
    let seen = Seen { label, count: rows.summary().rows.unwrap_or(read), found, first, columns, broken: rows.broken() };
    match arguments.output {
        OutputKind::Json => seen.as_json(args, rows),
        OutputKind::Text => output::print(&seen.as_text(args, rows)),
    }
    Ok(())
}

fn raw(args: &PeekArgs, rows: &mut dyn Stored, columns: &[OutputColumn]) -> Outcome<()> {
    let mut left = usize::try_from(super::wanted(args)).unwrap_or(usize::MAX);
    while let Some(batch) = rows.next()?
        && left > 0
    {
        let batch = batch.slice(0, batch.num_rows().min(left));
        left -= batch.num_rows();
        let mut text = String::new();
        sluice_core::values::json::write_lines(&mut text, &batch, columns);
        output::print(&text);
    }
    Ok(())
}

struct Seen<'a> {
    label: &'a str,
    count: u64,
    found: Profile,
    first: Option<RecordBatch>,
    columns: Vec<OutputColumn>,
    broken: u64,
}

impl Seen<'_> {
    fn as_text(&self, args: &PeekArgs, rows: &dyn Stored) -> String {
        let summary = rows.summary();
        let width = screen_width();
        let size = match summary.bytes {
            0 if summary.rows.is_some() => String::new(),
            bytes => format!(", {}, {}", show_many(summary.parts, "file"), show_size(bytes)),
        };
        let mut out = format!(
            "{}: {}{size}\n{}",
            style::bold(self.label),
            summary.what,
            style::bold(&show_many(self.count, "row")),
        );
        if self.found.events < self.count {
            out.push_str(&format!("; the columns by the first {}", show_count(self.found.events)));
        }
        out.push('\n');
        for remark in &summary.remarks {
            out.push_str(&format!(" {} {remark}\n", style::warn("!")));
        }
        if self.broken > 0 {
            let text = format!("{} cannot be read as rows", show_many(self.broken, "record"));
            out.push_str(&format!(" {} {text}\n", style::warn("!")));
        }
        if summary.parts == 0 {
            out.push_str("nothing has landed yet\n");
            return out;
        }
        out.push('\n');
        out.push_str(&profile::render(&self.found, None, Some(&self.columns), width));
        if let Some(first) = self.first.as_ref().filter(|_| args.show > 0) {
            out.push_str(&format!("\n{}\n", style::dim("the first rows:")));
            out.push_str(&Rows::of(first, &self.columns, args.show).render(width, 1));
        }
        if !summary.batches.is_empty() {
            out.push_str(&format!("\n{}\n", style::dim("the last batches, by the store's own record:")));
            out.push_str(&batches(&summary.batches).render(width));
        }
        out
    }

    fn as_json(&self, args: &PeekArgs, rows: &dyn Stored) {
        let summary = rows.summary();
        output::json(
            "peek",
            json!({
                "place": self.label,
                "what": summary.what,
                "bytes": summary.bytes,
                "files": summary.parts,
                "rows": self.count,
                "profiled": self.found.events,
                "broken": self.broken,
                "remarks": summary.remarks,
                "batches": summary.batches,
                "fields": profile::json(&self.found, Some(&self.columns)),
                "first": self.first.as_ref().map_or_else(Vec::new, |f| objects(f, &self.columns, args.show)),
            }),
        );
    }
}

/// Batches as a store counts them. Where rows tell their batch, those that are there are counted as well.
fn batches(batches: &[StoredBatch]) -> Table {
    let mut table = Table::new(&[
        ("lane", Align::Left),
        ("batch", Align::Right),
        ("landed (UTC)", Align::Left),
        ("rows", Align::Right),
        ("refused", Align::Right),
        ("there now", Align::Right),
    ]);
    for batch in batches {
        let there = batch.there.map_or_else(String::new, |there| match there == batch.rows {
            true => show_count(there),
            false => style::warn(&show_count(there)),
        });
        table.row(vec![
            batch.lane.clone(),
            batch.number.to_string(),
            times::second(batch.landed_at),
            show_count(batch.rows),
            show_count(batch.refused),
            there,
        ]);
    }
    table
}

/// Rows as JSON objects.
pub(super) fn objects(batch: &RecordBatch, columns: &[OutputColumn], count: usize) -> Vec<Value> {
    let mut text = String::new();
    sluice_core::values::json::write_lines(&mut text, &batch.slice(0, batch.num_rows().min(count)), columns);
    text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}
