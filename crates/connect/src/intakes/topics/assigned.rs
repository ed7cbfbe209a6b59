//! One partition while it is read.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rdkafka::consumer::base_consumer::PartitionQueue;
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::message::OwnedMessage;
use sluice_core::batch::Range;
use sluice_core::event::Chunk;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::ReadLimit;

use super::MessageOptions;
use super::gather::{MessageChunkBuilder, Seen};
use super::partitions::Partition;
use super::proof::{Proof, Witness, recreated};
use crate::broker::{Broker, Context, is_passing, refuse};

/// How often a batch is asked for that cannot be unpacked, before it is said to be damaged or too large. With many
/// partitions, some other one may come first for a while.
const UNPACK_TRIES: u32 = 20;

/// What reading a partition brought.
pub(super) enum PartitionRead {
    Chunk(Box<Chunk>),
    Nothing,
    /// The broker does not answer.
    Away(RDKafkaErrorCode),
    /// The partition does not hold the position any more, or not yet.
    OutOfRange,
    /// The broker does not know the partition.
    Gone,
    /// A packed batch could not be unpacked: it may be asked for once more.
    Packed,
}

pub(super) struct Assigned {
    pub partition: Partition,
    pub name: Arc<str>,
    queue: PartitionQueue<Context>,
    pub cluster: Arc<str>,
    /// The offset of the next message to hand on.
    pub position: u64,
    /// The offset after the last message of a batch that was ended: what was read behind it is in no batch that settles.
    pub proven_to: u64,
    /// The digest that the message before the position must have.
    pub guard: Option<String>,
    /// Where reading ends; None goes on for ever.
    pub until: Option<u64>,
    /// The digest that the last message before `until` must have.
    pub last: Option<String>,
    /// Further ranges to read after this one, in order.
    pub more: VecDeque<Range>,
    pub at_end: bool,
    /// The first offset that it had when no message of it had been read; None once one proves which partition it is.
    pub began_at: Option<u64>,
    /// The last message that was handed on.
    pub last_read: Option<Witness>,
    /// A message that was read before all that was handed on since the last proof; None where nothing was.
    pub witness: Option<Witness>,
    /// Whether something was handed on since the last proof.
    pub unproven: bool,
    /// When something was last heard of it: a message, or its end.
    pub heard: Instant,
    /// What the broker said of its end when that was last compared with what had come.
    pub known_end: u64,
    /// An error that came behind messages.
    broken: Option<KafkaError>,
    /// Messages that were fetched before the queue was, or that did not fit.
    pub waiting: VecDeque<OwnedMessage>,
    /// How often the broker said that it does not hold the position, since a message came.
    pub strayed: u32,
    /// The offset of a batch that could not be unpacked, and how often it was asked for.
    packed: (u64, u32),
}

/// Whether a message was taken.
enum Acceptance {
    GoOn,
    /// The chunk is to end before it.
    Later,
    /// The chunk is to end after it.
    Full,
    /// It is beyond the end.
    Beyond,
}

impl Assigned {
    pub(super) fn new(partition: Partition, queue: PartitionQueue<Context>, cluster: Arc<str>, position: u64) -> Self {
        Self {
            name: partition.name(),
            partition,
            queue,
            cluster,
            position,
            proven_to: position,
            guard: None,
            until: None,
            last: None,
            more: VecDeque::new(),
            at_end: false,
            began_at: None,
            last_read: None,
            witness: None,
            unproven: false,
            heard: Instant::now(),
            known_end: 0,
            broken: None,
            waiting: VecDeque::new(),
            strayed: 0,
            packed: (0, 0),
        }
    }

    /// Whether nothing more will be read.
    pub(super) fn is_done(&self) -> bool {
        self.until.is_some_and(|until| self.position >= until)
    }

    /// Begins to read the next range, if there is one.
    pub(super) fn next_range(&mut self) {
        if !self.is_done() {
            return;
        }
        let Some(range) = self.more.pop_front() else { return };
        self.position = range.from.major;
        self.proven_to = self.position;
        self.until = Some(range.to.major);
        self.last = super::identity::parts(&range.identity).1.map(str::to_string);
        self.at_end = false;
    }

    /// What is fetched from now on begins at its position.
    pub(super) fn begin_again(&mut self) {
        self.at_end = false;
        self.broken = None;
        self.waiting.clear();
        self.heard = Instant::now();
    }

    /// The offset from which it is fetched: one message more where that proves that the topic is the same.
    pub(super) fn from(&self) -> u64 {
        if self.guard.is_some() { self.position - 1 } else { self.position }
    }

    /// Whether a message is known that proves which topic it is.
    pub(super) fn is_provable(&self) -> bool {
        self.guard.is_some() || self.witness.is_some()
    }

    /// What proves that all that was handed on since the last proof came from the topic that was read before.
    pub(super) fn proof(&self) -> Option<Proof> {
        let witness = self.witness.clone()?;
        Some(Proof { partition: self.partition.clone(), position: self.proven_to, witness })
    }

    /// Everything that was handed on so far is proven. It counts once its batch has ended: other topics of the lane may not answer.
    pub(super) fn proven(&mut self) {
        self.unproven = false;
        self.began_at = None;
        self.witness.clone_from(&self.last_read);
    }

    /// Reads what has been fetched.
    pub(super) fn read(&mut self, limit: ReadLimit, keep: &ReadOptions<'_>) -> Outcome<PartitionRead> {
        if let Some(error) = self.broken.take() {
            return self.failed(&error, keep.broker);
        }
        if self.is_done() {
            self.at_end = true;
            return Ok(PartitionRead::Nothing);
        }
        let from = self.position;
        let capacity = usize::try_from(limit.bytes).unwrap_or(0).min(if self.at_end { 64 << 10 } else { 4 << 20 });
        let mut chunk: Option<MessageChunkBuilder> = None;
        let mut broken = None;
        while chunk.as_ref().is_none_or(|c| c.records < limit.records && c.len() < limit.bytes) {
            let next = match self.waiting.pop_front() {
                Some(message) => Some(Ok(FetchedMessage::Owned(Box::new(message)))),
                None => self.queue.poll(Duration::ZERO).map(|polled| polled.map(FetchedMessage::Borrowed)),
            };
            match next {
                None => break,
                Some(Ok(message)) => {
                    let (topic, number) = (Arc::clone(&self.partition.topic), self.partition.number);
                    let growing =
                        chunk.get_or_insert_with(|| MessageChunkBuilder::new(&topic, number, capacity, keep.manner));
                    let (mut position, mut at_end) = (self.position, self.at_end);
                    let taken = {
                        let seen = message.seen();
                        let mut state = FetchState { position: &mut position, at_end: &mut at_end };
                        take(&self.name, self.until, &mut self.guard, &mut state, &seen, growing, keep)?
                    };
                    if self.witness.is_none() && position > self.position {
                        self.witness = Some(message.seen().witness());
                    }
                    (self.position, self.at_end) = (position, at_end);
                    if matches!(taken, Acceptance::Later | Acceptance::Beyond) {
                        let message = message.into_owned();
                        self.waiting.push_front(message);
                    }
                    match taken {
                        Acceptance::GoOn => {}
                        Acceptance::Later | Acceptance::Full => break,
                        Acceptance::Beyond => {
                            self.finish_range()?;
                            break;
                        }
                    }
                }
                // It ends before the message that is to prove it.
                Some(Err(KafkaError::PartitionEOF(_))) if self.guard.is_some() => return Ok(PartitionRead::OutOfRange),
                Some(Err(KafkaError::PartitionEOF(_))) => {
                    self.end()?;
                    break;
                }
                Some(Err(error)) => {
                    broken = Some(error);
                    break;
                }
            }
        }
        if chunk.is_some() {
            self.heard = Instant::now();
            self.strayed = 0;
        }
        match (chunk.filter(|c| c.records > 0), broken) {
            (Some(chunk), broken) => {
                self.broken = broken;
                let chunk = chunk.finish(&self.name, from, self.position, &self.cluster);
                self.check_last(&chunk)?;
                self.unproven = true;
                if let (_, Some(digest)) = super::identity::parts(&chunk.identity) {
                    self.last_read = Some(Witness { offset: self.position - 1, digest: digest.into() });
                }
                Ok(PartitionRead::Chunk(Box::new(chunk)))
            }
            (None, Some(error)) => self.failed(&error, keep.broker),
            (None, None) => Ok(PartitionRead::Nothing),
        }
    }

    /// The end of the partition was reached.
    fn end(&mut self) -> Outcome<()> {
        self.heard = Instant::now();
        self.at_end = true;
        if self.until.is_some() {
            self.finish_range()?;
        }
        Ok(())
    }

    /// A range is read when nothing of it is left, even where its last offsets hold no message.
    fn finish_range(&mut self) -> Outcome<()> {
        self.at_end = true;
        if let Some(until) = self.until {
            self.position = until;
        }
        Ok(())
    }

    fn check_last(&mut self, chunk: &Chunk) -> Outcome<()> {
        let due = self.last.as_ref().filter(|_| self.until.is_some_and(|until| chunk.to.major == until));
        let (_, found) = super::identity::parts(&chunk.identity);
        match due {
            Some(due) if found != Some(due) => {
                Err(recreated(&self.name, chunk.to.major, "another message is there now", None))
            }
            _ => Ok(()),
        }
    }

    /// A batch that is too large beside others of the same answer is taken when it comes first (`native/unpacking.c`).
    fn cannot_unpack(&mut self) -> Outcome<PartitionRead> {
        let asked = if self.packed.0 == self.position { self.packed.1 } else { 0 };
        if asked < UNPACK_TRIES {
            self.packed = (self.position, asked + 1);
            return Ok(PartitionRead::Packed);
        }
        let message = format!(
            "the batch of messages at offset {} of {} is damaged, or unpacks to more than 100 MB",
            self.position, self.name
        );
        Err(Failure::unreachable(message).with_help(format!(
            "have its producer send smaller batches; to go on behind this one: sluice positions PIPELINE --set {}=OFFSET",
            self.name
        )))
    }

    fn failed(&mut self, error: &KafkaError, broker: &Broker) -> Outcome<PartitionRead> {
        use RDKafkaErrorCode as Code;
        let Some(code) = error.rdkafka_error_code() else {
            return Err(Failure::unreachable(format!("{}: {error}", self.name)));
        };
        if let Some(refusal) = refuse(broker, code) {
            return Err(refusal);
        }
        match code {
            // The fetched offset is not there: with auto.offset.reset=error this is said, never fixed.
            Code::AutoOffsetReset | Code::OffsetOutOfRange => Ok(PartitionRead::OutOfRange),
            Code::UnknownTopicOrPartition | Code::UnknownTopic | Code::UnknownPartition => Ok(PartitionRead::Gone),
            code if is_passing(code) => Ok(PartitionRead::Away(code)),
            Code::BadCompression => self.cannot_unpack(),
            code => Err(Failure::unreachable(format!("{} cannot be read: {code}", self.name))),
        }
    }
}

/// How messages are kept.
pub(super) struct ReadOptions<'a> {
    pub broker: &'a Broker,
    pub manner: MessageOptions,
}

enum FetchedMessage<'m> {
    Borrowed(rdkafka::message::BorrowedMessage<'m>),
    Owned(Box<OwnedMessage>),
}

impl FetchedMessage<'_> {
    fn seen(&self) -> Seen<'_> {
        match self {
            Self::Borrowed(message) => Seen::of(message),
            Self::Owned(message) => Seen::of(message.as_ref()),
        }
    }

    fn into_owned(self) -> OwnedMessage {
        match self {
            Self::Borrowed(message) => message.detach(),
            Self::Owned(message) => *message,
        }
    }
}

struct FetchState<'s> {
    position: &'s mut u64,
    at_end: &'s mut bool,
}

fn take(
    name: &str,
    until: Option<u64>,
    guard: &mut Option<String>,
    state: &mut FetchState<'_>,
    seen: &Seen<'_>,
    chunk: &mut MessageChunkBuilder,
    keep: &ReadOptions<'_>,
) -> Outcome<Acceptance> {
    if let Some(due) = guard.take()
        && seen.offset + 1 == *state.position
    {
        if seen.digest() != due {
            return Err(recreated(name, *state.position, "another message is there now", None));
        }
        return Ok(Acceptance::GoOn);
    }
    // What a fetch from before the last seek still brought.
    if seen.offset < *state.position {
        return Ok(Acceptance::GoOn);
    }
    if until.is_some_and(|until| seen.offset >= until) {
        return Ok(Acceptance::Beyond);
    }
    *state.at_end = false;
    let is_long = seen.value.is_some_and(|v| v.len() > keep.manner.max_record);
    if is_long && chunk.records > 0 {
        return Ok(Acceptance::Later);
    }
    match seen.value {
        None if keep.manner.tombstone.is_none() => chunk.leave_out(seen),
        _ if is_long => chunk.add_too_long(seen),
        _ => chunk.add(seen),
    }
    *state.position = seen.offset + 1;
    Ok(if is_long { Acceptance::Full } else { Acceptance::GoOn })
}
