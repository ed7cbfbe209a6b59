//! Brokers that speak the Kafka protocol: how they are reached, what topics they have, and what their errors mean.
//!
//! The protocol itself is librdkafka's. What topics hold, where reading stands and what has landed is decided here and
//! in `intakes/topics` and `landings/topics`.

mod admin;
mod asked;
mod context;
mod error;
pub mod headers;
pub(crate) mod registry;
mod sender;

use std::time::{Duration, Instant};

use rdkafka::config::{ClientConfig, FromClientConfigAndContext as _};
use rdkafka::consumer::{BaseConsumer, Consumer as _};
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use sluice_core::config::{OptionSpec, ValueKind, refuse_unencrypted_password};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{ConnectionKind, Settings};

pub use admin::{Admin, TopicConfig};
pub(crate) use asked::open_writers;
pub use context::Context;
pub use error::{is_passing, refuse};
pub use sender::Sender;

/// A consumer with our context.
pub type Consumer = BaseConsumer<Context>;

/// Takes a client down without waiting for it: it waits for what it has asked its brokers, and nothing of that counts.
pub fn let_go<T: Send + 'static>(client: T) {
    sluice_core::threads::spawn("release", move || drop(client));
}

/// How long one request to a broker may take, the login before it included: a busy broker is not one that is away.
pub const PATIENCE: Duration = Duration::from_secs(10);

/// KiB of fetched messages that wait to be read, over all partitions.
const WAITING_KIB: usize = 32 << 10;

/// The scheme of connections.
pub const KIND: ConnectionKind = ConnectionKind {
    scheme: "kafka",
    about: "brokers that speak the Kafka protocol: kafka://HOST:PORT, several with commas between",
    options: OPTIONS,
};

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("user", ValueKind::Text, "the user to log in as").with(&["password", "login"]),
    OptionSpec::optional("password", ValueKind::Secret, "the user's password").with(&["user", "login"]),
    OptionSpec::with_default(
        "login",
        ValueKind::Choice(&["scram-sha-256", "scram-sha-512", "plain"]),
        "scram-sha-256",
        "the SASL mechanism; plain sends the password itself, so it needs tls",
    )
    .with(&["user", "password", "tls"]),
    OptionSpec::with_default(
        "tls",
        ValueKind::Flag,
        "false",
        "whether the connection is encrypted and the brokers' certificates verified; to send a password to another host \
         without encryption, write `false`",
    )
        .with(&["authority", "certificate"]),
    OptionSpec::optional(
        "authority",
        ValueKind::Text,
        "a PEM file with the certificates to trust, relative to the project; without it the system's",
    )
    .with(&["tls"]),
    OptionSpec::optional(
        "registry",
        ValueKind::Text,
        "the schema registry of the topics, http://HOST:PORT or https://HOST:PORT, which `authority` holds for too",
    )
    .with(&["registry_user", "registry_password"]),
    OptionSpec::optional("registry_user", ValueKind::Text, "the user to log in as at the registry")
        .with(&["registry", "registry_password"]),
    OptionSpec::optional("registry_password", ValueKind::Secret, "that user's password").with(&["registry", "registry_user"]),
    OptionSpec::optional("certificate", ValueKind::Text, "a PEM file with our own certificate").with(&["private_key"]),
    OptionSpec::optional("private_key", ValueKind::Text, "a PEM file with the key of our certificate")
        .with(&["certificate"]),
];

/// The brokers of one connection.
#[derive(Clone)]
pub struct Broker {
    config: ClientConfig,
    /// The connection's name.
    pub name: String,
    /// Where they are, as written.
    pub address: String,
}

/// A topic with the numbers of its partitions.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Topic {
    /// Its name.
    pub name: String,
    /// Its partitions, in order.
    pub partitions: Vec<i32>,
}

/// Whether an error says that a topic or partition is not there.
pub fn is_gone(error: &KafkaError) -> bool {
    use RDKafkaErrorCode as Code;
    matches!(
        error.rdkafka_error_code(),
        Some(Code::UnknownTopicOrPartition | Code::UnknownTopic | Code::UnknownPartition)
    )
}

impl Broker {
    /// What is needed to reach the brokers of a connection. Reaches nothing yet.
    ///
    /// # Errors
    /// Where a secret cannot be read.
    pub fn new(settings: &Settings) -> Outcome<Self> {
        let connection = &settings.connection;
        refuse_unencrypted_password(connection)?;
        let address = connection.target.trim_start_matches('/').trim_end_matches('/').to_string();
        let options = &connection.options;
        let mut config = ClientConfig::new();
        config
            .set("bootstrap.servers", &address)
            .set("client.id", "sluice")
            // The first failed try is reported at once; a broker that is back is found within a second.
            .set("reconnect.backoff.ms", "50")
            .set("reconnect.backoff.max.ms", "1000")
            .set("socket.connection.setup.timeout.ms", "4000")
            // The client waits for an answer as long as this, whatever the caller's own patience is.
            .set("socket.timeout.ms", "15000")
            .set("topic.metadata.refresh.interval.ms", "30000")
            .set("log_level", "0");
        let user = options.text("user");
        config.set(
            "security.protocol",
            match (options.flag("tls"), user.is_some()) {
                (true, true) => "sasl_ssl",
                (true, false) => "ssl",
                (false, true) => "sasl_plaintext",
                (false, false) => "plaintext",
            },
        );
        if let Some(user) = user {
            let login = options.text("login").unwrap_or_default().to_uppercase();
            config.set("sasl.mechanisms", login).set("sasl.username", user);
            if let Some(place) = options.secret("password") {
                let secret = settings.secrets.read(place).map_err(|reason| {
                    let message = format!("the password of connection `{}` cannot be read: {reason}", connection.name);
                    Failure::new(sluice_core::failure::FailureKind::Configuration, message)
                        .with_help("set the variable, or make the file, that [connection] names in sluice.toml")
                })?;
                config.set("sasl.password", secret.reveal());
            }
        }
        let file = |key: &str| options.text(key).map(|path| settings.root.join(path).display().to_string());
        for (key, setting) in [
            ("authority", "ssl.ca.location"),
            ("certificate", "ssl.certificate.location"),
            ("private_key", "ssl.key.location"),
        ] {
            if let Some(path) = file(key) {
                config.set(setting, path);
            }
        }
        Ok(Self { config, name: connection.name.clone(), address })
    }

    /// The brokers for people: name and address.
    pub fn shown(&self) -> String {
        format!("{} ({})", self.name, self.address)
    }

    /// A copy of the configuration for a client of one's own.
    pub(crate) fn config(&self) -> ClientConfig {
        self.config.clone()
    }

    /// A consumer that joins no group. It reads from where it is assigned, and sees only what was committed.
    ///
    /// # Errors
    /// Where the configuration does not hold.
    pub fn consumer(&self, group: &str) -> Outcome<Consumer> {
        self.consumer_of(group, 1)
    }

    /// As [`Self::consumer`], for so many partitions: what waits of all of them together is bounded.
    ///
    /// # Errors
    /// Where the configuration does not hold.
    pub fn consumer_of(&self, group: &str, partitions: usize) -> Outcome<Consumer> {
        self.make_consumer(group, partitions, "read_committed", "1048576")
    }

    /// A consumer that reads one message here and there: little of what stands behind it is fetched.
    ///
    /// # Errors
    /// Where the configuration does not hold.
    pub fn sampler(&self, group: &str) -> Outcome<Consumer> {
        self.make_consumer(group, usize::MAX, "read_committed", "65536")
    }

    /// A consumer for looking at the offsets of a group: it does not wait for a transaction that a killed process has
    /// left open, which only its successor can end.
    ///
    /// # Errors
    /// Where the configuration does not hold.
    pub fn observer(&self, group: &str) -> Outcome<Consumer> {
        self.make_consumer(group, 1, "read_uncommitted", "1048576")
    }

    fn make_consumer(&self, group: &str, partitions: usize, isolation: &str, fetch: &str) -> Outcome<Consumer> {
        // With a queue for each partition, librdkafka counts each by itself.
        let waiting = (WAITING_KIB / partitions.max(1)).clamp(512, 16_384);
        let mut config = self.config();
        config
            .set("group.id", group)
            .set("enable.auto.commit", "false")
            .set("enable.auto.offset.store", "false")
            .set("enable.partition.eof", "true")
            .set("auto.offset.reset", "error")
            .set("isolation.level", isolation)
            .set("fetch.wait.max.ms", "50")
            .set("fetch.error.backoff.ms", "100")
            .set("fetch.queue.backoff.ms", "5")
            .set("queued.max.messages.kbytes", waiting.to_string())
            .set("fetch.max.bytes", "8388608")
            .set("fetch.message.max.bytes", fetch);
        BaseConsumer::from_config_and_context(&config, Context::default()).map_err(|e| self.broken(&e))
    }

    /// What a client that cannot even be made has to say.
    pub(crate) fn broken(&self, error: &rdkafka::error::KafkaError) -> Failure {
        let message = format!("connection `{}` cannot be used: {error}", self.name);
        Failure::new(sluice_core::failure::FailureKind::Configuration, message)
            .with_help(format!("correct [connection.{}] in sluice.toml", self.name))
    }

    /// All topics, as the brokers have them now, internal ones left out.
    ///
    /// # Errors
    /// Where no broker answers.
    pub fn topics(&self, consumer: &Consumer) -> Outcome<Vec<Topic>> {
        self.topics_within(consumer, PATIENCE)
    }

    /// As [`Self::topics`], but waiting at most so long.
    ///
    /// # Errors
    /// Where no broker answers.
    pub fn topics_within(&self, consumer: &Consumer, patience: Duration) -> Outcome<Vec<Topic>> {
        let metadata = self.metadata(consumer, patience)?;
        let mut topics: Vec<Topic> = metadata
            .topics()
            .iter()
            .filter(|t| !t.name().starts_with("__") && t.error().is_none())
            .map(|t| {
                let mut partitions: Vec<i32> =
                    t.partitions().iter().map(rdkafka::metadata::MetadataPartition::id).collect();
                partitions.sort_unstable();
                Topic { name: t.name().to_string(), partitions }
            })
            .collect();
        topics.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(topics)
    }

    /// Asks in short steps: a broker that refuses the connection is reported at once, not when time is up.
    fn metadata(&self, consumer: &Consumer, patience: Duration) -> Outcome<rdkafka::metadata::Metadata> {
        let started = Instant::now();
        loop {
            let step = Duration::from_millis(400).min(patience);
            let error = match consumer.fetch_metadata(None, step) {
                Ok(metadata) => return Ok(metadata),
                Err(error) => error,
            };
            let (refusal, all_down) = self.queued_errors(consumer);
            if let Some(refusal) = refusal {
                return Err(refusal);
            }
            if all_down || started.elapsed() >= patience {
                return Err(self.away(consumer, &error));
            }
        }
    }

    /// The cluster's own name; empty where the brokers tell none.
    pub fn cluster(&self, consumer: &Consumer) -> String {
        consumer.client().fetch_cluster_id(PATIENCE).unwrap_or_default()
    }

    /// The first offset of each partition that can be read, and the one after the last.
    ///
    /// # Errors
    /// Where no broker answers.
    pub fn bounds(&self, consumer: &Consumer, partitions: &[(&str, i32)]) -> Outcome<Vec<(u64, u64)>> {
        let low = self.offsets(consumer, partitions, Offset::Beginning)?;
        let high = self.offsets(consumer, partitions, Offset::End)?;
        Ok(low.into_iter().zip(high).map(|(low, high)| (low.unwrap_or(0), high.unwrap_or(0))).collect())
    }

    /// As [`Self::bounds`], None for a partition that is not there any more, waiting at most so long for each answer.
    ///
    /// # Errors
    /// Where no broker answers.
    pub fn bounds_there(
        &self,
        consumer: &Consumer,
        partitions: &[(&str, i32)],
        patience: Duration,
    ) -> Outcome<Vec<Option<(u64, u64)>>> {
        let both = |partitions: &[(&str, i32)]| {
            let low = Self::ask_offsets(consumer, partitions, Offset::Beginning, patience)?;
            Ok((low, Self::ask_offsets(consumer, partitions, Offset::End, patience)?))
        };
        let (low, high) = match both(partitions) {
            Ok(found) => found,
            Err(e) if is_gone(&e) && partitions.len() == 1 => return Ok(vec![None]),
            // One that is gone fails the request about all of them.
            Err(e) if is_gone(&e) => {
                let each = partitions.iter().map(|one| self.bounds_there(consumer, &[*one], patience));
                return each.map(|one| Ok(one?.into_iter().next().flatten())).collect();
            }
            Err(e) => return Err(self.away(consumer, &e)),
        };
        let both = |(low, high)| match (low, high) {
            (Ok(low), Ok(high)) => Ok(Option::zip(low, high)),
            (Err(e), _) | (_, Err(e)) if is_gone(&e) => Ok(None),
            (Err(e), _) | (_, Err(e)) => Err(self.away(consumer, &e)),
        };
        let mut found: Vec<Option<(u64, u64)>> = low.into_iter().zip(high).map(both).collect::<Outcome<_>>()?;
        // Some brokers say of a topic that was deleted that it is empty.
        if found.contains(&Some((0, 0))) {
            let there = self.topics_within(consumer, patience)?;
            for (bounds, (topic, number)) in found.iter_mut().zip(partitions) {
                if *bounds == Some((0, 0)) && !there.iter().any(|t| t.name == *topic && t.partitions.contains(number)) {
                    *bounds = None;
                }
            }
        }
        Ok(found)
    }

    /// The offset of a mark in each partition: the beginning, the end, or the first message of a time (in milliseconds
    /// since 1970) or later, where there is one. All are asked for at once, since each request takes its time.
    ///
    /// # Errors
    /// Where no broker answers.
    pub fn offsets(&self, consumer: &Consumer, partitions: &[(&str, i32)], mark: Offset) -> Outcome<Vec<Option<u64>>> {
        let found = Self::ask_offsets(consumer, partitions, mark, PATIENCE).map_err(|e| self.away(consumer, &e))?;
        found.into_iter().map(|found| found.map_err(|e| self.away(consumer, &e))).collect()
    }

    fn ask_offsets(
        consumer: &Consumer,
        partitions: &[(&str, i32)],
        mark: Offset,
        patience: Duration,
    ) -> Result<Vec<Result<Option<u64>, KafkaError>>, KafkaError> {
        if partitions.is_empty() {
            return Ok(Vec::new());
        }
        let mut asked = TopicPartitionList::with_capacity(partitions.len());
        for (topic, number) in partitions {
            asked.add_partition_offset(topic, *number, mark)?;
        }
        let found = consumer.offsets_for_times(asked, patience)?;
        let of = |(topic, number): &(&str, i32)| {
            let element = found.find_partition(topic, *number);
            let element = element.ok_or(KafkaError::OffsetFetch(RDKafkaErrorCode::UnknownPartition))?;
            Ok(element.error().map(|()| match element.offset() {
                Offset::Offset(offset) => u64::try_from(offset).ok(),
                _ => None,
            }))
        };
        partitions.iter().map(of).collect()
    }
}
