//! Values inside JSON text, found by names and places.

use arrow_array::types::Int32Type;
use arrow_schema::DataType;

use super::{Arguments, Prepared, map_primitive, map_text_or_null, reach};
use crate::expr::Expr;
use crate::expr::column::Column;
use crate::formats::json::scan::{Scanner, unescape, unescape_or_spelled};
use crate::types::SqlType;

/// The value of a member, the last one where a name comes twice. None where there is no such member, or no object.
pub(super) fn member<'j>(value: &'j [u8], name: &str) -> Option<&'j [u8]> {
    let mut found = None;
    members(value, |key, value| {
        if is_named(key, name) {
            found = Some(value);
        }
    });
    found
}

/// Goes over the members of an object: the raw name and the value of each.
pub(super) fn members<'j>(value: &'j [u8], mut each: impl FnMut(&'j [u8], &'j [u8])) -> Option<()> {
    let mut scanner = Scanner::new(value);
    scanner.skip_blanks();
    scanner.expect(b'{', "an object").ok()?;
    let walked = scanner.members(b'}', |scanner| {
        let key = scanner.string()?;
        scanner.skip_blanks();
        scanner.expect(b':', "`:`")?;
        scanner.skip_blanks();
        let from = scanner.at;
        let to = scanner.skip_value(0)?;
        each(key.bytes, &value[from..to]);
        Ok(())
    });
    walked.ok()
}

/// Goes over the elements of a list. None where the value is not one.
pub(super) fn elements<'j>(value: &'j [u8], mut each: impl FnMut(&'j [u8])) -> Option<()> {
    let mut scanner = Scanner::new(value);
    scanner.skip_blanks();
    scanner.expect(b'[', "a list").ok()?;
    let walked = scanner.members(b']', |scanner| {
        let from = scanner.at;
        let to = scanner.skip_value(0)?;
        each(&value[from..to]);
        Ok(())
    });
    walked.ok()
}

/// How many elements a list or members an object has; None where the value is neither.
pub(crate) fn json_length(text: &str) -> Option<usize> {
    let mut count = 0;
    json_members(text, |_, _| count += 1).then_some(count)
}

/// What a value is: object, array, string, number, boolean or null.
pub(crate) fn json_type(text: &str) -> &'static str {
    type_of(text.as_bytes())
}

/// Goes over the elements of a list, or over the members of an object with their names. False where the value is neither.
pub(crate) fn json_members(text: &str, mut each: impl FnMut(Option<&[u8]>, &[u8])) -> bool {
    let value = text.as_bytes();
    match first(value) {
        Some(b'[') => elements(value, |element| each(None, element.trim_ascii())).is_some(),
        Some(b'{') => {
            let mut name = Vec::new();
            let walked = members(value, |raw, value| {
                name.clear();
                unescape_or_spelled(raw, &mut name);
                each(Some(&name), value.trim_ascii());
            });
            walked.is_some()
        }
        _ => false,
    }
}

/// Whether a raw name, with its escapes, is this name.
fn is_named(raw: &[u8], name: &str) -> bool {
    if !raw.contains(&b'\\') {
        return raw == name.as_bytes();
    }
    let mut text = Vec::with_capacity(raw.len());
    unescape(raw, &mut text) && text == name.as_bytes()
}

/// The element at a place; places below zero are counted from the end.
pub(super) fn element(value: &[u8], place: i64) -> Option<&[u8]> {
    let mut count = 0_i64;
    if place < 0 {
        elements(value, |_| count += 1)?;
    }
    let wanted = if place < 0 { place.checked_add(count)? } else { place };
    let (mut at, mut found) = (0, None);
    elements(value, |element| {
        if at == wanted {
            found = Some(element);
        }
        at += 1;
    })?;
    found
}

/// The value at a step that may be a name or a place.
pub(super) fn step<'j>(value: &'j [u8], step: &str) -> Option<&'j [u8]> {
    match first(value)? {
        b'{' => member(value, step),
        b'[' => element(value, step.trim().parse().ok()?),
        _ => None,
    }
}

/// The first byte that is not a blank.
pub(super) fn first(value: &[u8]) -> Option<u8> {
    value.iter().copied().find(|b| !b.is_ascii_whitespace())
}

/// What a value is, by its first byte.
pub(super) fn type_of(value: &[u8]) -> &'static str {
    match first(value) {
        Some(b'{') => "object",
        Some(b'[') => "array",
        Some(b'"') => "string",
        Some(b't' | b'f') => "boolean",
        Some(b'n') => "null",
        _ => "number",
    }
}

/// Writes a value, or its text: that of a string without its quotes, and nothing for null.
fn put(value: Option<&[u8]>, as_text: bool, out: &mut Vec<u8>) -> Result<bool, String> {
    let Some(value) = value else { return Ok(false) };
    let value = value.trim_ascii();
    if !as_text {
        out.extend_from_slice(value);
        return Ok(true);
    }
    match value {
        b"null" => Ok(false),
        [b'"', text @ .., b'"'] => match unescape(text, out) {
            true => Ok(true),
            false => Err("the JSON string has half of a surrogate pair".into()),
        },
        other => {
            out.extend_from_slice(other);
            Ok(true)
        }
    }
}

/// `->` and `->>`.
pub(super) fn at(a: &Arguments<'_>, as_text: bool) -> Column {
    let by_name = *a.columns[1].array.data_type() == DataType::Utf8;
    map_text_or_null(&a.all(), a.rows, |row, out| {
        let value = a.text(0, row).as_bytes();
        let found = match by_name {
            true => member(value, a.text(1, row)),
            false => element(value, a.whole(1, row)),
        };
        put(found, as_text, out)
    })
}

/// `#>` and `#>>`.
pub(super) fn along(a: &Arguments<'_>, as_text: bool) -> Column {
    map_text_or_null(&[&a.columns[0]], a.rows, |row, out| {
        let found = reach::of(a).names().try_fold(a.text(0, row).as_bytes(), step);
        put(found, as_text, out)
    })
}

/// `json_extract_path`.
pub(super) fn extract(a: &Arguments<'_>, as_text: bool) -> Column {
    map_text_or_null(&a.all(), a.rows, |row, out| {
        let found = (1..a.columns.len()).try_fold(a.text(0, row).as_bytes(), |value, i| step(value, a.text(i, row)));
        put(found, as_text, out)
    })
}

/// How many elements a list has.
pub(super) fn array_length(a: &Arguments<'_>) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        let mut count = 0_i32;
        let value = a.text(0, row).as_bytes();
        elements(value, |_| count = count.saturating_add(1))
            .map(|()| Some(count))
            .ok_or_else(|| format!("json_array_length: this is not an array but {}", type_of(value)))
    })
}

/// Reads the way of `#>`: names in braces, in double quotes where they hold commas or braces.
pub(super) fn prepare(arguments: &[Expr]) -> Result<Prepared, String> {
    let text = arguments[1].as_text().unwrap_or_default();
    let inner = text.trim().strip_prefix('{').and_then(|t| t.strip_suffix('}'));
    let inner = inner.ok_or_else(|| format!("`{text}` is not a way: write it as '{{name,0}}'"))?;
    let mut names = Vec::new();
    let mut rest = inner.trim_start();
    while !rest.is_empty() {
        let mut name = String::new();
        if let Some(quoted) = rest.strip_prefix('"') {
            let mut chars = quoted.chars();
            loop {
                match chars.next().ok_or("the way has a double quote that is not closed")? {
                    '"' => break,
                    '\\' => name.extend(chars.next()),
                    c => name.push(c),
                }
            }
            rest = chars.as_str().trim_start();
        } else {
            let end = rest.find(',').unwrap_or(rest.len());
            name.push_str(rest[..end].trim());
            rest = &rest[end..];
            if name.is_empty() || name.contains(['{', '}', '"']) {
                return Err(format!("`{text}` is not a way: put names with signs of their own into double quotes"));
            }
        }
        names.push(name);
        match rest.strip_prefix(',') {
            Some(after) if !after.trim().is_empty() => rest = after.trim_start(),
            None if rest.is_empty() => {}
            _ => return Err(format!("`{text}` is not a way: write it as '{{name,0}}'")),
        }
    }
    Ok(Prepared::Path(reach::Path::of_names(names).into()))
}
