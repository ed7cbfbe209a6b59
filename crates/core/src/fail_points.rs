//! Named points of the commit path where a test can stop the program.
//!
//! In an ordinary build [`reach`] does nothing. With the feature `failpoints` a handler, set once by the program, is
//! called with the point's name; the handler of the command line kills its own process there.

/// Every point, in the order in which a batch passes them.
pub const ALL: &[&str] = &[
    "open.recorded",
    "stage.first_rows",
    "stage.closed",
    "stage.synced",
    "seal.before",
    "seal.after",
    "publish.before",
    "publish.file_renamed",
    "publish.folders_synced",
    "publish.recorded",
    "land.before",
    "land.after",
    "settle.before",
    "settle.after",
    "recover.before",
    "recover.after",
];

#[cfg(feature = "failpoints")]
mod handler {
    use std::sync::OnceLock;

    static HANDLER: OnceLock<fn(&str)> = OnceLock::new();

    /// Sets what happens when a point is reached. The first call wins.
    pub fn on_reach(handler: fn(&str)) {
        let _ = HANDLER.set(handler);
    }

    pub(super) fn call(name: &str) {
        debug_assert!(super::ALL.contains(&name), "undeclared fail point {name}");
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
