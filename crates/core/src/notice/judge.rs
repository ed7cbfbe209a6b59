//! What an observation of a pipeline means for a notice about it.

use std::time::Duration;

use crate::config::notice::Condition;
use crate::units::{show_count, show_duration, show_many, spelled};

/// A pipeline as it was seen. What is not known now is None: it neither begins a notice nor ends one.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Observed {
    /// The age of its oldest unread event; zero where there is none.
    pub behind: Option<Duration>,
    /// Its unread events.
    pub events_behind: Option<u64>,
    /// For how long it has read no event.
    pub silent: Option<Duration>,
    /// Events rejected within the time that the condition names.
    pub rejects: Option<u64>,
    /// What does not answer, each with the time since when.
    pub away: Option<Vec<(String, Duration)>>,
    /// How it stands.
    pub failure: Option<Subject>,
    /// How one field of its events has changed, in words; Some(None) where it has not.
    pub drift: Option<Option<String>>,
}

/// Whether a pipeline works.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Subject {
    /// It does.
    Works,
    /// It failed, and is tried again; so often in a row.
    Fails {
        /// How often.
        times: u32,
        /// Why.
        reason: String,
    },
    /// It has stopped.
    Stopped {
        /// Why.
        reason: String,
    },
}

/// So many failures in a row begin a notice.
const FAILURES: u32 = 3;

/// What to do about a notice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Nothing has changed, or nothing is known.
    Same,
    /// It begins.
    Begins {
        /// What happened, with the value and the limit.
        message: String,
        /// What to do.
        help: String,
    },
    /// It is over.
    Over {
        /// How it stands now.
        message: String,
    },
}

/// What an observation means for a notice that is open or not.
///
/// A notice about a number is over once the number is below four fifths of its limit: one that hovers around the limit is not told
/// again and again.
pub fn judge(pipeline: &str, condition: &Condition, seen: &Observed, is_open: bool) -> Verdict {
    match condition {
        Condition::Behind(limit) => longer(is_open, seen.behind, *limit, |age, over| match over {
            false => (
                format!("{pipeline} is behind: its oldest unread event is {age} old (limit {})", spelled(*limit)),
                format!("see what limits it: sluice status {pipeline}"),
            ),
            true if age == "0 s" => (format!("{pipeline} has caught up"), String::new()),
            true => (format!("{pipeline} is less behind: its oldest unread event is {age} old"), String::new()),
        }),
        Condition::EventsBehind(limit) => {
            let found = seen.events_behind;
            let text = |found: u64| format!("{} unread", show_many(found, "event"));
            number(is_open, found, *limit, |found, over| match over {
                false => (
                    format!("{pipeline} is behind: {} (limit {})", text(found), show_count(*limit)),
                    format!("see what limits it: sluice status {pipeline}"),
                ),
                true => (format!("{pipeline} is less behind: {}", text(found)), String::new()),
            })
        }
        Condition::Silent(limit) => {
            // One event is enough to end it.
            match seen.silent {
                Some(silent) if !is_open && silent > *limit => Verdict::Begins {
                    message: format!(
                        "{pipeline} has read no event for {} (limit {})",
                        show_duration(silent),
                        spelled(*limit)
                    ),
                    help: format!("see whether its source has events: sluice status {pipeline}"),
                },
                Some(silent) if is_open && silent <= *limit => {
                    Verdict::Over { message: format!("{pipeline} reads events again") }
                }
                _ => Verdict::Same,
            }
        }
        Condition::Rejects(limit, within) => {
            let within = spelled(*within);
            number(is_open, seen.rejects, *limit, |found, over| match over {
                false => (
                    format!(
                        "{pipeline} rejected {} within {within} (limit {})",
                        show_many(found, "event"),
                        show_count(*limit)
                    ),
                    format!("see which, and why: sluice rejects {pipeline}"),
                ),
                true => (format!("{pipeline} rejected {} within {within}", show_many(found, "event")), String::new()),
            })
        }
        Condition::Unreachable(limit) => match &seen.away {
            Some(away) if !is_open => match away.iter().find(|(_, since)| since > limit) {
                Some((what, since)) => Verdict::Begins {
                    message: format!("{pipeline}: {what}, for {}", show_duration(*since)),
                    help: "nothing is lost: the pipeline waits and continues when it answers".into(),
                },
                None => Verdict::Same,
            },
            Some(away) if away.is_empty() => {
                Verdict::Over { message: format!("{pipeline}: all sources and stores answer again") }
            }
            _ => Verdict::Same,
        },
        Condition::Stopped => failure(pipeline, seen.failure.as_ref(), is_open),
        Condition::Schema => match &seen.drift {
            Some(Some(drift)) if !is_open => Verdict::Begins {
                message: format!("{pipeline}: {drift}"),
                help: format!("compare with the contract: sluice ledger {pipeline} --fields"),
            },
            Some(None) if is_open => {
                Verdict::Over { message: format!("{pipeline}: the field matches the contract again") }
            }
            _ => Verdict::Same,
        },
    }
}

fn longer(
    is_open: bool,
    found: Option<Duration>,
    limit: Duration,
    words: impl Fn(&str, bool) -> (String, String),
) -> Verdict {
    match found {
        Some(found) if !is_open && found > limit => {
            let (message, help) = words(&show_duration(found), false);
            Verdict::Begins { message, help }
        }
        Some(found) if is_open && found < limit.mul_f64(0.8) => {
            let age = if found.is_zero() { "0 s".into() } else { show_duration(found) };
            Verdict::Over { message: words(&age, true).0 }
        }
        _ => Verdict::Same,
    }
}

fn number(is_open: bool, found: Option<u64>, limit: u64, words: impl Fn(u64, bool) -> (String, String)) -> Verdict {
    match found {
        Some(found) if !is_open && found > limit => {
            let (message, help) = words(found, false);
            Verdict::Begins { message, help }
        }
        Some(found) if is_open && (found == 0 || found < limit - limit / 5) => {
            Verdict::Over { message: words(found, true).0 }
        }
        _ => Verdict::Same,
    }
}

fn failure(pipeline: &str, seen: Option<&Subject>, is_open: bool) -> Verdict {
    match seen {
        Some(Subject::Stopped { reason }) if !is_open => Verdict::Begins {
            message: format!("{pipeline} stopped: {reason}"),
            help: format!("fix the cause, then: sluice start {pipeline}"),
        },
        Some(Subject::Fails { times, reason }) if !is_open && *times >= FAILURES => Verdict::Begins {
            message: format!("{pipeline} failed {}: {reason}", show_many(u64::from(*times), "time")),
            help: format!("it is retried; see since when: sluice status {pipeline}"),
        },
        Some(Subject::Works) if is_open => Verdict::Over { message: format!("{pipeline} runs again") },
        _ => Verdict::Same,
    }
}

#[cfg(test)]
#[path = "judge_tests.rs"]
mod tests;
