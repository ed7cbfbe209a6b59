//! The arguments of `draw`.

use std::path::PathBuf;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice draw weighings\n  sluice draw weighings --batches 2-3 --into weighings.svg\n  \
    sluice draw weighings --over 48h\n  sluice draw --page tarrow.html";

#[derive(Args, Debug)]
pub(crate) struct DrawArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", required_unless_present = "page", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: Option<String>,

    /// The file to write [default: PIPELINE.svg]
    #[arg(long, value_name = "FILE.svg")]
    pub into: Option<PathBuf>,

    /// Take the figures from these batches: 12, 12-18 or 12- [default: the newest 200]
    #[arg(long, value_name = "NUMBERS")]
    pub batches: Option<String>,

    /// Draw figures over the last so much time instead: events read and rejected, and the longest batch, by hour
    #[arg(long, value_name = "DURATION", conflicts_with = "batches")]
    pub over: Option<String>,

    /// Write one page with all pipelines: state, pictures and figures over time
    #[arg(long, value_name = "FILE.html", conflicts_with_all = ["pipeline", "into", "batches", "over"])]
    pub page: Option<PathBuf>,
}
