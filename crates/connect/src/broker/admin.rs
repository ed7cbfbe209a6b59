//! Requests about topics themselves: their retention, and creating one.

use std::collections::HashMap;
use std::future::Future;
use std::pin::pin;
use std::sync::Arc;
use std::task::{Context as Task, Poll, Wake, Waker};
use std::thread::Thread;
use std::time::Duration;

use rdkafka::admin::{
    AdminClient, AdminOptions, ConfigResource, NewTopic, OwnedResourceSpecifier, ResourceSpecifier, TopicReplication,
};
use rdkafka::client::DefaultClientContext;
use rdkafka::config::FromClientConfig as _;
use sluice_core::failure::{Failure, Outcome};

use super::{Broker, PATIENCE};

/// How a topic is set up, as far as the brokers tell.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TopicConfig {
    /// How long it keeps its events, in microseconds; None where for ever.
    pub retention: Option<i64>,
    /// Whether it is compacted: of each key, only the last message stays.
    pub compacts: Option<bool>,
    /// The bytes of the largest batch of messages that it takes.
    pub largest: Option<u64>,
}

/// A client for such requests.
pub struct Admin {
    broker: Broker,
    client: AdminClient<DefaultClientContext>,
}

impl Admin {
    /// A client for the brokers of a connection.
    ///
    /// # Errors
    /// Where the configuration does not hold.
    pub fn new(broker: &Broker) -> Outcome<Self> {
        let client = AdminClient::from_config(&broker.config()).map_err(|e| broker.broken(&e))?;
        Ok(Self { broker: broker.clone(), client })
    }

    fn options() -> AdminOptions {
        AdminOptions::new().request_timeout(Some(PATIENCE)).operation_timeout(Some(PATIENCE))
    }

    /// What the brokers say of topics, by name. One that they say nothing of is left out.
    pub fn configs<'t>(&self, topics: impl IntoIterator<Item = &'t str>) -> HashMap<String, TopicConfig> {
        let asked: Vec<_> = topics.into_iter().map(ResourceSpecifier::Topic).collect();
        if asked.is_empty() {
            return HashMap::new();
        }
        let Ok(answer) = wait(self.client.describe_configs(&asked, &Self::options())) else { return HashMap::new() };
        let one = |config: ConfigResource| {
            let OwnedResourceSpecifier::Topic(name) = &config.specifier else { return None };
            let value = |name: &str| config.get(name).and_then(|entry| entry.value.clone());
            let number = |name: &str| value(name)?.parse::<i64>().ok().filter(|n| *n >= 0);
            let policy = value("cleanup.policy");
            let deletes = policy.as_ref().is_none_or(|policy| policy.contains("delete"));
            let reported = TopicConfig {
                retention: number("retention.ms").filter(|_| deletes).and_then(|ms| ms.checked_mul(1_000)),
                compacts: policy.map(|policy| policy.contains("compact")),
                largest: number("max.message.bytes").and_then(|n| u64::try_from(n).ok()),
            };
            Some((name.clone(), reported))
        };
        answer.into_iter().flatten().filter_map(one).collect()
    }

    /// Whether a topic is compacted; None where the brokers do not tell.
    pub fn compacts(&self, topic: &str) -> Option<bool> {
        self.configs([topic]).get(topic).and_then(|config| config.compacts)
    }

    /// Makes a topic; one that is there already is left as it is. Whether it was made.
    ///
    /// # Errors
    /// Where the brokers refuse.
    pub fn make_topic(&self, name: &str, partitions: u64, retention: Option<Duration>) -> Outcome<bool> {
        let partitions = i32::try_from(partitions).unwrap_or(i32::MAX);
        let kept = retention.map(|r| r.as_millis().to_string());
        let mut topic = NewTopic::new(name, partitions, TopicReplication::Fixed(-1));
        if let Some(kept) = &kept {
            topic = topic.set("retention.ms", kept);
        }
        let refused = |reason: String| {
            Failure::unreachable(format!("{} did not create the topic {name}: {reason}", self.broker.shown()))
                .with_help("create it with the tools of the broker, or give the user of the connection the right to create topics")
        };
        let made = wait(self.client.create_topics([&topic], &Self::options())).map_err(|e| refused(e.to_string()))?;
        match made.into_iter().next() {
            Some(Ok(_)) => Ok(true),
            Some(Err((_, rdkafka::error::RDKafkaErrorCode::TopicAlreadyExists))) => Ok(false),
            Some(Err((_, code))) => Err(refused(code.to_string())),
            None => Err(refused("no answer".into())),
        }
    }
}

/// Wakes the thread that waits.
struct AdminWait(Thread);

impl Wake for AdminWait {
    fn wake(self: Arc<Self>) {
        self.0.unpark();
    }
}

/// Waits for an answer. Each request has a time limit of its own.
fn wait<T>(question: impl Future<Output = T>) -> T {
    let mut question = pin!(question);
    let waker = Waker::from(Arc::new(AdminWait(std::thread::current())));
    let mut task = Task::from_waker(&waker);
    loop {
        match question.as_mut().poll(&mut task) {
            Poll::Ready(answer) => return answer,
            Poll::Pending => std::thread::park_timeout(Duration::from_millis(100)),
        }
    }
}
