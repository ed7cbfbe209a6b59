//! Joins: each row of one event meets the rows of another one whose key is the same and whose time is near.
//!
//! A pair is given when the second of its rows comes. A row is remembered until no row that is still accepted can meet it;
//! rows that met none can then be given alone. Rows are accepted by the same rule on both sides, the watermark less `late`, so
//! that the pairs do not depend on which side came first.

mod blocks;
mod explain;
mod pairs;
mod station;
#[cfg(test)]
mod tests;

use std::sync::Arc;

use crate::columns::OutputColumn;
use crate::expr::Condition;
use crate::plan::Transform;
use crate::units::spell_micros;

pub(super) use blocks::{At, Blocks, key_cells, write_key};
pub(super) use station::Join;

/// The two sides.
pub const LEFT: usize = 0;
/// The event that the first one is joined with.
pub const RIGHT: usize = 1;

/// One side of a join. Its prepared rows have the columns, then the parts of the key, then the time.
#[derive(Clone, Debug)]
pub struct JoinSide {
    /// The event.
    pub event: String,
    /// The columns that pairs have of it.
    pub columns: Vec<OutputColumn>,
    /// The parts of the key, each with how it is written.
    pub key: Vec<(OutputColumn, String)>,
}

impl JoinSide {
    /// The place of the first part of the key among the prepared columns.
    pub(super) fn first_key(&self) -> usize {
        self.columns.len()
    }

    /// The place of the time among the prepared columns.
    pub(super) fn time(&self) -> usize {
        self.columns.len() + self.key.len()
    }
}

/// Which rows of one side are near enough to a row of the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Nearness {
    /// The time of the right one less that of the left one, in microseconds: at least and at most.
    Within {
        /// At least.
        from: i64,
        /// At most.
        to: i64,
    },
    /// Both are in one window of this length, in microseconds.
    Window(i64),
}

impl Nearness {
    /// Whether two rows are near enough.
    pub(super) fn holds(self, left: i64, right: i64) -> bool {
        match self {
            Self::Within { from, to } => (from..=to).contains(&right.saturating_sub(left)),
            Self::Window(length) => left.div_euclid(length) == right.div_euclid(length),
        }
    }

    /// The latest time of a row of the other side that a row of a side is near to.
    pub(super) fn last_partner(self, side: usize, time: i64) -> i64 {
        match self {
            Self::Within { to, .. } if side == LEFT => time.saturating_add(to),
            Self::Within { from, .. } => time.saturating_sub(from),
            Self::Window(length) => time.div_euclid(length).saturating_add(1).saturating_mul(length).saturating_sub(1),
        }
    }

    /// How far apart two rows that meet may be, in microseconds.
    pub(in crate::state) fn span(self) -> i64 {
        match self {
            Self::Within { from, to } => from.saturating_abs().max(to.saturating_abs()),
            Self::Window(length) => length,
        }
    }

    fn manner(self) -> String {
        let signed = |t: i64| if t < 0 { format!("-{}", spell_micros(-t)) } else { spell_micros(t) };
        match self {
            Self::Within { from, to } if from == -to => format!("within {}", signed(to)),
            Self::Within { from, to } => format!("from {} to {}", signed(from), signed(to)),
            Self::Window(length) => format!("in windows of {}", signed(length)),
        }
    }
}

/// Joins two events.
#[derive(Clone, Debug)]
pub struct JoinPlan {
    /// Both sides.
    pub sides: [JoinSide; 2],
    /// Which rows are near enough.
    pub near: Nearness,
    /// What else must be true of a pair, over the columns of the left side, then those of the right one.
    pub condition: Option<Condition>,
    /// The columns of the event that it makes, over the same columns.
    pub select: Transform,
    /// For each side, whether its rows that met none are given, with nulls for the other side.
    pub unmatched: [bool; 2],
    /// Whether nothing more is expected when all there is has been read.
    pub closes_when_caught_up: bool,
    /// How far behind the newest event one may come and still count, in microseconds.
    pub late: i64,
    /// How long a silent partition holds the watermark, in microseconds.
    pub idle: i64,
    /// How far ahead of the moment of reading an event's time may be, in microseconds.
    pub ahead: i64,
    /// How many rows may be remembered at a time.
    pub most: usize,
}

impl JoinPlan {
    /// The columns of pairs: those of the left side, then those of the right one.
    pub(crate) fn pair_columns(sides: &[JoinSide; 2], unmatched: [bool; 2]) -> Vec<OutputColumn> {
        let of = |side: usize| {
            // A row of the other side may come without one of this side.
            let is_absent = unmatched[1 - side];
            sides[side].columns.iter().map(move |c| OutputColumn {
                name: format!("{}.{}", sides[side].event, c.name),
                ty: c.ty,
                nullable: c.nullable || is_absent,
                limit: None,
            })
        };
        of(LEFT).chain(of(RIGHT)).collect()
    }

    /// What it is, in words. Lateness, and whether rows are given that met none, may change without harm to what is kept.
    pub(super) fn manner(&self) -> String {
        let side = |side: &JoinSide| {
            let columns: Vec<String> = side.columns.iter().map(|c| format!("{} {}", c.name, c.ty)).collect();
            let key: Vec<&str> = side.key.iter().map(|(_, text)| text.as_str()).collect();
            format!("{} ({}) by {}", side.event, columns.join(", "), key.join(", "))
        };
        format!("join of {} with {} {}", side(&self.sides[0]), side(&self.sides[1]), self.near.manner())
    }
}

impl Join {
    pub(super) fn open(
        name: &str,
        plan: Arc<JoinPlan>,
        store: &dyn super::StateStore,
    ) -> crate::failure::Outcome<Self> {
        let mut join = Self::new(name, plan);
        store.each(name, &mut |key, value| join.restore(key, value))?;
        join.restored();
        Ok(join)
    }
}
