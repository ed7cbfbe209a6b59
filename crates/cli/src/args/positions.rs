//! The arguments of `positions`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice positions weighings\n  \
    sluice positions passages --set 2026-04-01 --reason \"lost a day\"\n  sluice positions weighings --changes";

#[derive(Args, Debug)]
pub(crate) struct PositionsArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Set positions: earliest, latest, a moment, or PARTITION=POSITION; can be repeated
    #[arg(long, value_name = "WHERE")]
    pub set: Vec<String>,

    /// With --set: only partitions whose name starts with this
    #[arg(long, value_name = "NAME", requires = "set")]
    pub of: Option<String>,

    /// Continue at the positions of another arrival: OLD=NEW, its name in the ledger and its name now
    #[arg(long, value_name = "OLD=NEW", conflicts_with_all = ["set", "changes"])]
    pub take_over: Option<String>,

    /// Treat an arrival as a new one: it starts where its keys say, and leaves the positions under its name unused
    #[arg(long, value_name = "NEW", conflicts_with_all = ["set", "changes", "take_over"])]
    pub as_new: Option<String>,

    /// The reason, kept in the ledger; required with --set, --take-over and --as-new
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,

    /// Show the positions that were set, and why
    #[arg(long, conflicts_with = "set")]
    pub changes: bool,

    /// Do not ask for confirmation
    #[arg(long)]
    pub yes: bool,
}
