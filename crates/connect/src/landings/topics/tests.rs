//! The landing against the stand-in broker.

use std::sync::Arc;
use std::time::Duration;

use rdkafka::consumer::Consumer as _;
use rdkafka::error::KafkaError;
use rdkafka::message::Message as _;
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use rstest::rstest;
use sluice_core::config::{ConnectionConfig, Options};
use sluice_core::failure::FailureKind;
use sluice_core::problem::{Place, SourceText};
use sluice_standin::broker::{Broker as StandIn, Setup, TopicConfig};

use super::values::ValueWriter;
use super::*;
use crate::landings::suite::{self, Store, identity, lane, publish, stage};
use crate::testing::NoSecrets;

struct TopicStore {
    folder: tempfile::TempDir,
    broker: Broker,
    _stand_in: StandIn,
}

impl TopicStore {
    fn new() -> Self {
        let topic = TopicConfig::of(2);
        let setup = Setup { topics: vec![("tolls".into(), topic)], cluster: "tarrow".into(), ..Setup::default() };
        let stand_in = StandIn::start(setup).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let place = Place::new(&SourceText::new("p.toml", ""), 0..0);
        let settings = Settings {
            root: folder.path().into(),
            work: folder.path().into(),
            connection: ConnectionConfig {
                name: "lock-broker".into(),
                scheme: "kafka".into(),
                target: format!("//{}", stand_in.address()),
                options: Options::empty(vec![crate::broker::KIND.options], place.clone()),
                place: None,
            },
            options: Options::empty(vec![OPTIONS], place),
            secrets: Arc::new(NoSecrets),
            label: String::new(),
            contract: None,
            stop: Arc::default(),
            computed: Vec::new(),
            mirror_keys: Vec::new(),
        };
        Self { broker: Broker::new(&settings).unwrap(), folder, _stand_in: stand_in }
    }
}

impl Store for TopicStore {
    fn landing(&self) -> Box<dyn Landing> {
        let shape = MessageShape {
            writer: ValueWriter::Text(Arc::new(sluice_core::formats::JsonLines)),
            keys_are_base64: false,
        };
        let topic = crate::broker::Topic { name: "tolls".into(), partitions: vec![0, 1] };
        Box::new(TopicsLanding {
            spool: self.folder.path().join("spool"),
            writer: "p.weighing.onward".into(),
            shape: shape.clone(),
            schema: None,
            fit: Arc::new(TopicFit::new(&self.broker, &topic, shape)),
            compression: "lz4".into(),
            broker: self.broker.clone(),
            topic: "tolls".into(),
            disk: Disk::default(),
            lanes: Mutex::new(HashMap::new()),
        })
    }

    fn visible(&self) -> Vec<String> {
        let consumer = self.broker.consumer("looks").unwrap();
        let mut all = TopicPartitionList::new();
        for partition in 0..2 {
            all.add_partition_offset("tolls", partition, Offset::Beginning).unwrap();
        }
        consumer.assign(&all).unwrap();
        let (mut found, mut ends) = (Vec::new(), 0);
        while ends < 2 {
            match consumer.poll(Duration::from_secs(10)).expect("an answer") {
                Ok(message) => {
                    let value: serde_json::Value = serde_json::from_slice(message.payload().unwrap()).unwrap();
                    found.push(value["text"].as_str().unwrap().to_string());
                }
                Err(KafkaError::PartitionEOF(_)) => ends += 1,
                Err(error) => panic!("{error}"),
            }
        }
        found.sort();
        found
    }
}

#[rstest]
fn the_shared_suite(
    #[values(
        suite::rows_appear_when_published,
        suite::publishing_twice_lands_once,
        suite::unsealed_work_is_forgotten,
        suite::an_empty_batch_lands,
        suite::ledgers_do_not_touch_each_others_work,
        suite::holdings_report_all_batches
    )]
    test: fn(&dyn Store),
) {
    test(&TopicStore::new());
}

#[test]
fn only_the_last_to_begin_can_land() {
    let store = TopicStore::new();
    let (old, new) = (store.landing(), store.landing());
    let first = stage(old.as_ref(), 1, &[("", &["a"])]);
    publish(old.as_ref(), 1, &first).unwrap();
    let second = stage(old.as_ref(), 2, &[("", &["b"])]);
    // Looking fences nobody; what is there already is not published again, but who asks for it fences.
    assert_eq!(new.noted(&lane()).unwrap().unwrap().number, 1);
    publish(new.as_ref(), 1, &first).unwrap();
    let refused = publish(old.as_ref(), 2, &second).unwrap_err();
    assert_eq!(refused.kind, FailureKind::InUse, "{refused}");
    assert_eq!(store.visible(), ["a"]);
    publish(new.as_ref(), 2, &second).unwrap();
    assert_eq!(store.visible(), ["a", "b"]);
}

#[test]
fn a_batch_of_another_ledger_is_distinguished() {
    let store = TopicStore::new();
    let landing = store.landing();
    let foreign = BatchIdentity { ledger: "another".into(), ..identity(1) };
    let work = landing.stage(&foreign, &suite::order(1)).unwrap().finish().unwrap();
    landing.publish(&foreign, &suite::ranges(1), &work).unwrap();
    assert_eq!(store.landing().noted(&lane()).unwrap().unwrap().ledger, "another");
}

#[test]
fn messages_that_are_gone_are_noticed() {
    let store = TopicStore::new();
    let landing = store.landing();
    let work = stage(landing.as_ref(), 1, &[("", &["a"])]);
    landing.discard("3f9a2c1b-1", &lane(), &[]).unwrap();
    let failure = publish(landing.as_ref(), 1, &work).unwrap_err();
    assert!(failure.message.contains("are missing") && failure.help.is_some(), "{failure}");
    assert!(store.visible().is_empty());
}
