//! `sluice stop`: lets pipelines of the background settle and end.

use std::time::{Duration, Instant};

use serde_json::json;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::Ledger as _;
use sluice_core::units::show_duration;

use crate::args::{Arguments, OutputKind, StopArgs};
use crate::background::{self, Request};
use crate::crew::{Doing, MemberReport};
use crate::exit::Exit;
use crate::output::{self, style};
use crate::project::Project;

/// How often is looked whether they have ended.
const AGAIN: Duration = Duration::from_millis(100);

pub(crate) fn stop(arguments: &Arguments, args: &StopArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    if !args.all {
        project.chosen(&args.pipelines)?;
    }
    let names = if args.all { Vec::new() } else { args.pipelines.clone() };
    let started = Instant::now();
    let Some(answer) = background::ask(&project.root, &Request::Stop { pipelines: names.clone() })? else {
        report(arguments, &[], started);
        return in_front(&project, &names).map_or(Ok(Exit::Fine), Err);
    };
    let is_meant = |report: &MemberReport| names.is_empty() || names.contains(&report.pipeline);
    let mut ended: Vec<MemberReport> = answer.pipelines.into_iter().filter(is_meant).collect();
    // Those that had ended before are not what was stopped.
    ended.retain(|report| !report.doing.is_over());
    let mut waiting: Vec<String> = ended.iter().map(|report| report.pipeline.clone()).collect();
    let mut said = false;
    while !waiting.is_empty() {
        std::thread::sleep(AGAIN);
        // It ends with the last of them, and says goodbye to nobody.
        let Some(now) = background::find(&project.root) else { break };
        for report in now.pipelines.into_iter().filter(|report| report.doing.is_over()) {
            if let Some(place) = waiting.iter().position(|name| *name == report.pipeline) {
                waiting.remove(place);
                if let Some(known) = ended.iter_mut().find(|known| known.pipeline == report.pipeline) {
                    *known = report;
                }
            }
        }
        if !said && started.elapsed() > Duration::from_secs(2) && !waiting.is_empty() {
            output::note(&format!("settling the batch in hand: {}\n", waiting.join(", ")));
            said = true;
        }
    }
    note_failures(&project, &mut ended);
    report(arguments, &ended, started);
    let missing: Vec<String> =
        names.into_iter().filter(|name| ended.iter().all(|report| report.pipeline != *name)).collect();
    match missing.is_empty() {
        true => Ok(Exit::Fine),
        false => in_front(&project, &missing).map_or(Ok(Exit::Fine), Err),
    }
}

/// Whoever ended last could not be asked how: the ledger knows.
fn note_failures(project: &Project, ended: &mut [MemberReport]) {
    let Ok(Some(ledger)) = SqliteLedger::open_existing(&project.ledger_path()) else { return };
    for report in ended.iter_mut().filter(|report| !report.doing.is_over()) {
        if let Ok(Some(end)) = ledger.last_end(&report.pipeline) {
            report.doing = Doing::Stopped { reason: end.message };
        }
    }
}

fn report(arguments: &Arguments, ended: &[MemberReport], started: Instant) {
    if arguments.output == OutputKind::Json {
        let stopped: Vec<&str> = ended.iter().map(|report| report.pipeline.as_str()).collect();
        output::json("stop", json!({ "stopped": stopped, "seconds": started.elapsed().as_secs_f64() }));
        return;
    }
    if ended.is_empty() {
        output::print("nothing to stop: no such pipeline runs in the background\n");
    }
    for report in ended {
        let how = match &report.doing {
            Doing::Stopped { reason } => style::bad(&format!("had failed: {reason}")),
            _ => format!("settled and stopped after {}", show_duration(started.elapsed())),
        };
        output::print(&format!("{} {how}\n", style::bold(&report.pipeline)));
    }
}

/// A pipeline that runs at a terminal is stopped there.
fn in_front(project: &Project, names: &[String]) -> Option<Failure> {
    let ledger = SqliteLedger::open_existing(&project.ledger_path()).ok()??;
    names.iter().find_map(|name| {
        let holder = ledger.holder(name).ok()??;
        Some(
            Failure::new(
                FailureKind::InUse,
                format!("{name} does not run in the background; it runs in process {} on {}", holder.pid, holder.host),
            )
            .with_help(format!("Ctrl-C at its terminal, or: kill -TERM {}", holder.pid)),
        )
    })
}
