//! Moments for people.

use sluice_core::values::time::show_timestamp;

/// The present moment in microseconds since 1970.
pub(crate) fn now() -> i64 {
    chrono::Utc::now().timestamp_micros()
}

/// A moment to the second, in UTC.
pub(crate) fn second(micros: i64) -> String {
    show_timestamp(micros.div_euclid(1_000_000) * 1_000_000).replace('T', " ").replace('Z', "")
}

/// How long ago a moment was.
pub(crate) fn ago(micros: i64) -> String {
    match (now() - micros) / 1_000_000 {
        s if s < 2 => "just now".into(),
        s if s < 120 => format!("{s} s ago"),
        s if s < 7200 => format!("{} min ago", s / 60),
        s if s < 172_800 => format!("{} h ago", s / 3600),
        s => format!("{} days ago", s / 86_400),
    }
}
