//! Messages as JSON, by what their schema says. The well-known types of Protobuf are what they mean: a moment, a length of time,
//! a value that may be missing, JSON.
//!
//! The names are those of the schema, not those that its mapping to JSON would make of them; numbers of 64 bits are numbers, and bytes
//! are hexadecimal as in every other format.

use std::collections::HashMap;
use std::fmt::Write as _;

use arrow_buffer::IntervalMonthDayNano;
use prost_reflect::{DynamicMessage, FieldDescriptor, Kind, MapKey, MessageDescriptor, ReflectMessage as _, Value};

use crate::values::interval::show_interval;
use crate::values::json::write_string;
use crate::values::rows::{float, hex};
use crate::values::time;

/// How messages within messages may go on.
const DEPTH: u32 = 100;

/// What is written of each message of a schema. A message refers to others by their indexes: it may hold its own kind.
#[derive(Debug, Default)]
pub(super) struct Shapes {
    all: Vec<Shape>,
    known: HashMap<String, usize>,
}

#[derive(Debug, Default)]
struct Shape {
    fields: Vec<FieldShape>,
}

#[derive(Debug)]
struct FieldShape {
    field: FieldDescriptor,
    /// The name as a key of JSON, with its colon.
    key: String,
    content: Content,
    /// Whether it is left out where the message does not have it.
    may_lack: bool,
}

/// What a value is.
#[derive(Clone, Debug)]
enum Content {
    Single,
    Enum(HashMap<i32, String>),
    Message(usize),
    Timestamp,
    Duration,
    /// The one field of a message that stands for it.
    Wrapped,
    /// A value of JSON, or an object or a list of them.
    Json,
}

/// What a message that stands for one value holds.
pub(super) fn wrapped(message: &MessageDescriptor) -> Option<Kind> {
    let name = message.full_name().strip_prefix("google.protobuf.")?;
    let is_one = matches!(
        name,
        "DoubleValue"
            | "FloatValue"
            | "Int64Value"
            | "UInt64Value"
            | "Int32Value"
            | "UInt32Value"
            | "BoolValue"
            | "StringValue"
            | "BytesValue"
    );
    let field = message.get_field(1).filter(|_| is_one)?;
    Some(field.kind())
}

/// Whether a message is written with its fields.
pub(super) fn is_plain(message: &MessageDescriptor) -> bool {
    !matches!(
        message.full_name(),
        "google.protobuf.Timestamp"
            | "google.protobuf.Duration"
            | "google.protobuf.Struct"
            | "google.protobuf.Value"
            | "google.protobuf.ListValue"
    ) && wrapped(message).is_none()
}

impl Shapes {
    /// The index of the shape of a message of another schema, which may have the same name.
    pub(super) fn of_another(&mut self, message: &MessageDescriptor) -> usize {
        self.known.clear();
        self.of(message)
    }

    /// The index of a message's shape.
    pub(super) fn of(&mut self, message: &MessageDescriptor) -> usize {
        if let Some(index) = self.known.get(message.full_name()) {
            return *index;
        }
        let index = self.all.len();
        self.all.push(Shape::default());
        self.known.insert(message.full_name().to_string(), index);
        let fields = message.fields().map(|field| self.field(field)).collect();
        self.all[index] = Shape { fields };
        index
    }

    fn field(&mut self, field: FieldDescriptor) -> FieldShape {
        let kind = match field.kind() {
            Kind::Message(entry) if field.is_map() => entry.map_entry_value_field().kind(),
            kind => kind,
        };
        let content = match kind {
            Kind::Enum(names) => {
                // Of two names for one number the first is its name.
                let mut by_number = HashMap::new();
                for value in names.values() {
                    by_number.entry(value.number()).or_insert_with(|| value.name().to_string());
                }
                Content::Enum(by_number)
            }
            Kind::Message(inner) => match inner.full_name() {
                "google.protobuf.Timestamp" => Content::Timestamp,
                "google.protobuf.Duration" => Content::Duration,
                "google.protobuf.Struct" | "google.protobuf.Value" | "google.protobuf.ListValue" => Content::Json,
                _ if wrapped(&inner).is_some() => Content::Wrapped,
                _ => Content::Message(self.of(&inner)),
            },
            _ => Content::Single,
        };
        let mut key = String::new();
        write_string(&mut key, field.name());
        key.push(':');
        // A default that the schema itself gives is the value where none was sent.
        let has_default = field.field_descriptor_proto().default_value.is_some();
        let may_lack = field.supports_presence() && !has_default;
        FieldShape { field, key, content, may_lack }
    }

    /// Writes a message as an object.
    ///
    /// # Errors
    /// Says in words what cannot be written.
    pub(super) fn write(&self, out: &mut String, shape: usize, message: &DynamicMessage) -> Result<(), String> {
        self.object(out, shape, message, DEPTH)
    }

    fn object(&self, out: &mut String, shape: usize, message: &DynamicMessage, depth: u32) -> Result<(), String> {
        let Some(depth) = depth.checked_sub(1) else {
            return Err("its messages stand too deep within each other".into());
        };
        let mut before = '{';
        for shape in &self.all[shape].fields {
            if shape.may_lack && !message.has_field(&shape.field) {
                continue;
            }
            out.push(before);
            before = ',';
            out.push_str(&shape.key);
            let value = message.get_field(&shape.field);
            match value.as_ref() {
                Value::List(values) => {
                    let mut before = '[';
                    for value in values {
                        out.push(before);
                        before = ',';
                        self.value(out, &shape.content, value, depth)?;
                    }
                    out.push_str(if before == '[' { "[]" } else { "]" });
                }
                Value::Map(values) => {
                    let mut pairs: Vec<(String, &Value)> = values.iter().map(|(k, v)| (shown(k), v)).collect();
                    pairs.sort_by(|a, b| a.0.cmp(&b.0));
                    let mut before = '{';
                    for (key, value) in pairs {
                        out.push(before);
                        before = ',';
                        write_string(out, &key);
                        out.push(':');
                        self.value(out, &shape.content, value, depth)?;
                    }
                    out.push_str(if before == '{' { "{}" } else { "}" });
                }
                value => self.value(out, &shape.content, value, depth)?,
            }
        }
        out.push_str(if before == '{' { "{}" } else { "}" });
        Ok(())
    }

    fn value(&self, out: &mut String, content: &Content, value: &Value, depth: u32) -> Result<(), String> {
        match (content, value) {
            (Content::Message(shape), Value::Message(inner)) => return self.object(out, *shape, inner, depth),
            (Content::Enum(names), Value::EnumNumber(number)) => match names.get(number) {
                Some(name) => write_string(out, name),
                // A later schema has a name for it.
                None => write_string(out, &number.to_string()),
            },
            (Content::Timestamp, Value::Message(inner)) => moment(out, inner),
            (Content::Duration, Value::Message(inner)) => length(out, inner),
            (Content::Wrapped, Value::Message(inner)) => match inner.get_field_by_number(1) {
                Some(value) => single(out, &value),
                None => out.push_str("null"),
            },
            (Content::Json, Value::Message(inner)) => return json(out, inner, depth),
            (_, value) => single(out, value),
        }
        Ok(())
    }
}

fn single(out: &mut String, value: &Value) {
    let _ = match value {
        Value::Bool(value) => write!(out, "{value}"),
        Value::I32(value) | Value::EnumNumber(value) => write!(out, "{value}"),
        Value::I64(value) => write!(out, "{value}"),
        Value::U32(value) => write!(out, "{value}"),
        Value::U64(value) => write!(out, "{value}"),
        // The shortest digits that lead back to the same number of 32 bits.
        Value::F32(value) => {
            float(out, f64::from(*value), |_| value.to_string());
            Ok(())
        }
        Value::F64(value) => {
            float(out, *value, |value| value.to_string());
            Ok(())
        }
        Value::String(text) => {
            write_string(out, text);
            Ok(())
        }
        Value::Bytes(bytes) => {
            hex(out, bytes);
            Ok(())
        }
        Value::Message(_) | Value::List(_) | Value::Map(_) => {
            out.push_str("null");
            Ok(())
        }
    };
}

fn shown(key: &MapKey) -> String {
    match key {
        MapKey::Bool(key) => key.to_string(),
        MapKey::I32(key) => key.to_string(),
        MapKey::I64(key) => key.to_string(),
        MapKey::U32(key) => key.to_string(),
        MapKey::U64(key) => key.to_string(),
        MapKey::String(key) => key.clone(),
    }
}

/// Seconds and nanoseconds of a moment or a length of time.
fn parts(message: &DynamicMessage) -> (i64, i64) {
    let part = |number| message.get_field_by_number(number);
    let seconds = part(1).and_then(|v| v.as_i64()).unwrap_or(0);
    let nanos = part(2).and_then(|v| v.as_i32()).unwrap_or(0);
    (seconds, nanos.into())
}

/// A moment as RFC 3339, with the nanoseconds that it has.
fn moment(out: &mut String, message: &DynamicMessage) {
    let (seconds, nanos) = parts(message);
    let micros = seconds.checked_mul(1_000_000).filter(|_| (0..1_000_000_000).contains(&nanos));
    let text = match micros {
        Some(micros) => {
            let mut text = time::show_timestamp(micros);
            if nanos > 0 && text.ends_with('Z') {
                text.pop();
                text.push_str(format!(".{nanos:09}").trim_end_matches('0'));
                text.push('Z');
            }
            text
        }
        // No calendar has it: a contract with a moment rejects it.
        None => format!("{seconds} seconds and {nanos} nanoseconds"),
    };
    write_string(out, &text);
}

fn length(out: &mut String, message: &DynamicMessage) {
    let (seconds, nanos) = parts(message);
    let all = seconds.checked_mul(1_000_000_000).and_then(|all| all.checked_add(nanos));
    let text = match all {
        Some(nanos) => show_interval(IntervalMonthDayNano::new(0, 0, nanos)),
        None => format!("{seconds} seconds and {nanos} nanoseconds"),
    };
    write_string(out, &text);
}

/// A value of JSON, an object or a list, as the well-known types hold it.
fn json(out: &mut String, message: &DynamicMessage, depth: u32) -> Result<(), String> {
    let Some(depth) = depth.checked_sub(1) else { return Err("its values stand too deep within each other".into()) };
    let descriptor = message.descriptor();
    match descriptor.full_name() {
        "google.protobuf.Struct" => {
            let fields = message.get_field_by_number(1);
            let mut pairs: Vec<(String, &Value)> = match fields.as_deref() {
                Some(Value::Map(fields)) => fields.iter().map(|(k, v)| (shown(k), v)).collect(),
                _ => Vec::new(),
            };
            pairs.sort_by(|a, b| a.0.cmp(&b.0));
            out.push('{');
            for (place, (key, value)) in pairs.into_iter().enumerate() {
                if place > 0 {
                    out.push(',');
                }
                write_string(out, &key);
                out.push(':');
                held(out, value, depth)?;
            }
            out.push('}');
        }
        "google.protobuf.ListValue" => {
            let values = message.get_field_by_number(1);
            out.push('[');
            for (place, value) in values.as_deref().and_then(Value::as_list).unwrap_or_default().iter().enumerate() {
                if place > 0 {
                    out.push(',');
                }
                held(out, value, depth)?;
            }
            out.push(']');
        }
        _ => match message.fields().next() {
            Some((_, Value::Message(inner))) => json(out, inner, depth)?,
            // The only enumeration there is null.
            None | Some((_, Value::EnumNumber(_))) => out.push_str("null"),
            Some((_, value)) => single(out, value),
        },
    }
    Ok(())
}

fn held(out: &mut String, value: &Value, depth: u32) -> Result<(), String> {
    match value {
        Value::Message(inner) => json(out, inner, depth),
        value => {
            single(out, value);
            Ok(())
        }
    }
}
