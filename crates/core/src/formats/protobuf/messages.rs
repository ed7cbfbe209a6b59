//! Messages of Protobuf: each is a value of a message type that is known beforehand.

use std::collections::HashMap;
use std::sync::Arc;

use prost_reflect::{DynamicMessage, MessageDescriptor};

use super::shapes::Shapes;
use super::{Framing, Protobuf, Schema};
use crate::event::{Chunk, MessageSchemas, RegisteredSchema, SchemaLanguage};
use crate::formats::spelled::{Spell, Spelled};
use crate::guard::guarded;
use crate::reject::{Reason, Reject};

/// How deep a message may be declared within others.
const DEPTH: u64 = 100;

/// A message type of which messages are spelled.
#[derive(Clone, Debug)]
struct Type {
    descriptor: MessageDescriptor,
    shape: usize,
}

/// Spells messages as JSON.
pub(super) struct Messages {
    framing: Framing,
    /// The type of messages that are framed bare, or why there is none.
    only: Result<Type, String>,
    /// Types by the numbers of their schemas at a registry and their places in these, or why one cannot be read.
    by_number: HashMap<(u32, Vec<usize>), Result<Type, String>>,
    /// Schemas by their numbers at a registry.
    schemas: HashMap<u32, Result<Schema, String>>,
    shapes: Shapes,
}

impl Messages {
    pub(super) fn new(format: &Protobuf) -> Self {
        let mut shapes = Shapes::default();
        // What is wrong with a schema was reported when the pipeline was read.
        let only = format.message().map(|descriptor| {
            let shape = shapes.of(&descriptor);
            Type { descriptor, shape }
        });
        Self { framing: format.framing, only, by_number: HashMap::new(), schemas: HashMap::new(), shapes }
    }

    /// The type of a message, and its value without the frame.
    fn value<'m>(&mut self, message: &'m [u8], schemas: Option<&MessageSchemas>) -> Result<(Type, &'m [u8]), String> {
        match self.framing {
            Framing::Bare => Ok((self.only.clone()?, message)),
            Framing::Registry => {
                let number = crate::formats::avro::schema_number(message);
                let number = number.ok_or("the message does not begin with a zero byte and the number of a schema")?;
                let (place, value) =
                    place(&message[5..]).ok_or("the number of its schema is not followed by the place of its type")?;
                Ok((self.numbered(number, place, schemas)?, value))
            }
        }
    }

    /// The type of a message, whose schema is known.
    pub(super) fn type_of(&mut self, schema: &RegisteredSchema, message: &[u8]) -> Result<MessageDescriptor, String> {
        let number = crate::formats::avro::schema_number(message).unwrap_or_default();
        let schemas = MessageSchemas::from([(number, Ok(Arc::new(schema.clone())))]);
        Ok(self.value(message, Some(&schemas))?.0.descriptor)
    }

    /// The type at a place in the schema of a number.
    fn numbered(&mut self, number: u32, place: Vec<usize>, schemas: Option<&MessageSchemas>) -> Result<Type, String> {
        let key = (number, place);
        if let Some(known) = self.by_number.get(&key) {
            return known.clone();
        }
        let schema = match self.schemas.get(&number) {
            Some(known) => known.clone(),
            None => {
                let schema = schemas.and_then(|schemas| schemas.get(&number));
                // A registry may learn of it yet: only what it has told is remembered.
                let schema = schema.ok_or_else(|| format!("schema {number} was not asked for"))?.clone()?;
                let read = schema.of_language(SchemaLanguage::Protobuf).and_then(|()| {
                    let own = (format!("schema {number}"), schema.text.clone());
                    Schema::of_sources([own].into_iter().chain(schema.references.iter().cloned()).collect())
                });
                let read = read.map_err(|why| format!("schema {number} cannot be read: {why}"));
                self.schemas.insert(number, read.clone());
                read
            }
        };
        let found = schema.and_then(|schema| {
            let descriptor = schema.message_at(&key.1);
            descriptor.ok_or_else(|| format!("schema {number} has no message at the place {:?}", key.1))
        });
        let found = found.map(|descriptor| Type { shape: self.shapes.of_another(&descriptor), descriptor });
        // Damaged messages can name any place.
        if found.is_ok() {
            self.by_number.insert(key, found.clone());
        }
        found
    }

    /// Spells one message, with a line end.
    fn spell(&self, ty: &Type, value: &[u8], out: &mut String) -> Result<(), String> {
        let read = guarded(|| DynamicMessage::decode(ty.descriptor.clone(), value))?;
        let message = read.map_err(|e| e.to_string())?;
        // Protobuf passes over fields that it does not know: any bytes of another type may seem to be an empty message.
        if message.unknown_fields().next().is_some() && message.fields().next().is_none() {
            return Err(format!("it has no field that {} has: it is of another type", ty.descriptor.full_name()));
        }
        self.shapes.write(out, ty.shape, &message)?;
        out.push('\n');
        Ok(())
    }
}

impl Spell for Messages {
    fn as_json(&mut self, chunk: &Chunk) -> (Chunk, Vec<Reject>) {
        let mut spelled = Spelled::new(chunk, Reason::NOT_PROTOBUF);
        for message in spelled.messages() {
            let start = spelled.text.len();
            let done = self
                .value(message.span.of(&chunk.bytes), chunk.schemas.as_deref())
                .and_then(|(ty, value)| self.spell(&ty, value, &mut spelled.text));
            match done {
                Ok(()) => spelled.add(message, start),
                Err(why) => {
                    spelled.text.truncate(start);
                    spelled.reject(message, why);
                }
            }
        }
        spelled.finish()
    }
}

/// The place of a message type in its schema, and what follows it: how many indexes lead to it, and these, each a number of variable
/// length, zigzag. No index is the first message.
fn place(bytes: &[u8]) -> Option<(Vec<usize>, &[u8])> {
    let (count, mut rest) = number(bytes)?;
    if count == 0 {
        return Some((vec![0], rest));
    }
    let mut indexes = Vec::new();
    for _ in 0..Some(count).filter(|count| *count <= DEPTH)? {
        let (index, after) = number(rest)?;
        indexes.push(usize::try_from(index).ok()?);
        rest = after;
    }
    Some((indexes, rest))
}

/// A number of variable length, zigzag, that is not negative, and what follows it.
fn number(bytes: &[u8]) -> Option<(u64, &[u8])> {
    let mut raw = 0_u64;
    for (at, byte) in bytes.iter().take(10).enumerate() {
        raw |= u64::from(byte & 0x7f).checked_shl(u32::try_from(at).ok()? * 7)?;
        if byte & 0x80 == 0 {
            return (raw & 1 == 0).then(|| (raw >> 1, &bytes[at + 1..]));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[0, 9], Some((vec![0], 1)))]
    #[case(&[2, 4], Some((vec![2], 0)))]
    #[case(&[4, 2, 0, 7, 7], Some((vec![1, 0], 2)))]
    #[case(&[2, 0x80, 0x02, 1], Some((vec![128], 1)))]
    #[case(&[], None)]
    #[case(&[2], None)]
    #[case(&[1, 0], None)]
    #[case(&[0xff; 12], None)]
    #[case(&[0xfe, 0xff, 0xff, 0xff, 0x0f, 0], None)]
    fn a_place_is_read(#[case] bytes: &[u8], #[case] expected: Option<(Vec<usize>, usize)>) {
        assert_eq!(place(bytes).map(|(place, rest)| (place, rest.len())), expected);
    }
}
