//! The arguments of `start`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::log::{LogForm, LogLevel};
use crate::names;

pub(crate) const EXAMPLES: &str =
    "Examples:\n  sluice start\n  sluice start weighings passages\n  sluice start --at-boot";

#[derive(Args, Debug)]
pub(crate) struct StartArgs {
    /// The pipelines [default: all of the project]
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipelines: Vec<String>,

    /// Write a systemd unit that runs all pipelines when this machine starts, and show how to enable it
    #[arg(long, conflicts_with_all = ["pipelines", "log", "log_level"])]
    pub at_boot: bool,

    /// Log format of the background process, in `.sluice/log/sluice.log` [default: text]
    #[arg(long, value_name = "FORM", value_enum)]
    pub log: Option<LogForm>,

    /// Log events of this severity and above; the variable SLUICE_LOG_LEVEL sets the default
    #[arg(long, value_name = "LEVEL", value_enum)]
    pub log_level: Option<LogLevel>,
}
