//! The producer of one lane: there is one transactional id for each, so that only the last to begin can commit.

use std::time::{Duration, Instant};

use rdkafka::config::FromClientConfigAndContext as _;
use rdkafka::consumer::{Consumer as _, ConsumerGroupMetadata};
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::message::{Header, OwnedHeaders};
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use serde::{Deserialize, Serialize};
use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{NotedBatch, PartitionPosition};

use super::message::OutgoingMessage;
use crate::broker::{Broker, Consumer, PATIENCE, is_passing, refuse};

/// How long a broker may keep an idle transaction open, in milliseconds.
const TIMEOUT: &str = "300000";

/// How long a commit may take; one without an answer is looked for by the next producer.
const COMMIT: Duration = Duration::from_secs(30);

/// How long no message may get through before the broker counts as away.
const NOTHING: Duration = Duration::from_secs(20);

/// Brokers keep at most 4,096 bytes of metadata with an offset, by default.
const METADATA: usize = 4_000;

/// The version of the note that is written.
const VERSION: u32 = 2;

/// What stands in the metadata of the offset.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct OffsetNote {
    version: u32,
    /// The last batch.
    #[serde(flatten)]
    pub last: NotedBatch,
    /// How far the lane's partitions had been read then; None where there was no room to note it, or before version 2.
    #[serde(default)]
    pub read_to: Option<Vec<PartitionPosition>>,
}

/// The producer, after it has fenced all others of its id.
pub(super) struct LaneProducer {
    broker: Broker,
    topic: String,
    producer: BaseProducer,
    group: ConsumerGroupMetadata,
    /// Kept alive for its group.
    _consumer: Consumer,
    noted: Option<OffsetNote>,
}

impl LaneProducer {
    /// Fences every other producer of the lane, then asks what has landed last.
    ///
    /// # Errors
    /// Where no broker answers, or it does not keep what was landed.
    pub(super) fn begin(
        broker: &Broker,
        topic: &str,
        writer: &str,
        lane: &LaneId,
        compression: &str,
        largest: u64,
    ) -> Outcome<Self> {
        let id = id_of(topic, writer, lane);
        let mut config = broker.config();
        config
            .set("transactional.id", &id)
            .set("transaction.timeout.ms", TIMEOUT)
            .set("compression.type", compression)
            .set("linger.ms", "5")
            // What the topic takes at most, so that nothing is refused that it takes, nor sent that it does not.
            .set("message.max.bytes", largest.to_string())
            .set("batch.size", largest.min(1_000_000).to_string())
            .set("queue.buffering.max.messages", "200000")
            .set("queue.buffering.max.kbytes", "65536");
        let context = rdkafka::producer::DefaultProducerContext;
        let producer = BaseProducer::from_config_and_context(&config, context).map_err(|e| broker.broken(&e))?;
        let consumer = broker.consumer(&id)?;
        let group = consumer.group_metadata().ok_or_else(|| Failure::internal("a consumer without a group"))?;
        let mut lane =
            Self { broker: broker.clone(), topic: topic.into(), producer, group, _consumer: consumer, noted: None };
        lane.producer.init_transactions(PATIENCE).map_err(|e| lane.failure("begin to write", &e))?;
        lane.noted = ask(&lane._consumer, broker, topic)?;
        Ok(lane)
    }

    /// The last batch that has landed.
    pub(super) fn last(&self) -> Option<&NotedBatch> {
        self.noted.as_ref().map(|note| &note.last)
    }

    /// What stands beside the committed offset.
    pub(super) fn noted(&self) -> Option<&OffsetNote> {
        self.noted.as_ref()
    }

    pub(super) fn start(&self) -> Outcome<()> {
        self.producer.begin_transaction().map_err(|e| self.failure("begin a transaction", &e))
    }

    /// Hands a message on to be sent.
    pub(super) fn send(&self, message: &OutgoingMessage) -> Outcome<()> {
        let mut record = BaseRecord::<[u8], [u8]>::to(&self.topic).payload(&message.value);
        if let Some(key) = &message.key {
            record = record.key(key);
        }
        if let Some(partition) = message.partition {
            record = record.partition(partition);
        }
        if !message.headers.is_empty() {
            let mut headers = OwnedHeaders::new_with_capacity(message.headers.len());
            for (name, value) in &message.headers {
                headers = headers.insert(Header { key: name, value: value.as_deref() });
            }
            record = record.headers(headers);
        }
        let mut progress = Progress::default();
        loop {
            match self.producer.send(record) {
                Ok(()) => return Ok(()),
                Err((error @ KafkaError::MessageProduction(RDKafkaErrorCode::QueueFull), back)) => {
                    record = back;
                    self.producer.poll(Duration::from_millis(50));
                    if progress.has_ended(self.producer.in_flight_count()) {
                        return Err(self.failure("take a message", &error));
                    }
                }
                Err((error, _)) => return Err(self.failure("take a message", &error)),
            }
        }
    }

    /// Serves answers that have come.
    pub(super) fn serve(&self) {
        self.producer.poll(Duration::ZERO);
    }

    /// Waits until every message was sent, as long as some get through.
    pub(super) fn flush(&self) -> Outcome<()> {
        let mut progress = Progress::default();
        loop {
            match self.producer.flush(Duration::from_millis(500)) {
                Ok(()) => return Ok(()),
                Err(error)
                    if error.rdkafka_error_code() != Some(RDKafkaErrorCode::OperationTimedOut)
                        || progress.has_ended(self.producer.in_flight_count()) =>
                {
                    return Err(self.failure("take all messages", &error));
                }
                Err(_) => {}
            }
        }
    }

    /// Adds the batch's identity to the transaction.
    pub(super) fn note(&self, batch: &BatchIdentity, ranges: &Ranges) -> Outcome<()> {
        let note = self.note_of(batch, ranges);
        let mut offsets = TopicPartitionList::new();
        {
            let mut element = offsets.add_partition(&self.topic, 0);
            element
                .set_offset(Offset::Offset(i64::try_from(batch.number).unwrap_or(i64::MAX)))
                .map_err(|e| self.failure("note the batch", &e))?;
            element.set_metadata(note.text()?);
        }
        self.producer
            .send_offsets_to_transaction(&offsets, &self.group, PATIENCE)
            .map_err(|e| self.failure("note the batch", &e))
    }

    pub(super) fn commit(&mut self, batch: &BatchIdentity, ranges: &Ranges) -> Outcome<()> {
        self.producer.commit_transaction(COMMIT).map_err(|e| self.failure("commit a batch", &e))?;
        self.noted = Some(self.note_of(batch, ranges));
        Ok(())
    }

    /// The note of a batch: what was read for it, and how far all partitions have been read with it.
    fn note_of(&self, batch: &BatchIdentity, ranges: &Ranges) -> OffsetNote {
        let last = NotedBatch { ledger: batch.ledger.clone(), number: batch.number, ranges: ranges.clone() };
        let before = match &self.noted {
            None if batch.number == 1 => Some(Vec::new()),
            None => None,
            Some(note) => note.read_to.clone(),
        };
        let read_to = before.map(|mut read_to| {
            for range in &ranges.0 {
                let to = PartitionPosition {
                    partition: range.partition.clone(),
                    position: range.to,
                    identity: range.identity.clone(),
                };
                match read_to.iter_mut().find(|p| p.partition == range.partition) {
                    Some(known) => *known = to,
                    None => read_to.push(to),
                }
            }
            read_to
        });
        OffsetNote { version: VERSION, last, read_to }
    }

    /// What a failed call means. The producer is given up after it: the next one fences it and asks again, since
    /// nobody knows whether a commit without an answer was made.
    fn failure(&self, doing: &str, error: &KafkaError) -> Failure {
        failed(&self.broker, &self.topic, doing, error)
    }
}

/// Whether messages get through to a broker.
struct Progress {
    /// How many were waiting when it was looked last, and since when there are no fewer.
    waiting: i32,
    since: Instant,
}

impl Default for Progress {
    fn default() -> Self {
        Self { waiting: i32::MAX, since: Instant::now() }
    }
}

impl Progress {
    /// Whether nothing has got through for a while.
    fn has_ended(&mut self, waiting: i32) -> bool {
        if waiting < self.waiting {
            *self = Self { waiting, since: Instant::now() };
        }
        self.since.elapsed() > NOTHING
    }
}

/// What a failed call means.
fn failed(broker: &Broker, topic: &str, doing: &str, error: &KafkaError) -> Failure {
    use RDKafkaErrorCode as Code;
    let code = match error {
        KafkaError::Transaction(error) => Some(error.code()),
        other => other.rdkafka_error_code(),
    };
    if let Some(refusal) = code.and_then(|code| refuse(broker, code)) {
        return refusal;
    }
    let shown = broker.shown();
    match code {
        Some(Code::Fenced | Code::ProducerFenced | Code::InvalidProducerEpoch | Code::TransactionCoordinatorFenced) => {
            let message = format!("another process writes to {} in the place of this one", topic);
            Failure::new(FailureKind::InUse, message)
                .with_help("only the last to begin may write; nothing of this batch was committed by this process")
        }
        Some(code) => {
            let passing = is_passing(code) || matches!(code, Code::PurgeQueue | Code::PurgeInflight | Code::State);
            let failure = Failure::unreachable(format!("{shown} does not {doing}: {code}"));
            let help = match passing {
                true => "the batch stays sealed; the next run finishes it",
                false => {
                    "fix what the broker reports and run again, or turn the events of the batch into rejects: \
                     sluice rejects PIPELINE --unfinished"
                }
            };
            Failure { passing, ..failure }.with_help(help)
        }
        None => Failure::unreachable(format!("{shown} does not {doing}: {error}")),
    }
}

/// The transactional id of a lane, which is also the group that notes its batches.
fn id_of(topic: &str, writer: &str, lane: &LaneId) -> String {
    format!("sluice.{writer}.{lane}.{topic}")
}

/// What stands beside the committed offset of a lane, without fencing anybody.
///
/// # Errors
/// Where no broker answers, or it does not keep what was landed.
pub(super) fn look(broker: &Broker, topic: &str, writer: &str, lane: &LaneId) -> Outcome<Option<OffsetNote>> {
    ask(&broker.observer(&id_of(topic, writer, lane))?, broker, topic)
}

fn ask(consumer: &Consumer, broker: &Broker, topic: &str) -> Outcome<Option<OffsetNote>> {
    let mut asked = TopicPartitionList::new();
    asked.add_partition(topic, 0);
    let answer = consumer.committed_offsets(asked, PATIENCE);
    let answer = answer.map_err(|e| failed(broker, topic, "report what has landed", &e))?;
    let elements = answer.elements();
    let Some(element) = elements.first().filter(|e| matches!(e.offset(), Offset::Offset(_))) else {
        return Ok(None);
    };
    match serde_json::from_str::<OffsetNote>(element.metadata()) {
        Ok(note) if note.version <= VERSION => Ok(Some(note)),
        Ok(_) => Err(Failure::findings(format!("the record of {topic} was written by a newer version of sluice"))
            .with_help("use that version")),
        Err(_) => Err(Failure::findings(format!(
            "{} has lost the metadata of the committed offset of {topic}",
            broker.shown()
        ))
        .with_help("exactly once into a topic needs a broker that keeps the metadata of committed offsets")),
    }
}

impl OffsetNote {
    /// The metadata of the offset. What does not fit is left out: first how far all partitions were read, without
    /// which other landings' records are needed to adopt the batch, then what was read for the batch itself.
    fn text(self) -> Outcome<String> {
        let text = |note: &Self| {
            serde_json::to_string(note).map_err(|e| Failure::internal(format!("a batch cannot be noted: {e}")))
        };
        let whole = text(&self)?;
        if whole.len() <= METADATA {
            return Ok(whole);
        }
        let less = Self { read_to: None, ..self };
        let without = text(&less)?;
        if without.len() <= METADATA {
            return Ok(without);
        }
        text(&Self { last: NotedBatch { ranges: Ranges::default(), ..less.last }, ..less })
    }
}
