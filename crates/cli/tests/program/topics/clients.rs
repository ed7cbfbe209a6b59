//! The stand-in broker and clients of others: what they read and write over all the calls that it answers must be what was
//! there, also with many topics and partitions.

use std::process::Command;

use crate::common::topics::{StandIn, consume, has, produce};
use rstest::rstest;

/// Each prints one line: how many topics there are, how many partitions the wide one has, what it read of the values `0` to
/// `9`, and the sum of the ends of the partitions.
const CONFLUENT: &str = r#"
import sys
from confluent_kafka import Consumer, TopicPartition
from confluent_kafka.admin import AdminClient
address = sys.argv[1]
found = AdminClient({"bootstrap.servers": address}).list_topics(timeout=20).topics
consumer = Consumer({"bootstrap.servers": address, "group.id": "another", "enable.partition.eof": True})
parts = [TopicPartition("t.7", n, 0) for n in range(3)]
ends = sum(consumer.get_watermark_offsets(p, timeout=10)[1] for p in parts)
consumer.assign(parts)
values, ended = [], 0
while ended < 3:
    message = consumer.poll(10)
    if message.error(): ended += 1
    else: values.append(message.value().decode())
print(len(found), len(found["wide"].partitions), "".join(sorted(values)), ends)
"#;

const KAFKA_PYTHON: &str = r#"
import sys
from kafka import KafkaConsumer, TopicPartition
consumer = KafkaConsumer(bootstrap_servers=sys.argv[1], group_id=None, auto_offset_reset="earliest", consumer_timeout_ms=3000)
topics = consumer.topics()
wide = consumer.partitions_for_topic("wide")
parts = [TopicPartition("t.7", n) for n in range(3)]
ends = sum(consumer.end_offsets(parts).values())
consumer.assign(parts)
consumer.seek_to_beginning()
values = sorted(message.value.decode() for message in consumer)
print(len(topics), len(wide), "".join(values), ends)
"#;

const AIOKAFKA: &str = r#"
import asyncio, sys
from aiokafka import AIOKafkaConsumer, TopicPartition
from aiokafka.admin import AIOKafkaAdminClient
async def main():
    consumer = AIOKafkaConsumer(bootstrap_servers=sys.argv[1], auto_offset_reset="earliest")
    await consumer.start()
    topics = await consumer.topics()
    admin = AIOKafkaAdminClient(bootstrap_servers=sys.argv[1])
    await admin.start()
    wide = (await admin.describe_topics(["wide"]))[0]["partitions"]
    await admin.close()
    parts = [TopicPartition("t.7", n) for n in range(3)]
    consumer.assign(parts)
    ends = sum((await consumer.end_offsets(parts)).values())
    await consumer.seek_to_beginning(*parts)
    values = []
    while len(values) < ends:
        for batch in (await consumer.getmany(timeout_ms=500)).values():
            values += [message.value.decode() for message in batch]
    await consumer.stop()
    print(len(topics), len(wide), "".join(sorted(values)), ends)
asyncio.run(main())
"#;

#[rstest]
#[case::confluent(CONFLUENT)]
#[case::kafka_python(KAFKA_PYTHON)]
#[case::aiokafka(AIOKAFKA)]
fn clients_of_others_see_what_is_there(#[case] script: &str) {
    let Some(python) = std::env::var_os("SLUICE_TEST_PYTHON").filter(|_| has("kcat")) else {
        eprintln!("skipped: SLUICE_TEST_PYTHON is not set");
        return;
    };
    let names: Vec<String> = (0..200).map(|n| format!("t.{n}:3")).chain(["wide:500".to_string()]).collect();
    let arguments: Vec<&str> = names.iter().flat_map(|name| ["--topic", name.as_str()]).collect();
    let broker = StandIn::start(&arguments);
    let lines: String = (0..10).map(|n| format!("key-{n}\t{n}\n")).collect();
    produce(&broker.address, "t.7", &lines, &[]);
    let mut values = consume(&broker.address, "t.7", "%s\\n");
    values.sort();
    assert_eq!(values.concat(), "0123456789");
    let output = Command::new(python).args(["-c", script, &broker.address]).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert_eq!(String::from_utf8(output.stdout).unwrap().trim(), "201 500 0123456789 10", "{said}");
}
