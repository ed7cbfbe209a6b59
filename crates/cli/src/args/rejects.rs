//! The arguments of `rejects`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice rejects weighings\n  sluice rejects weighings --only not_json --raw\n  \
    sluice rejects weighings --retry --yes";

#[derive(Args, Debug)]
pub(crate) struct RejectsArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// How many of the newest rejects are shown
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub show: usize,

    /// Only rejects with this reason, such as not_json
    #[arg(long, value_name = "REASON")]
    pub only: Option<String>,

    /// Only rejects of the batches with this number
    #[arg(long, value_name = "NUMBER")]
    pub batch: Option<u64>,

    /// Print the rejected bytes as they were, one line each, and nothing else
    #[arg(long, conflicts_with = "retry")]
    pub raw: bool,

    /// Read the rejected events again with the current pipeline file; good ones land
    #[arg(long)]
    pub retry: bool,

    /// Include rejects that were retried
    #[arg(long, conflicts_with = "retry")]
    pub all: bool,

    /// Reject the events of sealed batches that cannot be finished, so that the pipeline can continue
    #[arg(long, conflicts_with_all = ["retry", "raw", "all", "only"])]
    pub unfinished: bool,

    /// Do not ask for confirmation
    #[arg(long)]
    pub yes: bool,
}
