//! `sluice run`: moves data.

use std::sync::Arc;
use std::time::{Duration, Instant};

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{Ledger, RunEnd};
use sluice_core::plan::Plan;
use sluice_core::run::{self, RunLimit, RunReport, Stop};
use sluice_core::units::{show_count, show_duration, show_many, show_share, show_size};

use crate::args::{Arguments, OutputKind, RunArgs};
use crate::exit::Exit;
use crate::new_tables::{self, Watch};
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, problems, stations, style};
use crate::progress::{RunProgress, per_second};
use crate::project::{LoadedPipeline, Project, TableSource};
use crate::{log, signals, written};

pub(crate) fn run(arguments: &Arguments, args: &RunArgs) -> Outcome<Exit> {
    log::start(&args.log);
    let project = Project::need(arguments.project.as_deref())?.asking(TableSource::Now);
    let until = RunLimit { caught_up: args.until_caught_up, batches: args.stop_after, adopt: args.adopt };
    let stop = Arc::new(Stop::new());
    signals::stop_on_signals(&stop);
    let started = Instant::now();
    let (pipeline, report) = run_and_renew(&project, &args.pipeline, until, &stop)?;
    let took = started.elapsed();
    match arguments.output {
        OutputKind::Json => as_json(&pipeline.plan, &report, took),
        OutputKind::Text => output::print(&as_text(&pipeline.plan, &report, took, "sluice")),
    }
    if let Some(failure) = &report.limit {
        return Ok(output::failure::show(failure, OutputKind::Text));
    }
    let early = until.caught_up && !report.caught_up && stop.is_settling();
    Ok(if early { Exit::Interrupted } else { Exit::Fine })
}

/// Runs a pipeline, and starts again where its source has changed and the pipeline follows that.
pub(crate) fn run_and_renew(
    project: &Project,
    name: &str,
    mut until: RunLimit,
    stop: &Arc<Stop>,
) -> Outcome<(LoadedPipeline, RunReport)> {
    let mut before: Option<RunReport> = None;
    let mut last: Option<String> = None;
    let mut ran: Option<LoadedPipeline> = None;
    loop {
        let pipeline = project.pipeline(name)?;
        if let Some(ran) = ran.filter(|_| pipeline.unknown.is_none()) {
            new_tables::report_difference(&ran.plan, &pipeline.plan);
        }
        let watch = Watch::start(project, &pipeline, stop);
        // The same again would be so for ever.
        let is_new = |f: &Failure| f.renews && last.as_ref() != Some(&f.message);
        let ended = run_pipeline(project, &pipeline, until, stop);
        let found = watch.and_then(Watch::end);
        let mut report = match ended {
            Err(failure) if is_new(&failure) => {
                last = Some(failure.message);
                ran = Some(pipeline);
                continue;
            }
            other => other?,
        };
        report.limit = report.limit.or(found.filter(|_| !stop.is_asked()));
        let batches = report.batches;
        let renews = report.limit.as_ref().is_some_and(is_new) && !stop.is_asked();
        let why = if renews { report.limit.take() } else { None };
        let whole = match before.take() {
            Some(before) => before.and_then(report),
            None => report,
        };
        until.batches = until.batches.map(|left| left.saturating_sub(batches));
        let Some(why) = why.filter(|_| until.batches != Some(0)) else { return Ok((pipeline, whole)) };
        output::note(&format!("{} {}\n", style::warn("!"), why.message));
        stop.go_on();
        (before, last, ran) = (Some(whole), Some(why.message), Some(pipeline));
    }
}

/// Runs a pipeline that was read, after refusing one with mistakes.
pub(crate) fn run_pipeline(
    project: &Project,
    pipeline: &LoadedPipeline,
    until: RunLimit,
    stop: &Stop,
) -> Outcome<RunReport> {
    refuse_mistakes(project, pipeline)?;
    refuse_uncertain(pipeline)?;
    let ledger: Arc<dyn Ledger> = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let _lock = ledger.lock(&pipeline.plan.pipeline)?;
    if !pipeline.config.groups.is_empty() {
        written::keep(project, &pipeline.config)?;
    }
    let progress = RunProgress::new(&pipeline.plan.pipeline);
    progress.log_start();
    ledger.note_end(&pipeline.plan.pipeline, None)?;
    let report = run::run(&pipeline.plan, &project.surroundings(), ledger.as_ref(), until, stop, &progress);
    progress.finish();
    let why = match &report {
        Ok(report) => report.limit.as_ref(),
        Err(failure) => Some(failure),
    };
    progress.log_end(report.as_ref().ok(), why);
    if let Some(failure) = why.filter(|f| !f.renews) {
        let end = RunEnd {
            kind: Exit::from(failure.kind).word().into(),
            message: failure.message.clone(),
            help: failure.help.clone(),
            at: chrono::Utc::now().timestamp_micros(),
        };
        // The failure itself matters more than that it cannot be noted.
        let _ = ledger.note_end(&pipeline.plan.pipeline, Some(&end));
    }
    report
}

/// Nothing is read while it is not certain which positions are whose.
pub(crate) fn refuse_uncertain(pipeline: &LoadedPipeline) -> Outcome<()> {
    pipeline.uncertain.clone().map_or(Ok(()), Err)
}

pub(crate) fn refuse_mistakes(project: &Project, pipeline: &LoadedPipeline) -> Outcome<()> {
    if let Some(failure) = &pipeline.unknown {
        return Err(failure.clone());
    }
    let mut found = project.problems.clone();
    found.extend(pipeline.problems.clone());
    if !found.has_errors() {
        return Ok(());
    }
    problems::show_errors(found);
    Err(Failure::new(FailureKind::Configuration, format!("{} cannot run: its file has errors", pipeline.config.name))
        .with_help("fix the underlined text; `sluice check` checks it again and moves no data"))
}

/// The report for people. `program` is how the reader can call this program.
pub(crate) fn as_text(plan: &Plan, report: &RunReport, took: Duration, program: &str) -> String {
    let pipeline = &plan.pipeline;
    if report.batches == 0 {
        let mut out = match report.caught_up {
            // Why it stopped follows.
            _ if report.limit.is_some() => String::new(),
            true => format!("{}: nothing new to read\n", style::bold(pipeline)),
            false => format!("{}: stopped before anything was read\n", style::bold(pipeline)),
        };
        remarks(&mut out, report);
        return out;
    }
    let rate = per_second(report.read, took.as_secs_f64());
    let mut out = format!(
        "{}: {} read ({}) in {} and {} · {}/s\n\n",
        style::bold(pipeline),
        show_many(report.read, "event"),
        show_size(report.bytes),
        show_many(report.batches, "batch"),
        show_duration(took),
        show_many(rate, "event"),
    );
    out.push_str(&stations::table(&report.counts));
    if report.rejected > 0 {
        out.push_str(&rejects(pipeline, report, program));
    }
    for (event, field, path) in report.never_filled(plan) {
        out.push_str(&format!(
            "{} {event}.{field} had no value in any event: is `{path}` the right name?\n",
            style::warn("!")
        ));
    }
    remarks(&mut out, report);
    out
}

fn rejects(pipeline: &str, report: &RunReport, program: &str) -> String {
    let share = show_share(report.rejected as f64 / report.read.max(1) as f64);
    let mut out = format!("\n{} ({share}):\n", style::warn(&show_many(report.rejected, "reject")));
    let mut groups: Vec<_> = report.rejects.iter().collect();
    groups.sort_by_key(|(_, count)| std::cmp::Reverse(**count));
    let mut table = Table::new(&[
        ("count", Align::Right),
        ("station", Align::Left),
        ("reason", Align::Left),
        ("field", Align::Left),
    ]);
    for ((station, reason, field), count) in groups.iter().take(8) {
        table.row(vec![
            show_count(**count),
            station.to_string(),
            (*reason).to_string(),
            field.clone().unwrap_or_default(),
        ]);
    }
    out.push_str(&table.render(screen_width()));
    out.push_str(&format!("  {}\n", style::command(&format!("{program} rejects {pipeline}"))));
    out
}

fn remarks(out: &mut String, report: &RunReport) {
    for remark in &report.remarks {
        out.push_str(&format!("{} {remark}\n", style::warn("!")));
    }
}

fn as_json(plan: &Plan, report: &RunReport, took: Duration) {
    let never_filled: Vec<_> = report
        .never_filled(plan)
        .into_iter()
        .map(|(event, field, path)| json!({ "event": event, "field": field, "path": path }))
        .collect();
    let rejects: Vec<_> = report
        .rejects
        .iter()
        .map(|((station, reason, field), count)| {
            json!({ "station": &**station, "reason": reason, "field": field, "count": count })
        })
        .collect();
    output::json(
        "run",
        json!({
            "pipeline": plan.pipeline,
            "batches": report.batches,
            "recovered": report.recovered,
            "read": report.read,
            "bytes": report.bytes,
            "rejected": report.rejected,
            "stations": report.counts,
            "rejects": rejects,
            "caught_up": report.caught_up,
            "remarks": report.remarks,
            "never_filled": never_filled,
            "over_limit": report.limit.as_ref().map(|f| &f.message),
            "seconds": took.as_secs_f64(),
        }),
    );
}
