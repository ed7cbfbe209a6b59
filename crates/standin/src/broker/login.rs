//! Logging in: SASL PLAIN (RFC 4616) and SCRAM with SHA-256 or SHA-512 (RFC 5802, RFC 7677).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use hmac::{Hmac, KeyInit as _, Mac as _};
use sha2::{Digest as _, Sha256, Sha512};

const ITERATIONS: u32 = 4_096;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Hash {
    Sha256,
    Sha512,
}

impl Hash {
    fn digest(self, bytes: &[u8]) -> Vec<u8> {
        match self {
            Self::Sha256 => Sha256::digest(bytes).to_vec(),
            Self::Sha512 => Sha512::digest(bytes).to_vec(),
        }
    }

    fn keyed(self, key: &[u8], bytes: &[u8]) -> Vec<u8> {
        match self {
            Self::Sha256 => {
                Hmac::<Sha256>::new_from_slice(key).map(|m| m.chain_update(bytes).finalize().into_bytes().to_vec())
            }
            Self::Sha512 => {
                Hmac::<Sha512>::new_from_slice(key).map(|m| m.chain_update(bytes).finalize().into_bytes().to_vec())
            }
        }
        .unwrap_or_default()
    }

    fn salted(self, password: &[u8], salt: &[u8]) -> Vec<u8> {
        match self {
            Self::Sha256 => {
                let mut out = vec![0; 32];
                pbkdf2::pbkdf2_hmac::<Sha256>(password, salt, ITERATIONS, &mut out);
                out
            }
            Self::Sha512 => {
                let mut out = vec![0; 64];
                pbkdf2::pbkdf2_hmac::<Sha512>(password, salt, ITERATIONS, &mut out);
                out
            }
        }
    }
}

/// A login as far as it has come.
pub(super) enum Login {
    Plain,
    /// Waits for the client's first message.
    First(HashOf),
    /// Waits for the client's proof.
    Final(HashOf, Challenge),
    Done,
}

/// Which hash a login uses.
#[derive(Clone, Copy)]
pub(super) struct HashOf(Hash);

/// What was asked of the client.
pub(super) struct Challenge {
    user: String,
    nonce: String,
    salt: Vec<u8>,
    /// The first messages of both sides, which the proof covers.
    said: String,
}

/// What one message of the client led to.
pub(super) struct Step {
    pub known: bool,
    pub answer: Vec<u8>,
}

impl Login {
    pub(super) const MECHANISMS: &[&str] = &["PLAIN", "SCRAM-SHA-256", "SCRAM-SHA-512"];

    pub(super) fn begin(mechanism: &str) -> Option<Self> {
        match mechanism {
            "PLAIN" => Some(Self::Plain),
            "SCRAM-SHA-256" => Some(Self::First(HashOf(Hash::Sha256))),
            "SCRAM-SHA-512" => Some(Self::First(HashOf(Hash::Sha512))),
            _ => None,
        }
    }

    /// Takes a message of the client; None where it is refused.
    pub(super) fn step(&mut self, message: &[u8], known: &(String, String)) -> Option<Step> {
        let (user, password) = known;
        match std::mem::replace(self, Self::Done) {
            Self::Plain => {
                let mut parts = message.split(|b| *b == 0).skip(1);
                let same = parts.next() == Some(user.as_bytes()) && parts.next() == Some(password.as_bytes());
                same.then(|| Step { known: true, answer: Vec::new() })
            }
            Self::First(hash) => {
                let message = std::str::from_utf8(message).ok()?;
                let bare = message.strip_prefix("n,,")?;
                let nonce = format!("{}{}", field(bare, 'r')?, uuid::Uuid::new_v4().simple());
                let salt = uuid::Uuid::new_v4().as_bytes().to_vec();
                let first = format!("r={nonce},s={},i={ITERATIONS}", BASE64.encode(&salt));
                let said = format!("{bare},{first}");
                *self = Self::Final(hash, Challenge { user: field(bare, 'n')?.to_string(), nonce, salt, said });
                Some(Step { known: false, answer: first.into_bytes() })
            }
            Self::Final(HashOf(hash), challenge) => {
                let message = std::str::from_utf8(message).ok()?;
                let (bare, proof) = message.rsplit_once(",p=")?;
                // Brokers take a nonce that only ends with theirs: librdkafka before 2.6 sends its own part twice.
                if !field(bare, 'r')?.ends_with(&challenge.nonce) || challenge.user != *user {
                    return None;
                }
                let said = format!("{},{bare}", challenge.said);
                let salted = hash.salted(password.as_bytes(), &challenge.salt);
                let client = hash.keyed(&salted, b"Client Key");
                let signature = hash.keyed(&hash.digest(&client), said.as_bytes());
                let due: Vec<u8> = client.iter().zip(&signature).map(|(a, b)| a ^ b).collect();
                if BASE64.decode(proof).ok()? != due {
                    return None;
                }
                let server = hash.keyed(&hash.keyed(&salted, b"Server Key"), said.as_bytes());
                Some(Step { known: true, answer: format!("v={}", BASE64.encode(server)).into_bytes() })
            }
            Self::Done => None,
        }
    }
}

/// The value of a field of a SCRAM message.
fn field(message: &str, name: char) -> Option<&str> {
    message.split(',').find_map(|part| part.strip_prefix(name)?.strip_prefix('='))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known() -> (String, String) {
        ("sluice".into(), "gate-7".into())
    }

    #[test]
    fn plain_wants_user_and_password() {
        let try_with = |message: &[u8]| Login::begin("PLAIN").unwrap().step(message, &known()).is_some();
        assert!(try_with(b"\0sluice\0gate-7"));
        assert!(!try_with(b"\0sluice\0gate-8") && !try_with(b"\0weir\0gate-7") && !try_with(b"sluice"));
    }

    #[test]
    fn what_makes_no_sense_is_refused() {
        assert!(Login::begin("OTHER").is_none());
        for message in [&b"n,,r=abc"[..], b"\xff", b"y,,n=sluice,r=abc"] {
            let mut login = Login::begin("SCRAM-SHA-256").unwrap();
            assert!(login.step(message, &known()).is_none());
            assert!(login.step(message, &known()).is_none(), "a login that failed is over");
        }
        let mut login = Login::begin("SCRAM-SHA-512").unwrap();
        assert!(!login.step(b"n,,n=sluice,r=abc", &known()).unwrap().known);
        assert!(login.step(b"c=biws,r=abc,p=AAAA", &known()).is_none());
    }
}
