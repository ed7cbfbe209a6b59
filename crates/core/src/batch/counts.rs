//! Counts by station, and the proof that they balance.

use serde::{Deserialize, Serialize};

/// What one station did with the events of a batch. A station is the contract, a made event, or a landing.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StationCount {
    /// The station's name.
    pub station: String,
    /// Events that came in.
    pub input: u64,
    /// Events that went on, or landed.
    pub output: u64,
    /// Events that did not meet a condition.
    pub filtered: u64,
    /// Events that were merged into others.
    pub merged: u64,
    /// Events that were rejected here.
    pub rejected: u64,
    /// Events that were dropped because they had come before.
    pub repeated: u64,
    /// Events that left a join without a partner.
    #[serde(default)]
    pub unmatched: u64,
    /// By how many more events it keeps in state after than before; fewer where this is negative.
    pub held: i64,
    /// Rows that it made itself, of what it keeps.
    pub made: u64,
    /// Of a landing: the event time of the newest event that went on, in microseconds since 1970.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newest: Option<i64>,
}

impl StationCount {
    /// A station that did nothing yet.
    pub fn new(station: impl Into<String>) -> Self {
        Self { station: station.into(), ..Self::default() }
    }

    /// Adds what it did with some more events.
    pub fn add(&mut self, more: &Self) {
        self.input += more.input;
        self.output += more.output;
        self.filtered += more.filtered;
        self.merged += more.merged;
        self.rejected += more.rejected;
        self.repeated += more.repeated;
        self.unmatched += more.unmatched;
        self.held += more.held;
        self.made += more.made;
        self.newest = self.newest.max(more.newest);
    }

    /// Checks that every event that came in is accounted for.
    ///
    /// # Errors
    /// Says by how much the station is off.
    pub fn check(&self) -> Result<(), String> {
        let dropped = self.filtered + self.merged + self.repeated + self.unmatched;
        let accounted = self.output + dropped + self.rejected;
        if i128::from(self.input) + i128::from(self.made) == i128::from(accounted) + i128::from(self.held) {
            return Ok(());
        }
        Err(format!(
            "{} does not balance: in {} + made {} ≠ out {} + filtered {} + merged {} + repeated {} \
             + unmatched {} + rejected {} + held {}",
            self.station,
            self.input,
            self.made,
            self.output,
            self.filtered,
            self.merged,
            self.repeated,
            self.unmatched,
            self.rejected,
            self.held
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_lost_event_is_noticed() {
        let mut count = StationCount { input: 10, output: 6, filtered: 3, rejected: 1, ..StationCount::new("x") };
        assert_eq!(count.check(), Ok(()));
        count.add(&StationCount { input: 2, output: 1, ..StationCount::new("x") });
        assert!(count.check().unwrap_err().contains("in 12 + made 0 ≠ out 7"));
    }
}
