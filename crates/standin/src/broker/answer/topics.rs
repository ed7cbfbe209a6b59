//! Topics: which there are, how they are set up, making and deleting them.

use kafka_protocol::messages::create_partitions_response::CreatePartitionsTopicResult;
use kafka_protocol::messages::create_topics_response::CreatableTopicResult;
use kafka_protocol::messages::delete_topics_response::DeletableTopicResult;
use kafka_protocol::messages::describe_configs_response::{DescribeConfigsResourceResult, DescribeConfigsResult};
use kafka_protocol::messages::metadata_response::{
    MetadataResponseBroker, MetadataResponsePartition, MetadataResponseTopic,
};
use kafka_protocol::messages::{
    BrokerId, CreatePartitionsRequest, CreatePartitionsResponse, CreateTopicsRequest, CreateTopicsResponse,
    DeleteTopicsRequest, DeleteTopicsResponse, DescribeConfigsRequest, DescribeConfigsResponse, MetadataRequest,
    MetadataResponse, TopicName,
};

use super::{UNKNOWN, text};
use crate::broker::Shared;
use crate::broker::log::Log;
use crate::broker::state::{MOST_PARTITIONS, State, TopicConfig};

/// The one node.
pub(super) const NODE: BrokerId = BrokerId(1);

const NO_LEADER: i16 = 5;
const EXISTS: i16 = 36;
const INVALID_PARTITIONS: i16 = 37;

pub(super) fn metadata(asked: &MetadataRequest, shared: &Shared) -> MetadataResponse {
    let mut state = shared.state();
    let named: Option<Vec<String>> = asked
        .topics
        .as_ref()
        .map(|topics| topics.iter().filter_map(|t| t.name.as_ref().map(|n| n.as_str().to_string())).collect());
    // Once, no topic in the list meant all of them; that version is not known here.
    let names = named.unwrap_or_else(|| state.topics.keys().cloned().collect());
    if asked.allow_auto_topic_creation && shared.setup.auto_partitions > 0 {
        for name in &names {
            state.make_topic(name, TopicConfig::of(shared.setup.auto_partitions));
        }
    }
    let broker = MetadataResponseBroker::default()
        .with_node_id(NODE)
        .with_host(text(&shared.host))
        .with_port(i32::from(shared.port));
    let topics = names.iter().map(|name| topic(&state, name)).collect();
    MetadataResponse::default()
        .with_brokers(vec![broker])
        .with_cluster_id(Some(text(&shared.setup.cluster)))
        .with_controller_id(NODE)
        .with_topics(topics)
}

fn topic(state: &State, name: &str) -> MetadataResponseTopic {
    let answer = MetadataResponseTopic::default().with_name(Some(TopicName(text(name))));
    let Some(topic) = state.topics.get(name) else { return answer.with_error_code(UNKNOWN) };
    let partition = |number: usize| {
        // While a partition changes its leader, it has none.
        let moves = topic.logs[number].moves;
        MetadataResponsePartition::default()
            .with_partition_index(i32::try_from(number).unwrap_or(i32::MAX))
            .with_error_code(if moves { NO_LEADER } else { 0 })
            .with_leader_id(if moves { BrokerId(-1) } else { NODE })
            .with_replica_nodes(vec![NODE])
            .with_isr_nodes(vec![NODE])
    };
    answer.with_topic_id(topic.id).with_partitions((0..topic.logs.len()).map(partition).collect())
}

pub(super) fn create(asked: &CreateTopicsRequest, shared: &Shared) -> CreateTopicsResponse {
    let mut state = shared.state();
    let mut topics = Vec::new();
    for wanted in &asked.topics {
        let setting = |name: &str| {
            let found = wanted.configs.iter().find(|c| c.name.as_str() == name)?;
            found.value.as_ref()?.as_str().parse::<i64>().ok()
        };
        let partitions = u32::try_from(wanted.num_partitions).unwrap_or(1).max(1);
        let mut config = TopicConfig::of(partitions);
        config.retention = setting("retention.ms").filter(|ms| *ms >= 0);
        config.compacts = wanted
            .configs
            .iter()
            .any(|c| c.name.as_str() == "cleanup.policy" && c.value.as_ref().is_some_and(|v| v.contains("compact")));
        if let Some(largest) = setting("max.message.bytes").and_then(|n| usize::try_from(n).ok()) {
            config.largest = largest;
        }
        let error = match partitions > MOST_PARTITIONS {
            true => INVALID_PARTITIONS,
            false if asked.validate_only || state.make_topic(wanted.name.as_str(), config) => 0,
            false => EXISTS,
        };
        topics.push(
            CreatableTopicResult::default()
                .with_name(wanted.name.clone())
                .with_error_code(error)
                .with_num_partitions(i32::try_from(partitions).unwrap_or(i32::MAX))
                .with_replication_factor(1)
                .with_configs(Some(Vec::new())),
        );
    }
    CreateTopicsResponse::default().with_topics(topics)
}

pub(super) fn delete(asked: &DeleteTopicsRequest, shared: &Shared) -> DeleteTopicsResponse {
    let mut state = shared.state();
    let mut responses = Vec::new();
    for name in &asked.topic_names {
        let gone = state.topics.remove(name.as_str()).is_some();
        state.committed.retain(|(_, topic, _), _| topic != name.as_str());
        let error = if gone { 0 } else { UNKNOWN };
        responses.push(DeletableTopicResult::default().with_name(Some(name.clone())).with_error_code(error));
    }
    DeleteTopicsResponse::default().with_responses(responses)
}

pub(super) fn grow(asked: &CreatePartitionsRequest, shared: &Shared) -> CreatePartitionsResponse {
    let mut state = shared.state();
    let mut results = Vec::new();
    for wanted in &asked.topics {
        let count = usize::try_from(wanted.count).unwrap_or(0);
        let error = match state.topics.get_mut(wanted.name.as_str()) {
            None => UNKNOWN,
            Some(topic) if count <= topic.logs.len() || count > MOST_PARTITIONS as usize => INVALID_PARTITIONS,
            Some(topic) => {
                topic.logs.resize_with(count, Log::default);
                0
            }
        };
        results.push(CreatePartitionsTopicResult::default().with_name(wanted.name.clone()).with_error_code(error));
    }
    CreatePartitionsResponse::default().with_results(results)
}

pub(super) fn configs(asked: &DescribeConfigsRequest, shared: &Shared) -> DescribeConfigsResponse {
    let state = shared.state();
    let entry = |name: &str, value: String| {
        DescribeConfigsResourceResult::default()
            .with_name(text(name))
            .with_value(Some(text(&value)))
            .with_config_source(5)
    };
    let mut results = Vec::new();
    for wanted in &asked.resources {
        let answer = DescribeConfigsResult::default()
            .with_resource_type(wanted.resource_type)
            .with_resource_name(wanted.resource_name.clone());
        let topic = state.topics.get(wanted.resource_name.as_str()).filter(|_| wanted.resource_type == 2);
        results.push(match topic {
            None => answer.with_error_code(UNKNOWN),
            Some(topic) => answer.with_configs(vec![
                entry("cleanup.policy", if topic.config.compacts { "compact".into() } else { "delete".into() }),
                entry("retention.ms", topic.config.retention.unwrap_or(-1).to_string()),
                entry("max.message.bytes", topic.config.largest.to_string()),
            ]),
        });
    }
    DescribeConfigsResponse::default().with_results(results)
}
