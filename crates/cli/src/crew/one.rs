//! One pipeline, until it ends: by itself, as it was asked to, or because it failed.

use std::sync::Arc;

use indicatif::MultiProgress;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{Ledger, RunEnd};
use sluice_core::run::{self, RunLimit, RunReport, Stop};

use super::figures::Figures;
use crate::exit::Exit;
use crate::new_tables::{self, Watch};
use crate::output::{self, problems, style};
use crate::progress::RunProgress;
use crate::project::{LoadedPipeline, Project};
use crate::written;

/// Where a run shows how it gets on.
#[derive(Clone, Copy, Default)]
pub(crate) struct Seen<'s> {
    /// The lines of all pipelines of the process, where there are several.
    pub bars: Option<&'s MultiProgress>,
    /// What counts it.
    pub figures: Option<&'s Arc<Figures>>,
}

/// Runs a pipeline, and starts again where its source has changed and the pipeline follows that, but not where it was
/// renewed meanwhile. Gives it as it was read last.
pub(crate) fn run_and_renew(
    project: &Project,
    mut pipeline: LoadedPipeline,
    mut until: RunLimit,
    stop: &Arc<Stop>,
    seen: Seen<'_>,
    is_renewed: &dyn Fn() -> bool,
) -> (LoadedPipeline, Outcome<RunReport>) {
    let mut before: Option<RunReport> = None;
    let mut last: Option<String> = None;
    loop {
        let watch = Watch::start(project, &pipeline, stop);
        // The same again would be so for ever.
        let is_new = |f: &Failure| f.renews && last.as_ref() != Some(&f.message);
        let ended = run_pipeline(project, &pipeline, until, stop, seen);
        let found = watch.and_then(Watch::end);
        match ended {
            Err(failure) if is_new(&failure) => last = Some(failure.message),
            Err(failure) => return (pipeline, Err(failure)),
            Ok(mut report) => {
                report.limit = report.limit.or(found.filter(|_| !stop.is_asked()));
                let batches = report.batches;
                let renews = report.limit.as_ref().is_some_and(is_new) && !stop.is_asked();
                let why = if renews { report.limit.take() } else { None };
                let whole = match before.take() {
                    Some(before) => before.and_then(report),
                    None => report,
                };
                until.batches = until.batches.map(|left| left.saturating_sub(batches));
                let Some(why) = why.filter(|_| until.batches != Some(0)) else { return (pipeline, Ok(whole)) };
                output::note(&format!("{} {}\n", style::warn("!"), why.message));
                (before, last) = (Some(whole), Some(why.message));
            }
        }
        stop.go_on();
        if is_renewed() {
            return (pipeline, Ok(before.unwrap_or_default()));
        }
        let again = match project.pipeline(&pipeline.config.name) {
            Ok(again) => again,
            Err(failure) => return (pipeline, Err(failure)),
        };
        if pipeline.unknown.is_none() {
            new_tables::report_difference(&pipeline.plan, &again.plan);
        }
        pipeline = again;
    }
}

/// Runs a pipeline that was read, after refusing one with mistakes.
pub(crate) fn run_pipeline(
    project: &Project,
    pipeline: &LoadedPipeline,
    until: RunLimit,
    stop: &Stop,
    seen: Seen<'_>,
) -> Outcome<RunReport> {
    refuse_mistakes(project, pipeline)?;
    refuse_uncertain(pipeline)?;
    let ledger: Arc<dyn Ledger> = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let _lock = ledger.lock(&pipeline.plan.pipeline)?;
    if !pipeline.config.groups.is_empty() {
        written::keep(project, &pipeline.config)?;
    }
    let progress = RunProgress::new(&pipeline.plan.pipeline, seen);
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

/// Refuses a pipeline whose file, or whose project's file, has errors, and shows them.
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
