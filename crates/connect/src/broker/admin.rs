//! Questions about topics themselves: how long they keep events, and making one.

use std::future::Future;
use std::pin::pin;
use std::sync::Arc;
use std::task::{Context as Task, Poll, Wake, Waker};
use std::thread::Thread;
use std::time::Duration;

use rdkafka::admin::{AdminClient, AdminOptions, NewTopic, ResourceSpecifier, TopicReplication};
use rdkafka::client::DefaultClientContext;
use rdkafka::config::FromClientConfig as _;
use sluice_core::failure::{Failure, Outcome};

use super::{Broker, PATIENCE};

/// A client for such questions.
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

    /// How long a topic keeps its events, in microseconds. None where for ever, or where the brokers do not tell.
    pub fn retention(&self, topic: &str) -> Option<i64> {
        let asked = [ResourceSpecifier::Topic(topic)];
        let answer = wait(self.client.describe_configs(&asked, &Self::options())).ok()?;
        let config = answer.into_iter().next()?.ok()?;
        let value = |name: &str| config.get(name).and_then(|entry| entry.value.clone());
        if value("cleanup.policy").is_some_and(|policy| !policy.contains("delete")) {
            return None;
        }
        value("retention.ms")?.parse::<i64>().ok().filter(|ms| *ms >= 0)?.checked_mul(1_000)
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
            Failure::unreachable(format!("{} does not make the topic {name}: {reason}", self.broker.shown()))
                .with_help("make it by the broker's own means, or give the connection's user the right")
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
struct Waiting(Thread);

impl Wake for Waiting {
    fn wake(self: Arc<Self>) {
        self.0.unpark();
    }
}

/// Waits for an answer. Each question has a time limit of its own.
fn wait<T>(question: impl Future<Output = T>) -> T {
    let mut question = pin!(question);
    let waker = Waker::from(Arc::new(Waiting(std::thread::current())));
    let mut task = Task::from_waker(&waker);
    loop {
        match question.as_mut().poll(&mut task) {
            Poll::Ready(answer) => return answer,
            Poll::Pending => std::thread::park_timeout(Duration::from_millis(100)),
        }
    }
}
