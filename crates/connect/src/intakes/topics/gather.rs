//! Gathers messages of one partition into a chunk.

use std::sync::Arc;

use base64::Engine as _;
use rdkafka::message::{Headers as _, Timestamp};
use sluice_core::event::{Chunk, Message, Messages, Position, RecordSpan};

use super::proof::Witness;
use super::{MessageOptions, identity};
use crate::broker::headers;

/// Bytes of a message that is too long which are kept with its reject.
const KEPT: usize = 64 << 10;

/// A message that was read, who holds its bytes.
pub(super) struct Seen<'m> {
    pub offset: u64,
    /// Microseconds since 1970.
    pub time: Option<i64>,
    pub key: Option<&'m [u8]>,
    pub value: Option<&'m [u8]>,
    /// A JSON object.
    pub headers: Option<String>,
}

impl<'m> Seen<'m> {
    pub(super) fn of<M: rdkafka::Message>(message: &'m M) -> Self {
        let time = match message.timestamp() {
            Timestamp::NotAvailable => None,
            Timestamp::CreateTime(ms) | Timestamp::LogAppendTime(ms) => ms.checked_mul(1_000),
        };
        Self {
            offset: u64::try_from(message.offset()).unwrap_or(0),
            time,
            key: message.key(),
            value: message.payload(),
            headers: message.headers().filter(|h| h.count() > 0).map(headers::object),
        }
    }

    /// As a witness of what is read after it.
    pub(super) fn witness(&self) -> Witness {
        Witness { offset: self.offset, digest: self.digest() }
    }

    pub(super) fn digest(&self) -> String {
        identity::digest(self.offset, self.time, self.key, self.value)
    }
}

/// A chunk that grows.
pub(super) struct MessageChunkBuilder {
    bytes: Vec<u8>,
    messages: Messages,
    pub records: u64,
    options: MessageOptions,
    /// The digest of the last message, where its value does not stand in the chunk as it was.
    last: Option<String>,
    too_long: Option<u64>,
}

impl MessageChunkBuilder {
    pub(super) fn new(topic: &Arc<str>, partition: i32, capacity: usize, options: MessageOptions) -> Self {
        Self {
            bytes: Vec::with_capacity(capacity),
            messages: Messages { topic: Arc::clone(topic), partition, ..Messages::default() },
            records: 0,
            options,
            last: None,
            too_long: None,
        }
    }

    pub(super) fn len(&self) -> u64 {
        self.bytes.len() as u64
    }

    /// A message without a value that is passed over.
    pub(super) fn leave_out(&mut self, seen: &Seen<'_>) {
        self.last = Some(seen.digest());
        self.messages.left_out += 1;
        self.records += 1;
    }

    /// Adds a message.
    pub(super) fn add(&mut self, seen: &Seen<'_>) {
        // A message without a value looks like another one in the chunk.
        self.last = seen.value.is_none().then(|| seen.digest());
        let value = seen.value.or(self.options.tombstone).unwrap_or_default();
        let span = put(&mut self.bytes, value);
        self.bytes.push(b'\n');
        let side = &mut self.messages.side;
        let key = seen.key.map(|key| match self.options.keys_as_base64 {
            true => put(side, base64::engine::general_purpose::STANDARD.encode(key).as_bytes()),
            false => put(side, key),
        });
        let headers = seen.headers.as_ref().map(|headers| put(side, headers.as_bytes()));
        self.messages.each.push(Message { span, offset: seen.offset, time: seen.time, key, headers });
        self.records += 1;
    }

    /// The one message of a chunk, which is longer than allowed.
    pub(super) fn add_too_long(&mut self, seen: &Seen<'_>) {
        let value = seen.value.unwrap_or_default();
        self.too_long = Some(value.len() as u64);
        let kept = Seen { value: Some(&value[..value.len().min(KEPT)]), headers: None, ..*seen };
        self.add(&kept);
        self.last = Some(seen.digest());
    }

    /// The digest of the last message, which guards the position after it. Once a chunk: it costs more than reading.
    fn digest(&mut self) -> Option<String> {
        self.last.take().or_else(|| {
            let last = self.messages.each.last()?;
            let reported = last.key.map(|span| span.of(&self.messages.side));
            let decoded = reported.filter(|_| self.options.keys_as_base64);
            let decoded = decoded.and_then(|key| base64::engine::general_purpose::STANDARD.decode(key).ok());
            let key = decoded.as_deref().or(reported);
            Some(identity::digest(last.offset, last.time, key, Some(last.span.of(&self.bytes))))
        })
    }

    pub(super) fn finish(mut self, partition: &Arc<str>, from: u64, to: u64, cluster: &str) -> Chunk {
        let last = self.digest();
        let mut bytes = self.bytes;
        if self.too_long.is_some() {
            bytes.pop();
        }
        Chunk {
            partition: Arc::clone(partition),
            from: Position::at(from),
            to: Position::at(to),
            identity: identity::of(cluster, last.as_deref()),
            bytes,
            records: self.records,
            too_long: self.too_long,
            messages: Some(Arc::new(self.messages)),
            ..Chunk::default()
        }
    }
}

/// Appends bytes and tells where they stand. Chunks stay far below 4 GiB.
fn put(to: &mut Vec<u8>, bytes: &[u8]) -> RecordSpan {
    let at = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let start = at(to.len());
    to.extend_from_slice(bytes);
    RecordSpan { start, end: at(to.len()) }
}
