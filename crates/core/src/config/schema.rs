//! JSON Schemas of the project's files, for editors, made from the declared options.

use serde_json::{Map, Value, json};

use super::options::{OptionSpec, ValueKind};
use super::{each, notice, pipeline, project};
use crate::kinds::Registry;

const DIALECT: &str = "https://json-schema.org/draft/2020-12/schema";
const NAME: &str = "^[A-Za-z][A-Za-z0-9_-]{0,62}$";

/// The schema of `sluice.toml`. A connection has the keys of the kind that its URL begins with.
pub fn project_schema(registry: &Registry) -> Value {
    let kinds = registry.connections().filter(|c| c.scheme != "screen").map(|c| (c.scheme, c.options));
    let connection = alternatives(kinds, |kinds, options| {
        let mut form = table(&[project::CONNECTION_OPTIONS, options]);
        form["properties"]["url"]["pattern"] = format!("^({}):", kinds.join("|")).into();
        form
    });
    let mut schema = table(&[project::FILE_OPTIONS]);
    put(&mut schema, "connection", by_name(&connection));
    put(&mut schema, "secret", by_name(&table(&[crate::expr::secrets::SECRET_OPTIONS])));
    put(&mut schema, "function", by_name(&table(&[crate::expr::own::FUNCTION_OPTIONS])));
    put(&mut schema, "notice", by_name(&table(&[notice::NOTICE_OPTIONS])));
    put(&mut schema, "recipient", by_name(&table(&[notice::RECIPIENT_OPTIONS])));
    named(schema, "sluice.toml", "a project: its name, its ledger, its connections")
}

/// The schema of `pipelines/*.toml`. The kind of an arrival or a landing is that of its connection, which stands in
/// another file: a table is good if it is good for one of the kinds.
pub fn pipeline_schema(registry: &Registry) -> Value {
    let landings = || registry.landings().map(|k| (k.name(), k.options()));
    let landing = alternatives(landings(), |_, options| table(&[pipeline::LANDING_OPTIONS, options]));
    let arrivals = registry.intakes().map(|k| (k.name(), k.options()));
    let arrival =
        alternatives(arrivals, |_, options| table(&[pipeline::ARRIVAL_OPTIONS, crate::formats::OPTIONS, options]));
    let mut event = table(&[pipeline::EVENT_OPTIONS]);
    put(
        &mut event,
        "arrives",
        json!({ "anyOf": [arrival.clone(), { "type": "array", "items": arrival, "minItems": 1 }] }),
    );
    put(&mut event, "lands", by_name(&landing));
    event["oneOf"] = json!([{ "required": ["arrives"] }, { "required": ["made"] }]);
    let mut schema = table(&[pipeline::FILE_OPTIONS]);
    put(&mut schema, "event", by_name(&event));

    // The tables of a group stand in `tables`: their arrival names none, and their landings only where it is not theirs.
    let mut each = table(&[each::EACH_OPTIONS]);
    let feeds = registry.intakes().filter(|k| k.is_feed()).map(|k| (k.name(), k.options()));
    let feed = alternatives(feeds, |_, options| {
        without_table(table(&[pipeline::ARRIVAL_OPTIONS, crate::formats::OPTIONS, options]), false)
    });
    put(&mut each, "arrives", feed);
    let copy = alternatives(landings(), |_, options| without_table(table(&[pipeline::LANDING_OPTIONS, options]), true));
    put(&mut each, "lands", by_name(&copy));
    put(&mut schema, "each", by_name(&each));
    schema["anyOf"] = json!([{ "required": ["event"] }, { "required": ["each"] }]);
    named(schema, "pipeline", "a pipeline: its events, where they arrive and where they land")
}

/// One form for all kinds that have the same keys, with their names as its title; a value needs to fit one of the forms.
fn alternatives<'a>(
    kinds: impl Iterator<Item = (&'a str, &'static [OptionSpec])>,
    form: impl Fn(&[&str], &'static [OptionSpec]) -> Value,
) -> Value {
    let mut groups: Vec<(Vec<&str>, Value, &'static [OptionSpec])> = Vec::new();
    for (name, options) in kinds {
        let keys = table(&[options]);
        match groups.iter_mut().find(|(_, known, _)| *known == keys) {
            Some((names, ..)) => names.push(name),
            None => groups.push((vec![name], keys, options)),
        }
    }
    let named = |(names, _, options): &(Vec<&str>, Value, &'static [OptionSpec])| {
        let mut named = form(names, options);
        named["title"] = names.join(", ").into();
        named
    };
    let mut forms: Vec<Value> = groups.iter().map(named).collect();
    match forms.len() {
        0 => form(&[], &[]),
        1 => forms.remove(0),
        _ => json!({ "type": "object", "anyOf": forms }),
    }
}

/// A form that does not need the key `table`, or does not have it.
fn without_table(mut form: Value, may_have_it: bool) -> Value {
    if let Some(keys) = form["properties"].as_object_mut().filter(|_| !may_have_it) {
        keys.remove("table");
    }
    if let Some(required) = form["required"].as_array_mut() {
        required.retain(|key| key != "table");
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

/// A table with the keys of all declarations.
fn table(specs: &[&'static [OptionSpec]]) -> Value {
    let mut properties = Map::new();
    let mut required = Vec::new();
    for spec in specs.iter().flat_map(|s| s.iter()) {
        properties.insert(spec.key.into(), property(spec));
        if spec.required {
            required.push(Value::from(spec.key));
        }
    }
    json!({ "type": "object", "properties": properties, "required": required, "additionalProperties": false })
}

fn property(spec: &OptionSpec) -> Value {
    let mut form = match spec.value {
        ValueKind::Text | ValueKind::Sql | ValueKind::Template | ValueKind::Duration => json!({ "type": "string" }),
        ValueKind::Texts | ValueKind::Files => {
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
