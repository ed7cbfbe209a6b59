//! The state of a pipeline: one word for each, the same in every command.

use sluice_core::failure::Outcome;
use sluice_core::ledger::{Holder, Ledger, RunEnd};
use sluice_core::units::show_many;

use crate::crew::{Doing, MemberReport};
use crate::output::{style, times};

/// What a pipeline is doing, or why it does nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum PipelineState {
    /// Its file, or the project's, has errors.
    HasErrors,
    /// A process of this number runs it.
    Runs(u32),
    /// The background process has it, and does something else than to run it.
    Background(Doing),
    /// The last run stopped for a reason of its own.
    Stopped,
    /// So many batches are sealed and wait for their landings; the next run finishes them.
    ToFinish(u64),
    /// It has not settled a batch yet.
    NeverRan,
    /// The last run ended as it was asked to.
    AtRest,
}

impl PipelineState {
    /// The state by what is known of a pipeline. `has_settled` says whether any batch has settled
    /// or was taken over, `unfinished` how many are sealed.
    pub(crate) fn of(
        good: bool,
        holder: Option<&Holder>,
        end: Option<&RunEnd>,
        has_settled: bool,
        unfinished: u64,
    ) -> Self {
        match (good, holder, end) {
            (false, ..) => Self::HasErrors,
            (_, Some(holder), _) => Self::Runs(holder.pid),
            (_, None, Some(_)) => Self::Stopped,
            _ if unfinished > 0 => Self::ToFinish(unfinished),
            _ if !has_settled => Self::NeverRan,
            _ => Self::AtRest,
        }
    }

    /// The state of a pipeline whose file has no errors, as the ledger has it.
    pub(crate) fn in_ledger(ledger: &dyn Ledger, pipeline: &str) -> Outcome<Self> {
        let (totals, end) = (ledger.totals(pipeline)?, ledger.last_end(pipeline)?);
        let holder = ledger.holder(pipeline)?;
        Ok(Self::of(true, holder.as_ref(), end.as_ref(), totals.last_settled_at.is_some(), totals.unfinished))
    }

    /// The state where the background process of the project has the pipeline.
    pub(crate) fn beside(self, report: Option<&MemberReport>) -> Self {
        match (self, report.map(|report| &report.doing)) {
            (
                Self::Runs(_) | Self::Stopped | Self::ToFinish(_) | Self::NeverRan | Self::AtRest,
                Some(doing @ (Doing::Waits { .. } | Doing::Rests { .. } | Doing::Queues | Doing::Settles)),
            ) => Self::Background(doing.clone()),
            (own, _) => own,
        }
    }

    /// For people.
    pub(crate) fn shown(&self) -> String {
        match self {
            Self::Background(doing) => shown(doing),
            Self::HasErrors => style::bad("has errors"),
            Self::Runs(pid) => style::good(&format!("runs (process {pid})")),
            Self::Stopped => style::bad("stopped"),
            Self::ToFinish(count) => style::warn(&format!("{} to finish", show_many(*count, "batch"))),
            Self::NeverRan => "never ran".into(),
            Self::AtRest => "at rest".into(),
        }
    }

    /// For JSON.
    pub(crate) fn word(&self) -> &'static str {
        match self {
            Self::HasErrors => "has_errors",
            Self::Runs(_) => "runs",
            Self::Background(Doing::Waits { .. }) => "waits",
            Self::Background(Doing::Rests { .. }) => "rests",
            Self::Background(Doing::Queues) => "queues",
            Self::Background(Doing::Settles) => "settles",
            // These are told by the ledger.
            Self::Background(Doing::Runs) => "runs",
            Self::Background(Doing::Stopped { .. } | Doing::Ended) => "at_rest",
            Self::Stopped => "stopped",
            Self::ToFinish(_) => "to_finish",
            Self::NeverRan => "never_ran",
            Self::AtRest => "at_rest",
        }
    }
}

/// What a pipeline of the background does, in a few words.
pub(crate) fn shown(doing: &Doing) -> String {
    match doing {
        Doing::Runs => style::good("runs"),
        Doing::Settles => style::warn("stopping"),
        Doing::Waits { until, .. } => style::warn(&format!("failed, retries {}", times::ahead(*until))),
        Doing::Rests { until } => format!("waiting for its schedule, runs {}", times::ahead(*until)),
        Doing::Queues => "queued".into(),
        Doing::Stopped { .. } => style::bad("stopped"),
        Doing::Ended => "at rest".into(),
    }
}

/// The same, with the reason.
pub(crate) fn doing(report: &MemberReport) -> String {
    let shown = shown(&report.doing);
    match &report.doing {
        Doing::Waits { reason, .. } | Doing::Stopped { reason } => format!("{shown}: {reason}"),
        Doing::Runs if report.moved.caught_up => format!("{shown}, caught up"),
        _ => shown,
    }
}
