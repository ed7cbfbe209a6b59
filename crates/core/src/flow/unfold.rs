//! Lists unfolded: each element becomes a row, beside the other columns of its event.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::{
    Array as _, ArrayRef, Int32Array, RecordBatch, RecordBatchOptions, StringArray, UInt32Array, new_null_array,
};
use arrow_schema::{DataType, SchemaRef};
use arrow_select::take::take;

use super::Arriving;
use crate::columns::OutputColumn;
use crate::expr::{Column, EvalContext, Expr, cast_column, evaluate, json_length, json_members, json_type};
use crate::formats::ColumnBuilder;
use crate::formats::json::scan::unescape_or_spelled;
use crate::limit::Limit;
use crate::plan::Transform;
use crate::plan::transform::{RowFault, Transformed, schema_of};
use crate::reject::Reason;
use crate::types::SqlType;

/// A list that each row of an event has.
#[derive(Debug)]
pub struct Unfold {
    /// What computes it, as JSON.
    list: Expr,
    /// Its name, which is that of an element.
    name: String,
    /// The columns of a row: those of the event, then those of the element.
    columns: Vec<OutputColumn>,
    schema: SchemaRef,
    /// Those of the event that the station reads, by their places; others are left out.
    kept: BTreeSet<usize>,
}

/// Bytes that the elements of one event may have together with what stands beside each of them: a small event must not become
/// one of any size.
const MAX_EVENT: usize = 16 << 20;

/// Bytes after which rows go on.
const MAX_PORTION: usize = 64 << 20;

/// The rows of lists that were unfolded.
pub(crate) struct Unfolded {
    /// The rows, those of lists that are none last: they are at fault.
    rows: RecordBatch,
    /// For each the row that was decoded.
    origin: Vec<u32>,
    /// How many of them are good.
    good: usize,
    /// Why the others are not.
    faults: Vec<RowFault>,
}

impl Unfold {
    /// A list under a name, of rows with the columns `input`.
    pub fn new(list: Expr, name: &str, input: &[OutputColumn]) -> Self {
        let mut columns = input.to_vec();
        columns.extend(Self::element(name));
        // The items of a list of SQL have its type; those of JSON are JSON.
        if let Some(Limit::List(item)) = list.limit {
            columns[input.len()].ty = item;
        }
        let shown: Vec<OutputColumn> = columns.iter().map(|c| OutputColumn { nullable: true, ..c.clone() }).collect();
        Self { list, name: name.into(), columns, schema: schema_of(&shown), kept: BTreeSet::new() }
    }

    /// Keeps what a transform of the rows reads, beside the element itself.
    #[must_use]
    pub fn keeping(mut self, transform: &Transform) -> Self {
        let of_event = self.columns.len() - Self::element("").len();
        self.kept = transform.event_columns().into_iter().filter(|place| *place < of_event).collect();
        self
    }

    /// The columns of the event that are read, for the list and beside its elements.
    pub fn reads(&self) -> BTreeSet<usize> {
        let mut found = self.kept.clone();
        self.list.add_columns(&mut found);
        found
    }

    /// The columns of an element.
    pub fn element(name: &str) -> [OutputColumn; 3] {
        let column = |name: String, ty, nullable| OutputColumn { name, ty, nullable, limit: None };
        [
            column(name.into(), SqlType::Json, true),
            column(format!("{name}_number"), SqlType::Integer, false),
            column(format!("{name}_name"), SqlType::Text, true),
        ]
    }

    /// The columns of a row.
    pub fn columns(&self) -> &[OutputColumn] {
        &self.columns
    }

    /// Unfolds the lists of some rows, in portions of bounded size; one at the least. Null and what is not there is a list without
    /// elements.
    pub(crate) fn apply(&self, rows: Arriving<'_>, now: i64) -> Vec<Unfolded> {
        let count = rows.rows.num_rows();
        let lists = evaluate(&self.list, &EvalContext::new(rows.rows, now)).expand(count);
        let mut errors: BTreeMap<usize, String> = lists.errors.iter().map(|(row, e)| (row, e.to_string())).collect();
        let mut portion = Portion::default();
        let mut portions = Vec::new();
        for row in 0..count {
            if let Some(reason) = errors.remove(&row) {
                portion.wrong.push((row, reason));
                continue;
            }
            if lists.is_null(row) {
                continue;
            }
            let size = self.size_beside(rows.rows, row);
            let text = lists.text().value(row);
            // There are fewer elements than bytes, so most lists need not be counted beforehand.
            let is_small = text.len().saturating_mul(size) <= MAX_EVENT;
            let length = if is_small { None } else { json_length(text) };
            if let Some(length) = length.filter(|length| length.saturating_mul(size) > MAX_EVENT) {
                let message =
                    format!("{length} elements of `{}`, each beside {size} bytes, are more than 16 MiB", self.name);
                portion.wrong.push((row, message));
                continue;
            }
            let before = portion.places.len();
            match portion.take(row, text) {
                true => portion.bytes += (portion.places.len() - before).saturating_mul(size) + text.len(),
                false => {
                    portion.truncate(before);
                    let message = match json_type(text) {
                        "array" | "object" => format!("`{}` is nested too deeply to be unfolded", self.name),
                        other => format!("`{}` is not a list or an object, but a {other}", self.name),
                    };
                    portion.wrong.push((row, message));
                }
            }
            if portion.bytes > MAX_PORTION {
                portions.push(self.finish(rows, std::mem::take(&mut portion)));
            }
        }
        if portions.is_empty() || !portion.places.is_empty() || !portion.wrong.is_empty() {
            portions.push(self.finish(rows, portion));
        }
        portions
    }

    /// Bytes of a row that stand beside each of its elements.
    fn size_beside(&self, rows: &RecordBatch, row: usize) -> usize {
        let of = |place: &usize| match rows.column(*place).data_type() {
            DataType::Utf8 => rows.column(*place).as_string::<i32>().value(row).len(),
            _ => 8,
        };
        self.kept.iter().map(of).sum::<usize>() + 8
    }

    fn finish(&self, rows: Arriving<'_>, mut portion: Portion) -> Unfolded {
        let good = portion.places.len();
        let mut faults = Vec::with_capacity(portion.wrong.len());
        for (row, message) in std::mem::take(&mut portion.wrong) {
            let column = Some(self.name.clone());
            faults.push(RowFault { row: portion.places.len(), column, reason: Reason::EXPRESSION, message });
            portion.places.push(u32::try_from(row).unwrap_or(u32::MAX));
            portion.numbers.push(0);
            portion.items.push_null();
            portion.names.push_null();
        }
        let places = UInt32Array::from(portion.places);
        let mut columns: Vec<ArrayRef> = Vec::with_capacity(self.columns.len());
        for (place, array) in rows.rows.columns().iter().enumerate() {
            columns.push(match self.kept.contains(&place) {
                true => take(array, &places, None).expect("places are those of rows"),
                // Nobody reads it.
                false => new_null_array(array.data_type(), places.len()),
            });
        }
        let numbers = Arc::new(Int32Array::from(portion.numbers));
        let items = portion.items.finish();
        let items = match self.list.limit {
            Some(Limit::List(item)) => typed(&items, item),
            _ => items,
        };
        columns.extend([items, numbers as ArrayRef, portion.names.finish()]);
        let options = RecordBatchOptions::new().with_row_count(Some(places.len()));
        let batch = RecordBatch::try_new_with_options(Arc::clone(&self.schema), columns, &options);
        let origin = places.values().iter().map(|place| {
            let row = usize::try_from(*place).unwrap_or(0);
            u32::try_from(rows.decoded(row)).unwrap_or(u32::MAX)
        });
        Unfolded { origin: origin.collect(), rows: batch.expect("columns have their types"), good, faults }
    }
}

/// Items of a list of SQL, which come as JSON.
fn typed(items: &ArrayRef, item: SqlType) -> ArrayRef {
    let mut plain = Vec::new();
    let texts = items.as_string::<i32>().iter().map(|token| match token? {
        "null" => None,
        token => match token.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) {
            Some(raw) => {
                plain.clear();
                unescape_or_spelled(raw.as_bytes(), &mut plain);
                Some(String::from_utf8_lossy(&plain).into_owned())
            }
            None => Some(token.to_string()),
        },
    });
    let texts: ArrayRef = Arc::new(texts.collect::<StringArray>());
    let rows = texts.len();
    cast_column(Column::of(texts), SqlType::Text, item, rows).array
}

/// Elements that are taken together.
struct Portion {
    items: ColumnBuilder,
    names: ColumnBuilder,
    numbers: Vec<i32>,
    /// For each element the row that it came from.
    places: Vec<u32>,
    /// Rows whose list cannot be unfolded, and why.
    wrong: Vec<(usize, String)>,
    bytes: usize,
}

impl Default for Portion {
    fn default() -> Self {
        Self {
            items: ColumnBuilder::new(SqlType::Json),
            names: ColumnBuilder::new(SqlType::Text),
            numbers: Vec::new(),
            places: Vec::new(),
            wrong: Vec::new(),
            bytes: 0,
        }
    }
}

impl Portion {
    /// Forgets elements from a place on.
    fn truncate(&mut self, elements: usize) {
        self.items.truncate(elements);
        self.names.truncate(elements);
        self.numbers.truncate(elements);
        self.places.truncate(elements);
    }

    /// Takes the elements of a list; false where it is not one.
    fn take(&mut self, row: usize, text: &str) -> bool {
        let mut number = 0_i32;
        json_members(text, |name, value| {
            number = number.saturating_add(1);
            self.numbers.push(number);
            self.places.push(u32::try_from(row).unwrap_or(u32::MAX));
            self.items.push_text(value);
            match name {
                Some(name) => self.names.push_text(name),
                None => self.names.push_null(),
            }
        })
    }
}

impl Unfolded {
    /// The rows, as they come to the station.
    pub(crate) fn arriving(&self) -> Arriving<'_> {
        Arriving { rows: &self.rows, marks: None, origin: Some(&self.origin) }
    }

    /// How many of them are elements; those after them are at fault.
    pub(crate) fn good(&self) -> usize {
        self.good
    }

    /// Why lists could not be unfolded.
    pub(crate) fn faults(&self) -> &[RowFault] {
        &self.faults
    }

    /// Takes them through a transform.
    pub(super) fn pass(&self, transform: &Transform, now: i64) -> Transformed {
        let mut result = transform.apply(&self.rows.slice(0, self.good), now);
        result.faults.extend(self.faults.iter().cloned());
        result
    }
}
