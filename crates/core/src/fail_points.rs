//! Named points of the commit path where a test can stop the program.
//!
//! In an ordinary build [`reach`] does nothing. With the feature `failpoints` a handler, set once by the program, is
//! called with the point's name; the handler of the command line kills its own process there.

/// Points that every batch passes, in their order; those of recovery come first in a run that finds something to do.
pub const COMMON: &[&str] = &[
    "open.recorded",
    "stage.first_rows",
    "stage.closed",
    "stage.synced",
    "seal.before",
    "seal.after",
    "publish.before",
    "land.before",
    "land.after",
    "settle.before",
    "settle.after",
    "recover.before",
    "recover.after",
];

/// Points of publishing into files.
pub const FILES: &[&str] = &["publish.begun", "publish.file_renamed", "publish.folders_synced", "publish.recorded"];

/// Points of publishing into topics.
pub const TOPICS: &[&str] =
    &["publish.topic_begun", "publish.topic_sent", "publish.topic_noted", "publish.topic_committed"];

/// Points of publishing into tables.
pub const TABLES: &[&str] = &["publish.table_noted", "publish.table_loaded", "publish.table_committed"];

/// Points that are only passed where a store refuses rows.
pub const REFUSALS: &[&str] = &["publish.table_split", "publish.table_refused", "refused.before", "refused.kept"];

/// Points that only a replay passes.
pub const REPLAY: &[&str] = &["replay.begun", "publish.file_removed"];

/// Points of taking over what landings hold, and of setting positions.
pub const CHOICES: &[&str] = &["adopt.before", "adopt.after", "positions.before", "positions.after"];

/// Points of giving up batches that cannot be finished.
pub const GIVE_UP: &[&str] = &["give_up.withdrawn", "give_up.kept", "give_up.landed"];

/// Points that only change feeds pass.
pub const FEEDS: &[&str] = &["feed.slot_made", "feed.whole", "feed.portion"];

/// Points of telling people.
pub const NOTICES: &[&str] = &["notice.noted", "notice.sent"];

/// Every point.
pub fn all() -> impl Iterator<Item = &'static str> {
    [COMMON, FILES, TOPICS, TABLES, REFUSALS, REPLAY, CHOICES, GIVE_UP, FEEDS, NOTICES].into_iter().flatten().copied()
}

#[cfg(feature = "failpoints")]
mod handler {
    use std::sync::OnceLock;

    static HANDLER: OnceLock<fn(&str)> = OnceLock::new();

    /// Sets what happens when a point is reached. The first call wins.
    pub fn on_reach(handler: fn(&str)) {
        let _ = HANDLER.set(handler);
    }

    pub(super) fn call(name: &str) {
        debug_assert!(super::all().any(|known| known == name), "undeclared fail point {name}");
        if let Some(handler) = HANDLER.get() {
            handler(name);
        }
    }
}

#[cfg(feature = "failpoints")]
pub use handler::on_reach;

/// Marks that the commit path has reached a named point.
#[inline]
pub fn reach(name: &'static str) {
    #[cfg(feature = "failpoints")]
    handler::call(name);
    #[cfg(not(feature = "failpoints"))]
    let _ = name;
}
