//! The arguments of `init`.

use std::path::PathBuf;

use clap::Args;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice init\n  sluice init tarrow --name tarrow";

#[derive(Args, Debug)]
pub(crate) struct InitArgs {
    /// The folder; it is created if it does not exist
    #[arg(default_value = ".", value_name = "DIR")]
    pub folder: PathBuf,

    /// The project's name [default: the name of the folder]
    #[arg(long)]
    pub name: Option<String>,
}
