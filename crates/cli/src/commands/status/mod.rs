//! `sluice status`: is it moving, how far behind, since when, what holds it back?

mod remembered;
mod show;

use std::time::{Duration, Instant};

use sluice_connect::ledgers;
use sluice_core::drift::Drift;
use sluice_core::failure::Outcome;
use sluice_core::ledger::{BatchQuery, BatchRecord, BatchState, Holder, Ledger, RunEnd};
use sluice_core::plan::ArrivalPlan;
use sluice_core::run::Stop;

use self::remembered::Remembered;
use super::ledger::fields;
use super::positions::{Standing, standings};
use crate::args::{Arguments, OutputKind, StatusArgs};
use crate::background::{self, Answer, Place};
use crate::crew::MemberReport;
use crate::exit::Exit;
use crate::output::{self, times};
use crate::pipeline_state::PipelineState;
use crate::project::{LoadedPipeline, Project};
use crate::signals;

/// A pipeline as it is now.
struct Status {
    name: String,
    state: PipelineState,
    holder: Option<Holder>,
    /// How the background process of the project has it.
    background: Option<MemberReport>,
    /// Whether its files are not those that it runs under.
    has_changed: bool,
    /// Why the places where its events arrive cannot be looked at.
    away: Option<String>,
    standings: Vec<Standing>,
    /// What stations remember, by the arrival's name in the ledger.
    remembered: Vec<(String, Remembered)>,
    /// For each arrival, the last settled batch that read from it.
    settled: Vec<(String, BatchRecord)>,
    /// Batches that are sealed and not settled.
    unfinished: Vec<BatchRecord>,
    /// Why the last run ended before it was asked to.
    end: Option<RunEnd>,
    /// What has changed of the fields of events.
    drifts: Vec<(String, Drift, String)>,
}

pub(crate) fn status(arguments: &Arguments, args: &StatusArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let stop = std::sync::Arc::new(Stop::new());
    if args.follow && arguments.output == OutputKind::Json {
        return Err(output::one_document("--follow"));
    }
    if args.follow {
        signals::stop_on_signals(&stop);
    }
    loop {
        let started = Instant::now();
        let pipelines = match &args.pipeline {
            Some(name) => vec![project.pipeline(name)?],
            None => project.pipelines()?,
        };
        let ledger = ledgers::open(&project.root, &project.config.ledger)?;
        let background = background::find(&project.root);
        let found: Vec<Status> = pipelines
            .iter()
            .map(|p| look(&project, p, ledger.as_ref(), background.as_ref()))
            .collect::<Outcome<_>>()?;
        let gone = Place::of(&project.root).gone();
        match arguments.output {
            OutputKind::Json => show::as_json(&found, background.as_ref()),
            OutputKind::Text => {
                if args.follow {
                    output::clear();
                }
                let text = show::as_text(&found);
                output::print(&format!("{}{text}", gone.map(|gone| show::gone(&gone)).unwrap_or_default()));
            }
        }
        if !args.follow {
            return Ok(Exit::Fine);
        }
        stop.wait(Duration::from_secs(1).saturating_sub(started.elapsed()).max(Duration::from_millis(200)));
        if stop.is_settling() {
            return Ok(Exit::Fine);
        }
    }
}

fn look(
    project: &Project,
    pipeline: &LoadedPipeline,
    ledger: &dyn Ledger,
    background: Option<&Answer>,
) -> Outcome<Status> {
    let name = pipeline.config.name.clone();
    let background = background.and_then(|answer| answer.pipelines.iter().find(|p| p.pipeline == name)).cloned();
    let runs = background.as_ref().filter(|report| !report.doing.is_over());
    let has_changed = runs.is_some_and(|report| report.texts != pipeline.plan.texts.digest());
    let (mut standing, mut away) = (Vec::new(), None);
    if pipeline.problems.has_errors() || project.problems.has_errors() {
        away = Some("its file has errors: sluice check".to_string());
    } else {
        match standings(project, pipeline, ledger) {
            Ok(found) => standing = found,
            Err(failure) => away = Some(failure.message),
        }
    }
    let mut remembered = Vec::new();
    // Of arrivals that share a lane, what is remembered stands with the first.
    for meeting in pipeline.plan.meetings().iter().filter(|_| !standing.is_empty()) {
        remembered.push((meeting.first().label.clone(), remembered::look(&pipeline.plan, meeting, ledger)?));
    }
    let batches = ledger.batches(&name, BatchQuery { last: Some(200), number: None })?;
    let newest = |arrival: &ArrivalPlan| {
        let is_own =
            |b: &&BatchRecord| b.state == BatchState::Settled && !b.lane.is_out_of_order() && b.reads(&arrival.label);
        Some((arrival.label.clone(), batches.iter().rev().find(is_own)?.clone()))
    };
    let settled = pipeline.plan.arrivals.iter().filter_map(newest).collect();
    let unfinished =
        batches.into_iter().filter(|b| matches!(b.state, BatchState::Sealed | BatchState::Landed)).collect();
    let (end, holder, totals) = (ledger.last_end(&name)?, ledger.holder(&name)?, ledger.totals(&name)?);
    let good = !pipeline.problems.has_errors() && !project.problems.has_errors();
    let state =
        PipelineState::of(good, holder.as_ref(), end.as_ref(), totals.last_settled_at.is_some(), totals.unfinished)
            .beside(background.as_ref());
    let drifts = fields::drifts(&pipeline.plan, ledger.fields(&name)?, times::now());
    Ok(Status {
        holder,
        background,
        has_changed,
        name,
        state,
        away,
        end,
        standings: standing,
        remembered,
        settled,
        unfinished,
        drifts,
    })
}
