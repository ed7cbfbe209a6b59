//! Trying rejects again: they are read again from their source, under the pipeline as it is now.

use sluice_core::failure::Outcome;
use sluice_core::run::replay::{ReplayWork, replay_lock};
use sluice_core::run::retry::{RejectRecord, Rejected, portions};
use sluice_core::units::show_many;

use super::RejectLine;
use crate::args::{Arguments, RejectsArgs};
use crate::commands::replay::execute;
use crate::confirm::confirm;
use crate::crew::one::{refuse_mistakes, refuse_uncertain};
use crate::exit::Exit;
use crate::output;
use crate::project::{LoadedPipeline, Project};

/// How the ledger names a replay of rejects.
const WHAT: &str = "rejects";

/// Reads the rejects again.
///
/// # Errors
/// Where a source does not hold them any more, or a store fails.
pub(super) fn retry(
    arguments: &Arguments,
    args: &RejectsArgs,
    project: &Project,
    pipeline: &LoadedPipeline,
    rejects: &[RejectLine],
) -> Outcome<Exit> {
    refuse_mistakes(project, pipeline)?;
    refuse_uncertain(pipeline)?;
    let name = &pipeline.config.name;
    let ledger = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let _lock = ledger.lock(&replay_lock(name))?;
    let record = RejectRecord::read(ledger.as_ref(), name)?;
    let rejected: Vec<Rejected> = rejects.iter().map(RejectLine::rejected).collect();
    let portions = portions(&pipeline.plan, &rejected, &record.standing())?;
    if portions.is_empty() {
        output::note("there is nothing to try again\n");
        return Ok(Exit::Fine);
    }
    output::note(&format!(
        "{} to read again, in {}; good events land, the others are rejected again\n",
        show_many(portions.iter().map(|p| p.ranges.0.len() as u64).sum(), "event"),
        show_many(portions.len() as u64, "batch"),
    ));
    if !confirm("try them again?", args.yes)? {
        output::note("nothing was read again\n");
        return Ok(Exit::Fine);
    }
    let all: Vec<usize> = (0..pipeline.plan.landings.len()).collect();
    let what = match &args.only {
        Some(reason) => format!("{WHAT} by {reason}"),
        None => WHAT.to_string(),
    };
    let work = ReplayWork { portions: &portions, into: &all, what: &what, reason: "" };
    execute(arguments, project, pipeline, ledger.as_ref(), &work)
}
