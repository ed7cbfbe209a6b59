//! What distinguishes one batch from every other.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::event::{Chunk, Position};

/// A lane of a pipeline: a fixed group of an arrival's partitions, such as `passage.0.0`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct LaneId(String);

impl LaneId {
    /// The lane of a number of an arrival.
    pub fn new(arrival: &str, number: u32) -> Self {
        Self(format!("{arrival}.{number}"))
    }

    /// A lane beside another one, for reading again what that one has read: `passage.0.0~3`. Its batches move no
    /// position.
    #[must_use]
    pub fn out_of_order(&self, number: u64) -> Self {
        Self(format!("{}~{number}", self.0))
    }

    /// Whether it stands beside another one.
    pub fn is_out_of_order(&self) -> bool {
        self.0.contains('~')
    }

    /// The lane beside which it stands, or itself: `passage.0.0`.
    #[must_use]
    pub fn main(&self) -> Self {
        Self(self.0.split('~').next().unwrap_or_default().to_string())
    }

    /// The number of the replay whose lane it is.
    pub fn replay(&self) -> Option<u64> {
        self.0.split_once('~')?.1.parse().ok()
    }

    /// The name of its arrival: `passage.0`.
    pub fn arrival(&self) -> &str {
        let main = self.0.split('~').next().unwrap_or_default();
        main.rsplit_once('.').map_or(main, |(arrival, _)| arrival)
    }

    /// The name of a partition in this lane. Arrivals that meet share the lane of the first of them; the partitions of
    /// the others have their arrival before their own name: `/toll.0/lock.tolls/3`. No partition begins with a slash.
    pub fn partition_of(&self, arrival: &str, partition: &Arc<str>) -> Arc<str> {
        match arrival == self.arrival() {
            true => Arc::clone(partition),
            false => format!("/{arrival}/{partition}").into(),
        }
    }

    /// The arrival of a partition of this lane, and the partition's own name.
    pub fn arrival_of<'a>(&'a self, partition: &'a str) -> (&'a str, &'a str) {
        split(partition).unwrap_or((self.arrival(), partition))
    }

    /// A lane by its name in the ledger.
    pub fn named(name: impl Into<String>) -> Self {
        Self(name.into())
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for LaneId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A batch within its pipeline: its lane and its number.
pub type BatchName = (LaneId, u64);

/// The name of a batch: no other batch of any ledger has it. Its ranges belong to it too, once it is sealed.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct BatchIdentity {
    /// The ledger's UUID.
    pub ledger: String,
    /// The pipeline.
    pub pipeline: String,
    /// The lane.
    pub lane: LaneId,
    /// The number in the lane, from 1, without gaps.
    pub number: u64,
}

impl BatchIdentity {
    /// A name for files that hold the batch: `passages-passage.0.0-00000017-3f9a2c1b`.
    pub fn file_stem(&self) -> String {
        let ledger: String = self.ledger.chars().filter(char::is_ascii_alphanumeric).take(8).collect();
        format!("{}-{}-{:08}-{ledger}", self.pipeline, self.lane, self.number)
    }
}

impl fmt::Display for BatchIdentity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "batch {} of {} lane {}", self.number, self.pipeline, self.lane)
    }
}

/// A range of positions of one partition: `from` is read, `to` is not.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Range {
    /// The partition.
    pub partition: Arc<str>,
    /// The first position.
    pub from: Position,
    /// The position after the last.
    pub to: Position,
    /// What the partition looked like up to `to`.
    #[serde(default)]
    pub identity: String,
}

/// The ranges of one batch, one for each partition that it read.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ranges(pub Vec<Range>);

fn split(partition: &str) -> Option<(&str, &str)> {
    partition.strip_prefix('/')?.split_once('/')
}

/// The name of a partition without that of its arrival.
pub fn own_partition(partition: &str) -> &str {
    split(partition).map_or(partition, |(_, own)| own)
}

/// The arrival that a partition names; None for one of the lane's own arrival.
pub fn arrival_in(partition: &str) -> Option<&str> {
    split(partition).map(|(arrival, _)| arrival)
}

impl Ranges {
    /// Those of one arrival, under the partitions' own names.
    #[must_use]
    pub fn of_arrival(&self, lane: &LaneId, arrival: &str) -> Self {
        let own = |range: &Range| {
            let (of, partition) = lane.arrival_of(&range.partition);
            (of == arrival).then(|| Range { partition: partition.into(), ..range.clone() })
        };
        Self(self.0.iter().filter_map(own).collect())
    }

    /// Whether a position of a partition is within them.
    pub fn cover(&self, partition: &str, position: Position) -> bool {
        self.0.iter().any(|r| *r.partition == *partition && r.from <= position && position < r.to)
    }

    /// Adds what a chunk brought.
    ///
    /// # Errors
    /// Where the chunk does not follow what was read of its partition before: a broken reader.
    pub fn add(&mut self, chunk: &Chunk) -> Result<(), String> {
        match self.0.iter_mut().rev().find(|r| r.partition == chunk.partition) {
            // Each reading of a list begins at its beginning.
            Some(range) if range.to == chunk.from || chunk.list.is_some() => {
                range.to = chunk.to;
                range.identity.clone_from(&chunk.identity);
                Ok(())
            }
            Some(range) => Err(format!("{}: read {} after {}", chunk.partition, chunk.from, range.to)),
            None => {
                self.0.push(Range {
                    partition: Arc::clone(&chunk.partition),
                    from: chunk.from,
                    to: chunk.to,
                    identity: chunk.identity.clone(),
                });
                Ok(())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chunk(partition: &str, from: u64, to: u64) -> Chunk {
        Chunk {
            partition: partition.into(),
            from: Position::at(from),
            to: Position::at(to),
            identity: to.to_string(),
            bytes: Vec::new(),
            records: 0,
            ..Chunk::default()
        }
    }

    #[test]
    fn ranges_grow_without_gaps() {
        let mut ranges = Ranges::default();
        for (partition, from, to) in [("a", 0, 5), ("b", 3, 4), ("a", 5, 9)] {
            ranges.add(&chunk(partition, from, to)).unwrap();
        }
        let shown: Vec<_> = ranges.0.iter().map(|r| (&*r.partition, r.from.major, r.to.major, &*r.identity)).collect();
        assert_eq!(shown, [("a", 0, 9, "9"), ("b", 3, 4, "4")]);
        assert!(ranges.add(&chunk("a", 10, 11)).is_err());
    }

    #[test]
    fn file_names_distinguish_batches() {
        let identity = BatchIdentity {
            ledger: "3f9a2c1b-0000-4000-8000-000000000000".into(),
            pipeline: "passages".into(),
            lane: LaneId::new("passage.0", 0),
            number: 17,
        };
        assert_eq!(identity.file_stem(), "passages-passage.0.0-00000017-3f9a2c1b");
    }
}
