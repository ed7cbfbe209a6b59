//! Idempotent and transactional writers.

use kafka_protocol::messages::add_partitions_to_txn_response::{
    AddPartitionsToTxnPartitionResult, AddPartitionsToTxnTopicResult,
};
use kafka_protocol::messages::describe_producers_response::{PartitionResponse, ProducerState, TopicResponse};
use kafka_protocol::messages::list_transactions_response::TransactionState;
use kafka_protocol::messages::txn_offset_commit_response::{
    TxnOffsetCommitResponsePartition, TxnOffsetCommitResponseTopic,
};
use kafka_protocol::messages::{
    AddOffsetsToTxnRequest, AddOffsetsToTxnResponse, AddPartitionsToTxnRequest, AddPartitionsToTxnResponse,
    DescribeProducersRequest, DescribeProducersResponse, EndTxnRequest, EndTxnResponse, InitProducerIdRequest,
    InitProducerIdResponse, ListTransactionsRequest, ListTransactionsResponse, TransactionalId, TxnOffsetCommitRequest,
    TxnOffsetCommitResponse,
};

use super::{UNKNOWN, code, text};
use crate::broker::Shared;
use crate::broker::state::Committed;
use crate::broker::transactions::Transaction;

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

/// Who writes into partitions, and whose transactions are open there.
pub(super) fn producers(asked: &DescribeProducersRequest, shared: &Shared) -> DescribeProducersResponse {
    let mut state = shared.state();
    let mut topics = Vec::new();
    for topic in &asked.topics {
        let mut partitions = Vec::new();
        for number in &topic.partition_indexes {
            let answer = PartitionResponse::default().with_partition_index(*number);
            let one = |(producer, first): (i64, Option<i64>)| {
                ProducerState::default()
                    .with_producer_id(producer.into())
                    .with_current_txn_start_offset(first.unwrap_or(-1))
            };
            partitions.push(match state.log(topic.name.as_str(), *number) {
                Some(log) => answer.with_active_producers(log.producers().map(one).collect()),
                None => answer.with_error_code(UNKNOWN),
            });
        }
        topics.push(TopicResponse::default().with_name(topic.name.clone()).with_partitions(partitions));
    }
    DescribeProducersResponse::default().with_topics(topics)
}

/// The transactions by the names of their writers. Filters by state are not known.
pub(super) fn list(asked: &ListTransactionsRequest, shared: &Shared) -> ListTransactionsResponse {
    let state = shared.state();
    let is_wanted = |producer: i64| {
        asked.producer_id_filters.is_empty() || asked.producer_id_filters.iter().any(|wanted| wanted.0 == producer)
    };
    let found = state.transactions.iter().filter(|(_, writer)| is_wanted(writer.producer));
    let one = |(id, writer): (&String, &Transaction)| {
        TransactionState::default()
            .with_transactional_id(TransactionalId(text(id)))
            .with_producer_id(writer.producer.into())
            .with_transaction_state(text(if writer.is_open() { "Ongoing" } else { "Empty" }))
    };
    ListTransactionsResponse::default().with_transaction_states(found.map(one).collect())
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
