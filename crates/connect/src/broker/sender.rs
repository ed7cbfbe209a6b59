//! Sends messages to a topic, for trying things: not what a landing does.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use rdkafka::client::ClientContext;
use rdkafka::config::{FromClientConfigAndContext as _, RDKafkaLogLevel};
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::producer::{BaseProducer, BaseRecord, DeliveryResult, Producer as _, ProducerContext};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::names;

use super::{Admin, Broker};

/// Counts what was delivered, and keeps the first reason why something was not.
#[derive(Default)]
struct Deliveries {
    delivered: AtomicU64,
    failed: AtomicU64,
    reason: Mutex<Option<String>>,
}

struct Counted(Arc<Deliveries>);

impl ClientContext for Counted {
    fn log(&self, _: RDKafkaLogLevel, _: &str, _: &str) {}
    fn error(&self, _: KafkaError, _: &str) {}
}

impl ProducerContext for Counted {
    type DeliveryOpaque = ();

    fn delivery(&self, result: &DeliveryResult<'_>, (): ()) {
        match result {
            Ok(_) => {
                self.0.delivered.fetch_add(1, Ordering::Relaxed);
            }
            Err((error, _)) => {
                self.0.failed.fetch_add(1, Ordering::Relaxed);
                let mut reason = self.0.reason.lock().unwrap_or_else(PoisonError::into_inner);
                reason.get_or_insert_with(|| error.rdkafka_error_code().map_or(error.to_string(), |c| c.to_string()));
            }
        }
    }
}

/// Sends messages in order of their keys, each kept once.
pub struct Sender {
    broker: Broker,
    topic: String,
    producer: BaseProducer<Counted>,
    deliveries: Arc<Deliveries>,
    handed: u64,
}

impl Sender {
    /// Opens a topic of a connection; with `partitions`, it is made where it is missing.
    ///
    /// # Errors
    /// Where no broker answers, or the topic is not there.
    pub fn open(settings: &Settings, topic: &str, partitions: Option<u64>) -> Outcome<Self> {
        let broker = Broker::new(settings)?;
        let there = broker.topics(&broker.consumer("sluice.look")?)?;
        if there.iter().all(|t| t.name != topic) {
            let Some(partitions) = partitions else {
                let failure = Failure::unreachable(format!("there is no topic `{topic}` at {}", broker.shown()));
                let near = names::nearest(topic, there.iter().map(|t| t.name.as_str()));
                let near = near.map_or_else(String::new, |n| format!("did you mean `{n}`? "));
                return Err(failure.with_help(format!("{near}to create it: --partitions 4")));
            };
            Admin::new(&broker)?.make_topic(topic, partitions, None)?;
        }
        let mut config = broker.config();
        config.set("enable.idempotence", "true").set("compression.type", "lz4").set("linger.ms", "5");
        let deliveries = Arc::new(Deliveries::default());
        let producer = BaseProducer::from_config_and_context(&config, Counted(Arc::clone(&deliveries)))
            .map_err(|e| broker.broken(&e))?;
        Ok(Self { broker, topic: topic.into(), producer, deliveries, handed: 0 })
    }

    /// Hands a message on; waits while too many wait to be sent. `time` is the broker's time, in microseconds since
    /// 1970; without it, now.
    ///
    /// # Errors
    /// Where a message was refused.
    pub fn send(&mut self, key: Option<&[u8]>, value: &[u8], time: Option<i64>) -> Outcome<()> {
        let mut record = BaseRecord::<[u8], [u8]>::to(&self.topic).payload(value);
        if let Some(key) = key {
            record = record.key(key);
        }
        if let Some(time) = time {
            record = record.timestamp(time.div_euclid(1_000));
        }
        self.handed += 1;
        if self.handed.is_multiple_of(256) {
            self.producer.poll(Duration::ZERO);
        }
        loop {
            match self.producer.send(record) {
                Ok(()) => return self.check(),
                Err((KafkaError::MessageProduction(RDKafkaErrorCode::QueueFull), back)) => {
                    record = back;
                    self.producer.poll(Duration::from_millis(50));
                }
                Err((error, _)) => return Err(self.refused(&error.to_string())),
            }
        }
    }

    /// Serves what the broker has answered.
    ///
    /// # Errors
    /// Where a message was refused.
    pub fn serve(&self) -> Outcome<()> {
        self.producer.poll(Duration::ZERO);
        self.check()
    }

    /// Waits until every message is delivered.
    ///
    /// # Errors
    /// Where one is not.
    pub fn finish(&self) -> Outcome<u64> {
        let flushed = self.producer.flush(Duration::from_secs(60));
        self.check()?;
        flushed.map_err(|e| self.refused(&e.to_string()))?;
        Ok(self.deliveries.delivered.load(Ordering::Relaxed))
    }

    fn check(&self) -> Outcome<()> {
        if self.deliveries.failed.load(Ordering::Relaxed) == 0 {
            return Ok(());
        }
        let reason = self.deliveries.reason.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Err(self.refused(&reason.unwrap_or_default()))
    }

    fn refused(&self, reason: &str) -> Failure {
        Failure::unreachable(format!("{} refused messages for {}: {reason}", self.broker.shown(), self.topic))
            .with_help("messages that were delivered before stay")
    }
}
