//! The arguments of `completions`.

use clap::Args;

pub(crate) const EXAMPLES: &str = "Examples:\n  source <(sluice completions bash)\n  \
    sluice completions fish > ~/.config/fish/completions/sluice.fish";

#[derive(Args, Debug)]
pub(crate) struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    pub shell: clap_complete::Shell,
}
