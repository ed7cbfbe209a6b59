//! The arguments of `demo`.

use std::path::PathBuf;

use clap::Args;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice demo\n  sluice demo /tmp/tarrow";

#[derive(Args, Debug)]
pub(crate) struct DemoArgs {
    /// The folder; it is created if it does not exist
    #[arg(default_value = "tarrow", value_name = "DIR")]
    pub folder: PathBuf,
}
