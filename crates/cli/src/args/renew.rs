//! The arguments of `renew`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str =
    "Examples:\n  sluice renew weighings --plan\n  sluice renew weighings\n  sluice renew weighings --events 20000";

#[derive(Args, Debug)]
pub(crate) struct RenewArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// How many events of each arrival are compared; the newest ones if the source can be read from its end
    #[arg(long, value_name = "N", default_value_t = 1000)]
    pub events: u64,

    /// Only show the differences
    #[arg(long)]
    pub plan: bool,
}
