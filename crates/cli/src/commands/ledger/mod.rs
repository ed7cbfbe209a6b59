//! `sluice ledger`: which batches, how big, how long?

pub(crate) mod fields;
mod history;

use std::time::Duration;

use serde_json::json;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_connect::ledgers::sqlite::history::Extreme;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{BatchQuery, BatchRecord, BatchState, LandingRecord, Ledger};
use sluice_core::reject::REJECTS;
use sluice_core::state::StateSize;
use sluice_core::units::{show_count, show_duration, show_many, show_size};

use crate::args::{Arguments, LedgerArgs, OutputKind};
use crate::exit::Exit;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, stations, style, times};
use crate::project::Project;

pub(crate) fn ledger(arguments: &Arguments, args: &LedgerArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let pipeline = project.pipeline(&args.pipeline)?;
    let name = pipeline.config.name.clone();
    if args.fields {
        let ledger = SqliteLedger::open_existing(&project.ledger_path())?;
        let records = ledger.map_or_else(|| Ok(Vec::new()), |ledger| ledger.fields(&name))?;
        return Ok(fields::show(arguments, &pipeline.plan, records));
    }
    if args.state {
        let ledger = SqliteLedger::open_existing(&project.ledger_path())?;
        let sizes = ledger.map_or_else(|| Ok(Vec::new()), |ledger| ledger.state_sizes(&name))?;
        return Ok(remembered(arguments, &name, &sizes));
    }
    let ledger = SqliteLedger::open_existing(&project.ledger_path())?;
    if let Some(by) = args.by {
        return history::periods(arguments, ledger.as_ref(), &name, by, args.show);
    }
    if args.failures {
        return history::failures(arguments, ledger.as_ref(), &name, args.show);
    }
    if let Some(path) = &args.export {
        return history::export(arguments, ledger.as_ref(), &name, path);
    }
    let last = if args.batch.is_some() { None } else { Some(args.show) };
    let batches = match (ledger, args.slowest, args.largest) {
        (None, ..) => Vec::new(),
        (Some(ledger), Some(count), _) => history::extreme(&ledger, &name, Extreme::Slowest, count)?,
        (Some(ledger), _, Some(count)) => history::extreme(&ledger, &name, Extreme::Largest, count)?,
        (Some(ledger), None, None) => ledger.batches(&name, BatchQuery { last, number: args.batch })?,
    };
    if let (Some(number), true) = (args.batch, batches.is_empty()) {
        return Err(Failure::new(FailureKind::Configuration, format!("{name} has no batch {number}"))
            .with_help(format!("list them with `sluice ledger {name}`")));
    }
    if arguments.output == OutputKind::Json {
        output::json("ledger", json!({ "pipeline": name, "batches": batches }));
        return Ok(Exit::Fine);
    }
    if batches.is_empty() {
        output::print(&format!("{}: no batches yet\n", style::bold(&name)));
        return Ok(Exit::Fine);
    }
    match args.batch {
        Some(_) => batches.iter().for_each(|b| output::print(&detail(b))),
        None => output::print(&list(&name, &batches)),
    }
    Ok(Exit::Fine)
}

fn state(batch: &BatchRecord) -> String {
    match batch.state {
        BatchState::Settled if batch.replaced_by.is_some() => style::dim("replaced"),
        BatchState::Settled => style::good("settled"),
        BatchState::Open => style::dim("open"),
        other => style::warn(other.word()),
    }
}

/// A batch that was taken over from a landing's records: how long it took and what it read is not known.
fn is_adopted(batch: &BatchRecord) -> bool {
    batch.state == BatchState::Adopted
}

fn took(batch: &BatchRecord) -> String {
    if is_adopted(batch) {
        return String::new();
    }
    let Some(end) = batch.settled_at else { return String::new() };
    show_duration(Duration::from_micros(u64::try_from(end - batch.opened_at).unwrap_or(0)))
}

/// A table that needs at least this many columns says more of each batch.
const WIDE: usize = 110;

/// Batches as a table, with what to type to see one of them.
fn list(name: &str, batches: &[BatchRecord]) -> String {
    let mut out = table_of(batches);
    if let Some(last) = batches.last() {
        let text = format!("sluice ledger {name} --batch {}", last.number);
        out.push_str(&format!(
            "\n  {}  {}\n",
            style::command(&text),
            style::dim("ranges, counts and files of one batch")
        ));
    }
    out
}

/// Batches as a table.
pub(crate) fn table_of(batches: &[BatchRecord]) -> String {
    let is_wide = screen_width() >= WIDE;
    let mut headings = vec![
        ("lane", Align::Left),
        ("batch", Align::Right),
        ("state", Align::Left),
        ("opened (UTC)", Align::Left),
        ("took", Align::Right),
        ("read", Align::Right),
    ];
    if is_wide {
        headings.push(("bytes", Align::Right));
    }
    headings.extend([("rejected", Align::Right), ("landed", Align::Left)]);
    let mut table = Table::new(&headings);
    for batch in batches {
        let rejected = match batch.rejected {
            0 => "0".to_string(),
            n => style::warn(&show_count(n)),
        };
        let opened = times::second(batch.opened_at);
        let mut cells = vec![
            batch.lane.to_string(),
            batch.number.to_string(),
            state(batch),
            // Where room is short, the month, day and time distinguish batches.
            if is_wide { opened } else { opened[5..].to_string() },
            took(batch),
            if is_adopted(batch) { String::new() } else { show_count(batch.read) },
        ];
        if is_wide {
            cells.push(if is_adopted(batch) { String::new() } else { show_size(batch.bytes) });
        }
        cells.extend([rejected, landed(batch, is_wide)]);
        table.row(cells);
    }
    table.render(screen_width())
}

/// Rows in each landing; without room for their names, all together.
fn landed(batch: &BatchRecord, with_names: bool) -> String {
    let landings = || batch.landings.iter().filter(|l| l.landing != REJECTS);
    if is_adopted(batch) {
        // Their records do not tell how many rows it has.
        let names = landings().filter(|l| with_names && l.landed_at.is_some()).map(|l| style::dim(&l.landing));
        return names.collect::<Vec<_>>().join(" · ");
    }
    if !with_names {
        return show_count(landings().map(|l| l.rows).sum());
    }
    let one = |l: &LandingRecord| format!("{} {}", show_count(l.rows), style::dim(&l.landing));
    landings().map(one).collect::<Vec<_>>().join(" · ")
}

fn detail(batch: &BatchRecord) -> String {
    let mut out = head(batch);
    out.push_str(&match is_adopted(batch) {
        true => "\nread, by the records of the landings, from\n".to_string(),
        false => format!("\nread {} ({}) from\n", show_many(batch.read, "event"), show_size(batch.bytes)),
    });
    let mut ranges = Table::new(&[("partition", Align::Left), ("from", Align::Right), ("to", Align::Right)]);
    for range in &batch.ranges.0 {
        ranges.row(vec![range.partition.to_string(), range.from.to_string(), range.to.to_string()]);
    }
    out.push_str(&ranges.render(screen_width()));
    out.push('\n');
    if is_adopted(batch) {
        for landing in &batch.landings {
            let what = if landing.landed_at.is_some() { "had it when it was adopted" } else { "did not have it" };
            out.push_str(&format!("{}: {what}\n", style::bold(&landing.landing)));
        }
        return out;
    }
    out.push_str(&stations::table(&batch.counts));
    for landing in &batch.landings {
        let when = match landing.landed_at {
            Some(at) => format!("landed {}", times::second(at)),
            None => style::warn("not yet landed"),
        };
        let rows = show_many(landing.rows, "row");
        out.push_str(&format!("\n{}: {rows}, {}, {when}\n", style::bold(&landing.landing), show_size(landing.bytes)));
        for file in landing.detail["files"].as_array().into_iter().flatten() {
            let rows = file["rows"].as_u64().unwrap_or(0);
            out.push_str(&format!(
                "  {} {}\n",
                file["path"].as_str().unwrap_or_default(),
                style::dim(&show_many(rows, "row"))
            ));
        }
    }
    out
}

/// Which batch it is, and under which text it was sealed.
fn head(batch: &BatchRecord) -> String {
    let times = match is_adopted(batch) {
        true => format!("since {}", times::second(batch.opened_at)),
        false => format!("opened {} · took {}", times::second(batch.opened_at), took(batch)),
    };
    let mut out = format!(
        "{} {} · {} · {times}\n",
        style::bold(&format!("batch {}", batch.number)),
        style::dim(&format!("of lane {}", batch.lane)),
        state(batch),
    );
    if let Some((lane, number)) = &batch.first {
        out.push_str(&format!("in the place of batch {number} of lane {lane}\n"));
    }
    if let Some((lane, number)) = &batch.replaced_by {
        out.push_str(&format!("its place was taken by batch {number} of lane {lane}\n"));
    }
    if let Some(digest) = &batch.texts {
        let what = if is_adopted(batch) { "adopted" } else { "sealed" };
        out.push_str(&format!("{what} under the text {}\n", &digest[..digest.len().min(16)]));
    }
    out
}

/// What stations that remember keep.
fn remembered(arguments: &Arguments, name: &str, sizes: &[StateSize]) -> Exit {
    let sizes: Vec<&StateSize> = sizes.iter().filter(|s| !s.station.starts_with('@')).collect();
    if arguments.output == OutputKind::Json {
        output::json("ledger-state", json!({ "pipeline": name, "stations": sizes }));
        return Exit::Fine;
    }
    if sizes.is_empty() {
        output::print(&format!("{}: nothing is remembered\n", style::bold(name)));
        return Exit::Fine;
    }
    let mut table =
        Table::new(&[("station", Align::Left), ("lane", Align::Left), ("keys", Align::Right), ("size", Align::Right)]);
    for size in sizes {
        table.row(vec![size.station.clone(), size.lane.to_string(), show_count(size.keys), show_size(size.bytes)]);
    }
    output::print(&table.render(screen_width()));
    Exit::Fine
}
