//! Logins and commands with damaged bytes: none makes the broker fail.
//!
//! The bodies of requests are decoded by `kafka-protocol`, which allocates as many elements as a list announces before it
//! reads the first: a request of a few bytes can end the process. The stand-in is for tests on one machine and trusts its
//! clients so far.

use super::login::Login;
use super::{Broker, Setup, TopicConfig};
use crate::mutate::attack;

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
    attack(&good, |bytes| done += u64::from(broker.tell(&String::from_utf8_lossy(bytes)).is_ok()));
    assert!(done > 10, "{done} commands were good enough");
}
