//! Everything the broker knows.

use std::collections::{BTreeMap, HashMap};
use std::time::{SystemTime, UNIX_EPOCH};

use uuid::Uuid;

use super::log::Log;
use super::transactions::Transaction;

/// How a topic is set up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TopicConfig {
    /// How many partitions it has.
    pub partitions: u32,
    /// How long it keeps records, in milliseconds; None for ever.
    pub retention: Option<i64>,
    /// The bytes of the largest batch that it takes.
    pub largest: usize,
    /// Whether it is compacted, and keeps nothing but the last record of each key.
    pub compacts: bool,
}

/// The partitions of a topic that a client may ask for; each takes memory.
pub(super) const MOST_PARTITIONS: u32 = 10_000;

/// What brokers take by default.
const LARGEST: usize = 1_048_588;

impl TopicConfig {
    /// A topic with so many partitions that keeps everything.
    pub fn of(partitions: u32) -> Self {
        Self { partitions, retention: None, largest: LARGEST, compacts: false }
    }
}

pub(super) struct Topic {
    pub id: Uuid,
    pub logs: Vec<Log>,
    pub config: TopicConfig,
}

/// An offset that somebody committed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Committed {
    pub offset: i64,
    pub metadata: String,
}

/// Group, topic and partition.
pub(super) type OffsetKey = (String, String, i32);

#[derive(Default)]
pub(crate) struct State {
    pub(super) topics: BTreeMap<String, Topic>,
    pub(super) committed: HashMap<OffsetKey, Committed>,
    pub(super) transactions: HashMap<String, Transaction>,
    producers: i64,
}

impl State {
    /// Makes a topic; false where it is there already.
    pub(super) fn make_topic(&mut self, name: &str, config: TopicConfig) -> bool {
        if self.topics.contains_key(name) {
            return false;
        }
        let logs = (0..config.partitions.max(1)).map(|_| Log::default()).collect();
        self.topics.insert(name.into(), Topic { id: Uuid::new_v4(), logs, config });
        true
    }

    pub(super) fn log(&mut self, topic: &str, partition: i32) -> Option<&mut Log> {
        self.topics.get_mut(topic)?.logs.get_mut(usize::try_from(partition).ok()?)
    }

    pub(super) fn new_producer(&mut self) -> i64 {
        self.producers += 1;
        self.producers
    }

    /// Forgets what has expired, and takes back transactions that have been idle for too long.
    pub(super) fn tidy(&mut self) {
        let now = now();
        for topic in self.topics.values_mut() {
            if let Some(retention) = topic.config.retention {
                topic.logs.iter_mut().for_each(|log| log.expire(now - retention));
            }
        }
        self.end_overdue(now);
    }
}

/// Milliseconds since 1970.
pub(super) fn now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}
