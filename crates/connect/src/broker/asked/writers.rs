//! Whose transactions are open in partitions: `DescribeProducers` and `ListTransactions` (KIP-664 of Apache Kafka).

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use rdkafka::consumer::Consumer as _;
use sluice_core::kinds::TransactionWriter;

use super::fields::{Body, Fields};
use super::session::Session;
use crate::broker::{Broker, Consumer};

const DESCRIBE_PRODUCERS: i16 = 61;
const LIST_TRANSACTIONS: i16 = 66;

/// How long is waited for all brokers together.
const PATIENCE: Duration = Duration::from_secs(3);

/// Of a partition, no more writers are kept: a message names the first ones.
const MOST_WRITERS: usize = 20;

/// The writers with open transactions in each of the partitions that were asked about, the oldest transaction first.
pub(crate) type PartitionWriters = Vec<Vec<TransactionWriter>>;

/// A broker, and the places of the partitions that it leads among those that were asked about.
struct Leader {
    host: String,
    port: u16,
    partitions: Vec<usize>,
}

/// Asks who has open transactions in partitions. Where brokers do not know that question, do not answer it in time, or we
/// have no right to ask it, nobody is named.
pub(crate) fn open_writers(broker: &Broker, client: &Consumer, partitions: &[(&str, i32)]) -> PartitionWriters {
    let mut found = vec![Vec::new(); partitions.len()];
    if partitions.is_empty() {
        return found;
    }
    let until = Instant::now() + PATIENCE;
    let config = broker.config();
    let Ok(metadata) = client.fetch_metadata(None, PATIENCE) else { return found };
    let mut leaders: BTreeMap<i32, Leader> = metadata
        .brokers()
        .iter()
        .filter_map(|b| {
            let port = u16::try_from(b.port()).ok()?;
            Some((b.id(), Leader { host: b.host().to_string(), port, partitions: Vec::new() }))
        })
        .collect();
    for (place, (topic, number)) in partitions.iter().enumerate() {
        let topic = metadata.topics().iter().find(|t| t.name() == *topic);
        let partition = topic.and_then(|t| t.partitions().iter().find(|p| p.id() == *number));
        if let Some(leader) = partition.and_then(|p| leaders.get_mut(&p.leader())) {
            leader.partitions.push(place);
        }
    }
    let mut sessions = Vec::new();
    for leader in leaders.values() {
        let Some(mut session) = Session::open(&config, &leader.host, leader.port, until) else { continue };
        if !leader.partitions.is_empty() && session.knows(DESCRIBE_PRODUCERS, 0) {
            let asked: Vec<(&str, i32)> = leader.partitions.iter().map(|place| partitions[*place]).collect();
            let answer = session.ask(DESCRIBE_PRODUCERS, 0, true, &describe(&asked));
            let reported = answer.and_then(|answer| described(&answer)).unwrap_or_default();
            for place in &leader.partitions {
                let (topic, number) = partitions[*place];
                found[*place] = reported.get(&(topic.to_string(), number)).cloned().unwrap_or_default();
            }
        }
        sessions.push(session);
    }
    let ids: Vec<i64> = found.iter().flatten().map(|writer| writer.producer_id).collect();
    let mut names = BTreeMap::new();
    // One of the brokers coordinates each transaction. Which one follows from its name, which is not known yet: all are asked.
    for session in sessions.iter_mut().filter(|s| !ids.is_empty() && s.knows(LIST_TRANSACTIONS, 0)) {
        if let Some(answer) = session.ask(LIST_TRANSACTIONS, 0, true, &list(&ids)) {
            listed(&answer, &mut names);
        }
    }
    for writer in found.iter_mut().flatten() {
        writer.transactional_id = names.get(&writer.producer_id).cloned();
    }
    found
}

fn describe(partitions: &[(&str, i32)]) -> Body {
    let mut topics: BTreeMap<&str, Vec<i32>> = BTreeMap::new();
    for (topic, number) in partitions {
        topics.entry(topic).or_default().push(*number);
    }
    let mut body = Body::default().packed_length(topics.len());
    for (topic, numbers) in topics {
        body = body.packed_text(topic).packed_length(numbers.len());
        body = numbers.into_iter().fold(body, Body::int).no_tags();
    }
    body.no_tags()
}

/// The writers by partition that an answer reports.
fn described(answer: &[u8]) -> Option<BTreeMap<(String, i32), Vec<TransactionWriter>>> {
    let mut found = BTreeMap::new();
    let mut fields = Fields(answer);
    fields.int()?;
    fields.packed_list(|fields| {
        let topic = fields.packed_text()?;
        fields.packed_list(|fields| {
            let (number, _error) = (fields.int()?, fields.short()?);
            fields.packed_text()?;
            let mut open = Vec::new();
            fields.packed_list(|fields| {
                let producer = fields.long()?;
                let (_epoch, _sequence, _time, _coordinator) =
                    (fields.int()?, fields.int()?, fields.long()?, fields.int()?);
                let first = fields.long()?;
                fields.tags()?;
                if first >= 0 {
                    open.push((first, producer));
                }
                Some(())
            })?;
            open.sort_unstable();
            let writers = open.into_iter().take(MOST_WRITERS);
            let writer = |(_, producer_id)| TransactionWriter { producer_id, transactional_id: None };
            found.insert((topic.clone(), number), writers.map(writer).collect());
            fields.tags()
        })?;
        fields.tags()
    })?;
    Some(found)
}

fn list(producers: &[i64]) -> Body {
    let body = Body::default().packed_length(0).packed_length(producers.len());
    producers.iter().copied().fold(body, Body::long).no_tags()
}

/// Adds the names of writers that an answer reports.
fn listed(answer: &[u8], names: &mut BTreeMap<i64, String>) -> Option<()> {
    let mut fields = Fields(answer);
    fields.int()?;
    fields.short().filter(|error| *error == 0)?;
    fields.packed_list(|fields| fields.packed_text().map(drop))?;
    fields.packed_list(|fields| {
        let name = fields.packed_text()?;
        names.insert(fields.long()?, name);
        fields.packed_text()?;
        fields.tags()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// One partition with two writers, one of which has nothing open, and one that the broker does not lead.
    fn answer() -> Vec<u8> {
        let writer = |body: Body, producer: i64, first: i64| {
            body.long(producer).int(0).int(5).long(1_760_000_000_000).int(0).long(first).no_tags()
        };
        let body = Body::default().int(0).packed_length(1).packed_text("depot.weighings").packed_length(2);
        let mut body = body.int(0);
        body.0.extend_from_slice(&0_i16.to_be_bytes());
        let body = writer(writer(writer(body.packed_length(0).packed_length(3), 7, 40), 8, -1), 9, 12);
        let mut body = body.no_tags().int(1);
        body.0.extend_from_slice(&6_i16.to_be_bytes());
        body.packed_text("elsewhere").packed_length(0).no_tags().no_tags().no_tags().0
    }

    #[test]
    fn writers_with_open_transactions_are_found_the_oldest_first() {
        let found = described(&answer()).unwrap();
        let ids = |number: i32| -> Vec<i64> {
            found[&("depot.weighings".to_string(), number)].iter().map(|w| w.producer_id).collect()
        };
        assert_eq!(ids(0), [9, 7]);
        assert_eq!(ids(1), [0_i64; 0]);
    }

    #[test]
    fn a_shortened_answer_names_nobody() {
        let whole = answer();
        for end in 0..whole.len() - 1 {
            assert!(described(&whole[..end]).is_none(), "{end}");
        }
    }

    #[test]
    fn damaged_answers_never_panic() {
        let whole = answer();
        for place in 0..whole.len() {
            for value in [0, 1, 0x7f, 0x80, 0xff] {
                let mut damaged = whole.clone();
                damaged[place] = value;
                let _ = described(&damaged);
                let _ = listed(&damaged, &mut BTreeMap::new());
            }
        }
    }
}
