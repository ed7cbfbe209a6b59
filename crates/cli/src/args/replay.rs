//! The arguments of `replay`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice replay weighings --batches 1 --plan\n  \
    sluice replay weighings --batches 1 --reason \"a wrong rate\" --yes\n  \
    sluice replay passages --range lock.passages/0=100..200 --landing passage.archive\n  \
    sluice replay passages --batches 12- --landing lock_minute.counts --plan";

#[derive(Args, Debug)]
pub(crate) struct ReplayArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// The batches with these numbers, both ends included: 17, 12-18, or 12- for all from 12 on
    #[arg(long, value_name = "NUMBERS")]
    pub batches: Option<String>,

    /// Only batches of this lane
    #[arg(long, value_name = "LANE")]
    pub lane: Option<String>,

    /// Positions of a partition: PARTITION=FROM..TO, up to but without TO; can be repeated
    #[arg(long, value_name = "RANGE")]
    pub range: Vec<String>,

    /// Only events at or after this time of the source: RFC 3339, a day, or how long ago, such as 2h
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// Only events before this time of the source, written as for --since
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub until: Option<i64>,

    /// Only into this landing; what it holds of the batches is replaced: EVENT.LANDING, or LANDING
    #[arg(long, value_name = "LANDING", add = ArgValueCandidates::new(names::landings))]
    pub landing: Option<String>,

    /// The reason, kept in the ledger
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub reason: String,

    /// Show what would be read again; change nothing
    #[arg(long)]
    pub plan: bool,

    /// Do not ask for confirmation
    #[arg(long)]
    pub yes: bool,
}
