//! Schemas of the values of messages: what the landing's options say of them, and their numbers at a registry.

use std::sync::Arc;

use sluice_core::columns::OutputColumn;
use sluice_core::config::{OptionSpec, Options, ValueKind};
use sluice_core::event::SchemaLanguage;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::protobuf::{MessageWriter, Misfit, Protobuf};
use sluice_core::formats::{self, avro};
use sluice_core::kinds::Settings;
use sluice_core::plan::transform::schema_of as rows_schema;
use sluice_core::problem::Problem;

use super::values::{Frame, ValueWriter};
use crate::broker::registry::Registry;
use crate::landings::files::typed::file_schema;

/// Keys of `avro` of a landing.
pub(super) const AVRO_OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default(
        "framing",
        ValueKind::Choice(&["bare", "single_object", avro::REGISTRY]),
        "bare",
        "what stands before a value: nothing; the fingerprint of its schema; or the number that the connection's `registry` gives the \
         schema, which is made known there",
    )
    .with(&["subject"]),
    SUBJECT,
];

/// Keys of `protobuf` of a landing.
pub(super) const PROTOBUF_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required(
        "schema",
        ValueKind::Files,
        "the .proto file of the messages, with all that it imports as a list; or the set of descriptors that a compiler made of them; \
         each column is the field of its name",
    )
    .with(&["message"]),
    OptionSpec::optional(
        "message",
        ValueKind::Text,
        "the full name of the message type, such as tarrow.Passage; may be left out where the schema has only one that no other holds",
    )
    .with(&["schema"]),
    OptionSpec::with_default(
        "framing",
        ValueKind::Choice(&["bare", avro::REGISTRY]),
        "bare",
        "what stands before a value: nothing; or the number that the connection's `registry` gives the schema, which is made known \
         there, and the place of the type in it",
    )
    .with(&["subject"]),
    SUBJECT,
];

const SUBJECT: OptionSpec = OptionSpec::optional(
    "subject",
    ValueKind::Text,
    "the subject under which a registry keeps the schema; without it TOPIC-value",
)
.with(&["framing"]);

/// The language of the schemas of values; None where they have none.
fn language(options: &Options) -> Option<SchemaLanguage> {
    match options.text("format").as_deref() {
        Some("avro") => Some(SchemaLanguage::Avro),
        Some("protobuf") => Some(SchemaLanguage::Protobuf),
        _ => None,
    }
}

/// The key of the options of a language.
fn key_of(language: SchemaLanguage) -> &'static str {
    match language {
        SchemaLanguage::Avro => "avro",
        SchemaLanguage::Protobuf => "protobuf",
    }
}

/// The columns that land as the values of messages.
fn values_of(columns: &[OutputColumn]) -> Vec<OutputColumn> {
    columns.iter().filter(|c| !c.name.starts_with('@')).cloned().collect()
}

/// A schema that a registry numbers.
struct Numbered {
    language: SchemaLanguage,
    subject: String,
    text: String,
}

impl Numbered {
    /// What options ask for; None where messages carry no number.
    fn of(options: &Options, columns: &[OutputColumn]) -> Option<Result<Self, Misfit>> {
        let language = language(options)?;
        let table = options.table(key_of(language));
        if table.text("framing").as_deref() != Some(avro::REGISTRY) {
            return None;
        }
        let topic = options.text("topic").unwrap_or_default();
        let subject = table.text("subject").unwrap_or_else(|| format!("{topic}-value"));
        let text = match language {
            SchemaLanguage::Avro => Ok(avro::record_of(&values_of(columns))),
            SchemaLanguage::Protobuf => one_file(&table),
        };
        Some(text.map(|text| Self { language, subject, text }))
    }
}

/// The text of a schema that is one file of the language.
fn one_file(table: &Options) -> Result<String, Misfit> {
    let misfit = |message: &str| Misfit {
        message: message.into(),
        help: "put all messages into one .proto file; imports of google/protobuf/… may stay".into(),
    };
    match table.files("schema").as_slice() {
        [(path, bytes)] if path.ends_with(".proto") => {
            let text = String::from_utf8(bytes.clone());
            text.map_err(|_| misfit("the schema is not UTF-8"))
        }
        _ => Err(misfit("a registry is told of a schema that is one file")),
    }
}

/// Why rows cannot be written by a schema, or a registry would not take it.
pub(super) fn problems(settings: &Settings, columns: &[OutputColumn]) -> Vec<Problem> {
    let options = &settings.options;
    let Some(language) = language(options) else { return Vec::new() };
    let place = |key| options.place_of(key);
    let misfit = |misfit: Misfit, key| Problem::error("value.type", misfit.message, place(key)).with_help(misfit.help);
    if language == SchemaLanguage::Protobuf {
        let key = if options.is_set("protobuf") { "protobuf" } else { "format" };
        if let Err(found) = message_writer(options, columns) {
            return found.into_iter().map(|one| misfit(one, key)).collect();
        }
    }
    let unfit = columns.iter().find(|c| !c.name.starts_with('@') && !avro::is_name(&c.name));
    if let Some(column) = unfit.filter(|_| language == SchemaLanguage::Avro) {
        let message = format!("`{}` cannot be the name of a column in Avro", column.name);
        let help = "name it with letters, digits and underscores: \"…\" as name".into();
        return vec![misfit(Misfit { message, help }, "format")];
    }
    let numbered = match Numbered::of(options, columns) {
        None => return Vec::new(),
        Some(Err(found)) => return vec![misfit(found, key_of(language))],
        Some(Ok(numbered)) => numbered,
    };
    let asked = Registry::new(settings)
        .and_then(|registry| registry.objection(&numbered.subject, numbered.language, &numbered.text));
    match asked {
        Ok(None) => Vec::new(),
        Ok(Some(failure)) | Err(failure) => {
            let problem = Problem::error("place.missing", failure.message, place(key_of(language)));
            vec![match failure.help {
                Some(help) => problem.with_help(help),
                None => problem,
            }]
        }
    }
}

fn message_writer(options: &Options, columns: &[OutputColumn]) -> Result<MessageWriter, Vec<Misfit>> {
    let table = options.table("protobuf");
    if table.files("schema").is_empty() {
        return Err(vec![Misfit {
            message: "a message of Protobuf is written by a schema".into(),
            help: "write protobuf = { schema = \"schemas/passage.proto\" }, a path below the folder of sluice.toml; sluice manual \
                   --shape PIPELINE.EVENT.LANDING --as protobuf shows one for these columns"
                .into(),
        }]);
    }
    MessageWriter::new(&Protobuf::of_options(&table), &values_of(columns))
}

/// How values are written under the options of a landing.
pub(super) fn value_writer(options: &Options, columns: &[OutputColumn]) -> ValueWriter {
    let framing = |key| options.table(key).text("framing");
    match language(options) {
        Some(SchemaLanguage::Avro) => {
            let frame = match framing("avro").as_deref() {
                Some("single_object") => Frame::SingleObject,
                // How large a message is does not depend on the number.
                Some(avro::REGISTRY) => Frame::Registry(0),
                _ => Frame::Bare,
            };
            ValueWriter::Avro(frame, file_schema(&rows_schema(&values_of(columns))))
        }
        Some(SchemaLanguage::Protobuf) => {
            let frame = match framing("protobuf").as_deref() {
                Some(avro::REGISTRY) => Frame::Registry(0),
                _ => Frame::Bare,
            };
            ValueWriter::Protobuf(frame, message_writer(options, columns).map(Arc::new))
        }
        None => ValueWriter::Text(formats::writer(options).unwrap_or_else(|| Arc::new(formats::JsonLines))),
    }
}

/// A schema, which is made known to a registry when the first batch is staged.
pub(super) struct SchemaNumber {
    registry: Registry,
    schema: Numbered,
    number: Option<u32>,
}

impl SchemaNumber {
    /// The schema whose number messages carry; None where they carry none.
    ///
    /// # Errors
    /// Where the connection names no registry, or a registry cannot be told of the schema.
    pub(super) fn of(settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Self>> {
        let Some(schema) = Numbered::of(&settings.options, columns) else { return Ok(None) };
        let failed = |misfit: Misfit| Failure::new(FailureKind::Configuration, misfit.message).with_help(misfit.help);
        Ok(Some(Self { registry: Registry::new(settings)?, schema: schema.map_err(failed)?, number: None }))
    }

    /// The number.
    ///
    /// # Errors
    /// Where no registry answers, or it refuses the schema.
    pub(super) fn number(&mut self) -> Outcome<u32> {
        if let Some(number) = self.number {
            return Ok(number);
        }
        let number = self.registry.register(&self.schema.subject, self.schema.language, &self.schema.text)?;
        self.number = Some(number);
        Ok(number)
    }
}
