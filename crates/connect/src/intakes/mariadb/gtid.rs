//! Global transaction numbers: in each domain the last transaction, by the server that wrote it and its number. Source: the
//! chapter "Global Transaction ID" of MariaDB's manual.

use std::collections::BTreeMap;

use super::bytes::Bytes;

/// Up to which transactions a log has been read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Gtids(BTreeMap<u32, (u32, u64)>);

impl Gtids {
    /// Reads `DOMAIN-SERVER-NUMBER,…`; what has another form is left out.
    pub(super) fn parse(text: &str) -> Self {
        let one = |gtid: &str| {
            let mut parts = gtid.trim().split('-');
            let (domain, server, number) = (parts.next()?, parts.next()?, parts.next()?);
            Some((domain.parse().ok()?, (server.parse().ok()?, number.parse().ok()?)))
        };
        Self(text.split(',').filter_map(one).collect())
    }

    /// Notes a transaction.
    pub(super) fn note(&mut self, domain: u32, server: u32, number: u64) {
        self.0.insert(domain, (server, number));
    }

    /// The same as a text; None where there are none.
    pub(super) fn show(&self) -> Option<String> {
        let one = |(domain, (server, number)): (&u32, &(u32, u64))| format!("{domain}-{server}-{number}");
        (!self.0.is_empty()).then(|| self.0.iter().map(one).collect::<Vec<_>>().join(","))
    }
}

/// What the event reports that begins a group of events.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct GroupStart {
    /// Domain and number of the transaction.
    pub gtid: (u32, u64),
    /// The group is one statement, which nothing ends.
    pub is_single: bool,
    /// The name of a distributed transaction, and whether it is prepared here; else it is ended here.
    pub xa: Option<(String, bool)>,
}

/// Reads the event that begins a group; None where it is broken off.
pub(super) fn read(body: &[u8]) -> Option<GroupStart> {
    const SINGLE: u8 = 1;
    const GROUP_COMMIT: u8 = 2;
    const PREPARED: u8 = 64;
    const COMPLETED: u8 = 128;
    let mut bytes = Bytes(body);
    let (number, domain, flags) = (bytes.le(8)?, bytes.le(4)?, bytes.byte()?);
    let gtid = (u32::try_from(domain).ok()?, number);
    if flags & GROUP_COMMIT != 0 {
        bytes.take(8)?;
    }
    let mut xa = None;
    if flags & (PREPARED | COMPLETED) != 0 {
        let (format, global, branch) = (bytes.le(4)?, bytes.byte()?, bytes.byte()?);
        let mut part = |length: u8| -> Option<String> {
            Some(bytes.take(length.into())?.iter().map(|b| format!("{b:02x}")).collect())
        };
        xa = Some((format!("{}-{}-{format}", part(global)?, part(branch)?), flags & PREPARED != 0));
    }
    Some(GroupStart { gtid, is_single: flags & SINGLE != 0, xa })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_transaction_of_each_domain_counts() {
        let mut gtids = Gtids::parse("0-7-12, 3-1-4,x");
        gtids.note(0, 8, 13);
        assert_eq!(gtids.show().unwrap(), "0-8-13,3-1-4");
        assert_eq!(Gtids::parse("").show(), None);
        let body = [&9_u64.to_le_bytes()[..], &2_u32.to_le_bytes(), &[0]].concat();
        assert_eq!(read(&body), Some(GroupStart { gtid: (2, 9), ..GroupStart::default() }));
        assert_eq!(read(&body[..10]), None);
        let prepared =
            [&9_u64.to_le_bytes()[..], &2_u32.to_le_bytes(), &[64 | 2], &[0; 8], &1_u32.to_le_bytes(), &[1, 0, b'q']]
                .concat();
        assert_eq!(read(&prepared).unwrap().xa, Some(("71--1".into(), true)));
        assert_eq!(read(&prepared[..26]), None);
    }
}
