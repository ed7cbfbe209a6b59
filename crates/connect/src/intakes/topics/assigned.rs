//! One partition while it is read.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use rdkafka::consumer::base_consumer::PartitionQueue;
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::message::OwnedMessage;
use sluice_core::batch::Range;
use sluice_core::event::Chunk;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::ReadLimit;

use super::gather::{Growing, Seen};
use super::partitions::Partition;
use crate::broker::{Broker, Context, is_passing, refuse};

/// What reading a partition brought.
pub(super) enum Brought {
    Chunk(Chunk),
    Nothing,
    /// The broker does not answer.
    Away(RDKafkaErrorCode),
}

pub(super) struct Assigned {
    pub partition: Partition,
    pub name: Arc<str>,
    queue: PartitionQueue<Context>,
    pub cluster: Arc<str>,
    /// The offset of the next message to hand on.
    pub position: u64,
    /// The digest that the message before the position must have.
    pub guard: Option<String>,
    /// Where reading ends; None goes on for ever.
    pub until: Option<u64>,
    /// The digest that the last message before `until` must have.
    pub last: Option<String>,
    /// Further ranges to read after this one, in order.
    pub more: VecDeque<Range>,
    pub at_end: bool,
    /// Messages that were fetched before the queue was, or that did not fit.
    pub waiting: VecDeque<OwnedMessage>,
}

/// Whether a message was taken.
enum Taken {
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
            guard: None,
            until: None,
            last: None,
            more: VecDeque::new(),
            at_end: false,
            waiting: VecDeque::new(),
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
        self.until = Some(range.to.major);
        self.last = super::identity::parts(&range.identity).1.map(str::to_string);
        self.at_end = false;
    }

    /// Reads what has been fetched.
    pub(super) fn read(&mut self, limit: ReadLimit, keep: &Keep<'_>) -> Outcome<Brought> {
        if self.is_done() {
            self.at_end = true;
            return Ok(Brought::Nothing);
        }
        let from = self.position;
        let capacity = usize::try_from(limit.bytes).unwrap_or(0).min(if self.at_end { 64 << 10 } else { 4 << 20 });
        let mut chunk: Option<Growing> = None;
        let mut broken = None;
        while chunk.as_ref().is_none_or(|c| c.records < limit.records && c.len() < limit.bytes) {
            let next = match self.waiting.pop_front() {
                Some(message) => Some(Ok(Held::Owned(Box::new(message)))),
                None => self.queue.poll(Duration::ZERO).map(|polled| polled.map(Held::Borrowed)),
            };
            match next {
                None => break,
                Some(Ok(message)) => {
                    let (topic, number) = (Arc::clone(&self.partition.topic), self.partition.number);
                    let growing = chunk.get_or_insert_with(|| Growing::new(&topic, number, capacity));
                    let (mut position, mut at_end) = (self.position, self.at_end);
                    let taken = {
                        let seen = message.seen();
                        let mut state = State { position: &mut position, at_end: &mut at_end };
                        take(&self.name, self.until, &mut self.guard, &mut state, &seen, growing, keep)?
                    };
                    (self.position, self.at_end) = (position, at_end);
                    if matches!(taken, Taken::Later | Taken::Beyond) {
                        let message = message.into_owned();
                        self.waiting.push_front(message);
                    }
                    match taken {
                        Taken::GoOn => {}
                        Taken::Later | Taken::Full => break,
                        Taken::Beyond => {
                            self.finish_range()?;
                            break;
                        }
                    }
                }
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
        match (chunk.filter(|c| c.records > 0), broken) {
            (Some(chunk), _) => {
                let chunk = chunk.finish(&self.name, from, self.position, &self.cluster);
                self.check_last(&chunk)?;
                Ok(Brought::Chunk(chunk))
            }
            (None, Some(error)) => self.failed(&error, keep.broker),
            (None, None) => Ok(Brought::Nothing),
        }
    }

    /// The end of the partition was reached.
    fn end(&mut self) -> Outcome<()> {
        if self.guard.take().is_some() {
            return Err(anew(&self.name, self.position, "ends before it"));
        }
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
            Some(due) if found != Some(due) => Err(anew(&self.name, chunk.to.major, "holds another message before it")),
            _ => Ok(()),
        }
    }

    fn failed(&mut self, error: &KafkaError, broker: &Broker) -> Outcome<Brought> {
        use RDKafkaErrorCode as Code;
        let Some(code) = error.rdkafka_error_code() else {
            return Err(Failure::unreachable(format!("{}: {error}", self.name)));
        };
        if let Some(refusal) = refuse(broker, code) {
            return Err(refusal);
        }
        match code {
            // The fetched offset is not there: with auto.offset.reset=error this is said, never mended.
            Code::AutoOffsetReset | Code::OffsetOutOfRange => Err(out_of_range(&self.name, self.position)),
            Code::UnknownTopicOrPartition | Code::UnknownTopic | Code::UnknownPartition => {
                Err(Failure::findings(format!("{} has gone from {}", self.name, broker.shown()))
                    .with_help("what was read has landed; take the topic out of the pipeline file, or bring it back"))
            }
            code if is_passing(code) => Ok(Brought::Away(code)),
            code => Err(Failure::unreachable(format!("{} cannot be read: {code}", self.name))),
        }
    }
}

/// How messages are kept.
pub(super) struct Keep<'a> {
    pub broker: &'a Broker,
    pub rejects_tombstones: bool,
    pub max_record: usize,
}

enum Held<'m> {
    Borrowed(rdkafka::message::BorrowedMessage<'m>),
    Owned(Box<OwnedMessage>),
}

impl Held<'_> {
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

struct State<'s> {
    position: &'s mut u64,
    at_end: &'s mut bool,
}

fn take(
    name: &str,
    until: Option<u64>,
    guard: &mut Option<String>,
    state: &mut State<'_>,
    seen: &Seen<'_>,
    chunk: &mut Growing,
    keep: &Keep<'_>,
) -> Outcome<Taken> {
    if let Some(due) = guard.take()
        && seen.offset + 1 == *state.position
    {
        if seen.digest() != due {
            return Err(anew(name, *state.position, "holds another message before it"));
        }
        return Ok(Taken::GoOn);
    }
    // What a fetch from before the last seek still brought.
    if seen.offset < *state.position {
        return Ok(Taken::GoOn);
    }
    if until.is_some_and(|until| seen.offset >= until) {
        return Ok(Taken::Beyond);
    }
    *state.at_end = false;
    let is_long = seen.value.is_some_and(|v| v.len() > keep.max_record);
    if is_long && chunk.records > 0 {
        return Ok(Taken::Later);
    }
    match seen.value {
        None if !keep.rejects_tombstones => chunk.leave_out(seen),
        _ if is_long => chunk.add_too_long(seen),
        _ => chunk.add(seen),
    }
    *state.position = seen.offset + 1;
    Ok(if is_long { Taken::Full } else { Taken::GoOn })
}

/// The partition is not the one that was read.
fn anew(name: &str, position: u64, how: &str) -> Failure {
    Failure::findings(format!("{name} was read to offset {position} and now {how}: the topic was made anew, or cut"))
        .with_help(
            "positions are never reset by themselves; to read the new topic: sluice positions PIPELINE --set earliest \
             --reason \"…\"",
        )
}

fn out_of_range(name: &str, position: u64) -> Failure {
    Failure::findings(format!("{name} does not have offset {position} any more")).with_help(
        "see what there is: sluice positions PIPELINE; what has expired unread is lost, then go on with --set",
    )
}
