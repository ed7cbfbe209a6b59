//! `sluice status`: is it moving, how far behind, since when, what holds it back?

mod live;
mod remembered;
mod show;

use std::io::IsTerminal as _;
use std::time::{Duration, Instant};

use sluice_connect::ledgers;
use sluice_connect::ledgers::sqlite::notices::NoticeRecord;
use sluice_core::failure::Outcome;
use sluice_core::ledger::{BatchQuery, BatchRecord, BatchState, Holder, Ledger, RunEnd};
use sluice_core::plan::{ArrivalPlan, LandingPlan};
use sluice_core::run::Stop;

use self::remembered::Remembered;
use super::ledger::fields::{self, FieldDrift};
use super::positions::{Standing, standings};
use crate::args::{Arguments, OutputKind, StatusArgs};
use crate::background::{self, Answer, Place};
use crate::crew::{Doing, MemberReport};
use crate::exit::Exit;
use crate::output::{self, times};
use crate::pipeline_state::PipelineState;
use crate::project::{LoadedPipeline, Project};
use crate::signals;

/// A pipeline as it is now.
struct Status {
    name: String,
    state: PipelineState,
    /// The same without what the background process knows.
    own_state: PipelineState,
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
    /// What has landed last.
    landed: Vec<LandedStatus>,
    /// Batches that are sealed and not settled.
    unfinished: Vec<BatchRecord>,
    /// Why the last run ended before it was asked to.
    end: Option<RunEnd>,
    /// Notices that have begun and are not over.
    notices: Vec<NoticeRecord>,
    /// What has changed of the fields of events.
    drifts: Vec<FieldDrift>,
}

/// What a landing got last, by the newest batches.
struct LandedStatus {
    landing: String,
    /// The connection.
    place: String,
    /// The event time of the newest event that has landed, in microseconds since 1970.
    newest: Option<i64>,
    /// When rows landed last.
    landed_at: Option<i64>,
}

pub(crate) fn status(arguments: &Arguments, args: &StatusArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let stop = std::sync::Arc::new(Stop::new());
    if args.follow && arguments.output == OutputKind::Json {
        return Err(output::one_document("--follow"));
    }
    if args.follow {
        signals::end_on_signals(&stop);
        if std::io::stdout().is_terminal() && std::io::stdin().is_terminal() {
            return live::follow(project.root, args.pipeline.clone(), &stop).map(|()| Exit::Fine);
        }
    }
    loop {
        let started = Instant::now();
        let pipelines = match &args.pipeline {
            Some(name) => vec![project.pipeline(name)?],
            None => project.pipelines()?,
        };
        let ledger = ledgers::open_file(&project.root, &project.config.ledger)?;
        let notices = ledger.open_notices()?;
        let background = background::find(&project.root);
        let found: Vec<Status> = pipelines
            .iter()
            .map(|p| {
                let own = notices.iter().filter(|notice| notice.pipeline == p.config.name).cloned().collect();
                Ok(Status { notices: own, ..look(&project, p, &ledger, background.as_ref())? })
            })
            .collect::<Outcome<_>>()?;
        let gone = Place::of(&project.root).gone();
        match arguments.output {
            OutputKind::Json => show::as_json(&found, background.as_ref()),
            OutputKind::Text => {
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
    let landed = pipeline.plan.landings.iter().map(|landing| LandedStatus::of(landing, &batches)).collect();
    let unfinished =
        batches.into_iter().filter(|b| matches!(b.state, BatchState::Sealed | BatchState::Landed)).collect();
    let (end, holder, totals) = (ledger.last_end(&name)?, ledger.holder(&name)?, ledger.totals(&name)?);
    let good = !pipeline.problems.has_errors() && !project.problems.has_errors();
    let own_state =
        PipelineState::of(good, holder.as_ref(), end.as_ref(), totals.last_settled_at.is_some(), totals.unfinished);
    let drifts = fields::drifts(&pipeline.plan, ledger.fields(&name)?, times::now());
    let mut status = Status {
        holder,
        background: None,
        has_changed: false,
        name,
        state: own_state.clone(),
        own_state,
        away,
        end,
        standings: standing,
        notices: Vec::new(),
        remembered,
        settled,
        landed,
        unfinished,
        drifts,
    };
    status.see_background(pipeline, background);
    Ok(status)
}

impl LandedStatus {
    fn of(landing: &LandingPlan, batches: &[BatchRecord]) -> Self {
        let records = batches.iter().flat_map(|batch| &batch.landings);
        let own =
            records.filter(|record| record.landing == landing.label && record.rows > 0 && record.landed_at.is_some());
        let (newest, landed_at) =
            own.fold((None, None), |(newest, at), record| (record.newest.max(newest), record.landed_at.max(at)));
        Self { landing: landing.label.clone(), place: landing.connection.name.clone(), newest, landed_at }
    }
}

impl Status {
    /// Takes in what the background process knows now.
    fn see_background(&mut self, pipeline: &LoadedPipeline, background: Option<&Answer>) {
        let own = background.and_then(|answer| answer.pipelines.iter().find(|p| p.pipeline == self.name)).cloned();
        let runs = own.as_ref().filter(|report| !report.doing.is_over());
        self.has_changed = runs.is_some_and(|report| report.texts != pipeline.plan.texts.digest());
        self.state = self.own_state.clone().beside(own.as_ref());
        self.background = own;
    }
}

/// What a page says of a pipeline beside its pictures, a line each. It asks no source.
pub(super) fn drawn_lines(
    pipeline: &LoadedPipeline,
    report: Option<&MemberReport>,
    notices: &[NoticeRecord],
    batches: &[BatchRecord],
) -> Vec<String> {
    let name = &pipeline.config.name;
    let mut text = report.map_or(String::new(), |report| {
        show::background(name, report.texts != pipeline.plan.texts.digest() && !report.doing.is_over(), report)
    });
    text.push_str(&show::open_notices(notices));
    let landed: Vec<LandedStatus> =
        pipeline.plan.landings.iter().map(|landing| LandedStatus::of(landing, batches)).collect();
    text.push_str(&show::landings(&landed));
    output::plain(&text).lines().map(str::to_string).collect()
}

/// Whether something is wrong with a pipeline.
pub(super) fn is_alarmed(state: &PipelineState, report: Option<&MemberReport>, notices: &[NoticeRecord]) -> bool {
    let fails = report.is_some_and(|report| matches!(report.doing, Doing::Waits { .. } | Doing::Stopped { .. }));
    fails || !notices.is_empty() || matches!(state, PipelineState::Stopped | PipelineState::HasErrors)
}
