//! A message as it is spooled: lengths and bytes, one after the other.
//!
//! Numbers are little-endian. A message is its partition (i32, -1 for none), its key (u32 length, `u32::MAX` for
//! none, bytes), its headers (u32 count; each a u32 length, its name, a u32 length or `u32::MAX` for none, its value), and
//! its value (u32 length, bytes).

use std::io::{self, Read, Write};

/// Bytes of a batch of one message beside its key, value and headers, at most: the header of the batch, 61, and the
/// lengths and numbers of the record, 7 of up to 5 bytes (Kafka protocol, record batch version 2).
pub(super) const OVERHEAD: usize = 61 + 35;

/// No key.
const NONE: u32 = u32::MAX;

/// One message. Its buffers are used again for the next.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct OutgoingMessage {
    /// The partition; None leaves it to the key.
    pub partition: Option<i32>,
    /// The key.
    pub key: Option<Vec<u8>>,
    /// Names and values; a header may have none.
    pub headers: Vec<(String, Option<Vec<u8>>)>,
    /// The value.
    pub value: Vec<u8>,
}

fn length(bytes: &[u8]) -> io::Result<u32> {
    u32::try_from(bytes.len())
        .ok()
        .filter(|n| *n != NONE)
        .ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "a message is longer than 4 GiB"))
}

fn put(to: &mut impl Write, bytes: &[u8]) -> io::Result<()> {
    to.write_all(&length(bytes)?.to_le_bytes())?;
    to.write_all(bytes)
}

fn number(from: &mut impl Read) -> io::Result<u32> {
    let mut bytes = [0; 4];
    from.read_exact(&mut bytes)?;
    Ok(u32::from_le_bytes(bytes))
}

fn take(from: &mut impl Read, length: u32, into: &mut Vec<u8>) -> io::Result<()> {
    into.clear();
    let read = from.take(u64::from(length)).read_to_end(into)?;
    if read as u64 == u64::from(length) { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

impl OutgoingMessage {
    /// The bytes that it counts with brokers: those of key, value and headers, and what the protocol adds at most.
    pub(super) fn size(&self) -> u64 {
        let of = |bytes: &Option<Vec<u8>>| bytes.as_ref().map_or(0, Vec::len);
        let headers: usize = self.headers.iter().map(|(name, value)| name.len() + of(value) + 10).sum();
        (of(&self.key) + self.value.len() + headers + OVERHEAD) as u64
    }

    pub(super) fn write(&self, to: &mut impl Write) -> io::Result<()> {
        to.write_all(&self.partition.unwrap_or(-1).to_le_bytes())?;
        match &self.key {
            Some(key) => put(to, key)?,
            None => to.write_all(&NONE.to_le_bytes())?,
        }
        let count = u32::try_from(self.headers.len()).unwrap_or(0);
        to.write_all(&count.to_le_bytes())?;
        for (name, value) in &self.headers {
            put(to, name.as_bytes())?;
            match value {
                Some(value) => put(to, value)?,
                None => to.write_all(&NONE.to_le_bytes())?,
            }
        }
        put(to, &self.value)
    }

    /// Reads the next message into this one; false at the end.
    pub(super) fn read(&mut self, from: &mut impl Read) -> io::Result<bool> {
        let mut first = [0; 4];
        match from.read(&mut first[..1])? {
            0 => return Ok(false),
            _ => from.read_exact(&mut first[1..])?,
        }
        self.partition = Some(i32::from_le_bytes(first)).filter(|n| *n >= 0);
        let key = number(from)?;
        let mut buffer = self.key.take().unwrap_or_default();
        if key != NONE {
            take(from, key, &mut buffer)?;
            self.key = Some(buffer);
        }
        self.headers.clear();
        for _ in 0..number(from)? {
            let mut name = Vec::new();
            let length = number(from)?;
            take(from, length, &mut name)?;
            let value = match number(from)? {
                NONE => None,
                length => {
                    let mut value = Vec::new();
                    take(from, length, &mut value)?;
                    Some(value)
                }
            };
            self.headers.push((String::from_utf8_lossy(&name).into_owned(), value));
        }
        let length = number(from)?;
        take(from, length, &mut self.value)?;
        Ok(true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_come_back_as_they_were() {
        let messages = [
            OutgoingMessage { value: b"{}".to_vec(), ..OutgoingMessage::default() },
            OutgoingMessage { partition: Some(3), key: Some(Vec::new()), headers: Vec::new(), value: Vec::new() },
            OutgoingMessage {
                partition: None,
                key: Some(b"lock-1".to_vec()),
                headers: vec![
                    ("cargo".into(), Some(b"gravel".to_vec())),
                    ("empty".into(), Some(Vec::new())),
                    ("none".into(), None),
                ],
                value: vec![b'x'; 70_000],
            },
        ];
        let mut bytes = Vec::new();
        messages.iter().for_each(|m| m.write(&mut bytes).unwrap());
        let (mut from, mut message) = (bytes.as_slice(), OutgoingMessage::default());
        for expected in &messages {
            assert!(message.read(&mut from).unwrap());
            assert_eq!(message, *expected);
        }
        assert!(!message.read(&mut from).unwrap());
    }

    #[test]
    fn a_torn_spool_is_noticed() {
        let mut bytes = Vec::new();
        OutgoingMessage { value: b"{\"n\":1}".to_vec(), ..OutgoingMessage::default() }.write(&mut bytes).unwrap();
        for end in 1..bytes.len() {
            assert!(OutgoingMessage::default().read(&mut &bytes[..end]).is_err(), "{end}");
        }
    }
}
