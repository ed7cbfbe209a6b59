//! The arguments of `manual`.

use std::path::PathBuf;

use clap::Args;

pub(crate) const EXAMPLES: &str =
    "Examples:\n  sluice manual\n  sluice manual date_trunc\n  sluice manual \"time zone\"";

#[derive(Args, Debug)]
pub(crate) struct ManualArgs {
    /// A chapter, a name, or any word [default: list the chapters]
    #[arg(value_name = "WORD")]
    pub words: Vec<String>,

    /// Write the manual as Markdown pages to a folder
    #[arg(long, value_name = "DIR", conflicts_with = "words")]
    pub pages: Option<PathBuf>,

    /// Write the manual as man pages to a folder: man -l DIR/sluice-run.1
    #[arg(long, value_name = "DIR", conflicts_with_all = ["words", "pages"])]
    pub man: Option<PathBuf>,
}
