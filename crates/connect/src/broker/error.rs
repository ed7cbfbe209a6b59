//! From librdkafka's errors to failures with a remedy.

use std::time::Duration;

use rdkafka::consumer::Consumer as _;
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use sluice_core::failure::{Failure, FailureKind};

use super::{Broker, Consumer};

/// Whether an error passes by itself once the broker answers again.
pub fn is_passing(code: RDKafkaErrorCode) -> bool {
    use RDKafkaErrorCode as Code;
    matches!(
        code,
        Code::AllBrokersDown
            | Code::BrokerTransportFailure
            | Code::Resolve
            | Code::OperationTimedOut
            | Code::MessageTimedOut
            | Code::RequestTimedOut
            | Code::TimedOutQueue
            | Code::LeaderNotAvailable
            | Code::NotLeaderForPartition
            | Code::BrokerNotAvailable
            | Code::ReplicaNotAvailable
            | Code::CoordinatorLoadInProgress
            | Code::CoordinatorNotAvailable
            | Code::NotCoordinator
            | Code::NetworkException
            | Code::NotEnoughReplicas
            | Code::NotEnoughReplicasAfterAppend
            | Code::Retry
            | Code::WaitingForCoordinator
            | Code::UnstableOffsetCommit
            | Code::ConcurrentTransactions
            | Code::OffsetNotAvailable
    )
}

/// The failure of a broker that refuses for good; None for a code that says something else.
pub fn refuse(broker: &Broker, code: RDKafkaErrorCode) -> Option<Failure> {
    use RDKafkaErrorCode as Code;
    let shown = broker.shown();
    let (message, help) = match code {
        Code::Authentication | Code::SaslAuthenticationFailed => {
            (format!("{shown} refuses the login"), "check user, password and login of the connection")
        }
        Code::SSL => (format!("{shown}: the encrypted connection failed"), "check tls and authority of the connection"),
        Code::TopicAuthorizationFailed
        | Code::GroupAuthorizationFailed
        | Code::ClusterAuthorizationFailed
        | Code::TransactionalIdAuthorizationFailed => {
            (format!("{shown} does not allow this: {code}"), "give the user of the connection the right to do so")
        }
        _ => return None,
    };
    Some(Failure::new(FailureKind::Unreachable, message).with_help(help))
}

impl Broker {
    /// A failure that says that it does not answer, and why, as far as that is known.
    pub fn silence(&self, consumer: &Consumer) -> String {
        match consumer.client().context().reason() {
            Some(reason) => format!("{} does not answer: {}", self.shown(), tidy(&reason)),
            None => format!("{} does not answer", self.shown()),
        }
    }

    /// What stands in the queue of events, where an answer only says that time is up: a refusal for good, and whether no
    /// broker can be reached.
    pub(super) fn queued_errors(&self, consumer: &Consumer) -> (Option<Failure>, bool) {
        let (mut refusal, mut all_down) = (None, false);
        for _ in 0..32 {
            let Some(Err(event)) = consumer.poll(Duration::from_millis(1)) else { break };
            let code = event.rdkafka_error_code();
            all_down |= code == Some(RDKafkaErrorCode::AllBrokersDown);
            refusal = refusal.or_else(|| code.and_then(|code| refuse(self, code)));
        }
        (refusal, all_down)
    }

    /// The failure of a request that was not answered.
    pub fn away(&self, consumer: &Consumer, error: &KafkaError) -> Failure {
        if let Some(refusal) = self.queued_errors(consumer).0 {
            return refusal;
        }
        let code = error.rdkafka_error_code();
        if let Some(refusal) = code.and_then(|code| refuse(self, code)) {
            return refusal;
        }
        let reason = consumer.client().context().reason();
        let reason = reason.or_else(|| code.map(|c| c.to_string())).unwrap_or_else(|| error.to_string());
        if wants_login(&reason) {
            let message = format!("{} closes connections without answering", self.shown());
            let help = format!(
                "it may require a login or TLS: set user and password, or tls = true, in [connection.{}]; or the url \
                 leads to another service",
                self.name
            );
            return Failure { passing: true, ..Failure::unreachable(message).with_help(help) };
        }
        let message = format!("{} does not answer: {}", self.shown(), tidy(&reason));
        let help = format!("is it running, and is the url of [connection.{}] right?", self.name);
        Failure { passing: code.is_none_or(is_passing), ..Failure::unreachable(message).with_help(help) }
    }
}

/// Whether a connection was closed as brokers do with clients that speak without a login, or in the open.
fn wants_login(reason: &str) -> bool {
    ["might require SASL", "incorrect security.protocol", "security.protocol is correctly"]
        .iter()
        .any(|words| reason.contains(words))
}

/// What went wrong, without librdkafka's own names and times.
fn tidy(reason: &str) -> String {
    let text = reason.rsplit_once("]: ").map_or(reason, |(_, text)| text);
    let text = text.split(" (after ").next().unwrap_or(text);
    let text = text.rsplit_once(" failed: ").map_or(text, |(_, text)| text);
    let code = text.split_once(" (").filter(|(_, rest)| rest.contains("Local:")).map_or(text, |(code, _)| code);
    code.trim_end_matches(['.', ':', ' ']).to_string()
}

#[cfg(test)]
mod tests {
    use super::tidy;
    use rstest::rstest;

    #[rstest]
    #[case(
        "[thrd:127.0.0.1:1/bootstrap]: 127.0.0.1:1/bootstrap: Connect to ipv4#127.0.0.1:1 failed: Connection refused \
         (after 0ms in state CONNECT)",
        "Connection refused"
    )]
    #[case("BrokerTransportFailure (Local: Broker transport failure)", "BrokerTransportFailure")]
    #[case(
        "Failed to resolve 'gate:9092': Name or service not known (after 3ms in state CONNECT)",
        "Failed to resolve 'gate:9092': Name or service not known"
    )]
    fn reasons_for_people(#[case] reason: &str, #[case] expected: &str) {
        assert_eq!(tidy(reason), expected);
    }
}
