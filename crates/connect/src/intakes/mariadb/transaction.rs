//! The group of events that is being read: a transaction, one statement, or a distributed transaction that is prepared.

use super::gtid::{self, GroupStart};
use super::stream::LogEvent;

/// What ends a group.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Group {
    /// An event of its own: the transaction was committed or rolled back.
    Rows,
    /// The statement that it consists of.
    Single,
    /// The event of a prepared transaction: its rows count once it is committed, by another group.
    Prepared(String),
}

/// A group that is open.
pub(super) struct OpenTransaction {
    pub start: u64,
    pub time: i64,
    pub group: Group,
    /// Domain, server and number of the transaction, where it has them.
    pub gtid: Option<(u32, u32, u64)>,
    /// The distributed transaction that this group ends.
    pub ends: Option<String>,
    /// Each with the place of the change after it.
    savepoints: Vec<(String, u64)>,
}

impl OpenTransaction {
    /// One that begins with an event at a place.
    pub(super) fn new(group: Group, event: &LogEvent, start: u64) -> Self {
        let time = i64::from(event.time) * 1_000_000;
        Self { start, time, group, gtid: None, ends: None, savepoints: Vec::new() }
    }

    /// One that begins as the server reports; None where the event is broken off.
    pub(super) fn begin(event: &LogEvent, start: u64) -> Option<Self> {
        let GroupStart { gtid: (domain, number), is_single, xa } = gtid::read(&event.body)?;
        let (group, ends) = match xa {
            Some((name, true)) => (Group::Prepared(name), None),
            Some((name, false)) => (Group::Single, Some(name)),
            None if is_single => (Group::Single, None),
            None => (Group::Rows, None),
        };
        Some(Self { gtid: Some((domain, event.server, number)), ends, ..Self::new(group, event, start) })
    }

    /// Sets a savepoint before the change with the number `next`, in the place of one that has its name.
    pub(super) fn set(&mut self, name: String, next: u64) {
        self.savepoints.retain(|(other, _)| *other != name);
        self.savepoints.push((name, next));
    }

    /// Goes back to a savepoint, which stays: the place of the change after it. None where there is none of the name.
    pub(super) fn back_to(&mut self, name: &str) -> Option<u64> {
        let place = self.savepoints.iter().position(|(other, _)| other == name)?;
        self.savepoints.truncate(place + 1);
        Some(self.savepoints[place].1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn savepoints_are_gone_back_to_by_name() {
        let mut open = OpenTransaction::new(Group::Rows, &LogEvent::of(2, 100, 200, Vec::new()), 100);
        open.set("a".into(), 0);
        open.set("b".into(), 3);
        assert_eq!(open.back_to("a"), Some(0));
        assert_eq!(open.back_to("b"), None);
        open.set("a".into(), 5);
        assert_eq!(open.back_to("a"), Some(5));
    }
}
