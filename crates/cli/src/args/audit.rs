//! The arguments of `audit`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice audit permits\n  \
    sluice audit permits --landing permit.desk --catch-up\n  sluice audit permits --catch-up --reload";

/// Compare every mirror of a pipeline with the table that it follows: counts and checksums first, then the rows that
/// differ. The pipeline may run meanwhile; nothing is changed without --catch-up or --reload.
#[derive(Args, Debug)]
pub(crate) struct AuditArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Compare only this landing, EVENT.LANDING; several, one after the other
    #[arg(long, value_name = "NAME")]
    pub landing: Vec<String>,

    /// Show at most N of the rows that differ in each mirror
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub rows: usize,

    /// Where the pipeline does not run and rows differ: run it until it has caught up, then compare again
    #[arg(long)]
    pub catch_up: bool,

    /// Where the pipeline runs: wait at most this many seconds for what the source has already to land
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    pub wait: u64,

    /// Have the next run load the rows that differ again; the pipeline must not run meanwhile
    #[arg(long)]
    pub reload: bool,

    /// Do not ask before --reload
    #[arg(long, requires = "reload")]
    pub yes: bool,
}
