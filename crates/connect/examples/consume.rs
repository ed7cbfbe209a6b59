//! The client library alone: consumes a topic to nothing, for `bench/topic_to_parquet.py` to compare with.
//!
//! `consume HOST:PORT TOPIC PARTITIONS EVENTS` prints seconds, events and bytes.

use std::time::{Duration, Instant};

use rdkafka::ClientConfig;
use rdkafka::consumer::{BaseConsumer, Consumer as _};
use rdkafka::error::KafkaResult;
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};

fn main() -> KafkaResult<()> {
    let arguments: Vec<String> = std::env::args().collect();
    let [_, address, topic, partitions, events] = arguments.as_slice() else {
        eprintln!("consume HOST:PORT TOPIC PARTITIONS EVENTS");
        std::process::exit(2);
    };
    let consumer: BaseConsumer = ClientConfig::new()
        .set("bootstrap.servers", address)
        .set("group.id", "bench")
        .set("enable.auto.commit", "false")
        .set("isolation.level", "read_committed")
        .create()?;
    let mut all = TopicPartitionList::new();
    for partition in 0..partitions.parse().unwrap_or(1) {
        all.add_partition_offset(topic, partition, Offset::Offset(0))?;
    }
    let wanted: u64 = events.parse().unwrap_or(u64::MAX);
    let started = Instant::now();
    consumer.assign(&all)?;
    let (mut count, mut bytes) = (0_u64, 0_u64);
    while count < wanted {
        if let Some(message) = consumer.poll(Duration::from_secs(1)) {
            bytes += message?.payload_len() as u64;
            count += 1;
        }
    }
    println!("{} {count} {bytes}", started.elapsed().as_secs_f64());
    Ok(())
}
