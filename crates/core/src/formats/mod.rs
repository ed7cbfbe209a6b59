//! The formats of events: from bytes to columns under a contract, and from rows to text.
//!
//! A new format is a folder beside `csv` and `json`, and its lines in the tables of this file.

pub mod avro;
mod builders;
pub mod bytes;
pub mod csv;
#[cfg(test)]
mod hostile;
pub mod json;
mod kind;
pub mod protobuf;
pub mod recognise;
mod rows;
mod spelled;
#[cfg(test)]
mod suite;
pub mod text;
mod unknown;
mod values;
pub mod whole;

use std::sync::Arc;

use crate::config::{OptionSpec, Options, ValueKind};
use crate::problem::Problems;

pub(crate) use builders::{ColumnBuilder, Values};
pub use csv::Csv;
pub use json::JsonLines;
pub use kind::{Cut, Decoded, Decoder, Format, FormatKind, MissingFields, RowWriter, Tail};
pub use unknown::UnknownField;

/// Every format. Text is recognised by the first that takes it.
pub const KINDS: &[&dyn FormatKind] = &[
    &whole::KINDS[0],
    &whole::KINDS[1],
    &whole::KINDS[2],
    &avro::KIND,
    &protobuf::KIND,
    &bytes::KIND,
    &json::KIND,
    &text::KIND,
    &csv::KIND,
];

/// The names that an arrival's `format` takes.
pub const NAMES: &[&str] =
    &["parquet", "arrow", "json_document", "avro", "protobuf", "bytes", "jsonl", "json", "text", "csv"];

/// The formats of files that are read, the usual one first.
pub const IN_FILES: &[&str] = &["jsonl", "csv", "text", "json_document", "parquet", "arrow", "avro"];

/// The formats of messages that are read, the usual one first.
pub const IN_MESSAGES: &[&str] = &["json", "jsonl", "csv", "text", "avro", "protobuf", "bytes"];

/// The formats of messages that may name their schemas, which a registry knows.
pub const WITH_SCHEMAS: &[&str] = &["avro", "protobuf"];

/// The formats of files that are written, the usual one first.
pub const TO_FILES: &[&str] = &["parquet", "jsonl", "csv", "avro", "arrow"];

/// The formats of messages that are written, the usual one first.
pub const TO_MESSAGES: &[&str] = &["json", "csv", "avro", "protobuf"];

/// Tables of options that have the name of their format, of arrivals.
pub const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("csv", ValueKind::Table(csv::OPTIONS), "how CSV is spelled").with(&["format"]),
    OptionSpec::optional("avro", ValueKind::Table(avro::OPTIONS), "how messages of Avro are framed, and their schemas")
        .with(&["format"]),
    OptionSpec::optional("bytes", ValueKind::Table(bytes::OPTIONS), "how messages are spelled that are bytes")
        .with(&["format"]),
    OptionSpec::optional(
        "protobuf",
        ValueKind::Table(protobuf::OPTIONS),
        "how messages of Protobuf are framed, and their schema",
    )
    .with(&["format"]),
    OptionSpec::optional("text", ValueKind::Table(text::OPTIONS), "how a line of text is cut into fields")
        .with(&["format"]),
];

/// Some programs begin a file with this byte order mark; it belongs to no record.
pub const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";

/// The kind with a name.
pub fn kind(name: &str) -> Option<&'static dyn FormatKind> {
    KINDS.iter().copied().find(|kind| kind.names().contains(&name))
}

/// The options of a format within those of an arrival or a landing.
fn own_options(kind: &dyn FormatKind, options: &Options) -> Options {
    let name = kind.names()[0];
    match options.knows(name) {
        true => options.table(name),
        false => Options::empty(Vec::new(), options.place.clone()),
    }
}

/// Reports what is wrong with the options of the format that an arrival names.
pub fn check(options: &Options, problems: &mut Problems) {
    if let Some(kind) = options.text("format").and_then(|name| kind(&name)) {
        kind.check(&own_options(kind, options), problems);
    }
}

/// The format that the options of an arrival or of a file name.
pub fn format(options: &Options) -> Option<Arc<dyn Format>> {
    let kind = kind(&options.text("format")?)?;
    Some(kind.open(&own_options(kind, options)))
}

/// What writes the rows of a landing as text; None where its format is not made of text.
pub fn writer(options: &Options) -> Option<Arc<dyn RowWriter>> {
    let kind = kind(&options.text("format")?)?;
    kind.writer(&own_options(kind, options))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_tables_agree() {
        let all: Vec<&str> = KINDS.iter().flat_map(|kind| kind.names().iter().copied()).collect();
        assert_eq!(all, NAMES);
        for name in [IN_FILES, IN_MESSAGES, TO_MESSAGES].concat() {
            assert!(kind(name).is_some(), "{name}");
        }
        for kind in KINDS.iter().filter(|kind| !kind.options().is_empty()) {
            assert!(OPTIONS.iter().any(|spec| spec.key == kind.names()[0]), "{}", kind.title());
        }
    }
}
