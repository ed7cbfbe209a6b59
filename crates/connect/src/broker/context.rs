//! What librdkafka reports beside its answers.

use std::sync::Mutex;

use rdkafka::client::ClientContext;
use rdkafka::config::RDKafkaLogLevel;
use rdkafka::consumer::ConsumerContext;
use rdkafka::error::{KafkaError, RDKafkaErrorCode};

/// Keeps the last reason why a broker could not be reached, and prints nothing.
#[derive(Default)]
pub struct Context {
    reason: Mutex<Option<String>>,
}

impl Context {
    /// The last reason, in librdkafka's words.
    pub fn reason(&self) -> Option<String> {
        self.reason.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }
}

impl ClientContext for Context {
    fn log(&self, _: RDKafkaLogLevel, _: &str, _: &str) {}

    fn error(&self, error: KafkaError, reason: &str) {
        // That all are down says less than why one of them is, and the end of a partition is not a reason at all.
        use RDKafkaErrorCode::{AllBrokersDown, PartitionEOF};
        if matches!(error, KafkaError::PartitionEOF(_))
            || matches!(error.rdkafka_error_code(), Some(AllBrokersDown | PartitionEOF))
        {
            return;
        }
        *self.reason.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(reason.to_string());
    }
}

impl ConsumerContext for Context {}
