//! Compressed batches: every compression is read whole, and a batch that unpacks to more than a run may keep in memory
//! stops it with a message.

use crate::common::topics;
use crate::common::topics::{StandIn, project, simple};
use rdkafka::config::ClientConfig;
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use rstest::rstest;
use std::time::Duration;

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

fn producer(address: &str, packing: &str) -> BaseProducer {
    ClientConfig::new()
        .set("bootstrap.servers", address)
        .set("message.max.bytes", "400000000")
        .set("compression.type", packing)
        .create()
        .unwrap()
}

fn send(producer: &BaseProducer, values: &[Vec<u8>]) {
    for value in values {
        producer.send(BaseRecord::<[u8], [u8]>::to("depot.weighings").payload(value)).map_err(|(e, _)| e).unwrap();
    }
    producer.flush(Duration::from_secs(60)).unwrap();
}

#[rstest]
fn a_batch_that_unpacks_to_too_much_stops_the_run_and_says_where(
    #[values("gzip", "snappy", "lz4", "zstd")] packing: &str,
) {
    let broker = StandIn::start(&["--topic", "depot.weighings:1"]);
    let project = project(&broker.address, &simple(""));
    broker.command("limit depot.weighings 100000000");
    let producer = producer(&broker.address, packing);
    let small: Vec<Vec<u8>> = (0..200).map(|n| format!("{{\"n\":{n}}}").into_bytes()).collect();
    send(&producer, &small);
    let mut large = br#"{"n":200,"note":""#.to_vec();
    large.resize(150_000_000, b'x');
    large.extend_from_slice(b"\"}");
    send(&producer, &[large]);
    let (_, err) = project.expect(5, RUN);
    assert!(err.contains("depot.weighings/0") && err.contains("offset 200"), "{err}");
    // Nothing is lost: messages before it have landed, and messages after it land once the position is set.
    assert_eq!(landed(&project), 200);
    send(&producer, &small);
    let behind = &["positions", "weighings", "--set", "depot.weighings/0=201", "--reason", "too large", "--yes"];
    project.expect(0, behind);
    project.expect(0, RUN);
    assert_eq!(landed(&project), 400);
}

/// Many batches that are small when packed come in one answer, and are more than may be unpacked at once.
#[rstest]
#[case("gzip", 3)]
#[case("snappy", 1)]
#[case("lz4", 1)]
#[case("zstd", 3)]
fn batches_that_unpack_to_too_much_together_are_read_one_after_the_other(
    #[case] packing: &str,
    #[case] partitions: usize,
) {
    let topic = format!("depot.weighings:{partitions}");
    let broker = StandIn::start(&["--topic", &topic]);
    let project = project(&broker.address, &simple(""));
    broker.command("limit depot.weighings 100000000");
    let producer = producer(&broker.address, packing);
    for n in 0..4 {
        // More than `max_record`: it becomes a reject, and is counted.
        let mut large = format!("{{\"n\":{n},\"note\":\"").into_bytes();
        large.resize(60_000_000, b'x');
        large.extend_from_slice(b"\"}");
        send(&producer, &[format!("{{\"n\":{n}}}").into_bytes()]);
        send(&producer, &[large]);
    }
    project.expect(0, RUN);
    assert_eq!(landed(&project), 4);
    let batches = project.json(&["ledger", "weighings"]);
    let sum =
        |name: &str| batches["batches"].as_array().unwrap().iter().map(|b| b[name].as_u64().unwrap()).sum::<u64>();
    assert_eq!((sum("read"), sum("rejected")), (8, 4));
}

/// How many rows have landed.
fn landed(project: &crate::common::TestProject) -> usize {
    topics::numbers(project, "archive/all").len()
}
