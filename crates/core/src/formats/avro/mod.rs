//! Avro: object container files, which are read as a whole, and messages whose schemas are known beforehand. Both follow the
//! specification of Apache Avro 1.11.

mod datums;
mod messages;
mod references;
mod written;

use std::sync::Arc;

use super::json::JsonLines;
use super::recognise::{Recognised, Start};
use super::spelled::{self, Spell as _, SpelledDecoder};
use super::whole::WholeFile;
use super::{Cut, Decoder, Format, FormatKind, RowWriter, Tail};
use crate::config::{OptionSpec, OptionValue, Options, ValueKind};
use crate::contract::Contract;
use crate::event::Chunk;
use crate::problem::{Problem, Problems};
use crate::profile::{DeclaredField, Profile};
use messages::Messages;

pub use datums::{Datums, Found};
pub use references::inlined;
pub use written::{ROW, is_name, record_of};

/// The kind.
pub const KIND: AvroKind = AvroKind;

/// Avro by name.
pub struct AvroKind;

/// How messages are framed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Framing {
    /// Not at all: a message is a value of the one schema.
    #[default]
    Bare,
    /// Two bytes and the fingerprint of the schema stand before the value ("Single-object encoding").
    SingleObject,
    /// A zero byte and the number of the schema stand before the value; a schema registry knows the schema.
    Registry,
}

const FRAMINGS: &[&str] = &["bare", "single_object", "registry"];

/// The framing of messages whose schemas are at a registry, as the option has it.
pub const REGISTRY: &str = "registry";

/// The number of the schema that a message names, where its schema is at a registry.
pub fn schema_number(message: &[u8]) -> Option<u32> {
    let (zero, rest) = message.split_first()?;
    rest.first_chunk::<4>().filter(|_| *zero == 0).map(|number| u32::from_be_bytes(*number))
}

/// Keys of `avro` of an arrival.
pub const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional(
        "schema",
        ValueKind::Files,
        "of messages: the file of the schema that they were written with; with single_object a list of all that they may have",
    )
    .with(&["framing"]),
    OptionSpec::with_default(
        "framing",
        ValueKind::Choice(FRAMINGS),
        "bare",
        "of messages: bare where a message is a value alone; single_object where the fingerprint of its schema stands before it; \
         registry where the number of its schema does, and the connection names the registry",
    )
    .with(&["schema"]),
];

impl FormatKind for AvroKind {
    fn names(&self) -> &'static [&'static str] {
        &["avro"]
    }

    fn title(&self) -> &'static str {
        "Avro"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn open(&self, options: &Options) -> Arc<dyn Format> {
        let framing = match options.text("framing").as_deref() {
            Some("single_object") => Framing::SingleObject,
            Some(REGISTRY) => Framing::Registry,
            _ => Framing::Bare,
        };
        Arc::new(Avro { schemas: texts(options), framing })
    }

    fn check(&self, options: &Options, problems: &mut Problems) {
        let schemas = options.files("schema");
        for (path, text) in &schemas {
            let text = std::str::from_utf8(text).map_err(|_| "it is not UTF-8".to_string());
            if let Err(why) = text.and_then(Datums::new) {
                problems.add(
                    Problem::error(
                        "value.type",
                        format!("{path} is not an Avro schema: {why}"),
                        options.place_of("schema"),
                    )
                    .with_help("it is the JSON of one record; a recursive schema cannot be read"),
                );
            }
        }
        if options.text("framing").as_deref() == Some(REGISTRY) && options.is_set("schema") {
            problems.add(
                Problem::error(
                    "value.type",
                    "a registry knows the schemas of these messages",
                    options.place_of("schema"),
                )
                .with_help("leave `schema` out"),
            );
            return;
        }
        if schemas.len() > 1 && options.text("framing").as_deref() != Some("single_object") {
            problems.add(
                Problem::error(
                    "value.type",
                    "messages that are framed bare have one schema",
                    options.place_of("schema"),
                )
                .with_help("write framing = \"single_object\" where each message names its schema"),
            );
        }
    }

    fn writer(&self, _: &Options) -> Option<Arc<dyn RowWriter>> {
        None
    }

    fn recognise(&self, start: &Start<'_>) -> Option<Recognised> {
        (WholeFile::of(start.text) == Some(WholeFile::Avro)).then(|| Recognised::Events(WholeFile::Avro.format()))
    }
}

/// The texts of the schemas that options name, each with its path.
fn texts(options: &Options) -> Arc<[(String, String)]> {
    let text = |(path, bytes): (String, Vec<u8>)| Some((path, String::from_utf8(bytes).ok()?));
    options.files("schema").into_iter().filter_map(text).collect()
}

/// The format `avro`.
#[derive(Clone, Debug, Default)]
pub struct Avro {
    /// The schemas of messages: the path of each, and its text.
    schemas: Arc<[(String, String)]>,
    framing: Framing,
}

impl Avro {
    /// Messages of one schema without a frame.
    ///
    /// # Errors
    /// Says in words what is wrong with the schema.
    pub fn of_schema(path: &str, text: &str) -> Result<Self, String> {
        Datums::new(text)?;
        Ok(Self { schemas: Arc::from([(path.to_string(), text.to_string())]), framing: Framing::Bare })
    }

    /// As options spell it, with the framing that messages show.
    pub fn of_messages(options: &Options, messages: &[Vec<u8>]) -> Self {
        if options.text("framing").as_deref() == Some(REGISTRY) {
            return Self { schemas: Arc::default(), framing: Framing::Registry };
        }
        let is_framed = !messages.is_empty() && messages.iter().all(|message| message.starts_with(&messages::MARK));
        let framing = if is_framed { Framing::SingleObject } else { Framing::Bare };
        Self { schemas: texts(options), framing }
    }

    /// The fields that the first schema declares.
    pub fn declared(&self) -> Vec<DeclaredField> {
        let datums = self.schemas.first().and_then(|(_, text)| Datums::new(text).ok());
        datums.map_or_else(Vec::new, |datums| DeclaredField::all(&datums.schema()))
    }
}

impl Format for Avro {
    fn kind(&self) -> &'static dyn FormatKind {
        &KIND
    }

    fn spelling(&self) -> Vec<(&'static str, OptionValue)> {
        let mut keys = Vec::new();
        if !self.schemas.is_empty() {
            keys.push(("schema", OptionValue::Texts(self.schemas.iter().map(|(path, _)| path.clone()).collect())));
        }
        match self.framing {
            Framing::Bare => {}
            Framing::SingleObject => keys.push(("framing", OptionValue::Text("single_object".into()))),
            Framing::Registry => keys.push(("framing", OptionValue::Text(REGISTRY.into()))),
        }
        keys
    }

    fn whole(&self) -> Option<WholeFile> {
        Some(WholeFile::Avro)
    }

    fn cut(&self, bytes: &[u8], limit: u64) -> Cut {
        JsonLines.cut(bytes, limit)
    }

    fn fault_in_messages(&self) -> Option<(&'static str, &'static str)> {
        let help = "write avro = { schema = \"schemas/passage.avsc\" }, a path below the folder of sluice.toml, or avro = { framing = \
                    \"registry\" }";
        (self.schemas.is_empty() && self.framing != Framing::Registry)
            .then_some(("a message does not say which schema it has", help))
    }

    fn of_messages(&self) -> Arc<dyn Format> {
        Arc::new(self.clone())
    }

    fn is_whole(&self, tail: &[u8], head: Option<&[u8]>) -> Tail {
        JsonLines.is_whole(tail, head)
    }

    fn spelled(&self, chunk: &Chunk) -> Option<Chunk> {
        chunk.messages.is_some().then(|| Messages::new(self).as_json(chunk).0)
    }

    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder> {
        Box::new(SpelledDecoder::new(Messages::new(self), JsonLines.decoder(contract)))
    }

    fn profile(&self, chunk: &Chunk, profile: &mut Profile) {
        spelled::profile(&mut Messages::new(self), chunk, profile);
    }

    fn fitted(&self, _: &Profile) -> Arc<dyn Format> {
        Arc::new(self.clone())
    }
}

#[cfg(test)]
mod tests;
