//! The client's side of SCRAM with SHA-256 or SHA-512 (RFC 5802, RFC 7677), without channel binding.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use hmac::{Hmac, KeyInit as _, Mac as _};
use sha2::{Digest as _, Sha256, Sha512};

/// A broker that asks for more rounds than this wants to keep us busy.
const MOST_ROUNDS: u32 = 1_000_000;

/// The mechanism by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Hash {
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

    fn keyed(self, key: &[u8], text: &[u8]) -> Vec<u8> {
        match self {
            Self::Sha256 => {
                Hmac::<Sha256>::new_from_slice(key).map(|m| m.chain_update(text).finalize().into_bytes().to_vec())
            }
            Self::Sha512 => {
                Hmac::<Sha512>::new_from_slice(key).map(|m| m.chain_update(text).finalize().into_bytes().to_vec())
            }
        }
        .unwrap_or_default()
    }

    fn salted(self, password: &[u8], salt: &[u8], rounds: u32) -> Vec<u8> {
        let mut out = vec![0; if self == Self::Sha256 { 32 } else { 64 }];
        match self {
            Self::Sha256 => pbkdf2::pbkdf2_hmac::<Sha256>(password, salt, rounds, &mut out),
            Self::Sha512 => pbkdf2::pbkdf2_hmac::<Sha512>(password, salt, rounds, &mut out),
        }
        out
    }
}

/// A login as far as it has come.
pub(super) struct Scram<'p> {
    hash: Hash,
    password: &'p str,
    nonce: String,
    /// Our first message without its head.
    bare: String,
}

impl<'p> Scram<'p> {
    /// Begins with a nonce of our own, which nobody can guess.
    pub(super) fn new(hash: Hash, user: &str, password: &'p str, nonce: String) -> Self {
        let user = user.replace('=', "=3D").replace(',', "=2C");
        Self { hash, password, bare: format!("n={user},r={nonce}"), nonce }
    }

    /// The first message.
    pub(super) fn first(&self) -> String {
        format!("n,,{}", self.bare)
    }

    /// The last message, and what the broker must answer to it to prove that it knows the password too; None where the
    /// broker's message is not one of SCRAM.
    pub(super) fn last(&self, challenge: &str) -> Option<(String, String)> {
        let nonce = field(challenge, "r=").filter(|r| r.starts_with(&self.nonce) && r.len() > self.nonce.len())?;
        let salt = BASE64.decode(field(challenge, "s=")?).ok()?;
        let rounds = field(challenge, "i=")?.parse().ok().filter(|n| (1..=MOST_ROUNDS).contains(n))?;
        let salted = self.hash.salted(self.password.as_bytes(), &salt, rounds);
        let bare = format!("c=biws,r={nonce}");
        let said = format!("{},{challenge},{bare}", self.bare);
        let key = self.hash.keyed(&salted, b"Client Key");
        let signature = self.hash.keyed(&self.hash.digest(&key), said.as_bytes());
        let proof: Vec<u8> = key.iter().zip(signature).map(|(a, b)| a ^ b).collect();
        let server = self.hash.keyed(&self.hash.keyed(&salted, b"Server Key"), said.as_bytes());
        Some((format!("{bare},p={}", BASE64.encode(proof)), format!("v={}", BASE64.encode(server))))
    }
}

fn field<'m>(message: &'m str, name: &str) -> Option<&'m str> {
    message.split(',').find_map(|part| part.strip_prefix(name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// The example of RFC 7677.
    #[test]
    fn the_example_of_the_standard() {
        let scram = Scram::new(Hash::Sha256, "user", "pencil", "rOprNGfwEbeRWgbNEkqO".into());
        assert_eq!(scram.first(), "n,,n=user,r=rOprNGfwEbeRWgbNEkqO");
        let challenge = "r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096";
        let (last, expected) = scram.last(challenge).unwrap();
        assert_eq!(
            last,
            "c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ="
        );
        assert_eq!(expected, "v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=");
    }

    #[rstest]
    #[case::another_nonce("r=other,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096")]
    #[case::our_nonce_alone("r=ours,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096")]
    #[case::endless("r=ours-theirs,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4294967295")]
    #[case::no_rounds("r=ours-theirs,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=0")]
    #[case::no_salt("r=ours-theirs,i=4096")]
    #[case::nothing("")]
    fn what_is_no_challenge_is_refused(#[case] challenge: &str) {
        assert_eq!(Scram::new(Hash::Sha512, "user", "pencil", "ours".into()).last(challenge), None);
    }

    #[test]
    fn names_are_spelled_so_that_they_add_no_fields() {
        assert_eq!(Scram::new(Hash::Sha256, "a=b,c", "", "n".into()).first(), "n,,n=a=3Db=2Cc,r=n");
    }
}
