//! Writing and reading records.

use std::time::{Duration, Instant};

use bytes::BytesMut;
use kafka_protocol::messages::delete_records_response::{DeleteRecordsPartitionResult, DeleteRecordsTopicResult};
use kafka_protocol::messages::fetch_request::FetchPartition;
use kafka_protocol::messages::fetch_response::{AbortedTransaction, FetchableTopicResponse, PartitionData};
use kafka_protocol::messages::list_offsets_response::{ListOffsetsPartitionResponse, ListOffsetsTopicResponse};
use kafka_protocol::messages::produce_response::{PartitionProduceResponse, TopicProduceResponse};
use kafka_protocol::messages::{
    DeleteRecordsRequest, DeleteRecordsResponse, FetchRequest, FetchResponse, ListOffsetsRequest, ListOffsetsResponse,
    ProduceRequest, ProduceResponse,
};

use super::{Result, UNKNOWN, encode};
use crate::broker::Shared;
use crate::broker::log::{BatchHead, Log, Refused};
use crate::broker::state::State;

/// The partition is led by another node.
const NOT_LEADER: i16 = 6;

/// The batch is larger than the topic takes.
const TOO_LARGE: i16 = 10;

/// An offset that is not there.
const OUT_OF_RANGE: i16 = 1;

pub(super) fn produce(asked: &ProduceRequest, version: i16, shared: &Shared, into: &mut BytesMut) -> Result<bool> {
    let mut state = shared.state();
    let id = asked.transactional_id.as_ref().map(|id| id.as_str().to_string());
    let mut responses = Vec::new();
    for topic in &asked.topic_data {
        let one = |data: &kafka_protocol::messages::produce_request::PartitionProduceData| {
            let bytes = data.records.clone().unwrap_or_default();
            let done = write(&mut state, id.as_deref(), topic.name.as_str(), data.index, bytes);
            let (error, offset) = match done {
                Ok(offset) => (0, offset),
                Err(error) => (error, -1),
            };
            PartitionProduceResponse::default()
                .with_index(data.index)
                .with_error_code(error)
                .with_base_offset(offset)
                .with_log_append_time_ms(-1)
                .with_log_start_offset(0)
        };
        let partitions = topic.partition_data.iter().map(one).collect();
        responses
            .push(TopicProduceResponse::default().with_name(topic.name.clone()).with_partition_responses(partitions));
    }
    drop(state);
    shared.news.notify_all();
    if asked.acks == 0 {
        return Ok(false);
    }
    encode(&ProduceResponse::default().with_responses(responses), version, into)?;
    Ok(true)
}

fn write(
    state: &mut State,
    id: Option<&str>,
    topic: &str,
    partition: i32,
    bytes: bytes::Bytes,
) -> std::result::Result<i64, i16> {
    let refused = |refused: Refused| refused as i16;
    let head = BatchHead::read(&bytes).ok_or(refused(Refused::Corrupt))?;
    if head.transactional {
        state.may_write(id, head.producer, head.epoch)?;
    }
    let largest = state.topics.get(topic).ok_or(UNKNOWN)?.config.largest;
    let log = state.log(topic, partition).ok_or(UNKNOWN)?;
    if log.moves {
        return Err(NOT_LEADER);
    }
    if bytes.len() > largest {
        return Err(TOO_LARGE);
    }
    log.append(bytes).map_err(refused)
}

pub(super) fn fetch(asked: &FetchRequest, shared: &Shared) -> FetchResponse {
    let longest = shared.setup.longest_wait.unwrap_or(Duration::from_secs(30));
    let patience = Duration::from_millis(u64::try_from(asked.max_wait_ms).unwrap_or(0)).min(longest);
    let started = Instant::now();
    let mut state = shared.state();
    loop {
        let (answer, has_news) = look(&mut state, asked);
        let left = patience.saturating_sub(started.elapsed());
        if has_news || left.is_zero() {
            return answer;
        }
        let waited = shared.news.wait_timeout(state, left);
        state = waited.unwrap_or_else(std::sync::PoisonError::into_inner).0;
    }
}

/// The answer to a fetch as things are, and whether there is anything in it.
fn look(state: &mut State, asked: &FetchRequest) -> (FetchResponse, bool) {
    let mut left = usize::try_from(asked.max_bytes).unwrap_or(0);
    let mut has_news = false;
    let mut responses = Vec::new();
    for topic in &asked.topics {
        let one = |wanted: &FetchPartition| {
            let data = PartitionData::default().with_partition_index(wanted.partition);
            let Some(log) = state.log(topic.topic.as_str(), wanted.partition) else {
                has_news = true;
                return data.with_error_code(UNKNOWN).with_high_watermark(-1);
            };
            let data = read(log, data, wanted, asked.isolation_level == 1, &mut left);
            has_news |= data.error_code != 0 || data.records.as_ref().is_some_and(|r| !r.is_empty());
            data
        };
        let partitions = topic.partitions.iter().map(one).collect();
        responses.push(FetchableTopicResponse::default().with_topic(topic.topic.clone()).with_partitions(partitions));
    }
    (FetchResponse::default().with_responses(responses), has_news)
}

fn read(
    log: &mut Log,
    data: PartitionData,
    wanted: &FetchPartition,
    committed: bool,
    left: &mut usize,
) -> PartitionData {
    if log.moves {
        return data.with_error_code(NOT_LEADER).with_high_watermark(-1);
    }
    let data = data
        .with_high_watermark(log.reported_end())
        .with_last_stable_offset(log.stable())
        .with_log_start_offset(log.start)
        .with_records(Some(bytes::Bytes::new()));
    if wanted.fetch_offset < log.start || wanted.fetch_offset > log.reported_end() {
        log.was_missed = true;
        return data.with_error_code(OUT_OF_RANGE);
    }
    let to = if committed { log.stable() } else { log.reported_end() };
    let room = usize::try_from(wanted.partition_max_bytes).unwrap_or(0).min(*left);
    if room == 0 {
        return data;
    }
    let batches = log.read(wanted.fetch_offset, to, room);
    let mut records = BytesMut::with_capacity(batches.iter().map(bytes::Bytes::len).sum());
    batches.iter().for_each(|b| records.extend_from_slice(b));
    *left = left.saturating_sub(records.len());
    let one = |a: &crate::broker::log::Aborted| {
        AbortedTransaction::default().with_producer_id(a.producer.into()).with_first_offset(a.first)
    };
    let aborted = committed.then(|| log.aborted(wanted.fetch_offset, to).map(one).collect());
    data.with_records(Some(records.freeze())).with_aborted_transactions(aborted)
}

pub(super) fn list(asked: &ListOffsetsRequest, shared: &Shared) -> ListOffsetsResponse {
    let mut state = shared.state();
    state.tidy();
    let mut topics = Vec::new();
    for topic in &asked.topics {
        let mut partitions = Vec::new();
        for wanted in &topic.partitions {
            let answer = ListOffsetsPartitionResponse::default().with_partition_index(wanted.partition_index);
            let Some(log) = state.log(topic.name.as_str(), wanted.partition_index) else {
                partitions.push(answer.with_error_code(UNKNOWN));
                continue;
            };
            if log.moves {
                partitions.push(answer.with_error_code(NOT_LEADER));
                continue;
            }
            if wanted.timestamp == -1 {
                log.is_asked();
            }
            let latest = if asked.isolation_level == 1 { log.stable() } else { log.reported_end() };
            let latest = log.understates.map_or(latest, |end| end.min(latest));
            let (offset, time) = match wanted.timestamp {
                -2 => (log.start, -1),
                -1 => (latest, -1),
                time => log.at_time(time).filter(|(offset, _)| *offset < latest).unwrap_or((-1, -1)),
            };
            partitions.push(answer.with_offset(offset).with_timestamp(time));
        }
        topics.push(ListOffsetsTopicResponse::default().with_name(topic.name.clone()).with_partitions(partitions));
    }
    ListOffsetsResponse::default().with_topics(topics)
}

pub(super) fn delete(asked: &DeleteRecordsRequest, shared: &Shared) -> DeleteRecordsResponse {
    let mut state = shared.state();
    let mut topics = Vec::new();
    for topic in &asked.topics {
        let one = |wanted: &kafka_protocol::messages::delete_records_request::DeleteRecordsPartition| {
            let answer = DeleteRecordsPartitionResult::default().with_partition_index(wanted.partition_index);
            let Some(log) = state.log(topic.name.as_str(), wanted.partition_index) else {
                return answer.with_error_code(UNKNOWN);
            };
            log.delete_before(if wanted.offset < 0 { log.end } else { wanted.offset });
            answer.with_low_watermark(log.start)
        };
        let partitions = topic.partitions.iter().map(one).collect();
        topics.push(DeleteRecordsTopicResult::default().with_name(topic.name.clone()).with_partitions(partitions));
    }
    DeleteRecordsResponse::default().with_topics(topics)
}
