//! Messages of a format that is not text: each is spelled as JSON first, and then decoded as such under the contract, so that values
//! become what they become in every format.

use std::sync::Arc;

use super::rows::offset;
use super::{Decoded, Decoder, Format as _, JsonLines};
use crate::event::{Chunk, Message, Messages, RecordSpan};
use crate::profile::Profile;
use crate::reject::{CONTRACT, Reason, Reject};

/// Spells the messages of a chunk.
pub(super) trait Spell: Send {
    /// The messages as objects of JSON, and those that are none.
    fn as_json(&mut self, chunk: &Chunk) -> (Chunk, Vec<Reject>);
}

/// Adds the messages of a chunk to a profile; what comes from files was spelled already.
pub(super) fn profile(spell: &mut dyn Spell, chunk: &Chunk, profile: &mut Profile) {
    if chunk.messages.is_none() {
        return JsonLines.profile(chunk, profile);
    }
    let (rows, rejects) = spell.as_json(chunk);
    rejects.iter().for_each(|reject| profile.add_broken(&reject.bytes, reject.message.clone()));
    JsonLines.profile(&rows, profile);
}

/// Objects of JSON, each of a message, and what is no message of the format.
pub(super) struct Spelled<'c> {
    chunk: &'c Chunk,
    reason: Reason,
    /// The objects, each followed by a line end.
    pub text: String,
    each: Vec<Message>,
    rejects: Vec<Reject>,
}

impl<'c> Spelled<'c> {
    pub(super) fn new(chunk: &'c Chunk, reason: Reason) -> Self {
        Self { chunk, reason, text: String::new(), each: Vec::new(), rejects: Vec::new() }
    }

    /// The messages that are to be spelled.
    pub(super) fn messages(&self) -> &'c [Message] {
        self.chunk.messages.as_deref().map_or(&[][..], |messages| &messages.each)
    }

    /// That the text from a place on, with its line end, is a message.
    pub(super) fn add(&mut self, message: &Message, start: usize) {
        let span = RecordSpan { start: offset(start), end: offset(self.text.len().saturating_sub(1)) };
        self.each.push(Message { span, key: None, headers: None, ..*message });
    }

    /// That a message is none of the format.
    pub(super) fn reject(&mut self, message: &Message, why: String) {
        let bytes = message.span.of(&self.chunk.bytes);
        self.rejects.push(Reject {
            partition: Arc::clone(&self.chunk.partition),
            position: self.chunk.position_at(message.span.start),
            length: bytes.len() as u64,
            station: CONTRACT.into(),
            field: None,
            reason: self.reason,
            message: why,
            bytes: bytes.to_vec(),
        });
    }

    pub(super) fn finish(self) -> (Chunk, Vec<Reject>) {
        let (chunk, each) = (self.chunk, self.each);
        let messages = chunk.messages.as_deref().map(|r| {
            let (topic, side) = (Arc::clone(&r.topic), Vec::new());
            Arc::new(Messages { topic, partition: r.partition, each, side, left_out: 0 })
        });
        let (from, to, partition) = (chunk.from, chunk.to, Arc::clone(&chunk.partition));
        let records = messages.as_ref().map_or(0, |m| m.each.len() as u64);
        let bytes = self.text.into_bytes();
        (Chunk { partition, from, to, records, bytes, messages, ..Chunk::default() }, self.rejects)
    }
}

/// Decodes messages that are spelled as JSON; what comes from files was spelled so already.
pub(super) struct SpelledDecoder<S> {
    spell: S,
    inner: Box<dyn Decoder>,
}

impl<S: Spell> SpelledDecoder<S> {
    pub(super) fn new(spell: S, inner: Box<dyn Decoder>) -> Self {
        Self { spell, inner }
    }
}

impl<S: Spell> Decoder for SpelledDecoder<S> {
    fn decode_table(&mut self, chunk: &Chunk, table: Option<u32>) -> Decoded {
        let Some(reported) = chunk.messages.as_deref().filter(|_| chunk.too_long.is_none()) else {
            return self.inner.decode_table(chunk, table);
        };
        let (rows, rejects) = self.spell.as_json(chunk);
        let mut decoded = self.inner.decode_table(&rows, table);
        let messages = rows.messages.as_deref().map_or(&[][..], |m| &m.each);
        // Back to the message itself, which is what a reject keeps and a later station goes by.
        let mut places = messages.iter();
        for span in &mut decoded.rows.spans {
            let row = places.find(|m| m.span.start == span.start);
            *span = row.and_then(|m| find(&reported.each, m.offset)).map_or(*span, |m| m.span);
        }
        for reject in &mut decoded.rejects {
            if let Some(message) = find(&reported.each, reject.position.major) {
                reject.bytes = message.span.of(&chunk.bytes).to_vec();
                reject.length = reject.bytes.len() as u64;
            }
        }
        decoded.rejects.extend(rejects);
        decoded.rejects.sort_by_key(|reject| reject.position);
        decoded
    }
}

/// The message of an offset: they stand in the order of their offsets.
fn find(messages: &[Message], offset: u64) -> Option<&Message> {
    messages.binary_search_by_key(&offset, |m| m.offset).ok().map(|i| &messages[i])
}

#[cfg(test)]
pub(super) mod testing {
    //! Messages for the tests of such formats.

    use super::*;
    use crate::columns::OutputColumn;
    use crate::contract::Contract;
    use crate::event::Position;
    use crate::formats::Format;
    use crate::values::json::write_lines;

    /// A number of variable length.
    pub(in crate::formats) fn varint(mut rest: u64) -> Vec<u8> {
        let mut out = Vec::new();
        while rest >= 0x80 {
            out.push(u8::try_from(rest & 0x7f).unwrap() | 0x80);
            rest >>= 7;
        }
        out.push(u8::try_from(rest).unwrap());
        out
    }

    /// A chunk of messages from offset 10 on, every other one left out.
    pub(in crate::formats) fn chunk(values: &[Vec<u8>]) -> Chunk {
        let (mut bytes, mut each) = (Vec::new(), Vec::new());
        for (number, value) in values.iter().enumerate() {
            let start = offset(bytes.len());
            bytes.extend_from_slice(value);
            let span = RecordSpan { start, end: offset(bytes.len()) };
            bytes.push(b'\n');
            each.push(Message { span, offset: 10 + 2 * number as u64, time: Some(7), key: None, headers: None });
        }
        let messages = Messages { topic: "passages".into(), each, ..Messages::default() };
        Chunk {
            partition: "passages/0".into(),
            from: Position::at(10),
            to: Position::at(10 + 2 * values.len() as u64),
            records: values.len() as u64,
            bytes,
            messages: Some(Arc::new(messages)),
            ..Chunk::default()
        }
    }

    /// The rows as JSON, with the messages that they came from, and the rejects.
    pub(in crate::formats) fn decoded(
        format: &dyn Format,
        contract: &Contract,
        values: &[Vec<u8>],
    ) -> (Vec<String>, Vec<Vec<u8>>, Vec<Reject>) {
        let chunk = chunk(values);
        let decoded = format.decoder(contract).decode(&chunk);
        assert_eq!(decoded.rows.spans.len() + decoded.rejects.len(), values.len());
        let column = |f: &crate::contract::ContractField| OutputColumn {
            name: f.name.clone(),
            ty: f.ty,
            nullable: true,
            limit: None,
        };
        let mut text = String::new();
        write_lines(&mut text, &decoded.rows.batch, &contract.fields.iter().map(column).collect::<Vec<_>>());
        let origins = decoded.rows.spans.iter().map(|span| span.of(&chunk.bytes).to_vec()).collect();
        (text.lines().map(str::to_string).collect(), origins, decoded.rejects)
    }
}
