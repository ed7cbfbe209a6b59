//! Global transaction numbers: in each domain the last transaction, by the server that wrote it and its number. Source: the
//! chapter "Global Transaction ID" of MariaDB's manual.

use std::collections::BTreeMap;

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

/// Domain and number of a transaction, in the event that begins it.
pub(super) fn read(body: &[u8]) -> Option<(u32, u64)> {
    let (number, rest) = body.split_first_chunk::<8>()?;
    let domain = rest.first_chunk::<4>()?;
    Some((u32::from_le_bytes(*domain), u64::from_le_bytes(*number)))
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
        assert_eq!(read(&body), Some((2, 9)));
        assert_eq!(read(&body[..10]), None);
    }
}
