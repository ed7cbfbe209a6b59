//! The arguments of `manual`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice manual\n  sluice manual date_trunc\n  sluice manual \"time zone\"\n  sluice manual --shape weighings.weighing --as avro";

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

    /// Write down what an event looks like where it arrives, or its rows in a landing: PIPELINE, PIPELINE.EVENT or
    /// PIPELINE.EVENT.LANDING
    #[arg(long, value_name = "NAME", conflicts_with_all = ["words", "pages", "man"])]
    pub shape: Option<String>,

    /// How it is written down
    #[arg(long = "as", value_enum, default_value_t, value_name = "FORM", requires = "shape")]
    pub form: ShapeForm,
}

/// How a shape is written down.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum ShapeForm {
    /// JSON Schema, draft 2020-12
    #[default]
    Json,
    /// A record schema of Avro
    Avro,
    /// A message of Protobuf, with its columns numbered in their order
    Protobuf,
    /// A table of SQL
    Sql,
}

impl ShapeForm {
    /// Its word on the command line.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Json => "json",
            Self::Avro => "avro",
            Self::Protobuf => "protobuf",
            Self::Sql => "sql",
        }
    }
}
