//! Offsets that groups have committed.

use kafka_protocol::messages::offset_commit_response::{OffsetCommitResponsePartition, OffsetCommitResponseTopic};
use kafka_protocol::messages::offset_fetch_response::{OffsetFetchResponsePartition, OffsetFetchResponseTopic};
use kafka_protocol::messages::{
    FindCoordinatorResponse, OffsetCommitRequest, OffsetCommitResponse, OffsetFetchRequest, OffsetFetchResponse,
    TopicName,
};

use super::topics::NODE;
use super::{UNKNOWN, text};
use crate::broker::Shared;
use crate::broker::state::Committed;

/// A transaction that would change the offset has not ended.
const UNSTABLE: i16 = 88;

pub(super) fn coordinator(shared: &Shared) -> FindCoordinatorResponse {
    FindCoordinatorResponse::default()
        .with_node_id(NODE)
        .with_host(text(&shared.host))
        .with_port(i32::from(shared.port))
        .with_error_message(None)
}

pub(super) fn commit(asked: &OffsetCommitRequest, shared: &Shared) -> OffsetCommitResponse {
    let mut state = shared.state();
    let mut topics = Vec::new();
    for topic in &asked.topics {
        let mut partitions = Vec::new();
        for wanted in &topic.partitions {
            let known = state.log(topic.name.as_str(), wanted.partition_index).is_some();
            if known {
                let key =
                    (asked.group_id.as_str().to_string(), topic.name.as_str().to_string(), wanted.partition_index);
                let metadata = wanted.committed_metadata.as_ref().map_or(String::new(), |m| m.as_str().to_string());
                state.committed.insert(key, Committed { offset: wanted.committed_offset, metadata });
            }
            partitions.push(
                OffsetCommitResponsePartition::default()
                    .with_partition_index(wanted.partition_index)
                    .with_error_code(if known { 0 } else { UNKNOWN }),
            );
        }
        topics.push(OffsetCommitResponseTopic::default().with_name(topic.name.clone()).with_partitions(partitions));
    }
    OffsetCommitResponse::default().with_topics(topics)
}

pub(super) fn fetch(asked: &OffsetFetchRequest, shared: &Shared) -> OffsetFetchResponse {
    let state = shared.state();
    let group = asked.group_id.as_str();
    let wanted: Vec<(String, Vec<i32>)> = match &asked.topics {
        Some(topics) => topics.iter().map(|t| (t.name.as_str().to_string(), t.partition_indexes.clone())).collect(),
        None => {
            let mut all: std::collections::BTreeMap<String, Vec<i32>> = std::collections::BTreeMap::new();
            for (_, topic, partition) in state.committed.keys().filter(|(g, ..)| g == group) {
                all.entry(topic.clone()).or_default().push(*partition);
            }
            all.into_iter().collect()
        }
    };
    let mut topics = Vec::new();
    for (topic, numbers) in wanted {
        let one = |number: &i32| {
            let key = (group.to_string(), topic.clone(), *number);
            let answer = OffsetFetchResponsePartition::default().with_partition_index(*number);
            if asked.require_stable && state.is_pending(&key) {
                return answer.with_error_code(UNSTABLE).with_committed_offset(-1);
            }
            match state.committed.get(&key) {
                Some(known) => answer.with_committed_offset(known.offset).with_metadata(Some(text(&known.metadata))),
                None => answer.with_committed_offset(-1).with_metadata(Some(text(""))),
            }
        };
        let partitions = numbers.iter().map(one).collect();
        topics.push(OffsetFetchResponseTopic::default().with_name(TopicName(text(&topic))).with_partitions(partitions));
    }
    OffsetFetchResponse::default().with_topics(topics)
}
