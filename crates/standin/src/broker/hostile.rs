//! Logins, requests, records and commands with damaged bytes: none makes the broker fail, or take memory that was only
//! announced.

use bytes::{Bytes, BytesMut};
use kafka_protocol::messages::create_partitions_request::{CreatePartitionsAssignment, CreatePartitionsTopic};
use kafka_protocol::messages::create_topics_request::{
    CreatableReplicaAssignment, CreatableTopic, CreatableTopicConfig,
};
use kafka_protocol::messages::delete_records_request::{DeleteRecordsPartition, DeleteRecordsTopic};
use kafka_protocol::messages::describe_configs_request::DescribeConfigsResource;
use kafka_protocol::messages::describe_producers_request::TopicRequest;
use kafka_protocol::messages::fetch_request::{FetchPartition, FetchTopic, ForgottenTopic};
use kafka_protocol::messages::list_offsets_request::{ListOffsetsPartition, ListOffsetsTopic};
use kafka_protocol::messages::metadata_request::MetadataRequestTopic;
use kafka_protocol::messages::offset_commit_request::{OffsetCommitRequestPartition, OffsetCommitRequestTopic};
use kafka_protocol::messages::offset_fetch_request::OffsetFetchRequestTopic;
use kafka_protocol::messages::produce_request::{PartitionProduceData, TopicProduceData};
use kafka_protocol::messages::txn_offset_commit_request::{
    TxnOffsetCommitRequestPartition, TxnOffsetCommitRequestTopic,
};
use kafka_protocol::messages::{
    AddOffsetsToTxnRequest, AddPartitionsToTxnRequest, ApiKey, ApiVersionsRequest, BrokerId, CreatePartitionsRequest,
    CreateTopicsRequest, DeleteRecordsRequest, DeleteTopicsRequest, DescribeConfigsRequest, DescribeProducersRequest,
    EndTxnRequest, FetchRequest, FindCoordinatorRequest, GroupId, InitProducerIdRequest, ListOffsetsRequest,
    ListTransactionsRequest, MetadataRequest, OffsetCommitRequest, OffsetFetchRequest, ProduceRequest, ProducerId,
    RequestHeader, SaslAuthenticateRequest, SaslHandshakeRequest, TopicName, TransactionalId, TxnOffsetCommitRequest,
    add_partitions_to_txn_request::AddPartitionsToTxnTopic,
};
use kafka_protocol::protocol::{Encodable, StrBytes};
use std::time::Duration;

use super::login::Login;
use super::wire::{Session, respond};
use super::{Broker, Setup, TopicConfig, answer, log, shapes};
use crate::mutate::attack;

fn text(text: &'static str) -> StrBytes {
    StrBytes::from_static_str(text)
}

fn topic() -> TopicName {
    TopicName(text("lock.passages"))
}

fn id() -> TransactionalId {
    TransactionalId(text("writer"))
}

fn body<T: Encodable>(request: &T, version: i16) -> Vec<u8> {
    let mut bytes = BytesMut::new();
    request.encode(&mut bytes, version).unwrap();
    bytes.to_vec()
}

/// A request of this kind with something in each of its lists.
fn sample(key: ApiKey, version: i16) -> Vec<u8> {
    let v = version;
    match key {
        ApiKey::Produce => {
            let data = PartitionProduceData::default().with_records(Some(log::batch(3)));
            let topic = TopicProduceData::default().with_name(topic()).with_partition_data(vec![data]);
            body(&ProduceRequest::default().with_acks(1).with_topic_data(vec![topic]), v)
        }
        ApiKey::Fetch => {
            let part = FetchPartition::default().with_partition_max_bytes(1 << 20);
            let parts = vec![part.clone(), part.with_partition(1)];
            let request = FetchRequest::default()
                .with_topics(vec![FetchTopic::default().with_topic(topic()).with_partitions(parts)]);
            let forgotten = ForgottenTopic::default().with_topic(topic()).with_partitions(vec![1, 2]);
            body(&if v >= 7 { request.with_forgotten_topics_data(vec![forgotten]) } else { request }, v)
        }
        ApiKey::ListOffsets => {
            let part = ListOffsetsPartition::default().with_timestamp(-1);
            let topic = ListOffsetsTopic::default().with_name(topic()).with_partitions(vec![part.clone(), part]);
            body(&ListOffsetsRequest::default().with_topics(vec![topic]), v)
        }
        ApiKey::Metadata => {
            let topic = MetadataRequestTopic::default().with_name(Some(topic()));
            body(&MetadataRequest::default().with_topics(Some(vec![topic])), v)
        }
        ApiKey::OffsetCommit => {
            let part = OffsetCommitRequestPartition::default().with_committed_metadata(Some(text("batch 1")));
            let topic =
                OffsetCommitRequestTopic::default().with_name(topic()).with_partitions(vec![part.clone(), part]);
            body(&OffsetCommitRequest::default().with_group_id(GroupId(text("sluice"))).with_topics(vec![topic]), v)
        }
        ApiKey::OffsetFetch => {
            let topic = OffsetFetchRequestTopic::default().with_name(topic()).with_partition_indexes(vec![0, 1]);
            body(
                &OffsetFetchRequest::default().with_group_id(GroupId(text("sluice"))).with_topics(Some(vec![topic])),
                v,
            )
        }
        ApiKey::FindCoordinator => body(&FindCoordinatorRequest::default().with_key(text("sluice")), v),
        ApiKey::SaslHandshake => body(&SaslHandshakeRequest::default().with_mechanism(text("PLAIN")), v),
        ApiKey::SaslAuthenticate => {
            body(&SaslAuthenticateRequest::default().with_auth_bytes(Bytes::from_static(b"\0sluice\0gate-7")), v)
        }
        ApiKey::ApiVersions if v < 3 => body(&ApiVersionsRequest::default(), v),
        ApiKey::ApiVersions => body(&ApiVersionsRequest::default().with_client_software_name(text("sluice")), v),
        ApiKey::CreateTopics => {
            let config = CreatableTopicConfig::default().with_name(text("retention.ms")).with_value(Some(text("1000")));
            let assigned = CreatableReplicaAssignment::default().with_broker_ids(vec![BrokerId(1), BrokerId(2)]);
            let topic = CreatableTopic::default()
                .with_name(TopicName(text("depot.tolls")))
                .with_num_partitions(2)
                .with_assignments(vec![assigned])
                .with_configs(vec![config]);
            body(&CreateTopicsRequest::default().with_topics(vec![topic]), v)
        }
        ApiKey::DeleteTopics => {
            body(&DeleteTopicsRequest::default().with_topic_names(vec![TopicName(text("depot.tolls"))]), v)
        }
        ApiKey::DeleteRecords => {
            let parts = vec![DeleteRecordsPartition::default().with_offset(1); 2];
            let topic = DeleteRecordsTopic::default().with_name(topic()).with_partitions(parts);
            body(&DeleteRecordsRequest::default().with_topics(vec![topic]), v)
        }
        ApiKey::InitProducerId => body(&InitProducerIdRequest::default().with_transactional_id(Some(id())), v),
        ApiKey::AddPartitionsToTxn => {
            let topic = AddPartitionsToTxnTopic::default().with_name(topic()).with_partitions(vec![0, 1]);
            let request = AddPartitionsToTxnRequest::default().with_v3_and_below_transactional_id(id());
            body(&request.with_v3_and_below_topics(vec![topic]), v)
        }
        ApiKey::AddOffsetsToTxn => {
            let request = AddOffsetsToTxnRequest::default().with_transactional_id(id());
            body(&request.with_group_id(GroupId(text("sluice"))), v)
        }
        ApiKey::EndTxn => body(&EndTxnRequest::default().with_transactional_id(id()).with_committed(true), v),
        ApiKey::TxnOffsetCommit => {
            let part = TxnOffsetCommitRequestPartition::default().with_committed_metadata(Some(text("batch 1")));
            let topic = TxnOffsetCommitRequestTopic::default().with_name(topic()).with_partitions(vec![part]);
            body(&TxnOffsetCommitRequest::default().with_transactional_id(id()).with_topics(vec![topic]), v)
        }
        ApiKey::DescribeConfigs => {
            let resource = DescribeConfigsResource::default().with_resource_type(2).with_resource_name(topic().0);
            let resource = resource.with_configuration_keys(Some(vec![text("retention.ms"), text("cleanup.policy")]));
            body(&DescribeConfigsRequest::default().with_resources(vec![resource]), v)
        }
        ApiKey::CreatePartitions => {
            let assigned = CreatePartitionsAssignment::default().with_broker_ids(vec![BrokerId(1)]);
            let topic = CreatePartitionsTopic::default()
                .with_name(topic())
                .with_count(3)
                .with_assignments(Some(vec![assigned]));
            body(&CreatePartitionsRequest::default().with_topics(vec![topic]), v)
        }
        ApiKey::DescribeProducers => {
            let topic = TopicRequest::default().with_name(topic()).with_partition_indexes(vec![0, 1]);
            body(&DescribeProducersRequest::default().with_topics(vec![topic]), v)
        }
        ApiKey::ListTransactions => {
            let request = ListTransactionsRequest::default().with_state_filters(vec![text("Ongoing")]);
            body(&request.with_producer_id_filters(vec![ProducerId(1), ProducerId(2)]), v)
        }
        other => panic!("no sample of {other:?}"),
    }
}

/// Every kind of request in every version that is known.
fn samples() -> impl Iterator<Item = (ApiKey, i16, Vec<u8>)> {
    let all = answer::VERSIONS.iter().flat_map(|(key, min, max)| (*min..=*max).map(|v| (*key, v)));
    all.map(|(key, version)| (key, version, sample(key, version)))
}

#[test]
fn every_request_has_its_shape() {
    for (key, version, body) in samples() {
        assert_eq!(shapes::length(key, version, &body), Some(body.len()), "{key:?} {version}");
        for end in 0..body.len() {
            assert_eq!(shapes::length(key, version, &body[..end]), None, "{key:?} {version}, {end} of {}", body.len());
        }
    }
}

#[test]
fn damaged_requests() {
    let wait = Some(Duration::from_millis(1));
    let setup =
        Setup { topics: vec![("lock.passages".into(), TopicConfig::of(2))], longest_wait: wait, ..Setup::default() };
    let broker = Broker::start(setup).unwrap();
    let framed = |(key, version, body): (ApiKey, i16, Vec<u8>)| {
        let header = RequestHeader::default().with_request_api_key(key as i16).with_request_api_version(version);
        let mut bytes = BytesMut::new();
        header.with_client_id(Some(text("sluice"))).encode(&mut bytes, key.request_header_version(version)).unwrap();
        bytes.extend_from_slice(&body);
        bytes.to_vec()
    };
    let good: Vec<Vec<u8>> = samples().map(framed).collect();
    let mut answered = 0;
    attack(&good, |bytes| {
        let mut session = Session { known: true, login: None };
        answered += u64::from(respond(bytes.to_vec().into(), &broker.shared, &mut session).is_ok());
        // What may have been made is not to grow.
        if answered % 1_000 == 0 {
            broker.shared.state().topics.retain(|name, _| name == "lock.passages");
        }
    });
    assert!(answered > 1_000, "{answered} requests were good enough");
}

#[test]
fn damaged_records() {
    let good: Vec<Vec<u8>> = [1, 3, 40].map(|count| log::batch(count).to_vec()).into();
    let mut taken = 0;
    attack(&good, |bytes| {
        let mut log = log::Log::default();
        taken += u64::from(log.append(bytes.to_vec().into()).is_ok());
        // What reads its records: a search by time, and compaction.
        log.at_time(0);
        log.compact();
        assert!(log.end >= 0 && log.start <= log.end);
    });
    assert!(taken > 10, "{taken} batches were good enough");
}

#[test]
fn damaged_logins() {
    let known = ("sluice".to_string(), "gate-7".to_string());
    let good: Vec<Vec<u8>> =
        ["\0sluice\0gate-7", "n,,n=sluice,r=nonce", "c=biws,r=nonceABC,p=cHJvb2Y=", "y,a=x,n=a=2Cb,r=é"]
            .map(|text| text.as_bytes().to_vec())
            .into();
    for mechanism in ["PLAIN", "SCRAM-SHA-256", "SCRAM-SHA-512"] {
        attack(&good, |bytes| {
            let mut login = Login::begin(mechanism).unwrap();
            for _ in 0..2 {
                let step = login.step(bytes, &known);
                // An identity to act as may stand before the user (RFC 4616).
                let right = b"\0sluice\0gate-7";
                let is_right = mechanism == "PLAIN" && bytes.windows(right.len()).any(|part| part == right);
                assert!(is_right || step.is_none_or(|step| !step.known), "known by {}", bytes.escape_ascii());
            }
        });
    }
}

#[test]
fn damaged_commands() {
    let setup = Setup { topics: vec![("lock.passages".into(), TopicConfig::of(2))], ..Setup::default() };
    let broker = Broker::start(setup).unwrap();
    let good: Vec<Vec<u8>> = [
        "recreate lock.passages",
        "expire lock.passages 0 18446744073709551615",
        "compact lock.passages",
        "limit lock.passages -1",
        "move lock.passages 7",
        "moved lock.passages 0",
        "delay 0",
        "cut",
        "refuse 1",
        "speak",
        "twice 99999999999999999999",
        "ends lock.passages",
    ]
    .map(|text| text.as_bytes().to_vec())
    .into();
    let mut done = 0;
    attack(&good, |bytes| done += u64::from(broker.command(&String::from_utf8_lossy(bytes)).is_ok()));
    assert!(done > 10, "{done} commands were good enough");
}
