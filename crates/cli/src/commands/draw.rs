//! `sluice draw`: the pipeline, or its figures over time, as a picture; and a page with all of them.

use std::path::{Path, PathBuf};

use serde_json::json;
use sluice_connect::ledgers;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::batch::StationCount;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{BatchQuery, BatchRecord, Ledger as _};
use sluice_core::units::{parse_duration, show_many};

use super::replay::numbers;
use super::status::{drawn_lines, is_alarmed};
use crate::args::{Arguments, DrawArgs, OutputKind};
use crate::background;
use crate::crew::MemberReport;
use crate::draw::{flow, page, plots};
use crate::exit::Exit;
use crate::output::{self, times};
use crate::pipeline_state::{self, PipelineState};
use crate::project::{LoadedPipeline, Project, TableSource};
use crate::whole;

/// Batches whose counts are drawn where none are named.
const NEWEST: u64 = 200;

/// Hours on the page, and the most of a picture: a year.
const HOURS: i64 = 48;
const MOST: i64 = 366 * 24;

const HOUR: i64 = 3_600_000_000;

pub(crate) fn draw(arguments: &Arguments, args: &DrawArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    if let Some(path) = &args.page {
        let answer = background::find(&project.root);
        whole::write(path, &whole_page(&project, answer.as_ref().map(|answer| &answer.pipelines[..]), None)?)?;
        report(arguments, path);
        return Ok(Exit::Fine);
    }
    let name = args.pipeline.as_deref().unwrap_or_default();
    let pipeline = project.pipeline(name)?;
    let path = args.into.clone().unwrap_or_else(|| PathBuf::from(format!("{name}.svg")));
    if path.extension().is_none_or(|ending| ending != "svg") {
        return Err(Failure::new(FailureKind::Configuration, format!("`{}` does not end with .svg", path.display()))
            .with_help("pictures are drawn as SVG, which browsers and word processors show at any size"));
    }
    let ledger = ledgers::open_file(&project.root, &project.config.ledger)?;
    let text = match &args.over {
        Some(over) => over_time(&ledger, name, hours(over)?)?,
        None => {
            let answer = background::find(&project.root);
            let own = answer.as_ref().and_then(|answer| answer.pipelines.iter().find(|p| p.pipeline == name));
            picture(&ledger, &pipeline, args.batches.as_deref(), own)?
        }
    };
    whole::write(&path, &text)?;
    report(arguments, &path);
    Ok(Exit::Fine)
}

fn report(arguments: &Arguments, path: &Path) {
    match arguments.output {
        OutputKind::Json => output::json("draw", json!({ "file": path })),
        OutputKind::Text => output::print(&format!("{}\n", path.display())),
    }
}

fn hours(text: &str) -> Outcome<i64> {
    let wrong = |why: &str| {
        Failure::new(FailureKind::Configuration, format!("--over {text}: {why}"))
            .with_help("such as --over 48h or --over 30d")
    };
    let duration = parse_duration(text).map_err(|why| wrong(&why))?;
    let hours = i64::try_from(duration.as_secs().div_ceil(3600)).unwrap_or(i64::MAX);
    match hours {
        1..=MOST => Ok(hours),
        0 => Err(wrong("expected at least an hour")),
        _ => Err(wrong("expected at most a year")),
    }
}

fn over_time(ledger: &SqliteLedger, name: &str, hours: i64) -> Outcome<String> {
    let periods = ledger.periods(name, HOUR, u64::try_from(hours).unwrap_or(0))?;
    Ok(plots::draw(name, &periods, hours, times::now()))
}

/// The pipeline with what its stations did.
fn picture(
    ledger: &SqliteLedger,
    pipeline: &LoadedPipeline,
    wanted: Option<&str>,
    report: Option<&MemberReport>,
) -> Outcome<String> {
    let name = &pipeline.config.name;
    let is_own = |batch: &BatchRecord| !batch.lane.is_out_of_order();
    let (batches, range) = match wanted {
        None => {
            let found = ledger.batches(name, BatchQuery { last: Some(NEWEST), number: None })?;
            let found: Vec<BatchRecord> = found.into_iter().filter(is_own).collect();
            let range = match found.len() as u64 {
                0 => "no batches yet".to_string(),
                NEWEST => format!("the newest {}", show_many(NEWEST, "batch")),
                count => show_many(count, "batch"),
            };
            (found, range)
        }
        Some(text) => {
            let (first, last) = numbers(text)?;
            let found = ledger.batches(name, BatchQuery::default())?;
            let is_meant = |batch: &BatchRecord| is_own(batch) && (first..=last).contains(&batch.number);
            let found: Vec<BatchRecord> = found.into_iter().filter(is_meant).collect();
            if found.is_empty() {
                return Err(Failure::new(FailureKind::Configuration, format!("{name} has no batches {text}"))
                    .with_help(format!("see which there are: sluice ledger {name}")));
            }
            (found, format!("batches {text}"))
        }
    };
    let mut counts: Vec<StationCount> = Vec::new();
    for count in batches.iter().flat_map(|batch| &batch.counts) {
        match counts.iter_mut().find(|known| known.station == count.station) {
            Some(known) => known.add(count),
            None => counts.push(count.clone()),
        }
    }
    let now = report.map_or(String::new(), |report| {
        format!(
            "{} events/s now",
            sluice_core::units::show_count(crate::progress::per_second(1, 1.0 / report.moved.now.max(1e-9)))
        )
    });
    Ok(flow::draw(&pipeline.plan, &flow::Told { counts, range, now }))
}

/// The page with all pipelines. It asks no source.
pub(crate) fn whole_page(project: &Project, reports: Option<&[MemberReport]>, refresh: Option<u32>) -> Outcome<String> {
    let ledger = ledgers::open_file(&project.root, &project.config.ledger)?;
    let notices = ledger.open_notices()?;
    let mut parts = Vec::new();
    for pipeline in project.pipelines()? {
        let name = pipeline.config.name.clone();
        let report = reports.and_then(|reports| reports.iter().find(|report| report.pipeline == name));
        let own: Vec<_> = notices.iter().filter(|notice| notice.pipeline == name).cloned().collect();
        let good = !pipeline.problems.has_errors();
        let state = match (good, report) {
            (false, _) => PipelineState::HasErrors,
            (true, _) => PipelineState::in_ledger(&ledger, &name)?.beside(report),
        };
        let batches = ledger.batches(&name, BatchQuery { last: Some(NEWEST), number: None })?;
        let mut pictures = Vec::new();
        if good {
            pictures.push(picture(&ledger, &pipeline, None, report)?);
            pictures.push(over_time(&ledger, &name, HOURS)?);
        }
        let shown = match (&state, report) {
            (PipelineState::Runs(_), Some(report)) => pipeline_state::doing(report),
            (state, _) => state.shown(),
        };
        parts.push(page::Part {
            is_alarmed: is_alarmed(&state, report, &own),
            state: output::plain(&shown),
            lines: drawn_lines(&pipeline, report, &own, &batches),
            pictures,
            name,
        });
    }
    let about = match reports {
        Some(reports) => format!("{} in the background", show_many(reports.len() as u64, "pipeline")),
        None => "nothing runs in the background".into(),
    };
    Ok(page::draw(&project.config.name, &times::second(times::now()), &about, &parts, refresh))
}

/// The page as running pipelines serve it.
pub(crate) fn served_page(root: &Path, reports: &[MemberReport], refresh: u32) -> Outcome<String> {
    let project = Project::need(Some(root))?.asking(TableSource::Never);
    whole_page(&project, Some(reports), Some(refresh))
}
