//! Schemas that refer to others of a registry: those are put in where they are first named, which is what one schema by itself would
//! say.

use std::collections::HashMap;

use serde_json::Value;

use crate::event::RegisteredSchema;

/// How deep schemas may refer to each other.
const DEPTH: u32 = 32;

/// Keys of a schema that hold schemas.
const HOLDERS: &[&str] = &["type", "items", "values"];

/// The text of a schema with all that it refers to.
///
/// # Errors
/// Says in words what cannot be read.
pub fn inlined(schema: &RegisteredSchema) -> Result<String, String> {
    if schema.references.is_empty() {
        return Ok(schema.text.clone());
    }
    let read = |text: &str| serde_json::from_str::<Value>(text).map_err(|e| format!("it is not JSON: {e}"));
    let mut known = HashMap::new();
    for (name, text) in &schema.references {
        known.insert(name.clone(), Some(read(text).map_err(|why| format!("{name}, which it refers to: {why}"))?));
    }
    let mut whole = read(&schema.text)?;
    put_in(&mut whole, "", &mut known, DEPTH)?;
    Ok(whole.to_string())
}

/// Puts what is known in place of the first use of its name. Once a name is defined, its further uses stay names.
fn put_in(
    schema: &mut Value,
    namespace: &str,
    known: &mut HashMap<String, Option<Value>>,
    depth: u32,
) -> Result<(), String> {
    let Some(depth) = depth.checked_sub(1) else { return Err("its schemas refer to each other too deeply".into()) };
    match schema {
        Value::String(name) => {
            let full = format!("{namespace}.{name}");
            let used = if known.contains_key(name.as_str()) { name.clone() } else { full };
            let Some(found) = known.get_mut(&used) else { return Ok(()) };
            if let Some(mut definition) = found.take() {
                // It has names of its own, which do not depend on where it is put.
                put_in(&mut definition, "", known, depth)?;
                *schema = definition;
            } else {
                *schema = Value::String(used);
            }
            Ok(())
        }
        Value::Array(branches) => branches.iter_mut().try_for_each(|branch| put_in(branch, namespace, known, depth)),
        Value::Object(keys) => {
            let within = match (keys.get("namespace"), keys.get("name")) {
                (Some(Value::String(namespace)), _) => namespace.clone(),
                (_, Some(Value::String(name))) => {
                    name.rsplit_once('.').map_or_else(|| namespace.to_string(), |(within, _)| within.to_string())
                }
                _ => namespace.to_string(),
            };
            for holder in HOLDERS {
                if let Some(inner) = keys.get_mut(*holder) {
                    put_in(inner, &within, known, depth)?;
                }
            }
            let fields = keys.get_mut("fields").and_then(Value::as_array_mut);
            fields.into_iter().flatten().try_for_each(|field| match field.get_mut("type") {
                Some(ty) => put_in(ty, &within, known, depth),
                None => Ok(()),
            })
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::SchemaLanguage;
    use crate::formats::avro::Datums;

    fn schema(text: &str, references: &[(&str, &str)]) -> RegisteredSchema {
        let references = references.iter().map(|(n, t)| ((*n).to_string(), (*t).to_string())).collect();
        RegisteredSchema { language: SchemaLanguage::Avro, text: text.into(), references }
    }

    const LOCK: &str =
        r#"{"type": "record", "name": "Lock", "namespace": "tarrow.works", "fields": [{"name": "id", "type": "int"}]}"#;
    const VESSEL: &str = r#"{"type": "record", "name": "tarrow.fleet.Vessel", "fields": [{"name": "home", "type": "tarrow.works.Lock"}]}"#;

    #[test]
    fn what_is_named_first_is_put_in_and_named_afterwards() {
        let text = r#"{"type": "record", "name": "tarrow.works.Passage", "fields": [{"name": "lock", "type": "Lock"},
            {"name": "next", "type": ["null", "tarrow.works.Lock"]}, {"name": "vessel", "type": {"type": "array", "items": "tarrow.fleet.Vessel"}}]}"#;
        let whole = inlined(&schema(text, &[("tarrow.works.Lock", LOCK), ("tarrow.fleet.Vessel", VESSEL)])).unwrap();
        let datums = Datums::new(&whole).unwrap();
        assert_eq!(datums.schema().fields().len(), 3, "{whole}");
        assert_eq!(whole.matches("\"fields\"").count(), 3, "{whole}");
    }

    #[test]
    fn schemas_without_end_are_refused() {
        let itself = r#"{"type": "array", "items": "a"}"#;
        let deep = (0..40).map(|i| (format!("n{i}"), format!("[\"n{}\"]", i + 1))).collect::<Vec<_>>();
        let deep: Vec<(&str, &str)> = deep.iter().map(|(n, t)| (n.as_str(), t.as_str())).collect();
        assert!(inlined(&schema("\"n0\"", &deep)).unwrap_err().contains("too deeply"));
        // A schema that names itself is one that Avro refuses, and no endless loop.
        assert_eq!(inlined(&schema("\"a\"", &[("a", itself)])).unwrap(), r#"{"items":"a","type":"array"}"#);
        assert!(inlined(&schema("\"a\"", &[("a", "{")])).unwrap_err().contains("a, which it refers to"));
    }
}
