//! Rows of an answer as chunks of JSON.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::Duration;

use serde::de::IgnoredAny;
use sluice_core::contract::Contract;
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader, Read, ReadLimit};
use sluice_core::types::SqlType;
use sluice_core::values::time;

use crate::databases::StoreError;
use crate::intakes::feed::json::{Object, Spelling, member_name};
use crate::landings::tables::session::{AnswerRow, Session};

/// How long a reader waits for rows at a time.
const PAUSE: Duration = Duration::from_millis(20);

/// A column that is asked for: those of the contract's fields, each once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct ListColumn {
    /// Its name at the source.
    pub name: String,
    ty: SqlType,
}

impl ListColumn {
    /// The columns that a contract needs.
    pub(super) fn of(contract: &Contract) -> Vec<Self> {
        let mut found: Vec<Self> = Vec::new();
        for field in &contract.fields {
            let Some(name) = field.path.first().filter(|name| found.iter().all(|c| c.name != **name)) else { continue };
            // What stands within a column is JSON; a moment with a pattern of its own is read by that.
            let ty = match field.path.len() {
                1 if field.format.is_some() => SqlType::Text,
                1 => field.ty,
                _ => SqlType::Json,
            };
            found.push(Self { name: name.clone(), ty });
        }
        found
    }

    /// A value in JSON, as the contract reads it. Only what is a number, a truth value or JSON stands without quotes.
    fn spelled(&self, text: String) -> (Spelling, String) {
        match self.ty {
            SqlType::Boolean => match text.as_str() {
                "t" | "true" | "1" => (Spelling::Truth, "t".into()),
                "f" | "false" | "0" => (Spelling::Truth, "f".into()),
                _ => (Spelling::Text, text),
            },
            SqlType::Integer | SqlType::Bigint | SqlType::Double | SqlType::Decimal { .. } if is_json(&text) => {
                (Spelling::Number, text)
            }
            SqlType::Json if is_json(&text) => (Spelling::Json, text),
            // Sessions have the zone UTC; what has none is meant so.
            SqlType::Timestamptz if time::parse_timestamp(text.as_bytes()).is_none() => {
                let zoned = format!("{text}Z");
                let is_moment = time::parse_timestamp(zoned.as_bytes()).is_some();
                (Spelling::Text, if is_moment { zoned } else { text })
            }
            _ => (Spelling::Text, text),
        }
    }
}

fn is_json(text: &str) -> bool {
    serde_json::from_str::<IgnoredAny>(text).is_ok()
}

/// Reads the rows of one answer, in the order in which they come. A position is a row.
pub(super) struct RowsReader {
    answer: Receiver<Outcome<Vec<AnswerRow>>>,
    members: Vec<(Vec<u8>, ListColumn)>,
    partition: Arc<str>,
    waiting: VecDeque<AnswerRow>,
    at: u64,
    /// Rows that are still wanted.
    left: u64,
}

impl RowsReader {
    /// Asks on a thread of its own, which ends with the reader.
    pub(super) fn ask(mut session: Box<dyn Session>, sql: String, columns: &[ListColumn], most: u64) -> Self {
        let (sender, answer) = sync_channel(2);
        sluice_core::threads::spawn("list", move || {
            let mut take = |rows: Vec<AnswerRow>| sender.send(Ok(rows)).is_ok();
            if let Err(error) = session.stream(&sql, &mut take) {
                // A reader that has left needs no answer.
                let _ = sender.send(Err(failure_of(error)));
            }
        });
        let members = columns.iter().map(|column| (member_name(&column.name), column.clone())).collect();
        Self { answer, members, partition: "list".into(), waiting: VecDeque::new(), at: 0, left: most }
    }

    fn chunk(&mut self, limit: ReadLimit) -> Chunk {
        let (mut bytes, mut starts) = (Vec::new(), Vec::new());
        let full = |bytes: &Vec<u8>| bytes.len() as u64 >= limit.bytes.min(1 << 30);
        while (starts.len() as u64) < limit.records.min(self.left)
            && (starts.is_empty() || !full(&bytes))
            && let Some(row) = self.waiting.pop_front()
        {
            starts.push(u32::try_from(bytes.len()).unwrap_or(u32::MAX));
            let mut object = Object::begin(&mut bytes);
            for ((name, column), value) in self.members.iter().zip(row) {
                let value = value.map(|text| column.spelled(text));
                let spelling = value.as_ref().map_or(Spelling::Text, |(spelling, _)| *spelling);
                object.member(name, spelling, value.as_ref().map(|(_, text)| text.as_bytes()));
            }
            object.end();
            bytes.push(b'\n');
        }
        let records = starts.len() as u64;
        let from = Position::at(self.at);
        self.at += records;
        self.left -= records;
        let (to, partition) = (Position::at(self.at), Arc::clone(&self.partition));
        Chunk { partition, from, to, bytes, records, numbered: Some(starts.into()), ..Chunk::default() }
    }
}

/// What an error of a query means: nothing has landed that could be compared.
pub(super) fn failure_of(error: StoreError) -> sluice_core::failure::Failure {
    use sluice_core::failure::{Failure, FailureKind};
    match error {
        StoreError::Away(message) => Failure::away(message),
        StoreError::Refused { message, .. } | StoreError::Changed(message) => {
            Failure::new(FailureKind::Configuration, message)
                .with_help("the query needs a column for each field of the event: correct `query` or `fields`")
        }
        StoreError::Failed(failure) => failure,
    }
}

impl LaneReader for RowsReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        if self.left == 0 {
            return Ok(Read::CaughtUp);
        }
        if self.waiting.is_empty() {
            match self.answer.recv_timeout(PAUSE) {
                Ok(rows) => self.waiting.extend(rows?),
                Err(RecvTimeoutError::Timeout) => return Ok(Read::Pending),
                Err(RecvTimeoutError::Disconnected) => return Ok(Read::CaughtUp),
            }
        }
        Ok(match self.waiting.is_empty() {
            true => Read::Pending,
            false => Read::Chunk(self.chunk(limit)),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const DECIMAL: SqlType = SqlType::Decimal { precision: 8, scale: 2 };

    #[rstest]
    #[case(SqlType::Text, "7", "\"7\"")]
    #[case(SqlType::Text, "a\"b", "\"a\\\"b\"")]
    #[case(SqlType::Integer, "-7", "-7")]
    #[case(SqlType::Integer, "7, \"lock_id\": 8", "\"7, \\\"lock_id\\\": 8\"")]
    #[case(DECIMAL, "12.50", "12.50")]
    #[case(SqlType::Double, "NaN", "\"NaN\"")]
    #[case(SqlType::Boolean, "t", "true")]
    #[case(SqlType::Boolean, "true", "true")]
    #[case(SqlType::Boolean, "0", "false")]
    #[case(SqlType::Boolean, "perhaps", "\"perhaps\"")]
    #[case(SqlType::Json, "{\"a\":\n1}", "{\"a\": 1}")]
    #[case(SqlType::Json, "1}, {", "\"1}, {\"")]
    #[case(SqlType::Timestamptz, "2026-07-01 05:06:07", "\"2026-07-01 05:06:07Z\"")]
    #[case(SqlType::Timestamptz, "2026-07-01 05:06:07+00", "\"2026-07-01 05:06:07+00\"")]
    #[case(SqlType::Timestamptz, "infinity", "\"infinity\"")]
    fn values_are_spelled_by_the_contract(#[case] ty: SqlType, #[case] text: &str, #[case] expected: &str) {
        let column = ListColumn { name: "n".into(), ty };
        let (spelling, text) = column.spelled(text.to_string());
        let mut out = Vec::new();
        crate::intakes::feed::json::write_value(&mut out, spelling, text.as_bytes());
        assert_eq!(String::from_utf8(out).unwrap(), expected);
    }
}
