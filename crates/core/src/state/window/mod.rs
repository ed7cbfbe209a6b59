//! Windows: events are gathered by time and group, and each group gives one row.

mod due;
mod explain;
mod give;
mod groups;
mod kept;
mod session;
mod shape;
#[cfg(test)]
mod tests;
mod windows;

use super::aggregate::AggregateCall;
use crate::columns::OutputColumn;
use crate::plan::Transform;

pub use explain::WindowOf;
pub(crate) use explain::windows_of;
pub(crate) use give::virtual_columns;
pub(super) use groups::Group;
pub use shape::{FixedShape, SessionShape, WindowShape};
pub(super) use windows::Windows;

/// Gathers events into windows.
///
/// The rows that it takes are prepared: the parts of the group, the event time, arguments and conditions of the calls.
#[derive(Clone, Debug)]
pub struct WindowPlan {
    /// Where windows begin and end.
    pub shape: WindowShape,
    /// The parts of the group: their places among the prepared columns, and what they are.
    pub groups: Vec<(usize, OutputColumn)>,
    /// The place of the event time among the prepared columns.
    pub time: usize,
    /// What is computed of each group.
    pub calls: Vec<AggregateCall>,
    /// The columns of the event that it makes, over the parts of the group, the window's bounds and the calls.
    pub select: Transform,
    /// Whether each batch gives the present values of the groups that it changed, and not just those of closed windows.
    pub gives_changes: bool,
    /// Whether all windows close when all there is has been read.
    pub closes_when_caught_up: bool,
    /// How far behind the newest event one may come and still count, in microseconds.
    pub late: i64,
    /// How long a silent partition holds the watermark, in microseconds.
    pub idle: i64,
    /// How far ahead of the moment of reading an event's time may be, in microseconds.
    pub ahead: i64,
    /// How many groups may be open at a time.
    pub most: usize,
    /// How many of them may be in memory, about: others are looked up in the ledger.
    pub in_memory: usize,
}

/// The names of a window's bounds.
pub(crate) const BOUNDS: [&str; 2] = ["window_start", "window_end"];

impl WindowPlan {
    /// What it is, in words. Lateness and what it gives may change without harm to what is kept.
    pub(super) fn manner(&self) -> String {
        let mut manner = self.shape.manner();
        let groups: Vec<String> = self.groups.iter().map(|(_, c)| format!("{} {}", c.name, c.ty)).collect();
        if !groups.is_empty() {
            manner.push_str(&format!(" by {}", groups.join(", ")));
        }
        let calls: Vec<&str> = self.calls.iter().map(|c| c.text.as_str()).collect();
        format!("{manner}, with {}", calls.join(", "))
    }
}
