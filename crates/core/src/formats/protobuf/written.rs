//! Rows as messages of a type that a schema declares: columns are fields of the same names.
//!
//! Numbers and names of fields are the schema's own, so that a column that comes later changes nothing for those who read.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Decimal128Type, Float64Type, Int32Type, Int64Type, TimestampMicrosecondType};
use arrow_array::{Array as _, ArrayRef, RecordBatch, StringArray};
use prost_reflect::prost::Message as _;
use prost_reflect::{DynamicMessage, EnumDescriptor, FieldDescriptor, Kind, MessageDescriptor, Value};

use super::Protobuf;
use super::shapes::wrapped;
use crate::columns::OutputColumn;
use crate::expr::{Column, cast_column};
use crate::guard::guarded;
use crate::limit::Limit;
use crate::names;
use crate::types::SqlType;
use crate::values::json::{write_string, write_text};
use crate::values::{bytes, list};

/// The moments that a `google.protobuf.Timestamp` can be, in seconds since 1970: those of the years 1 to 9999.
const MOMENTS: std::ops::RangeInclusive<i64> = -62_135_596_800..=253_402_300_799;

/// Why a column, or a type of messages, does not go with the other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: String,
}

/// A row that cannot be a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RefusedRow {
    /// Its place among the rows.
    pub row: usize,
    /// The column.
    pub column: String,
    /// Why.
    pub message: String,
}

/// Rows as messages, one after the other.
#[derive(Clone, Debug, Default)]
pub struct WrittenMessages {
    /// All of them.
    pub bytes: Vec<u8>,
    /// Where each ends. That of a row that was refused is empty.
    pub ends: Vec<usize>,
    /// Rows that were refused.
    pub refused: Vec<RefusedRow>,
}

/// Writes rows as messages of a type.
#[derive(Clone, Debug)]
pub struct MessageWriter {
    message: MessageDescriptor,
    columns: Vec<WrittenColumn>,
}

#[derive(Clone, Debug)]
struct WrittenColumn {
    name: String,
    field: FieldDescriptor,
    form: Form,
}

/// How the values of a column become those of a field.
#[derive(Clone, Debug)]
enum Form {
    Text,
    Bytes,
    Bool,
    Double,
    Float,
    /// A whole number, of columns of any such type.
    Whole(Kind),
    Enum(EnumDescriptor),
    Moment(MessageDescriptor),
    /// A message that stands for one value.
    Wrapped(MessageDescriptor, Box<Form>),
    /// A list of values of a type, each in a form.
    List(SqlType, Box<Form>),
    /// JSON as the language guide spells messages, lists and maps.
    Json,
}

impl MessageWriter {
    /// Brings columns and the fields of the message type together.
    ///
    /// # Errors
    /// Says in words all that does not go together.
    pub fn new(format: &Protobuf, columns: &[OutputColumn]) -> Result<Self, Vec<Misfit>> {
        let misfit =
            |message: String| vec![Misfit { message, help: "write message = \"…\" with its full name".into() }];
        let message = format.message().map_err(misfit)?;
        let (mut written, mut misfits) = (Vec::new(), Vec::new());
        for column in columns {
            let field = message.get_field_by_name(&column.name).ok_or_else(|| unknown(&message, &column.name));
            match field.and_then(|field| Ok((form_of(column, &field)?, field))) {
                Ok((form, field)) => written.push(WrittenColumn { name: column.name.clone(), field, form }),
                Err(misfit) => misfits.push(misfit),
            }
        }
        let is_named = |field: &FieldDescriptor| columns.iter().any(|column| column.name == field.name());
        misfits.extend(message.fields().filter(|field| field.is_required() && !is_named(field)).map(|field| Misfit {
            message: format!("{} requires `{}`, which no column is named", message.full_name(), field.name()),
            help: "add the column, not null".into(),
        }));
        if misfits.is_empty() { Ok(Self { message, columns: written }) } else { Err(misfits) }
    }

    /// Whether some row could be refused.
    pub fn may_refuse(&self) -> bool {
        self.columns.iter().any(|column| column.form.may_refuse() || rivals(&column.field).is_some())
    }

    /// The place of the type in its schema, as messages name it whose schema a registry knows: how many indexes lead to it, and
    /// these; a zero for the first one.
    pub fn place(&self) -> Vec<u8> {
        let mut indexes = Vec::new();
        let mut message = self.message.clone();
        while let Some(outer) = message.parent_message() {
            indexes.push(outer.child_messages().position(|m| m == message).unwrap_or_default());
            message = outer;
        }
        indexes.push(message.parent_file().messages().position(|m| m == message).unwrap_or_default());
        if indexes == [0] {
            return vec![0];
        }
        let mut out = Vec::new();
        let count = indexes.len();
        std::iter::once(count).chain(indexes.into_iter().rev()).for_each(|number| write_number(number, &mut out));
        out
    }

    /// Writes rows. `before` stands before each message.
    pub fn write(&self, rows: &RecordBatch, before: &[u8]) -> WrittenMessages {
        let mut written = WrittenMessages::default();
        let columns: Vec<Vec<Result<Option<Value>, String>>> = self
            .columns
            .iter()
            .zip(rows.columns())
            .map(|(column, array)| (0..rows.num_rows()).map(|row| column.value(array, row)).collect())
            .collect();
        let mut columns: Vec<_> = columns.into_iter().map(Vec::into_iter).collect();
        for row in 0..rows.num_rows() {
            let mut message = DynamicMessage::new(self.message.clone());
            let mut refused = None;
            for (column, values) in self.columns.iter().zip(&mut columns) {
                match values.next().unwrap_or(Ok(None)) {
                    Ok(None) => {}
                    Ok(Some(value)) => match has_rival(&message, &column.field) {
                        Some(other) => {
                            let why = format!("a message has only one of `{other}` and `{}`", column.name);
                            refused.get_or_insert((column, why));
                        }
                        None => message.set_field(&column.field, value),
                    },
                    Err(why) => {
                        refused.get_or_insert((column, why));
                    }
                }
            }
            match refused {
                None => {
                    written.bytes.extend_from_slice(before);
                    // A vector has room for every message.
                    let _ = message.encode(&mut written.bytes);
                }
                Some((column, message)) => {
                    written.refused.push(RefusedRow { row, column: column.name.clone(), message });
                }
            }
            written.ends.push(written.bytes.len());
        }
        written
    }
}

/// A number of variable length, zigzag, as the places of types are written.
fn write_number(number: usize, out: &mut Vec<u8>) {
    let mut rest = number << 1;
    while rest >= 0x80 {
        out.push(rest.to_le_bytes()[0] | 0x80);
        rest >>= 7;
    }
    out.push(rest.to_le_bytes()[0]);
}

/// The group of fields of which a message has only one, where a field belongs to one.
fn rivals(field: &FieldDescriptor) -> Option<prost_reflect::OneofDescriptor> {
    field.containing_oneof().filter(|group| !group.is_synthetic())
}

/// Another field of the same group that a message has.
fn has_rival(message: &DynamicMessage, field: &FieldDescriptor) -> Option<String> {
    let other = rivals(field)?.fields().find(|other| message.has_field(other))?;
    Some(other.name().to_string())
}

fn unknown(message: &MessageDescriptor, name: &str) -> Misfit {
    let fields: Vec<String> = message.fields().map(|field| field.name().to_string()).collect();
    let near = names::nearest(name, fields.iter().map(String::as_str));
    let near = near.map_or_else(String::new, |near| format!("did you mean `{near}`? "));
    Misfit {
        message: format!("{} has no field `{}`", message.full_name(), names::shown(name)),
        help: format!("{near}name the columns as its fields: … as {}", fields.first().map_or("name", String::as_str)),
    }
}

/// How the values of a column become those of a field.
fn form_of(column: &OutputColumn, field: &FieldDescriptor) -> Result<Form, Misfit> {
    let name = &column.name;
    let is_many = field.is_list() || field.is_map();
    if column.nullable && (is_many || !field.supports_presence() || field.is_required()) {
        let without = match (is_many, field.is_required()) {
            (true, _) => "a list that is null would be read as an empty one",
            (_, true) => "the schema requires it",
            _ => "null would be read as its default, such as 0",
        };
        let help = match is_many {
            true => format!("coalesce({name}, '[]') as {name}"),
            false => format!("write `optional` before the field in the schema, or coalesce({name}, …) as {name}"),
        };
        return Err(Misfit { message: format!("`{name}` may be null, and {without}"), help });
    }
    let form = match column.limit {
        Some(Limit::List(ty)) if field.is_list() => {
            let item = OutputColumn { ty, limit: None, ..column.clone() };
            single(&item, &field.kind()).map(|form| Form::List(ty, Box::new(form)))
        }
        _ if is_many => json_form(column),
        _ => single(column, &field.kind()),
    };
    form.ok_or_else(|| Misfit {
        message: format!("`{name}` is {}, and the field is {}", spelled(column), kind_name(field)),
        help: help_for(&field.kind()).into(),
    })
}

fn help_for(kind: &Kind) -> &'static str {
    match kind {
        Kind::Float => "cast it: …::real",
        Kind::Bytes => "cast it: …::bytea, or decode(…, 'base64')",
        Kind::Message(_) => "cast it: …::json",
        _ => "cast it, or give the field another type; one of string takes every column",
    }
}

fn spelled(column: &OutputColumn) -> String {
    column.limit.map_or_else(|| column.ty.to_string(), |limit| limit.to_string())
}

fn kind_name(field: &FieldDescriptor) -> String {
    let many = if field.is_list() { "repeated " } else { "" };
    let kind = match field.kind() {
        _ if field.is_map() => return "a map".into(),
        Kind::Message(message) => message.full_name().to_string(),
        Kind::Enum(of) => format!("enum {}", of.full_name()),
        kind => format!("{kind:?}").to_lowercase(),
    };
    format!("{many}{kind}")
}

fn json_form(column: &OutputColumn) -> Option<Form> {
    (column.ty == SqlType::Json).then_some(Form::Json)
}

fn single(column: &OutputColumn, kind: &Kind) -> Option<Form> {
    let is_whole = match column.ty {
        SqlType::Integer | SqlType::Bigint => true,
        SqlType::Decimal { scale, .. } => scale == 0,
        _ => false,
    };
    let is_real = column.limit == Some(Limit::Real);
    let form = match kind {
        Kind::String => Form::Text,
        Kind::Bytes if column.limit == Some(Limit::Bytea) => Form::Bytes,
        Kind::Bool if column.ty == SqlType::Boolean => Form::Bool,
        Kind::Double if matches!(column.ty, SqlType::Double | SqlType::Integer) => Form::Double,
        Kind::Float if is_real => Form::Float,
        Kind::Enum(of) if column.ty == SqlType::Text && column.limit.is_none_or(|limit| !limit.is_own()) => {
            Form::Enum(of.clone())
        }
        Kind::Message(message) => match (message.full_name(), wrapped(message)) {
            ("google.protobuf.Timestamp", _) if column.ty == SqlType::Timestamptz => Form::Moment(message.clone()),
            (_, Some(inner)) => Form::Wrapped(message.clone(), Box::new(single(column, &inner)?)),
            _ => return json_form(column),
        },
        Kind::Bytes | Kind::Bool | Kind::Double | Kind::Float | Kind::Enum(_) => return None,
        whole if is_whole => Form::Whole(whole.clone()),
        _ => return None,
    };
    Some(form)
}

impl Form {
    fn may_refuse(&self) -> bool {
        match self {
            Self::Whole(_) | Self::Enum(_) | Self::Moment(_) | Self::List(..) | Self::Json => true,
            Self::Wrapped(_, inner) => inner.may_refuse(),
            Self::Text | Self::Bytes | Self::Bool | Self::Double | Self::Float => false,
        }
    }

    fn value(&self, array: &ArrayRef, row: usize) -> Result<Value, String> {
        let text = || {
            let mut text = String::new();
            write_text(&mut text, array.as_ref(), row);
            text
        };
        Ok(match self {
            Self::Text => Value::String(text()),
            Self::Bytes => {
                let mut out = Vec::new();
                bytes::read(array.as_string::<i32>().value(row), &mut out).ok_or("it is not bytes")?;
                Value::Bytes(out.into())
            }
            Self::Bool => Value::Bool(array.as_boolean().value(row)),
            Self::Double => Value::F64(match array.as_primitive_opt::<Int32Type>() {
                Some(numbers) => numbers.value(row).into(),
                None => array.as_primitive::<Float64Type>().value(row),
            }),
            // Values of this column were made from numbers of 32 bits: their digits lead back to them.
            Self::Float => Value::F32(text().parse().map_err(|_| "it is not a number")?),
            Self::Whole(kind) => whole(number(array, row), kind)
                .ok_or_else(|| format!("{} is beyond {}", text(), format!("{kind:?}").to_lowercase()))?,
            Self::Enum(of) => {
                let name = text();
                let value = of.get_value_by_name(&name).ok_or_else(|| {
                    format!("\"{}\" is none of the names of {}", crate::printable::text(&name), of.full_name())
                })?;
                Value::EnumNumber(value.number())
            }
            Self::Moment(of) => {
                let micros = array.as_primitive::<TimestampMicrosecondType>().value(row);
                let seconds = micros.div_euclid(1_000_000);
                if !MOMENTS.contains(&seconds) {
                    return Err(format!("{} is beyond the years 1 to 9999, which a Timestamp can be", text()));
                }
                let mut message = DynamicMessage::new(of.clone());
                message.set_field_by_number(1, Value::I64(seconds));
                // Less than a second.
                let nanos = i32::try_from(micros.rem_euclid(1_000_000) * 1_000).unwrap_or_default();
                message.set_field_by_number(2, Value::I32(nanos));
                Value::Message(message)
            }
            Self::Wrapped(of, inner) => {
                let mut message = DynamicMessage::new(of.clone());
                message.set_field_by_number(1, inner.value(array, row)?);
                Value::Message(message)
            }
            Self::List(ty, form) => Value::List(items(array.as_string::<i32>().value(row), *ty, form)?),
            Self::Json => return Err("it is read with its field".into()),
        })
    }
}

impl WrittenColumn {
    /// The value of a row; None for null.
    fn value(&self, array: &ArrayRef, row: usize) -> Result<Option<Value>, String> {
        if array.is_null(row) {
            return Ok(None);
        }
        match self.form {
            Form::Json => self.read_json(array.as_string::<i32>().value(row)).map(Some),
            _ => self.form.value(array, row).map(Some),
        }
    }

    /// JSON, as a message of this field alone spells it.
    fn read_json(&self, text: &str) -> Result<Value, String> {
        let mut whole = String::from("{");
        write_string(&mut whole, self.field.json_name());
        whole.push(':');
        whole.push_str(text);
        whole.push('}');
        let of = self.field.parent_message();
        let read = guarded(|| {
            let mut reader = serde_json::Deserializer::from_str(&whole);
            DynamicMessage::deserialize(of.clone(), &mut reader)
                .map_err(|e| crate::printable::text(&e.to_string()).to_string())
        })?;
        let message = read.map_err(|why| {
            let why = why.rsplit_once(" at line ").map_or(why.as_str(), |(why, _)| why);
            format!("it is not {}: {why}", kind_name(&self.field))
        })?;
        match message.has_field(&self.field) || self.field.is_list() || self.field.is_map() {
            true => Ok(message.get_field(&self.field).into_owned()),
            false => Err("null within JSON stands for no value here".into()),
        }
    }
}

/// The items of a list, each in a form.
fn items(text: &str, ty: SqlType, form: &Form) -> Result<Vec<Value>, String> {
    let mut items: Vec<Option<String>> = Vec::new();
    list::each(text, |item| items.push(item.map(str::to_string)));
    let count = items.len();
    let typed = cast_column(Column::of(Arc::new(StringArray::from(items))), SqlType::Text, ty, count).array;
    let item = |place: usize| match typed.is_null(place) {
        true => Err("its list holds null, which a repeated field cannot".to_string()),
        false => form.value(&typed, place),
    };
    (0..count).map(item).collect()
}

/// A whole number of a column.
fn number(array: &ArrayRef, row: usize) -> i128 {
    if let Some(numbers) = array.as_primitive_opt::<Int32Type>() {
        return numbers.value(row).into();
    }
    match array.as_primitive_opt::<Int64Type>() {
        Some(numbers) => numbers.value(row).into(),
        None => array.as_primitive::<Decimal128Type>().value(row),
    }
}

/// A whole number as a value of a kind; None where it is beyond it.
fn whole(number: i128, kind: &Kind) -> Option<Value> {
    Some(match kind {
        Kind::Int32 | Kind::Sint32 | Kind::Sfixed32 => Value::I32(number.try_into().ok()?),
        Kind::Uint32 | Kind::Fixed32 => Value::U32(number.try_into().ok()?),
        Kind::Uint64 | Kind::Fixed64 => Value::U64(number.try_into().ok()?),
        _ => Value::I64(number.try_into().ok()?),
    })
}
