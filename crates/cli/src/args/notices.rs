//! The arguments of `notices`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str =
    "Examples:\n  sluice notices\n  sluice notices --show 100\n  sluice notices --test\n  sluice notices --test desk";

#[derive(Args, Debug)]
pub(crate) struct NoticesArgs {
    /// How many of the newest notices are shown, beside those that are open
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub show: u64,

    /// Send a test message to these recipients [default: all], and show whether it has arrived
    #[arg(long, value_name = "RECIPIENT", num_args = 0.., conflicts_with = "show", add = ArgValueCandidates::new(names::recipients))]
    pub test: Option<Vec<String>>,
}
