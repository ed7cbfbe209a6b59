//! A notice as it is sent.

use serde::{Deserialize, Serialize};

use crate::printable;
use crate::values::time::show_timestamp;

/// Which of its two messages it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Phase {
    /// It begins.
    Begins,
    /// It is over.
    Over,
}

impl Phase {
    /// The word for it in files and requests.
    pub fn word(self) -> &'static str {
        match self {
            Self::Begins => "begins",
            Self::Over => "over",
        }
    }
}

/// One message of a notice. Sent twice, it has the same `id`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Message {
    /// Tells it apart from every other message.
    pub id: String,
    /// The name of its rule.
    pub notice: String,
    /// Whether it begins.
    pub phase: Phase,
    /// The project.
    pub project: String,
    /// The pipeline.
    pub pipeline: String,
    /// What happened.
    pub message: String,
    /// What to do; empty where nothing is left to do.
    pub help: String,
    /// When it happened, as RFC 3339.
    pub at: String,
    /// When it began.
    pub began_at: String,
}

impl Message {
    /// A message about something that began and happened at moments in microseconds since 1970. Texts are cleaned.
    pub fn new(
        (id, project, notice, pipeline): (&str, &str, &str, &str),
        phase: Phase,
        (message, help): (&str, &str),
        (at, began_at): (i64, i64),
    ) -> Self {
        let clean = |text: &str| printable::line(text).into_owned();
        Self {
            id: id.into(),
            notice: notice.into(),
            phase,
            project: clean(project),
            pipeline: pipeline.into(),
            message: clean(message),
            help: clean(help),
            at: show_timestamp(at),
            began_at: show_timestamp(began_at),
        }
    }

    /// One line: what happened, where.
    pub fn headline(&self) -> String {
        let over = if self.phase == Phase::Over { "over: " } else { "" };
        format!("[{}] {over}{}", self.project, self.message)
    }

    /// For a person, as plain text.
    pub fn as_text(&self) -> String {
        let help = if self.help.is_empty() { String::new() } else { format!("\n{}", self.help) };
        let began = match self.phase {
            Phase::Begins => String::new(),
            Phase::Over => format!("\nbegan {}", self.began_at),
        };
        format!("{}{help}\n\nnotice {} · {}{began}\n", self.headline(), self.notice, self.at)
    }

    /// One line of JSON.
    pub fn as_json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }
}
