//! The producer of one lane: there is one transactional id for each, so that only the last to begin can commit.

use std::time::Duration;

use rdkafka::config::FromClientConfigAndContext as _;
use rdkafka::consumer::{Consumer as _, ConsumerGroupMetadata};
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::message::{Header, OwnedHeaders};
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use serde::{Deserialize, Serialize};
use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::HeldBatch;

use super::message::Message;
use crate::broker::{Broker, Consumer, PATIENCE, is_passing, refuse};

/// How long a broker may keep a transaction open of which nobody speaks any more, in milliseconds.
const TIMEOUT: &str = "300000";

/// Brokers keep at most 4,096 bytes of metadata with an offset, unless told otherwise.
const METADATA: usize = 4_000;

/// What stands in the metadata of the offset.
#[derive(Serialize, Deserialize)]
struct Note {
    version: u32,
    #[serde(flatten)]
    held: HeldBatch,
}

/// The producer, after it has fenced all others of its id.
pub(super) struct LaneProducer {
    broker: Broker,
    topic: String,
    producer: BaseProducer,
    group: ConsumerGroupMetadata,
    /// Kept alive for its group.
    _consumer: Consumer,
    held: Option<HeldBatch>,
}

impl LaneProducer {
    /// Fences every other producer of the lane, then asks what has landed last.
    ///
    /// # Errors
    /// Where no broker answers, or it does not keep what was landed.
    pub(super) fn begin(broker: &Broker, topic: &str, label: &str, lane: &LaneId, compression: &str) -> Outcome<Self> {
        let id = format!("sluice.{label}.{lane}.{topic}");
        let mut config = broker.config();
        config
            .set("transactional.id", &id)
            .set("transaction.timeout.ms", TIMEOUT)
            .set("compression.type", compression)
            .set("linger.ms", "5")
            .set("batch.size", "1000000")
            .set("queue.buffering.max.messages", "200000")
            .set("queue.buffering.max.kbytes", "65536");
        let context = rdkafka::producer::DefaultProducerContext;
        let producer = BaseProducer::from_config_and_context(&config, context).map_err(|e| broker.broken(&e))?;
        let consumer = broker.consumer(&id)?;
        let group = consumer.group_metadata().ok_or_else(|| Failure::internal("a consumer without a group"))?;
        let mut lane =
            Self { broker: broker.clone(), topic: topic.into(), producer, group, _consumer: consumer, held: None };
        lane.producer.init_transactions(PATIENCE).map_err(|e| lane.failure("begin to write", &e))?;
        lane.held = lane.ask()?;
        Ok(lane)
    }

    /// The last batch that has landed.
    pub(super) fn held(&self) -> Option<&HeldBatch> {
        self.held.as_ref()
    }

    fn ask(&self) -> Outcome<Option<HeldBatch>> {
        let mut asked = TopicPartitionList::new();
        asked.add_partition(&self.topic, 0);
        let answer = self._consumer.committed_offsets(asked, PATIENCE);
        let answer = answer.map_err(|e| self.failure("tell what has landed", &e))?;
        let elements = answer.elements();
        let Some(element) = elements.first().filter(|e| matches!(e.offset(), Offset::Offset(_))) else {
            return Ok(None);
        };
        match serde_json::from_str::<Note>(element.metadata()) {
            Ok(note) if note.version == 1 => Ok(Some(note.held)),
            _ => Err(Failure::findings(format!(
                "{} has lost what stands beside the committed offset of {}",
                self.broker.shown(),
                self.topic
            ))
            .with_help("exactly once into a topic needs a broker that keeps the metadata of committed offsets")),
        }
    }

    pub(super) fn start(&self) -> Outcome<()> {
        self.producer.begin_transaction().map_err(|e| self.failure("begin a transaction", &e))
    }

    /// Hands a message on to be sent.
    pub(super) fn send(&self, message: &Message) -> Outcome<()> {
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
                headers = headers.insert(Header { key: name, value: Some(value) });
            }
            record = record.headers(headers);
        }
        loop {
            match self.producer.send(record) {
                Ok(()) => return Ok(()),
                Err((KafkaError::MessageProduction(RDKafkaErrorCode::QueueFull), back)) => {
                    record = back;
                    self.producer.poll(Duration::from_millis(50));
                }
                Err((error, _)) => return Err(self.failure("take a message", &error)),
            }
        }
    }

    /// Serves answers that have come.
    pub(super) fn serve(&self) {
        self.producer.poll(Duration::ZERO);
    }

    /// Waits until every message was sent.
    pub(super) fn flush(&self) -> Outcome<()> {
        self.producer.flush(Duration::from_secs(60)).map_err(|e| self.failure("take all messages", &e))
    }

    /// Adds the batch's identity to the transaction.
    pub(super) fn note(&self, batch: &BatchIdentity, ranges: &Ranges) -> Outcome<()> {
        let held = HeldBatch { ledger: batch.ledger.clone(), number: batch.number, ranges: ranges.clone() };
        let mut offsets = TopicPartitionList::new();
        {
            let mut element = offsets.add_partition(&self.topic, 0);
            element
                .set_offset(Offset::Offset(i64::try_from(batch.number).unwrap_or(i64::MAX)))
                .map_err(|e| self.failure("note the batch", &e))?;
            element.set_metadata(note(held)?);
        }
        self.producer
            .send_offsets_to_transaction(&offsets, &self.group, PATIENCE)
            .map_err(|e| self.failure("note the batch", &e))
    }

    pub(super) fn commit(&mut self, batch: &BatchIdentity, ranges: &Ranges) -> Outcome<()> {
        self.producer.commit_transaction(Duration::from_secs(60)).map_err(|e| self.failure("commit a batch", &e))?;
        self.held = Some(HeldBatch { ledger: batch.ledger.clone(), number: batch.number, ranges: ranges.clone() });
        Ok(())
    }

    /// What a failed call means. The producer is given up after it: the next one fences it and asks again, since
    /// nobody knows whether a commit without an answer was made.
    fn failure(&self, doing: &str, error: &KafkaError) -> Failure {
        use RDKafkaErrorCode as Code;
        let code = match error {
            KafkaError::Transaction(error) => Some(error.code()),
            other => other.rdkafka_error_code(),
        };
        if let Some(refusal) = code.and_then(|code| refuse(&self.broker, code)) {
            return refusal;
        }
        let shown = self.broker.shown();
        match code {
            Some(
                Code::Fenced | Code::ProducerFenced | Code::InvalidProducerEpoch | Code::TransactionCoordinatorFenced,
            ) => {
                let message = format!("another process writes to {} in the place of this one", self.topic);
                Failure::new(FailureKind::Held, message)
                    .with_help("only the last to begin may write; nothing of this batch was committed by this process")
            }
            Some(code) => {
                let passing = is_passing(code) || matches!(code, Code::PurgeQueue | Code::PurgeInflight | Code::State);
                let failure = Failure::unreachable(format!("{shown} does not {doing}: {code}"));
                Failure { passing, ..failure }.with_help("what is sealed stays so; the next run finishes it")
            }
            None => Failure::unreachable(format!("{shown} does not {doing}: {error}")),
        }
    }
}

/// The metadata of the offset. Ranges of very many partitions do not fit; then they are left out, and only adopting
/// the batch into another ledger is not possible.
fn note(held: HeldBatch) -> Outcome<String> {
    let text = |held: HeldBatch| {
        serde_json::to_string(&Note { version: 1, held })
            .map_err(|e| Failure::internal(format!("a batch cannot be noted: {e}")))
    };
    let whole = text(held.clone())?;
    if whole.len() <= METADATA { Ok(whole) } else { text(HeldBatch { ranges: Ranges::default(), ..held }) }
}
