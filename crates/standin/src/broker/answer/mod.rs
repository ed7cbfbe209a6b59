//! What the broker answers, one request after the other.

mod groups;
mod records;
mod topics;
mod writers;

use bytes::{Bytes, BytesMut};
use kafka_protocol::messages::api_versions_response::ApiVersion;
use kafka_protocol::messages::{
    ApiKey, ApiVersionsResponse, SaslAuthenticateRequest, SaslAuthenticateResponse, SaslHandshakeRequest,
    SaslHandshakeResponse,
};
use kafka_protocol::protocol::{Decodable, Encodable, StrBytes};

use super::Shared;
use super::login::Login;
use super::wire::Session;

/// Requests that are known, each with its oldest and newest version.
pub(super) const VERSIONS: &[(ApiKey, i16, i16)] = &[
    (ApiKey::Produce, 3, 9),
    (ApiKey::Fetch, 4, 11),
    (ApiKey::ListOffsets, 1, 6),
    // Not 9: librdkafka 2.3 makes room for an answer by its length, which is too little for many topics with short names
    // in the packed form of version 9 (without the ids of version 10).
    (ApiKey::Metadata, 1, 8),
    (ApiKey::OffsetCommit, 2, 8),
    (ApiKey::OffsetFetch, 1, 7),
    (ApiKey::FindCoordinator, 0, 3),
    (ApiKey::SaslHandshake, 0, 1),
    (ApiKey::ApiVersions, 0, 3),
    (ApiKey::CreateTopics, 2, 7),
    (ApiKey::DeleteTopics, 1, 5),
    (ApiKey::DeleteRecords, 0, 2),
    (ApiKey::InitProducerId, 0, 4),
    (ApiKey::AddPartitionsToTxn, 0, 3),
    (ApiKey::AddOffsetsToTxn, 0, 3),
    (ApiKey::EndTxn, 0, 3),
    (ApiKey::TxnOffsetCommit, 0, 3),
    (ApiKey::DescribeConfigs, 1, 4),
    (ApiKey::SaslAuthenticate, 0, 2),
    (ApiKey::CreatePartitions, 0, 3),
    (ApiKey::DescribeProducers, 0, 0),
    (ApiKey::ListTransactions, 0, 0),
];

/// A topic or partition that is not there.
const UNKNOWN: i16 = 3;

/// What goes wrong with bytes: the connection ends.
pub(super) type Result<T> = std::result::Result<T, Box<dyn std::error::Error + Send + Sync>>;

/// Text for an answer.
fn text(text: &str) -> StrBytes {
    StrBytes::from_string(text.to_string())
}

fn decode<T: Decodable>(mut bytes: Bytes, version: i16) -> Result<T> {
    T::decode(&mut bytes, version).map_err(Into::into)
}

fn encode<T: Encodable>(answer: &T, version: i16, into: &mut BytesMut) -> Result<()> {
    answer.encode(into, version).map_err(Into::into)
}

fn code(done: std::result::Result<(), i16>) -> i16 {
    done.err().unwrap_or(0)
}

/// Writes the answer to a request; false where none is wanted.
pub(super) fn answer(
    key: ApiKey,
    version: i16,
    request: Bytes,
    shared: &Shared,
    session: &mut Session,
    into: &mut BytesMut,
) -> Result<bool> {
    match key {
        ApiKey::ApiVersions => versions(version, 0, into)?,
        ApiKey::SaslHandshake => {
            let asked: SaslHandshakeRequest = decode(request, version)?;
            session.login = Login::begin(asked.mechanism.as_str());
            let answer = SaslHandshakeResponse::default()
                .with_error_code(if session.login.is_some() { 0 } else { 33 })
                .with_mechanisms(Login::MECHANISMS.iter().map(|m| text(m)).collect());
            encode(&answer, version, into)?;
        }
        ApiKey::SaslAuthenticate => {
            let asked: SaslAuthenticateRequest = decode(request, version)?;
            let step = match (&mut session.login, &shared.setup.login) {
                (Some(login), Some(known)) => login.step(&asked.auth_bytes, known),
                _ => None,
            };
            let answer = SaslAuthenticateResponse::default();
            let answer = match step {
                Some(step) => {
                    session.known = step.known;
                    answer.with_auth_bytes(step.answer.into())
                }
                None => answer.with_error_code(58).with_error_message(Some(text("who is that?"))),
            };
            encode(&answer, version, into)?;
        }
        ApiKey::Produce => return records::produce(&decode(request, version)?, version, shared, into),
        ApiKey::Fetch => encode(&records::fetch(&decode(request, version)?, shared), version, into)?,
        ApiKey::ListOffsets => encode(&records::list(&decode(request, version)?, shared), version, into)?,
        ApiKey::DeleteRecords => encode(&records::delete(&decode(request, version)?, shared), version, into)?,
        ApiKey::Metadata => encode(&topics::metadata(&decode(request, version)?, shared), version, into)?,
        ApiKey::CreateTopics => encode(&topics::create(&decode(request, version)?, shared), version, into)?,
        ApiKey::DeleteTopics => encode(&topics::delete(&decode(request, version)?, shared), version, into)?,
        ApiKey::CreatePartitions => encode(&topics::grow(&decode(request, version)?, shared), version, into)?,
        ApiKey::DescribeConfigs => encode(&topics::configs(&decode(request, version)?, shared), version, into)?,
        ApiKey::FindCoordinator => encode(&groups::coordinator(shared), version, into)?,
        ApiKey::OffsetCommit => encode(&groups::commit(&decode(request, version)?, shared), version, into)?,
        ApiKey::OffsetFetch => encode(&groups::fetch(&decode(request, version)?, shared), version, into)?,
        ApiKey::InitProducerId => encode(&writers::begin(&decode(request, version)?, shared), version, into)?,
        ApiKey::AddPartitionsToTxn => {
            encode(&writers::add_partitions(&decode(request, version)?, shared), version, into)?;
        }
        ApiKey::AddOffsetsToTxn => encode(&writers::add_offsets(&decode(request, version)?, shared), version, into)?,
        ApiKey::TxnOffsetCommit => encode(&writers::offsets(&decode(request, version)?, shared), version, into)?,
        ApiKey::DescribeProducers => encode(&writers::producers(&decode(request, version)?, shared), version, into)?,
        ApiKey::ListTransactions => encode(&writers::list(&decode(request, version)?, shared), version, into)?,
        ApiKey::EndTxn => encode(&writers::end(&decode(request, version)?, shared), version, into)?,
        _ => return Err("this request is not known".into()),
    }
    Ok(true)
}

/// Which versions are known.
pub(super) fn versions(version: i16, error: i16, into: &mut BytesMut) -> Result<()> {
    let one = |(key, min, max): &(ApiKey, i16, i16)| {
        ApiVersion::default().with_api_key(*key as i16).with_min_version(*min).with_max_version(*max)
    };
    let keys = VERSIONS.iter().map(one).collect();
    encode(&ApiVersionsResponse::default().with_error_code(error).with_api_keys(keys), version, into)
}
