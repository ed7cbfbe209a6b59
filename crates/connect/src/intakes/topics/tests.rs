//! The intake against the stand-in broker.

use std::sync::Arc;
use std::time::Duration;

use rdkafka::config::FromClientConfig as _;
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use rstest::rstest;
use sluice_core::config::{ConnectionConfig, OptionValue, Options};
use sluice_core::problem::{Place, SourceText};
use sluice_standin::broker::{Broker as StandIn, Setup, TopicConfig};

use super::proof::{Proof, Witness};
use super::*;
use crate::intakes::suite::{self, Source as _};
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

/// An earlier end is believed where the message is looked for and not found, and not where the broker says nothing at all.
#[rstest]
#[case::it_is_there("ends tolls", Some(true))]
#[case::it_is_missing("shorten tolls 0 60", Some(false))]
#[case::the_broker_says_nothing("silence", Some(true))]
#[case::another_one_is_there("forget", None)]
fn a_message_is_missing_only_where_the_broker_says_so(#[case] word: &str, #[case] expected: Option<bool>) {
    let source = TollsTopic::new();
    source.add(0, 0, 100);
    let intake = TopicsIntake::new(&source.settings()).unwrap();
    let partition = Partition { topic: "tolls".into(), number: 0 };
    let mut prover = Prover::new(intake.broker.clone());
    let places = [(partition.clone(), 100), (Partition { topic: "tolls".into(), number: 1 }, 7)];
    let digests = prover.digests_before(&places).unwrap();
    assert_eq!((digests.len(), &digests[1]), (2, &None), "nothing stands in the other partition");
    source.stand_in.command(word).unwrap();
    if word == "forget" {
        source.add(0, 500, 650);
    }
    let found = prover.reaches(&Proof {
        partition,
        position: 100,
        witness: Witness { offset: 99, digest: digests[0].clone().unwrap() },
    });
    assert_eq!(found.ok(), expected);
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
