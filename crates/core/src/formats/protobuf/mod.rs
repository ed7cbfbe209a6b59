//! Messages of Protobuf, whose message type is known beforehand, as the language guide of Protocol Buffers describes them
//! (editions proto2, proto3 and 2023).

mod drawn;
mod messages;
mod schema;
mod shapes;
mod written;

use std::sync::Arc;

use prost_reflect::MessageDescriptor;

use super::json::JsonLines;
use super::recognise::{Recognised, Start};
use super::spelled::{self, Spell as _, SpelledDecoder};
use super::{Cut, Decoder, Format, FormatKind, RowWriter, Tail};
use crate::config::{OptionSpec, OptionValue, Options, ValueKind};
use crate::contract::Contract;
use crate::event::{Chunk, RegisteredSchema};
use crate::problem::{Problem, Problems};
use crate::profile::{DeclaredField, Profile};
use messages::Messages;

pub use drawn::{field_type, message_of};
pub use schema::{Schema, imports};
pub use written::{MessageWriter, Misfit, RefusedRow, WrittenMessages};

/// The kind.
pub const KIND: ProtobufKind = ProtobufKind;

/// Protobuf by name.
pub struct ProtobufKind;

/// How messages are framed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Framing {
    /// Not at all: a message is a value of the one type.
    #[default]
    Bare,
    /// A zero byte, the number of the schema and the place of the type in it stand before the value; a schema registry knows the
    /// schema.
    Registry,
}

const FRAMINGS: &[&str] = &["bare", super::avro::REGISTRY];

/// Keys of `protobuf` of an arrival.
pub const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional(
        "schema",
        ValueKind::Files,
        "the .proto file of the messages, with all that it imports as a list; or the set of descriptors that a compiler made of them",
    )
    .with(&["framing"]),
    OptionSpec::optional(
        "message",
        ValueKind::Text,
        "the full name of the message type, such as tarrow.Passage; may be left out where the schema has only one that no other holds",
    )
    .with(&["framing"]),
    OptionSpec::with_default(
        "framing",
        ValueKind::Choice(FRAMINGS),
        "bare",
        "bare where a message is a value alone; registry where the number of its schema stands before it, and the connection names \
         the registry",
    )
    .with(&["schema"]),
];

impl FormatKind for ProtobufKind {
    fn names(&self) -> &'static [&'static str] {
        &["protobuf"]
    }

    fn title(&self) -> &'static str {
        "Protobuf"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn open(&self, options: &Options) -> Arc<dyn Format> {
        Arc::new(Protobuf::of_options(options))
    }

    fn check(&self, options: &Options, problems: &mut Problems) {
        let is_registry = options.text("framing").as_deref() == Some(super::avro::REGISTRY);
        for key in ["schema", "message"] {
            if is_registry && options.is_set(key) {
                problems.add(
                    Problem::error(
                        "value.type",
                        "a registry knows the schemas of these messages",
                        options.place_of(key),
                    )
                    .with_help(format!("leave `{key}` out")),
                );
            }
        }
        let format = Protobuf::of_options(options);
        let has_files = !options.files("schema").is_empty();
        if let (false, true, Err(why)) = (is_registry, has_files, format.message()) {
            let (key, help) = match &format.schema {
                Some(Err(_)) => ("schema", "a .proto file names what it imports; list those files too"),
                _ if options.is_set("message") => ("message", "write the full name, with its package"),
                _ => ("schema", "write message = \"…\" beside the schema"),
            };
            problems.add(Problem::error("value.type", why, options.place_of(key)).with_help(help));
        }
    }

    fn writer(&self, _: &Options) -> Option<Arc<dyn RowWriter>> {
        None
    }

    fn recognise(&self, _: &Start<'_>) -> Option<Recognised> {
        None
    }
}

/// The format `protobuf`.
#[derive(Clone, Debug, Default)]
pub struct Protobuf {
    /// The paths of its files.
    paths: Vec<String>,
    /// What they say, or why they cannot be read; None where there are none.
    schema: Option<Result<Schema, String>>,
    message: Option<String>,
    framing: Framing,
}

impl Protobuf {
    /// As options spell it.
    pub fn of_options(options: &Options) -> Self {
        let framing = match options.text("framing").as_deref() {
            Some(super::avro::REGISTRY) => Framing::Registry,
            _ => Framing::Bare,
        };
        let files = options.files("schema");
        Self {
            paths: files.iter().map(|(path, _)| path.clone()).collect(),
            schema: (!files.is_empty()).then(|| Schema::new(&files)),
            message: options.text("message"),
            framing,
        }
    }

    /// Messages that a registry knows the schemas of.
    pub fn of_registry() -> Self {
        Self { framing: Framing::Registry, ..Self::default() }
    }

    /// Messages of one type without a frame, of a schema that is known as files of the language.
    ///
    /// # Errors
    /// Says in words what is wrong with the schema, or that it has no such type.
    pub fn of_schema(files: &[(String, Vec<u8>)], message: Option<&str>) -> Result<Self, String> {
        let schema = Schema::new(files)?;
        let found = schema.message(message)?;
        let paths = files.iter().map(|(path, _)| path.clone()).collect();
        let message = Some(found.full_name().to_string());
        Ok(Self { paths, schema: Some(Ok(schema)), message, framing: Framing::Bare })
    }

    /// The fields of the message type that a message names, whose schema a registry knows.
    pub fn declared_by(schema: &RegisteredSchema, message: &[u8]) -> Vec<DeclaredField> {
        let ty = Messages::new(&Self::of_registry()).type_of(schema, message);
        ty.map_or_else(|_| Vec::new(), |message| schema::declared(&message))
    }

    /// The message type.
    fn message(&self) -> Result<MessageDescriptor, String> {
        match &self.schema {
            Some(Ok(schema)) => schema.message(self.message.as_deref()),
            Some(Err(why)) => Err(why.clone()),
            None => Err("the pipeline names no schema".into()),
        }
    }

    /// The full name of the message type, where it is said.
    pub fn message_name(&self) -> Option<&str> {
        self.message.as_deref()
    }

    /// The fields that the message type declares.
    pub fn declared(&self) -> Vec<DeclaredField> {
        self.message().map_or_else(|_| Vec::new(), |message| schema::declared(&message))
    }
}

impl Format for Protobuf {
    fn kind(&self) -> &'static dyn FormatKind {
        &KIND
    }

    fn spelling(&self) -> Vec<(&'static str, OptionValue)> {
        let mut keys = Vec::new();
        if !self.paths.is_empty() {
            keys.push(("schema", OptionValue::Texts(self.paths.clone())));
        }
        if let Some(message) = &self.message {
            keys.push(("message", OptionValue::Text(message.clone())));
        }
        if self.framing == Framing::Registry {
            keys.push(("framing", OptionValue::Text(super::avro::REGISTRY.into())));
        }
        keys
    }

    fn cut(&self, bytes: &[u8], limit: u64) -> Cut {
        JsonLines.cut(bytes, limit)
    }

    fn fault_in_messages(&self) -> Option<(&'static str, &'static str)> {
        let help = "write protobuf = { schema = \"schemas/passage.proto\" }, a path below the folder of sluice.toml, or protobuf = { \
                    framing = \"registry\" }";
        (self.schema.is_none() && self.framing != Framing::Registry)
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
