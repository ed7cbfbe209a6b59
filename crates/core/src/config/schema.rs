//! JSON Schemas of the project's files, for editors, made from the declared options.

use serde_json::{Map, Value, json};

use super::options::{OptionSpec, ValueKind};
use super::{each, pipeline, project};
use crate::kinds::Registry;

const DIALECT: &str = "https://json-schema.org/draft/2020-12/schema";
const NAME: &str = "^[A-Za-z][A-Za-z0-9_-]{0,62}$";

/// The schema of `sluice.toml`.
pub fn project_schema(registry: &Registry) -> Value {
    let mut connections = vec![project::CONNECTION_OPTIONS];
    connections.extend(registry.connections().map(|c| c.options));
    let mut schema = table(&[project::FILE_OPTIONS]);
    put(&mut schema, "connection", by_name(&table(&connections)));
    named(schema, "sluice.toml", "a project: its name, its ledger, its connections")
}

/// The schema of `pipelines/*.toml`.
pub fn pipeline_schema(registry: &Registry) -> Value {
    let mut arrivals = vec![pipeline::ARRIVAL_OPTIONS];
    arrivals.extend(registry.intakes().map(|k| k.options()));
    let mut landings = vec![pipeline::LANDING_OPTIONS];
    landings.extend(registry.landings().map(|k| k.options()));
    let arrival = table(&arrivals);
    let mut event = table(&[pipeline::EVENT_OPTIONS]);
    put(&mut event, "arrives", json!({ "anyOf": [arrival.clone(), { "type": "array", "items": arrival.clone() }] }));
    put(&mut event, "lands", by_name(&table(&landings)));
    let mut schema = table(&[pipeline::FILE_OPTIONS]);
    put(&mut schema, "event", by_name(&event));
    let mut each = table(&[each::EACH_OPTIONS]);
    let mut feed = arrival_of_each(&arrival);
    feed["required"] = json!(["at"]);
    put(&mut each, "arrives", feed);
    put(&mut each, "lands", by_name(&table(&landings)));
    put(&mut schema, "each", by_name(&each));
    schema["anyOf"] = json!([{ "required": ["event"] }, { "required": ["each"] }]);
    named(schema, "pipeline", "a pipeline: its events, where they arrive and where they land")
}

/// The arrival of a group of tables: `table` is written out.
fn arrival_of_each(arrival: &Value) -> Value {
    let mut form = arrival.clone();
    if let Some(keys) = form["properties"].as_object_mut() {
        keys.remove("table");
    }
    form
}

fn named(mut schema: Value, title: &str, about: &str) -> Value {
    schema["$schema"] = DIALECT.into();
    schema["title"] = title.into();
    schema["description"] = about.into();
    schema
}

/// Replaces the form of a key and keeps its help.
fn put(schema: &mut Value, key: &str, mut form: Value) {
    form["description"] = schema["properties"][key]["description"].clone();
    schema["properties"][key] = form;
}

fn by_name(form: &Value) -> Value {
    json!({ "type": "object", "patternProperties": { NAME: form }, "additionalProperties": false })
}

/// A table with the keys of all declarations. A key that several kinds declare takes any of their forms.
fn table(specs: &[&'static [OptionSpec]]) -> Value {
    let mut properties = Map::new();
    let mut required = Vec::new();
    for spec in specs.iter().flat_map(|s| s.iter()) {
        let form = property(spec);
        match properties.get_mut(spec.key) {
            Some(known) if *known != form => {
                let several = known.get_mut("anyOf").and_then(Value::as_array_mut);
                match several {
                    Some(forms) => forms.push(form),
                    None => *known = json!({ "anyOf": [known.clone(), form] }),
                }
            }
            Some(_) => {}
            None => {
                properties.insert(spec.key.into(), form);
            }
        }
        if spec.required {
            required.push(Value::from(spec.key));
        }
    }
    json!({ "type": "object", "properties": properties, "required": required, "additionalProperties": false })
}

fn property(spec: &OptionSpec) -> Value {
    let mut form = match spec.value {
        ValueKind::Text | ValueKind::Sql | ValueKind::Template | ValueKind::Duration => json!({ "type": "string" }),
        ValueKind::Texts => {
            json!({ "anyOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" } }] })
        }
        ValueKind::Character => json!({ "type": "string", "minLength": 1, "maxLength": 1 }),
        ValueKind::Name => json!({ "type": "string", "pattern": NAME }),
        ValueKind::Integer { min, max: u64::MAX } => json!({ "type": "integer", "minimum": min }),
        ValueKind::Integer { min, max } => json!({ "type": "integer", "minimum": min, "maximum": max }),
        ValueKind::Size => json!({ "type": ["string", "integer"] }),
        ValueKind::Share => json!({ "type": ["string", "number"] }),
        ValueKind::Flag => json!({ "type": "boolean" }),
        ValueKind::Choice(words) => json!({ "enum": words }),
        ValueKind::Secret => json!({ "anyOf": [
            { "type": "object", "properties": { "env": { "type": "string" } }, "required": ["env"], "additionalProperties": false },
            { "type": "object", "properties": { "file": { "type": "string" } }, "required": ["file"], "additionalProperties": false },
        ] }),
        ValueKind::Table(inner) => table(&[inner]),
        ValueKind::Tables => json!({ "type": ["object", "array"] }),
    };
    form["description"] = spec.help.into();
    if let Some(default) = spec.default {
        form["default"] = match spec.value {
            ValueKind::Integer { .. } => default.replace('_', "").parse::<u64>().map_or(Value::Null, Value::from),
            ValueKind::Flag => Value::from(default == "true"),
            _ => default.into(),
        };
    }
    form
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_forms_and_defaults_come_from_the_declarations() {
        let schema = pipeline_schema(&Registry::default());
        let batch = &schema["properties"]["batch"]["properties"];
        assert_eq!(batch["rows"]["default"], 1_000_000);
        assert_eq!(batch["every"]["default"], "10s");
        assert_eq!(schema["required"], json!(["pipeline"]));
        assert_eq!(schema["anyOf"], json!([{ "required": ["event"] }, { "required": ["each"] }]));
        let event = &schema["properties"]["event"]["patternProperties"][NAME];
        assert_eq!(event["properties"]["extra"]["enum"], json!(["ignore", "keep", "reject"]));
        let arrival = &event["properties"]["arrives"]["anyOf"][0];
        assert_eq!(arrival["properties"]["format"]["default"], "jsonl");
        assert_eq!(arrival["additionalProperties"], false);
    }

    #[test]
    fn connections_are_tables_by_name() {
        let schema = project_schema(&Registry::default());
        let connection = &schema["properties"]["connection"]["patternProperties"][NAME];
        assert_eq!(connection["required"], json!(["url"]));
        assert!(schema["properties"]["connection"]["description"].is_string());
    }
}
