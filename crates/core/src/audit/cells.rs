//! Which columns of a mirror can be compared with its source, and the text of their values.

use arrow_array::RecordBatch;
use serde_json::Value;
use serde_json::value::RawValue;

use super::Row;
use crate::columns::OutputColumn;
use crate::expr::{Expr, Node};
use crate::plan::{EventPlan, LandingPlan};
use crate::types::SqlType;
use crate::values::json::write_value;

/// The part of a landing's rows that is compared.
#[derive(Clone, Debug)]
pub struct Comparable {
    /// The columns, in the order of the landing.
    pub columns: Vec<OutputColumn>,
    /// The places of the key's columns among them.
    pub key: Vec<usize>,
    /// Columns that are left out: their values depend on the change or the moment, not on the row alone.
    pub left_out: Vec<String>,
}

impl Comparable {
    /// The part of a landing that can be compared.
    ///
    /// # Errors
    /// In words, why nothing of it can.
    pub fn of(event: &EventPlan, landing: &LandingPlan) -> Result<Self, String> {
        let fields = event.fields().len();
        if landing.options.is_set("change") {
            return Err("its key `change` decides which rows are deleted".into());
        }
        if let Some(when) = &landing.transform.when
            && when.parts.iter().any(|(_, part)| depends(part, fields))
        {
            return Err("its condition reads what a change is, or the time".into());
        }
        let (mut columns, mut left_out) = (Vec::new(), Vec::new());
        for (place, column) in landing.columns().iter().enumerate() {
            if column.name.starts_with('@') {
                continue;
            }
            let is_of_change = match landing.transform.expression(place) {
                Some(expr) => depends(expr, fields),
                None => place >= fields,
            };
            match is_of_change {
                true => left_out.push(column.name.clone()),
                false => columns.push(column.clone()),
            }
        }
        let mut key = Vec::new();
        for name in landing.options.texts("key") {
            match columns.iter().position(|c| c.name == name) {
                Some(place) => key.push(place),
                None => return Err(format!("its key has the column `{name}`, which depends on the change")),
            }
        }
        if key.is_empty() {
            return Err("it has no key".into());
        }
        Ok(Self { columns, key, left_out })
    }

    /// The rows of a batch, each with the texts of its values. Columns are found by their names.
    ///
    /// # Errors
    /// Where the batch lacks a column: its name.
    pub fn rows(&self, batch: &RecordBatch) -> Result<Vec<Row>, String> {
        let find = |column: &OutputColumn| batch.column_by_name(&column.name).ok_or_else(|| column.name.clone());
        let arrays = self.columns.iter().map(find).collect::<Result<Vec<_>, _>>()?;
        let cell = |row: usize, place: usize| {
            let is_json = self.columns[place].ty == SqlType::Json;
            let mut text = String::new();
            write_value(&mut text, arrays[place].as_ref(), row, is_json);
            if is_json { same_json(text) } else { text }
        };
        let array = |cells: &mut dyn Iterator<Item = String>| format!("[{}]", cells.collect::<Vec<_>>().join(","));
        let one = |row: usize| {
            let cells: Vec<String> = (0..self.columns.len()).map(|place| cell(row, place)).collect();
            Row {
                key: array(&mut self.key.iter().map(|place| cells[*place].clone())),
                values: array(&mut cells.into_iter()),
                origin: None,
            }
        };
        Ok((0..batch.num_rows()).map(one).collect())
    }

    /// The values of a row by column, each as JSON; none where several rows have one key.
    pub fn split(values: &str) -> Vec<Box<RawValue>> {
        serde_json::from_str(values).unwrap_or_default()
    }
}

/// Whether an expression reads anything but the row's own fields.
fn depends(expr: &Expr, fields: usize) -> bool {
    let mut columns = std::collections::BTreeSet::new();
    expr.add_columns(&mut columns);
    columns.into_iter().any(|column| column >= fields) || has_now(expr)
}

fn has_now(expr: &Expr) -> bool {
    let mut found = matches!(expr.node, Node::Now);
    expr.for_each_part(&mut |part| found |= has_now(part));
    found
}

/// The same JSON in one spelling: stores keep the members of objects in orders of their own.
fn same_json(text: String) -> String {
    match serde_json::from_str::<Value>(&text) {
        Ok(value) => sorted(value).to_string(),
        Err(_) => text,
    }
}

fn sorted(value: Value) -> Value {
    match value {
        Value::Array(items) => Value::Array(items.into_iter().map(sorted).collect()),
        Value::Object(members) => {
            let mut members: Vec<(String, Value)> = members.into_iter().map(|(k, v)| (k, sorted(v))).collect();
            members.sort_by(|a, b| a.0.cmp(&b.0));
            Value::Object(members.into_iter().collect())
        }
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Int32Array, StringArray};

    #[rstest]
    #[case(r#"{"b": 1, "a": [ {"d":2,"c":3} ]}"#, r#"{"a":[{"c":3,"d":2}],"b":1}"#)]
    #[case("null", "null")]
    #[case("not json", "not json")]
    fn json_has_one_spelling(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(same_json(text.into()), expected);
    }

    #[test]
    fn rows_are_found_by_the_names_of_their_columns() {
        let column = |name: &str, ty| OutputColumn { name: name.into(), ty, nullable: true, limit: None };
        let compared = Comparable {
            columns: vec![column("note", SqlType::Text), column("id", SqlType::Integer)],
            key: vec![1],
            left_out: Vec::new(),
        };
        let ids: ArrayRef = Arc::new(Int32Array::from(vec![Some(7), None]));
        let notes: ArrayRef = Arc::new(StringArray::from(vec![Some("a\"b"), None]));
        let batch = RecordBatch::try_from_iter(vec![("id", Arc::clone(&ids)), ("note", notes)]).unwrap();
        let rows = compared.rows(&batch).unwrap();
        assert_eq!((rows[0].key.as_str(), rows[0].values.as_str()), ("[7]", r#"["a\"b",7]"#));
        assert_eq!((rows[1].key.as_str(), rows[1].values.as_str()), ("[null]", "[null,null]"));
        let lacking = RecordBatch::try_from_iter(vec![("id", ids)]).unwrap();
        assert_eq!(compared.rows(&lacking), Err("note".to_string()));
    }
}
