//! Landing kind `topics`: messages in a topic of a broker that speaks the Kafka protocol, exactly once for readers of
//! committed messages.
//!
//! A batch is spooled durably before it is sealed. Publishing sends it in one transaction, together with the batch's
//! identity as the metadata of an offset of a group of our own: fence, ask, then send. A rival or a zombie has the same
//! transactional id, so that only the last to begin can commit.

mod fit;
mod message;
mod producer;
mod publish;
mod rows;
mod schemas;
mod stage;
mod values;

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::columns::OutputColumn;
use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::durable::Disk;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::{self, csv};
use sluice_core::kinds::{
    BatchOrder, Fit, Holdings, Landing, LandingKind, NotedBatch, NotedLane, Published, Settings, Stage, StagedWork,
};
use sluice_core::names;
use sluice_core::problem::Problem;

use super::spool;
use crate::broker::{Admin, Broker, PATIENCE};
use fit::TopicFit;
use producer::{LaneProducer, OffsetNote};
use rows::MessageShape;
use schemas::SchemaNumber;

const CREATE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default(
        "partitions",
        ValueKind::Integer { min: 1, max: 10_000 },
        "1",
        "how many partitions it gets",
    )
    .with(&["retention"]),
    OptionSpec::optional("retention", ValueKind::Duration, "how long it keeps messages; without it as the broker does")
        .with(&["partitions"]),
];

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("topic", ValueKind::Text, "the topic to write"),
    OptionSpec::optional(
        "key",
        ValueKind::Sql,
        "an expression for the messages' key; null gives a message without one",
    )
    .with(&["partition", "key_as"]),
    OptionSpec::with_default(
        "key_as",
        ValueKind::Choice(&["text", "base64"]),
        "text",
        "how `key` gives the key: as text, or as base64 of its bytes",
    )
    .with(&["key"]),
    OptionSpec::optional(
        "headers",
        ValueKind::Sql,
        "a SQL select list: each of its columns becomes a header, null ones are left out; `origin.headers` copies all headers of the \
         message that was read",
    ),
    OptionSpec::optional(
        "partition",
        ValueKind::Sql,
        "an expression for the number of the partition; without it, or where it is null, by the key; rows whose partition \
         does not exist are rejected",
    )
    .with(&["key"]),
    OptionSpec::with_default("format", ValueKind::Choice(formats::TO_MESSAGES), "json", "how a message's value is written")
        .with(&["csv"]),
    OptionSpec::optional("csv", ValueKind::Table(csv::LANDING_OPTIONS), "how CSV is spelled").with(&["format"]),
    OptionSpec::optional("avro", ValueKind::Table(schemas::AVRO_OPTIONS), "how messages of Avro are framed")
        .with(&["format"]),
    OptionSpec::optional(
        "protobuf",
        ValueKind::Table(schemas::PROTOBUF_OPTIONS),
        "the schema that messages of Protobuf are written by, and how they are framed",
    )
    .with(&["format"]),
    OptionSpec::with_default(
        "compression",
        ValueKind::Choice(&["lz4", "zstd", "snappy", "none"]),
        "lz4",
        "how messages are packed on their way",
    ),
    OptionSpec::optional("create", ValueKind::Table(CREATE_OPTIONS), "make the topic where it is missing"),
    OptionSpec::optional(
        "writer",
        ValueKind::Text,
        "the name of this landing's transactions in the topic, for projects whose pipelines have the same names; without it \
         PIPELINE.EVENT.LANDING",
    ),
];

/// The kind.
pub struct Topics;

impl LandingKind for Topics {
    fn name(&self) -> &'static str {
        "topics"
    }

    fn scheme(&self) -> &'static str {
        "kafka"
    }

    fn about(&self) -> &'static str {
        "messages in a topic, with key and headers; a batch appears as a whole"
    }

    fn guarantee(&self) -> &'static str {
        "exactly once for readers of committed messages: one transaction a batch, with the batch's identity in it"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn expressions(&self) -> &'static [(&'static str, bool)] {
        &[("key", false), ("headers", true), ("partition", false)]
    }

    fn exclusive_place(&self, _: &ConnectionConfig, _: &Options) -> Option<String> {
        None
    }

    fn check(&self, settings: &Settings, columns: &[OutputColumn]) -> Vec<Problem> {
        let found = schemas::problems(settings, columns);
        if !found.is_empty() {
            return found;
        }
        let place = |key: &str| settings.options.place_of(key);
        let topic = settings.options.text("topic").unwrap_or_default();
        let look = || {
            let broker = Broker::new(settings)?;
            let there = broker.topics(&broker.consumer("sluice.look")?)?;
            Ok::<_, Failure>((broker, there))
        };
        let (broker, there) = match look() {
            Ok(found) => found,
            Err(failure) => {
                let problem = Problem::error("place.missing", failure.message, place("at"));
                return vec![match failure.help {
                    Some(help) => problem.with_help(help),
                    None => problem,
                }];
            }
        };
        if there.iter().any(|t| t.name == topic) {
            return Vec::new();
        }
        let message = format!("there is no topic `{topic}` at {}", broker.shown());
        if settings.options.is_set("create") {
            return vec![
                Problem::warning("place.missing", message, place("topic")).with_help("run makes it, as `create` says"),
            ];
        }
        let near = names::nearest(&topic, there.iter().map(|t| t.name.as_str()));
        let near = near.map_or_else(String::new, |near| format!("did you mean `{near}`? "));
        vec![
            Problem::error("place.missing", message, place("topic"))
                .with_label("not there")
                .with_help(format!("{near}to have it made: create = {{ partitions = 6, retention = \"7d\" }}")),
        ]
    }

    fn fit(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Arc<dyn Fit>>> {
        let broker = Broker::new(settings)?;
        let topic = settings.options.text("topic").unwrap_or_default();
        let there = broker.topics(&broker.consumer("sluice.look")?)?;
        let found = there.iter().find(|t| t.name == topic);
        let shape = shape_of(settings, columns);
        Ok(found.map(|found| Arc::new(TopicFit::new(&broker, found, shape)) as Arc<dyn Fit>))
    }

    fn open(&self, settings: &Settings, label: &str, columns: &[OutputColumn]) -> Outcome<Box<dyn Landing>> {
        let broker = Broker::new(settings)?;
        let topic = settings.options.text("topic").unwrap_or_default();
        let consumer = broker.consumer("sluice.look")?;
        let mut there = broker.topics(&consumer)?;
        if there.iter().all(|t| t.name != topic) {
            if !settings.options.is_set("create") {
                return Err(Failure::unreachable(format!("there is no topic `{topic}` at {}", broker.shown()))
                    .with_help("to have it made: create = { partitions = 6, retention = \"7d\" } in the landing"));
            }
            let create = settings.options.table("create");
            let retention = create.is_set("retention").then(|| create.duration("retention"));
            Admin::new(&broker)?.make_topic(&topic, create.integer("partitions"), retention)?;
            // It takes the brokers a moment to know it.
            let started = Instant::now();
            while there.iter().all(|t| t.name != topic || t.partitions.is_empty()) && started.elapsed() < PATIENCE {
                std::thread::sleep(Duration::from_millis(50));
                there = broker.topics(&consumer)?;
            }
        }
        let found = there.iter().find(|t| t.name == topic).ok_or_else(|| {
            Failure::away(format!("{} created the topic `{topic}` but does not report it yet", broker.shown()))
        })?;
        let shape = shape_of(settings, columns);
        Ok(Box::new(TopicsLanding {
            spool: settings.work.join("spool").join(label),
            writer: settings.options.text("writer").unwrap_or_else(|| label.into()),
            compression: settings.options.text("compression").unwrap_or_default(),
            fit: Arc::new(TopicFit::new(&broker, found, shape.clone())),
            shape,
            schema: SchemaNumber::of(settings, columns)?.map(Mutex::new),
            broker,
            topic,
            disk: Disk::private(),
            lanes: Mutex::new(HashMap::new()),
        }))
    }
}

/// How rows become messages under the keys of a landing.
fn shape_of(settings: &Settings, columns: &[OutputColumn]) -> MessageShape {
    MessageShape {
        writer: schemas::value_writer(&settings.options, columns),
        keys_are_base64: settings.options.text("key_as").as_deref() == Some("base64"),
    }
}

pub(crate) struct TopicsLanding {
    broker: Broker,
    topic: String,
    /// The name of its transactions, with lane and topic.
    writer: String,
    spool: PathBuf,
    shape: MessageShape,
    /// The schema that messages name, where a registry numbers it.
    schema: Option<Mutex<SchemaNumber>>,
    compression: String,
    fit: Arc<TopicFit>,
    disk: Disk,
    /// The producer of each lane, once it has fenced all others.
    lanes: Mutex<HashMap<LaneId, LaneProducer>>,
}

impl TopicsLanding {
    /// What stands beside the committed offset of a lane. Looking fences nobody.
    fn note(&self, lane: &LaneId) -> Outcome<Option<OffsetNote>> {
        if let Some(producer) = self.lanes.lock().unwrap_or_else(PoisonError::into_inner).get(lane) {
            return Ok(producer.noted().cloned());
        }
        producer::look(&self.broker, &self.topic, &self.writer, lane)
    }

    /// Works with the lane's producer, making one that fences all others where there is none. One that failed is
    /// given up, and the next call starts again.
    fn with_producer<T>(&self, lane: &LaneId, work: impl FnOnce(&mut LaneProducer) -> Outcome<T>) -> Outcome<T> {
        let taken = self.lanes.lock().unwrap_or_else(PoisonError::into_inner).remove(lane);
        let mut producer = match taken {
            Some(producer) => producer,
            None => LaneProducer::begin(
                &self.broker,
                &self.topic,
                &self.writer,
                lane,
                &self.compression,
                self.fit.largest(),
            )?,
        };
        let done = work(&mut producer)?;
        self.lanes.lock().unwrap_or_else(PoisonError::into_inner).insert(lane.clone(), producer);
        Ok(done)
    }
}

impl Landing for TopicsLanding {
    fn noted(&self, lane: &LaneId) -> Outcome<Option<NotedBatch>> {
        Ok(self.note(lane)?.map(|note| note.last))
    }

    fn holdings(&self, lanes: &[LaneId]) -> Outcome<Holdings> {
        let mut found = Vec::new();
        for lane in lanes {
            if let Some(note) = self.note(lane)? {
                found.push(NotedLane { lane: lane.clone(), batches: vec![note.last], read_to: Some(note.read_to) });
            }
        }
        Ok(Holdings { lanes: found, order: 0 })
    }

    fn apart(&self) -> Option<&'static str> {
        Some(
            "if another project writes to this topic under the same names, give this landing its own name: writer = \"…\"",
        )
    }

    fn fit(&self, staged: Option<&StagedWork>) -> Option<Arc<dyn Fit>> {
        Some(match staged {
            Some(work) => Arc::new(self.fit.with_detail(&work.detail)),
            None => Arc::clone(&self.fit) as Arc<dyn Fit>,
        })
    }

    fn stage(&self, batch: &BatchIdentity, _: &BatchOrder) -> Outcome<Box<dyn Stage>> {
        let path = spool::path(&self.spool, batch);
        let mut shape = self.shape.clone();
        if let Some(schema) = &self.schema {
            let number = schema.lock().unwrap_or_else(PoisonError::into_inner).number()?;
            shape.writer.set_number(number);
        }
        stage::SpoolStage::create(path, shape, self.fit.detail(), self.disk.clone())
    }

    fn discard(&self, ledger: &str, lane: &LaneId, keep: &[u64]) -> Outcome<()> {
        spool::discard(&self.spool, ledger, lane, keep, &self.disk)
    }

    fn publish(&self, batch: &BatchIdentity, ranges: &Ranges, _: &StagedWork) -> Outcome<Published> {
        let path = spool::sealed(&self.spool, batch);
        self.with_producer(&batch.lane, |producer| publish::publish(producer, batch, ranges, &path))?;
        self.disk.remove_file(&path)?;
        Ok(Published::default())
    }
}

#[cfg(test)]
mod tests;
