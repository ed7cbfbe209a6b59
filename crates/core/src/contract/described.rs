//! Contracts in the words of others: as JSON Schema (draft 2020-12), and as the columns of a SQL table.

use serde_json::{Map, Value, json};

use super::{Contract, ContractField};
use crate::columns::OutputColumn;
use crate::config::ExtraFields;
use crate::limit::Limit;
use crate::types::SqlType;
use crate::values::bytes::BytesSpelling;
use crate::values::time::TimeFormat;

/// A value somewhere in a record, and the members of the object that stands there.
#[derive(Default)]
struct Part {
    value: Option<Value>,
    is_needed: bool,
    members: Vec<(String, Part)>,
}

impl Part {
    fn add(&mut self, path: &[String], value: Value, is_needed: bool) {
        self.is_needed |= is_needed;
        let Some((name, rest)) = path.split_first() else {
            self.value = Some(value);
            return;
        };
        let at = match self.members.iter().position(|(known, _)| known == name) {
            Some(at) => at,
            None => {
                self.members.push((name.clone(), Self::default()));
                self.members.len() - 1
            }
        };
        self.members[at].1.add(rest, value, is_needed);
    }

    fn schema(self, is_closed: bool) -> Map<String, Value> {
        let mut schema = match self.value {
            Some(Value::Object(value)) => value,
            _ => Map::new(),
        };
        if self.members.is_empty() {
            return schema;
        }
        let ty = if self.is_needed { json!("object") } else { json!(["object", "null"]) };
        schema.insert("type".into(), ty);
        let needed: Vec<&String> =
            self.members.iter().filter(|(_, part)| part.is_needed).map(|(name, _)| name).collect();
        if !needed.is_empty() {
            schema.insert("required".into(), json!(needed));
        }
        let members = self.members.into_iter().map(|(name, part)| (name, Value::Object(part.schema(is_closed))));
        schema.insert("properties".into(), Value::Object(members.collect()));
        if is_closed {
            schema.insert("additionalProperties".into(), json!(false));
        }
        schema
    }
}

/// What records must look like that a contract takes as they are. Texts that it reads as numbers are not described.
pub fn json_schema(title: &str, contract: &Contract) -> Value {
    let mut all = Part { is_needed: true, ..Part::default() };
    for field in &contract.fields {
        all.add(&field.path, value_of(field), field.not_null);
    }
    finished(title, all.schema(contract.extra == ExtraFields::Reject))
}

/// What rows with columns look like, spelled as JSON.
pub fn json_schema_of_rows(title: &str, columns: &[OutputColumn]) -> Value {
    let mut all = Part { is_needed: true, ..Part::default() };
    for column in columns {
        let value = narrowed(column.ty, column.limit, None, column.nullable);
        all.add(std::slice::from_ref(&column.name), value, !column.nullable);
    }
    finished(title, all.schema(true))
}

fn finished(title: &str, schema: Map<String, Value>) -> Value {
    let mut out = Map::new();
    out.insert("$schema".into(), json!("https://json-schema.org/draft/2020-12/schema"));
    out.insert("title".into(), json!(title));
    out.extend(schema);
    Value::Object(out)
}

fn value_of(field: &ContractField) -> Value {
    let mut value = narrowed(field.ty, field.limit, field.format.as_ref(), !field.not_null);
    if field.limit == Some(Limit::Bytea) && field.spelling != BytesSpelling::Marked {
        let object = value.as_object_mut();
        object.map(|object| object.remove("pattern"));
        match field.spelling {
            BytesSpelling::Base64 => value["contentEncoding"] = json!("base64"),
            BytesSpelling::Hex => value["contentEncoding"] = json!("base16"),
            BytesSpelling::Marked | BytesSpelling::Text => {}
        }
    }
    value
}

fn narrowed(ty: SqlType, limit: Option<Limit>, format: Option<&TimeFormat>, nullable: bool) -> Value {
    let mut value = match (ty, format) {
        (_, Some(TimeFormat::Epoch(unit))) => {
            let unit = match unit {
                1 => "microseconds",
                1_000 => "milliseconds",
                _ => "seconds",
            };
            json!({ "type": "number", "description": format!("{unit} since 1970 in UTC") })
        }
        (_, Some(TimeFormat::Pattern(pattern))) => {
            json!({ "type": "string", "description": format!("written as {pattern}") })
        }
        (SqlType::Boolean, _) => json!({ "type": "boolean" }),
        (SqlType::Integer, _) => json!({ "type": "integer", "minimum": i32::MIN, "maximum": i32::MAX }),
        (SqlType::Bigint, _) => json!({ "type": "integer", "minimum": i64::MIN, "maximum": i64::MAX }),
        (SqlType::Double, _) => json!({ "type": "number" }),
        (SqlType::Decimal { precision, scale }, _) => {
            json!({ "type": "number", "description": format!("at most {precision} digits, {scale} of them after the point") })
        }
        (SqlType::Date, _) => json!({ "type": "string", "format": "date" }),
        (SqlType::Timestamptz, _) => json!({ "type": "string", "format": "date-time" }),
        (SqlType::Text | SqlType::Timestamp | SqlType::Interval, _) => json!({ "type": "string" }),
        (SqlType::Json | SqlType::Null, _) => json!({}),
    };
    match limit {
        Some(Limit::Smallint) => (value["minimum"], value["maximum"]) = (json!(i16::MIN), json!(i16::MAX)),
        Some(Limit::Varchar(most) | Limit::Char(most)) => value["maxLength"] = json!(most),
        Some(Limit::Uuid) => value["format"] = json!("uuid"),
        Some(Limit::Bytea) if value["description"].is_null() => value["pattern"] = json!("^\\\\x([0-9a-f]{2})*$"),
        Some(Limit::List(item)) => {
            value = json!({ "type": "array", "items": narrowed(item, None, None, true) });
        }
        Some(Limit::Time) => value["pattern"] = json!("^[0-9]{1,2}:[0-9]{2}(:[0-9]{2}([.][0-9]+)?)?$"),
        Some(Limit::Bytea | Limit::Real) | None => {}
    }
    if let (true, Some(ty)) = (nullable, value["type"].as_str().map(str::to_string)) {
        value["type"] = json!([ty, "null"]);
    }
    value
}

/// Columns as a table of SQL, in PostgreSQL's spelling.
pub fn sql_table(name: &str, columns: &[OutputColumn]) -> String {
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let width = columns.iter().map(|c| quoted(&c.name).chars().count()).max().unwrap_or(0);
    let line = |column: &OutputColumn| {
        let null = if column.nullable { "" } else { " not null" };
        format!("  {:width$} {}{null}", quoted(&column.name), column.type_shown())
    };
    format!("create table {} (\n{}\n);\n", quoted(name), columns.iter().map(line).collect::<Vec<_>>().join(",\n"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::contract::parse_fields;
    use crate::problem::Problems;
    use crate::sql::tests::embed;

    fn contract(fields: &str, extra: ExtraFields) -> Contract {
        let mut problems = Problems::new();
        let fields = parse_fields(&embed(fields), &mut problems);
        assert!(problems.is_empty());
        Contract { fields, extra, may_lack: false }
    }

    #[test]
    fn nested_fields_are_members_of_objects() {
        let fields = "id uuid not null, kg smallint from 'load.kg', kind varchar(8) not null from 'load.kind',
                      deep json from 'load.more', inner text from 'load.more.x', at timestamptz format 'epoch_ms', day date";
        let found = json_schema("weighing", &contract(fields, ExtraFields::Reject));
        let expected = json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "title": "weighing",
            "type": "object",
            "required": ["id", "load"],
            "properties": {
                "id": { "type": "string", "format": "uuid" },
                "load": {
                    "type": "object",
                    "required": ["kind"],
                    "properties": {
                        "kg": { "type": ["integer", "null"], "minimum": -32768, "maximum": 32767 },
                        "kind": { "type": "string", "maxLength": 8 },
                        "more": {
                            "type": ["object", "null"],
                            "properties": { "x": { "type": ["string", "null"] } },
                            "additionalProperties": false
                        }
                    },
                    "additionalProperties": false
                },
                "at": { "type": ["number", "null"], "description": "milliseconds since 1970 in UTC" },
                "day": { "type": ["string", "null"], "format": "date" }
            },
            "additionalProperties": false
        });
        assert_eq!(found, expected);
        let open = json_schema("weighing", &contract("id text", ExtraFields::Ignore));
        assert!(open.get("additionalProperties").is_none());
    }

    #[test]
    fn rows_are_tables() {
        let column = |name: &str, ty, nullable, limit| OutputColumn { name: name.into(), ty, nullable, limit };
        let columns = [
            column("id", SqlType::Text, false, Some(Limit::Uuid)),
            column("gross \"kg\"", SqlType::Decimal { precision: 8, scale: 2 }, true, None),
        ];
        let expected =
            "create table \"weighing\" (\n  \"id\"           uuid not null,\n  \"gross \"\"kg\"\"\" decimal(8,2)\n);\n";
        assert_eq!(sql_table("weighing", &columns), expected);
        let schema = json_schema_of_rows("weighing", &columns);
        assert_eq!((&schema["required"], &schema["additionalProperties"]), (&json!(["id"]), &json!(false)));
    }
}
