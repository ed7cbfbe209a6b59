//! What a station takes up for each thing that it remembers: an estimate, by the types of what it keeps.

use std::mem::size_of;

use super::join::{JoinSide, LEFT, RIGHT};
use super::partial::Partial;
use super::{AggregateKind, ReferencePlan, StatePlan, WindowPlan, once, window};
use crate::columns::OutputColumn;
use crate::types::SqlType;

/// Bytes that a text is taken to have: the lengths of names, numbers and codes.
const TEXT: u64 = 16;

/// A map's entry beside its key: the place of the key, a value of a word, and the part of the map that is empty.
const ENTRY: u64 = 48;

/// What a row of the ledger takes beside its key and value: pipeline, lane, station, and the page's own part.
const LEDGER_ROW: u64 = 48;

/// What is remembered, and how much that takes up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
pub struct StateCost {
    /// What is counted: groups, rows or keys.
    pub of: &'static str,
    /// Bytes of memory for each of them, about.
    pub memory: u64,
    /// Bytes in the ledger for each of them, about.
    pub ledger: u64,
    /// How many of them are in memory at most, about.
    pub in_memory: u64,
    /// How many of them may be remembered; None without a bound.
    pub most: Option<u64>,
}

impl StateCost {
    /// Of a plan that remembers so many, of which so many are in memory.
    fn bounded(self, most: usize, in_memory: usize) -> Self {
        Self { in_memory: bytes(in_memory.min(most)), most: Some(bytes(most)), ..self }
    }

    /// How many have room in so many bytes.
    fn room(&self, memory: u64) -> usize {
        usize::try_from(memory / self.memory.max(1)).unwrap_or(usize::MAX).max(1)
    }
}

impl WindowPlan {
    /// With so many bytes of memory for its groups, about.
    pub(crate) fn within(self, memory: u64) -> Self {
        Self { in_memory: window_cost(&self).room(memory), ..self }
    }
}

impl ReferencePlan {
    /// With so many bytes of memory for its rows, about.
    pub(crate) fn within(self, memory: u64) -> Self {
        Self { in_memory: reference(&self).room(memory), ..self }
    }
}

/// The bytes of a value, about.
fn width(ty: SqlType) -> u64 {
    match ty {
        SqlType::Text => TEXT,
        SqlType::Json => 4 * TEXT,
        SqlType::Boolean | SqlType::Null => 1,
        SqlType::Integer | SqlType::Date => 4,
        SqlType::Bigint | SqlType::Double | SqlType::Timestamptz | SqlType::Timestamp => 8,
        SqlType::Decimal { .. } | SqlType::Interval => 16,
    }
}

fn widths<'c>(columns: impl IntoIterator<Item = &'c OutputColumn>) -> u64 {
    columns.into_iter().map(|c| width(c.ty) + 1).sum()
}

/// The bytes of a row of one side: its columns, and its key once more where it is found by that.
fn row(side: &JoinSide) -> (u64, u64) {
    let key = widths(side.key.iter().map(|(column, _)| column));
    (widths(&side.columns), key)
}

fn bytes(size: usize) -> u64 {
    size as u64
}

impl StatePlan {
    /// What it takes up for each thing that it remembers.
    pub fn cost(&self) -> StateCost {
        match self {
            Self::Once(plan) => {
                let key = widths(plan.key.iter().map(|(_, column)| column));
                let (of, in_memory) = ("key", bytes(once::REMEMBERED));
                StateCost { of, memory: key + ENTRY, ledger: key + 8 + LEDGER_ROW, in_memory, most: None }
            }
            Self::Window(plan) => window_cost(plan),
            Self::Join(plan) => {
                let each = |side: &JoinSide| {
                    let (columns, key) = row(side);
                    // The columns, the key and the time; what became of it, its place in the order of times, and that by key.
                    (columns + 2 * key + 8 + 1 + 4 + ENTRY + 32, columns + key + 8)
                };
                let (left, right) = (each(&plan.sides[LEFT]), each(&plan.sides[RIGHT]));
                let (memory, ledger) = (left.0.max(right.0), left.1.max(right.1));
                StateCost { of: "row", memory, ledger, in_memory: 0, most: None }.bounded(plan.most, plan.most)
            }
            Self::Reference(plan) => reference(plan),
        }
    }
}

fn window_cost(plan: &WindowPlan) -> StateCost {
    let key = widths(plan.groups.iter().map(|(_, column)| column));
    let lists = |kind: AggregateKind| {
        matches!(kind, AggregateKind::List | AggregateKind::Percentile | AggregateKind::CountDistinct)
    };
    let each = |call: &super::AggregateCall| {
        let value = call.argument.map_or(8, |(_, ty)| width(ty));
        // Lists grow with the events; a few are reckoned with.
        let values = if lists(call.kind) { 16 * (value + 24) } else { value };
        (bytes(size_of::<Partial>()) + values, 9 + values)
    };
    let (memory, ledger) = plan.calls.iter().map(each).fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1));
    let cost = StateCost {
        of: "group",
        // The key stands in the group and in the map.
        memory: bytes(size_of::<window::Group>()) + 2 * key + ENTRY + memory,
        ledger: key + 24 + ledger + LEDGER_ROW,
        in_memory: 0,
        most: None,
    };
    cost.bounded(plan.most, plan.in_memory)
}

fn reference(plan: &ReferencePlan) -> StateCost {
    let (columns, key) = row(&plan.sides[RIGHT]);
    let cost = StateCost {
        of: "row",
        // Until they are written again, half of the stored rows may have been replaced.
        memory: 2 * columns + key + ENTRY + 24,
        ledger: columns + key + 9 + LEDGER_ROW,
        in_memory: 0,
        most: None,
    };
    cost.bounded(plan.most, plan.in_memory)
}
