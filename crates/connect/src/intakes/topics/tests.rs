//! The intake against the stand-in broker.

use std::sync::Arc;
use std::time::Duration;

use rdkafka::config::FromClientConfig as _;
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use rstest::rstest;
use sluice_core::config::{ConnectionConfig, OptionValue, Options};
use sluice_core::problem::{Place, SourceText};
use sluice_standin::broker::{Broker as StandIn, Setup, TopicConfig};

use super::*;
use crate::intakes::suite;
use crate::testing::NoSecrets;

struct TollsTopic {
    folder: tempfile::TempDir,
    stand_in: StandIn,
}

impl TollsTopic {
    fn new() -> Self {
        let topics = vec![("tolls".into(), TopicConfig::of(2))];
        let stand_in = StandIn::start(Setup { topics, cluster: "tarrow".into(), ..Setup::default() }).unwrap();
        Self { folder: tempfile::tempdir().unwrap(), stand_in }
    }
}

impl suite::Source for TollsTopic {
    fn kind(&self) -> &dyn IntakeKind {
        &Topics
    }

    fn settings(&self) -> Settings {
        let place = Place::new(&SourceText::new("p.toml", ""), 0..0);
        let arrival = sluice_core::config::pipeline::ARRIVAL_OPTIONS;
        let mut options = Options::empty(vec![arrival, sluice_core::formats::OPTIONS, Topics.options()], place.clone());
        options.set("topic", OptionValue::Texts(vec!["tolls".into()]), place.clone());
        Settings {
            root: self.folder.path().into(),
            work: self.folder.path().into(),
            connection: ConnectionConfig {
                name: "lock-broker".into(),
                scheme: "kafka".into(),
                target: format!("//{}", self.stand_in.address()),
                options: Options::empty(vec![crate::broker::KIND.options], place.clone()),
                place: None,
            },
            options,
            secrets: Arc::new(NoSecrets),
            label: "p.weighing.0".into(),
            contract: None,
            stop: Arc::default(),
            computed: Vec::new(),
            mirror_keys: Vec::new(),
        }
    }

    fn add(&self, partition: usize, from: u64, to: u64) {
        let mut config = rdkafka::ClientConfig::new();
        config.set("bootstrap.servers", self.stand_in.address().to_string());
        let producer = BaseProducer::from_config(&config).unwrap();
        for n in from..to {
            let value = format!("{{\"n\":{n}}}");
            let record = BaseRecord::<str, str>::to("tolls").payload(&value);
            producer.send(record.partition(i32::try_from(partition).unwrap())).unwrap();
        }
        producer.flush(Duration::from_secs(20)).unwrap();
    }
}

#[rstest]
fn the_shared_suite(
    #[values(
        suite::everything_is_read_once_and_in_order,
        suite::reading_goes_on_where_it_was,
        suite::what_is_unread_is_reported,
        suite::what_was_not_sealed_is_read_again,
        suite::each_partition_has_one_lane,
        suite::ranges_are_read_again_exactly,
        suite::looking_moves_nothing,
        suite::what_is_left_agrees_with_what_was_read,
        suite::an_empty_source_has_caught_up
    )]
    test: fn(&dyn suite::Source),
) {
    test(&TollsTopic::new());
}
