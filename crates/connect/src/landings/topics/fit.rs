//! What a topic takes: so many bytes in one message, and so many partitions.

use arrow_array::{Array, RecordBatch, cast::AsArray as _};
use arrow_schema::DataType;
use serde::{Deserialize, Serialize};
use sluice_core::kinds::{Fit, Unfit};
use sluice_core::units::show_count;
use sluice_core::values::json::write_text;

use super::message::{OVERHEAD, OutgoingMessage};
use super::rows::{MessageShape, keys, partitions, values_of};
use crate::broker::{Admin, Broker, Topic};

/// What brokers take where they do not tell (the protocol's usual `max.message.bytes`).
const USUAL: u64 = 1_048_588;

/// The client library's own bounds for a message.
const CLIENT: std::ops::RangeInclusive<u64> = 1_000..=1_000_000_000;

/// Bytes of a value that is not text, at most, with its name left out.
const SMALL: usize = 64;

/// What a topic said of itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct TopicLimits {
    topic: String,
    partitions: i64,
    largest: u64,
}

/// The check of rows against it.
#[derive(Clone, Debug)]
pub(super) struct TopicFit {
    reported: TopicLimits,
    shape: MessageShape,
}

impl TopicFit {
    /// Asks the broker how large a message of the topic may be.
    pub(super) fn new(broker: &Broker, topic: &Topic, shape: MessageShape) -> Self {
        let config = Admin::new(broker).ok().and_then(|admin| admin.configs([&*topic.name]).remove(&topic.name));
        let largest = config.and_then(|config| config.largest).unwrap_or(USUAL).clamp(*CLIENT.start(), *CLIENT.end());
        let partitions = i64::try_from(topic.partitions.len()).unwrap_or(i64::MAX).max(1);
        Self { reported: TopicLimits { topic: topic.name.clone(), partitions, largest }, shape }
    }

    /// The bytes of the largest message.
    pub(super) fn largest(&self) -> u64 {
        self.reported.largest
    }

    /// For keeping with staged work.
    pub(super) fn detail(&self) -> serde_json::Value {
        serde_json::to_value(&self.reported).unwrap_or_default()
    }

    /// The check as it was when work was staged.
    pub(super) fn with_detail(&self, detail: &serde_json::Value) -> Self {
        let reported = serde_json::from_value(detail.clone()).unwrap_or_else(|_| self.reported.clone());
        Self { reported, shape: self.shape.clone() }
    }

    /// Whether some row could be too large, by the longest value of each column alone.
    fn may_be_too_large(&self, rows: &RecordBatch) -> bool {
        let schema = rows.schema();
        let longest: usize = schema
            .fields()
            .iter()
            .zip(rows.columns())
            .map(|(field, column)| {
                let value = match column.data_type() {
                    // A letter is escaped by six others at most.
                    DataType::Utf8 => {
                        let ends = column.as_string::<i32>().value_offsets().windows(2).map(|w| w[1] - w[0]);
                        usize::try_from(ends.max().unwrap_or(0)).unwrap_or(usize::MAX).saturating_mul(6)
                    }
                    _ => SMALL,
                };
                value.saturating_add(field.name().len().saturating_mul(6)).saturating_add(16)
            })
            .fold(OVERHEAD, usize::saturating_add);
        longest as u64 > self.reported.largest
    }

    fn too_large(&self, size: u64) -> String {
        format!(
            "the message is {} bytes with its key and headers; topic `{}` allows {} (max.message.bytes)",
            show_count(size),
            self.reported.topic,
            show_count(self.reported.largest)
        )
    }

    fn no_partition(&self, number: i64) -> String {
        let last = self.reported.partitions - 1;
        format!("`partition` is {number}, but topic `{}` has partitions 0 to {last}", self.reported.topic)
    }
}

impl Fit for TopicFit {
    fn unfit(&self, rows: &RecordBatch) -> Vec<Unfit> {
        let mut found: Vec<Option<Unfit>> = vec![None; 0];
        let mut note = |row: usize, column: Option<&str>, message: String| {
            found.resize(rows.num_rows(), None);
            found[row].get_or_insert(Unfit { row, column: column.map(str::to_string), message });
        };
        if let Some(numbers) = partitions(rows) {
            let beyond = |n: &i64| !(0..self.reported.partitions).contains(n);
            for (row, number) in numbers.into_iter().enumerate() {
                if let Some(number) = number.filter(beyond) {
                    note(row, Some("partition"), self.no_partition(number));
                }
            }
        }
        if let Some(keys) = keys(rows).filter(|_| self.shape.keys_are_base64) {
            let mut text = String::new();
            for row in (0..rows.num_rows()).filter(|row| !keys.is_null(*row)) {
                text.clear();
                write_text(&mut text, keys.as_ref(), row);
                if self.shape.is_broken_key(&text) {
                    note(row, Some("key"), "`key` is not valid base64 (key_as = \"base64\")".into());
                }
            }
        }
        if let Ok(values) = values_of(rows) {
            for refused in self.shape.writer.refused(&values) {
                note(refused.row, Some(&refused.column), refused.message);
            }
        }
        if self.may_be_too_large(rows) {
            let each = self.shape.each(rows, &mut String::new(), &mut OutgoingMessage::default(), |row, message| {
                let size = message.size();
                if size > self.reported.largest {
                    note(row, None, self.too_large(size));
                }
                Ok(())
            });
            // Rows that cannot be written fail again where they are staged, and there it is said.
            drop(each);
        }
        found.into_iter().flatten().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Int64Array, StringArray};
    use rstest::rstest;

    fn fit(partitions: i64, largest: u64, keys_are_base64: bool) -> TopicFit {
        let reported = TopicLimits { topic: "tolls".into(), partitions, largest };
        TopicFit {
            reported,
            shape: MessageShape {
                writer: crate::landings::topics::values::ValueWriter::Text(Arc::new(sluice_core::formats::JsonLines)),
                keys_are_base64,
            },
        }
    }

    fn rows(columns: Vec<(&str, ArrayRef)>) -> RecordBatch {
        RecordBatch::try_from_iter(columns).unwrap()
    }

    fn texts(values: &[&str]) -> ArrayRef {
        Arc::new(StringArray::from(values.to_vec()))
    }

    #[rstest]
    #[case(5_000, 5_000 - 96 - 8, 0)]
    #[case(5_000, 5_000 - 96 - 7, 1)]
    fn a_message_may_be_as_large_as_the_topic_says(#[case] largest: u64, #[case] length: usize, #[case] unfit: usize) {
        let long = "x".repeat(length);
        let rows = rows(vec![("n", texts(&["", &long, "short"]))]);
        let found = fit(1, largest, false).unfit(&rows);
        assert_eq!(found.len(), unfit, "{found:?}");
        assert!(found.iter().all(|f| f.row == 1 && f.message.contains("5,000")));
    }

    #[test]
    fn keys_and_headers_count_and_escapes_do() {
        let long = "\u{1}".repeat(900);
        let by_value = rows(vec![("n", texts(&[&long]))]);
        assert_eq!(fit(1, 5_000, false).unfit(&by_value).len(), 1, "each control character takes six");
        let text = "x".repeat(3_000);
        let by_parts = rows(vec![("n", texts(&["1"])), ("@key", texts(&[&text])), ("@headers.a", texts(&[&text]))]);
        assert_eq!(fit(1, 5_000, false).unfit(&by_parts).len(), 1);
    }

    #[test]
    fn a_row_whose_partition_is_not_there_is_reported() {
        let numbers: ArrayRef = Arc::new(Int64Array::from(vec![Some(0), Some(3), None, Some(-1), Some(2)]));
        let found = fit(3, 5_000, false).unfit(&rows(vec![("n", texts(&["a"; 5])), ("@partition", numbers)]));
        assert_eq!(found.iter().map(|f| f.row).collect::<Vec<_>>(), [1, 3]);
        assert_eq!(found[0].column.as_deref(), Some("partition"));
    }

    #[test]
    fn a_key_that_is_no_base64_is_reported() {
        let rows = rows(vec![("n", texts(&["a"; 2])), ("@key", texts(&["AQID", "no!"]))]);
        assert_eq!(fit(1, 5_000, true).unfit(&rows).iter().map(|f| f.row).collect::<Vec<_>>(), [1]);
        assert!(fit(1, 5_000, false).unfit(&rows).is_empty());
    }
}
