//! `sluice ledger --by`, `--slowest` and `--largest`: what batches did over time, and which stand out.

use std::path::Path;
use std::time::Duration;

use serde_json::json;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_connect::ledgers::sqlite::history::{Extreme, PeriodTotals};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{BatchQuery, BatchRecord, Ledger};
use sluice_core::units::{show_count, show_duration, show_many, show_size};

use crate::args::{Arguments, OutputKind, Period};
use crate::exit::Exit;
use crate::output::spark::spark;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style, times};

const HOUR: i64 = 3_600_000_000;

impl Period {
    fn micros(self) -> i64 {
        match self {
            Self::Hour => HOUR,
            Self::Day => 24 * HOUR,
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::Hour => "hour",
            Self::Day => "day",
        }
    }
}

/// Totals per period.
pub(super) fn periods(
    arguments: &Arguments,
    ledger: Option<&SqliteLedger>,
    name: &str,
    by: Period,
    last: u64,
) -> Outcome<Exit> {
    let found = ledger.map_or_else(|| Ok(Vec::new()), |ledger| ledger.periods(name, by.micros(), last))?;
    match arguments.output {
        OutputKind::Json => {
            output::json("ledger-periods", json!({ "pipeline": name, "by": by.word(), "periods": found }));
        }
        OutputKind::Text => output::print(&as_text(name, by, &found)),
    }
    Ok(Exit::Fine)
}

fn as_text(name: &str, by: Period, found: &[PeriodTotals]) -> String {
    if found.is_empty() {
        return format!("{}: no batches yet\n", style::bold(name));
    }
    let mut table = Table::new(&[
        (if by == Period::Hour { "hour (UTC)" } else { "day (UTC)" }, Align::Left),
        ("batches", Align::Right),
        ("read", Align::Right),
        ("", Align::Left),
        ("bytes", Align::Right),
        ("rejected", Align::Right),
        ("landed", Align::Right),
        ("longest batch", Align::Right),
    ]);
    let most = found.iter().map(|period| period.read).max().unwrap_or(0);
    for period in found {
        let start = times::second(period.start);
        let rejected = match period.rejected {
            0 => "0".to_string(),
            n => style::warn(&show_count(n)),
        };
        table.row(vec![
            start[..if by == Period::Hour { 16 } else { 10 }].to_string(),
            show_count(period.batches),
            show_count(period.read),
            // One sign each, as high as its share of the largest.
            style::dim(&spark(&[period.read, most]).chars().take(1).collect::<String>()),
            show_size(period.bytes),
            rejected,
            show_count(period.landed),
            show_duration(Duration::from_micros(period.longest)),
        ]);
    }
    table.render(screen_width())
}

/// Why runs have failed.
pub(super) fn failures(arguments: &Arguments, ledger: Option<&SqliteLedger>, name: &str, last: u64) -> Outcome<Exit> {
    let found = ledger.map_or_else(|| Ok(Vec::new()), |ledger| ledger.failures(name, last))?;
    if arguments.output == OutputKind::Json {
        output::json("ledger-failures", json!({ "pipeline": name, "failures": found }));
        return Ok(Exit::Fine);
    }
    if found.is_empty() {
        output::print(&format!("{}: no run has failed\n", style::bold(name)));
    }
    for end in &found {
        let when = format!("{} ({})", times::second(end.at), times::ago(end.at));
        output::print(&format!("{}  {}\n  {}\n", style::bold(&when), style::bad(&end.kind), end.message));
        for line in end.help.iter().flat_map(|help| help.lines()) {
            output::print(&format!("  {}\n", style::dim(line)));
        }
    }
    Ok(Exit::Fine)
}

/// Writes all batches to a file.
pub(super) fn export(arguments: &Arguments, ledger: Option<&SqliteLedger>, name: &str, path: &Path) -> Outcome<Exit> {
    let Some(ledger) = ledger else {
        return Err(Failure::new(FailureKind::Configuration, format!("{name} has no batches yet"))
            .with_help(format!("sluice run {name}")));
    };
    let batches = ledger.export(name, path)?;
    match arguments.output {
        OutputKind::Json => {
            output::json("ledger-export", json!({ "pipeline": name, "file": path, "batches": batches }));
        }
        OutputKind::Text => output::print(&format!("{}: {}\n", path.display(), show_many(batches, "batch"))),
    }
    Ok(Exit::Fine)
}

/// The batches that stand out most.
pub(super) fn extreme(ledger: &SqliteLedger, name: &str, by: Extreme, count: u64) -> Outcome<Vec<BatchRecord>> {
    let mut found = Vec::new();
    for (lane, number) in ledger.extreme(name, by, count)? {
        let batches = ledger.batches(name, BatchQuery { last: None, number: Some(number) })?;
        found.extend(batches.into_iter().find(|batch| batch.lane == lane));
    }
    Ok(found)
}
