//! The state of a pipeline: one word for each, the same in every command.

use sluice_core::failure::Outcome;
use sluice_core::ledger::{Holder, Ledger, RunEnd};
use sluice_core::units::show_many;

use crate::output::style;

/// What a pipeline is doing, or why it does nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum PipelineState {
    /// Its file, or the project's, has errors.
    HasErrors,
    /// A process of this number runs it.
    Runs(u32),
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

    /// For people.
    pub(crate) fn shown(&self) -> String {
        match self {
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
            Self::Stopped => "stopped",
            Self::ToFinish(_) => "to_finish",
            Self::NeverRan => "never_ran",
            Self::AtRest => "at_rest",
        }
    }
}
