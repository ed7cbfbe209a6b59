//! `sluice run`: moves data.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use sluice_core::failure::{FailureKind, Outcome};
use sluice_core::plan::Plan;
use sluice_core::run::{RunLimit, RunReport, Stop};
use sluice_core::units::{show_count, show_duration, show_many, show_share, show_size};

use crate::args::{Arguments, OutputKind, RunArgs};
use crate::background::Serving;
use crate::crew::one::{Seen, run_and_renew};
use crate::crew::{Crew, Loaded, exit_of};
use crate::exit::Exit;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, stations, style};
use crate::progress::per_second;
use crate::project::{LoadedPipeline, Project, TableSource};
use crate::{log, signals};

pub(crate) fn run(arguments: &Arguments, args: &RunArgs) -> Outcome<Exit> {
    log::start(&args.log);
    let project = Project::need(arguments.project.as_deref())?.asking(TableSource::Now);
    let until = RunLimit { caught_up: args.until_caught_up, batches: args.stop_after, adopt: args.adopt };
    let mut chosen = project.chosen(&args.pipelines)?;
    let ends = until.caught_up || until.batches.is_some();
    match chosen.pop() {
        // With --all the process serves metrics and sends notices, however many pipelines there are.
        Some(one) if chosen.is_empty() && (ends || (one.config.schedule.is_none() && !args.all)) => {
            run_one(arguments, &project, one, until)
        }
        last => run_several(arguments, &project, chosen.into_iter().chain(last).collect(), until),
    }
}

fn run_one(arguments: &Arguments, project: &Project, pipeline: LoadedPipeline, until: RunLimit) -> Outcome<Exit> {
    let stop = Arc::new(Stop::new());
    signals::stop_on_signals(&stop);
    let started = Instant::now();
    let (pipeline, ended) = run_and_renew(project, pipeline, until, &stop, Seen::default(), &|| false);
    let (report, took) = (ended?, started.elapsed());
    match arguments.output {
        OutputKind::Json => output::json("run", as_json(&pipeline.plan, &report, took)),
        OutputKind::Text => output::print(&as_text(&pipeline.plan, &report, took, "sluice")),
    }
    if let Some(failure) = &report.limit {
        return Ok(output::failure::show(failure, OutputKind::Text));
    }
    let early = until.caught_up && !report.caught_up && stop.is_settling();
    Ok(if early { Exit::Interrupted } else { Exit::Fine })
}

/// Runs pipelines beside each other. Those that wait for more are tried again when they fail; others end with their failure.
fn run_several(
    arguments: &Arguments,
    project: &Project,
    pipelines: Vec<LoadedPipeline>,
    until: RunLimit,
) -> Outcome<Exit> {
    let ends = until.caught_up || until.batches.is_some();
    let crew = Crew::new(until, !ends, true);
    let asked = Arc::new(AtomicBool::new(false));
    let (settling, was_asked) = (Arc::clone(&crew), Arc::clone(&asked));
    signals::settle_on_signals(move || {
        was_asked.store(true, Ordering::SeqCst);
        settling.settle_all();
    });
    // Commands find it like a background process, where there is none.
    let mut serving = if ends { None } else { serving(project, &crew)? };
    if let Some(serving) = &mut serving {
        serving.listen()?;
    }
    let started = Instant::now();
    for pipeline in pipelines {
        crew.start(Loaded { project: project.under(&project.throttles), pipeline })?;
    }
    match serving {
        Some(serving) => serving.until_over(Duration::ZERO),
        None => _ = crew.wait(None),
    }
    let took = started.elapsed();
    let results = crew.take_results();
    let mut exit = Exit::Fine;
    let mut documents = Vec::new();
    for (place, (name, result)) in results.iter().enumerate() {
        match arguments.output {
            OutputKind::Json => documents.push(document(name, result, took)),
            OutputKind::Text => show_result(place, name, result, took),
        }
        let own = exit_of(result);
        let early = |report: &RunReport| until.caught_up && !report.caught_up && asked.load(Ordering::SeqCst);
        let own = match result {
            Ok((_, report)) if own == Exit::Fine && early(report) => Exit::Interrupted,
            _ => own,
        };
        if exit == Exit::Fine {
            exit = own;
        }
    }
    if arguments.output == OutputKind::Json {
        output::json("runs", json!({ "runs": documents, "seconds": took.as_secs_f64() }));
    }
    Ok(exit)
}

fn serving(project: &Project, crew: &Arc<Crew>) -> Outcome<Option<Serving>> {
    match Serving::lock(project.under(&project.throttles), crew) {
        Ok(serving) => Ok(Some(serving)),
        Err(failure) if failure.kind == FailureKind::InUse => Ok(None),
        Err(failure) => Err(failure),
    }
}

fn show_result(place: usize, name: &str, result: &Outcome<(LoadedPipeline, RunReport)>, took: Duration) {
    if place > 0 {
        output::print("\n");
    }
    match result {
        Ok((pipeline, report)) => {
            output::print(&as_text(&pipeline.plan, report, took, "sluice"));
            report.limit.as_ref().map(|failure| output::failure::show(failure, OutputKind::Text));
        }
        Err(failure) => {
            output::note(&format!("{}:\n", style::bold(name)));
            output::failure::show(failure, OutputKind::Text);
        }
    }
}

fn document(name: &str, result: &Outcome<(LoadedPipeline, RunReport)>, took: Duration) -> Value {
    match result {
        Ok((pipeline, report)) => {
            let mut document = as_json(&pipeline.plan, report, took);
            document["exit"] = exit_of(result).code().into();
            document
        }
        Err(failure) => json!({
            "pipeline": name,
            "exit": exit_of(result).code(),
            "failure": { "message": failure.message, "help": failure.help },
        }),
    }
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

fn as_json(plan: &Plan, report: &RunReport, took: Duration) -> Value {
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
    })
}
