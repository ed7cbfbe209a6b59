//! Idempotent and transactional writers.

use kafka_protocol::messages::add_partitions_to_txn_response::{
    AddPartitionsToTxnPartitionResult, AddPartitionsToTxnTopicResult,
};
use kafka_protocol::messages::txn_offset_commit_response::{
    TxnOffsetCommitResponsePartition, TxnOffsetCommitResponseTopic,
};
use kafka_protocol::messages::{
    AddOffsetsToTxnRequest, AddOffsetsToTxnResponse, AddPartitionsToTxnRequest, AddPartitionsToTxnResponse,
    EndTxnRequest, EndTxnResponse, InitProducerIdRequest, InitProducerIdResponse, TxnOffsetCommitRequest,
    TxnOffsetCommitResponse,
};

use super::{UNKNOWN, code};
use crate::broker::Shared;
use crate::broker::state::Committed;

pub(super) fn begin(asked: &InitProducerIdRequest, shared: &Shared) -> InitProducerIdResponse {
    let mut state = shared.state();
    let known = (asked.producer_id.0, asked.producer_epoch);
    let begun = match &asked.transactional_id {
        Some(id) => state.begin_writer(id.as_str(), asked.transaction_timeout_ms, known),
        None => Ok((state.new_producer(), 0)),
    };
    drop(state);
    shared.news.notify_all();
    match begun {
        Ok((producer, epoch)) => {
            InitProducerIdResponse::default().with_producer_id(producer.into()).with_producer_epoch(epoch)
        }
        Err(error) => InitProducerIdResponse::default().with_error_code(error),
    }
}

pub(super) fn add_partitions(asked: &AddPartitionsToTxnRequest, shared: &Shared) -> AddPartitionsToTxnResponse {
    let mut state = shared.state();
    let id = asked.v3_and_below_transactional_id.as_str();
    let who = (asked.v3_and_below_producer_id.0, asked.v3_and_below_producer_epoch);
    let mut topics = Vec::new();
    for topic in &asked.v3_and_below_topics {
        let name = topic.name.as_str();
        let one = |number: &i32| {
            let error = match state.log(name, *number).is_some() {
                true => code(state.add_partition(id, who, name, *number)),
                false => UNKNOWN,
            };
            AddPartitionsToTxnPartitionResult::default().with_partition_index(*number).with_partition_error_code(error)
        };
        let partitions = topic.partitions.iter().map(one).collect();
        topics.push(
            AddPartitionsToTxnTopicResult::default()
                .with_name(topic.name.clone())
                .with_results_by_partition(partitions),
        );
    }
    AddPartitionsToTxnResponse::default().with_results_by_topic_v3_and_below(topics)
}

pub(super) fn add_offsets(asked: &AddOffsetsToTxnRequest, shared: &Shared) -> AddOffsetsToTxnResponse {
    let who = (asked.producer_id.0, asked.producer_epoch);
    let done = shared.state().add_offsets(asked.transactional_id.as_str(), who);
    AddOffsetsToTxnResponse::default().with_error_code(code(done))
}

pub(super) fn offsets(asked: &TxnOffsetCommitRequest, shared: &Shared) -> TxnOffsetCommitResponse {
    let mut state = shared.state();
    let who = (asked.producer_id.0, asked.producer_epoch);
    let mut topics = Vec::new();
    for topic in &asked.topics {
        let mut partitions = Vec::new();
        for wanted in &topic.partitions {
            let key = (asked.group_id.as_str().to_string(), topic.name.as_str().to_string(), wanted.partition_index);
            let metadata = wanted.committed_metadata.as_ref().map_or(String::new(), |m| m.as_str().to_string());
            let committed = Committed { offset: wanted.committed_offset, metadata };
            let done = state.pend_offset(asked.transactional_id.as_str(), who, key, committed);
            partitions.push(
                TxnOffsetCommitResponsePartition::default()
                    .with_partition_index(wanted.partition_index)
                    .with_error_code(code(done)),
            );
        }
        topics.push(TxnOffsetCommitResponseTopic::default().with_name(topic.name.clone()).with_partitions(partitions));
    }
    TxnOffsetCommitResponse::default().with_topics(topics)
}

pub(super) fn end(asked: &EndTxnRequest, shared: &Shared) -> EndTxnResponse {
    let who = (asked.producer_id.0, asked.producer_epoch);
    let done = shared.state().end_transaction(asked.transactional_id.as_str(), who, asked.committed);
    shared.news.notify_all();
    EndTxnResponse::default().with_error_code(code(done))
}
