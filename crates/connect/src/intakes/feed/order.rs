//! The changes of a log in their order: where the reader stands among its transactions, and which position comes next.

use std::collections::HashMap;

use sluice_core::event::Position;

use super::gather::ChunkBuilder;

/// Where the reader stands among the transactions of the log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LogStanding {
    /// Between two transactions: a batch may end here.
    Between,
    /// Within the transaction at this place.
    Within(u64),
    /// The connection was lost within the transaction at `at`. It is sent again, after earlier ones that were read whole:
    /// one of those may be open, at `repeated`.
    Torn { at: u64, repeated: Option<u64> },
}

impl LogStanding {
    fn begin(self, place: u64) -> Self {
        match self {
            Self::Torn { at, .. } if place < at => Self::Torn { at, repeated: Some(place) },
            _ => Self::Within(place),
        }
    }

    fn end(self) -> Self {
        match self {
            Self::Torn { at, .. } => Self::Torn { at, repeated: None },
            Self::Between | Self::Within(_) => Self::Between,
        }
    }

    fn lose(self) -> Self {
        match self {
            Self::Between => Self::Between,
            Self::Within(at) | Self::Torn { at, .. } => Self::Torn { at, repeated: None },
        }
    }

    /// The place of the open transaction.
    fn open(self) -> Option<u64> {
        match self {
            Self::Within(place) => Some(place),
            Self::Torn { repeated, .. } => repeated,
            Self::Between => None,
        }
    }
}

/// Changes that were read and not handed on yet, and the place behind them.
pub(crate) struct Order {
    pub gather: ChunkBuilder,
    /// Behind the last change. It does not move on with the log: rows that are loaded stand behind the change before them.
    pub at: Position,
    /// To where the log has been seen. It grows with whole transactions only.
    pub seen: u64,
    /// When the last transaction was committed, in microseconds since 1970.
    pub time: Option<i64>,
    /// By table without a key, the place in the log at which it was read: changes before it are in its rows.
    pub read_at: HashMap<u32, u64>,
    /// The number of the next change within its transaction.
    pub next: u64,
    /// Changes before this position were read already.
    from: Position,
    standing: LogStanding,
}

impl Order {
    /// Begins at a position. The log has been seen to `seen`.
    pub(crate) fn new(gather: ChunkBuilder, from: Position, seen: u64) -> Self {
        Self {
            gather,
            at: from,
            seen,
            time: None,
            read_at: HashMap::new(),
            next: 0,
            from,
            standing: LogStanding::Between,
        }
    }

    /// Whether a transaction is open at present.
    pub(crate) fn is_within(&self) -> bool {
        self.standing.open().is_some()
    }

    /// Whether the open transaction was read whole before the connection was lost.
    pub(crate) fn is_repeated(&self) -> bool {
        matches!(self.standing, LogStanding::Torn { repeated: Some(_), .. })
    }

    /// Whether every transaction that was read in part has been read whole.
    pub(crate) fn is_between(&self) -> bool {
        self.standing == LogStanding::Between
    }

    /// The place of the transaction that has been read in part, from which the log is to be read again after a stop: all before
    /// it was read whole.
    pub(crate) fn unfinished(&self) -> Option<u64> {
        match self.standing {
            LogStanding::Between => None,
            LogStanding::Within(at) | LogStanding::Torn { at, .. } => Some(at),
        }
    }

    /// Begins the transaction at a place.
    pub(crate) fn begin(&mut self, place: u64) {
        self.standing = self.standing.begin(place);
        self.next = 0;
    }

    /// Ends it.
    pub(crate) fn end(&mut self) {
        self.standing = self.standing.end();
    }

    /// The connection was lost: what comes after `at` is sent again.
    pub(crate) fn lose(&mut self) {
        self.standing = self.standing.lose();
        self.from = self.at;
    }

    /// The open transaction never was: the log goes on at another place.
    pub(crate) fn leave(&mut self, next: u64) {
        self.standing = LogStanding::Between;
        self.from = self.at;
        self.seen = next;
    }

    pub(crate) fn see(&mut self, place: u64) {
        self.seen = self.seen.max(place);
    }

    /// The position of the next change; None where it was read before.
    pub(crate) fn position(&mut self) -> Option<Position> {
        let position = Position { major: self.standing.open()?, minor: self.next };
        self.next += 1;
        (position >= self.from).then(|| {
            self.at = Position { minor: self.next, ..position };
            position
        })
    }

    /// Leaves out a change, at its place.
    pub(crate) fn skip(&mut self) {
        self.next += 1;
    }

    /// Whether the open transaction is in the rows of a table that was read whole.
    pub(crate) fn is_contained(&self, table: u32) -> bool {
        let place = self.standing.open().unwrap_or(0);
        self.read_at.get(&table).is_some_and(|at| place < *at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn order() -> Order {
        Order::new(ChunkBuilder::new(Vec::new()), Position::at(10), 10)
    }

    #[test]
    fn a_torn_transaction_is_whole_once_it_has_ended_itself() {
        let mut order = order();
        order.begin(20);
        assert_eq!(order.position(), Some(Position { major: 20, minor: 0 }));
        order.end();
        order.begin(30);
        order.position();
        order.lose();
        assert!(!order.is_within() && !order.is_between());
        // The one before it comes once more, and brings nothing.
        order.begin(20);
        assert!(order.is_within() && order.is_repeated());
        assert_eq!(order.position(), None);
        order.end();
        assert!(!order.is_within() && !order.is_between());
        order.begin(30);
        assert_eq!(order.position(), None);
        assert_eq!(order.position(), Some(Position { major: 30, minor: 1 }));
        order.end();
        assert!(order.is_between());
    }

    #[test]
    fn a_second_loss_within_a_repeated_transaction_keeps_the_first_in_mind() {
        let mut order = order();
        order.begin(30);
        order.lose();
        order.begin(20);
        order.lose();
        order.end();
        assert!(!order.is_between());
        order.begin(31);
        order.end();
        assert!(order.is_between());
    }

    #[test]
    fn a_transaction_that_never_was_is_left() {
        let mut order = order();
        order.begin(30);
        order.leave(50);
        assert!(order.is_between());
        assert_eq!(order.seen, 50);
    }
}
