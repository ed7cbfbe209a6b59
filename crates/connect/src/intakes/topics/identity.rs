//! What guards a position: the cluster's name, and a digest of the last message that was read before it.

use std::fmt::Write as _;

use sha2::{Digest as _, Sha256};

/// The digest of a message: offset, time, key and value, SHA-256, its first 8 bytes in hexadecimal.
pub(super) fn digest(offset: u64, time: Option<i64>, key: Option<&[u8]>, value: Option<&[u8]>) -> String {
    let mut hash = Sha256::new();
    hash.update(offset.to_le_bytes());
    hash.update(time.unwrap_or(i64::MIN).to_le_bytes());
    for part in [key, value] {
        hash.update(part.map_or(u64::MAX, |p| p.len() as u64).to_le_bytes());
        hash.update(part.unwrap_or_default());
    }
    hash.finalize().iter().take(8).fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// The identity of a partition up to a position.
pub(super) fn of(cluster: &str, digest: Option<&str>) -> String {
    format!("{cluster}/{}", digest.unwrap_or_default())
}

/// The identity of a partition of which no message proves anything: its first offset then, which never becomes smaller.
pub(super) fn of_beginning(cluster: &str, low: u64) -> String {
    match low {
        0 => of(cluster, None),
        low => format!("{cluster}/{BEGINNING}{low}"),
    }
}

/// No digest begins with it.
const BEGINNING: char = '@';

/// The cluster and the digest of an identity; None for what is not known.
pub(super) fn parts(identity: &str) -> (Option<&str>, Option<&str>) {
    let (cluster, digest) = identity.rsplit_once('/').unwrap_or((identity, ""));
    let known = |text| Some(text).filter(|t: &&str| !t.is_empty());
    (known(cluster), known(digest).filter(|d| !d.starts_with(BEGINNING)))
}

/// The first offset that an identity names; None where a message proves more, or nothing is known.
pub(super) fn beginning(identity: &str) -> Option<u64> {
    identity.rsplit_once('/')?.1.strip_prefix(BEGINNING)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_part_of_a_message_counts() {
        let one = digest(7, Some(1), Some(b"k"), Some(b"v"));
        assert_eq!((one.len(), one.clone()), (16, digest(7, Some(1), Some(b"k"), Some(b"v"))));
        let others = [
            digest(8, Some(1), Some(b"k"), Some(b"v")),
            digest(7, Some(2), Some(b"k"), Some(b"v")),
            digest(7, Some(1), None, Some(b"kv")),
            digest(7, Some(1), Some(b""), Some(b"kv")),
            digest(7, Some(1), Some(b"k"), None),
        ];
        assert!(others.iter().all(|other| *other != one));
        assert_ne!(others[2], others[3]);
    }

    #[test]
    fn an_identity_comes_apart_again() {
        assert_eq!(parts(&of("tarrow/1", Some("ab"))), (Some("tarrow/1"), Some("ab")));
        assert_eq!(parts(&of("", None)), (None, None));
        assert_eq!(parts(""), (None, None));
        assert_eq!(beginning(&of("tarrow/1", Some("ab"))), None);
    }

    #[test]
    fn where_a_partition_began_is_no_digest() {
        let identity = of_beginning("tarrow/1", 500);
        assert_eq!((parts(&identity), beginning(&identity)), ((Some("tarrow/1"), None), Some(500)));
        assert_eq!(beginning(&of_beginning("tarrow/1", 0)), None, "nothing stands before the first offset");
    }
}
