//! Objects and lists made of values. Each argument comes as JSON.

use super::{Arguments, Prepared, map_text};
use crate::expr::column::Column;
use crate::expr::{Expr, column};

/// Checks that names and values come in pairs.
pub(super) fn prepare_object(arguments: &[Expr]) -> Result<Prepared, String> {
    match arguments.len() % 2 {
        0 => Ok(Prepared::Nothing),
        _ => Err("names and values must come in pairs".into()),
    }
}

/// Writes a row for each row of the chunk; nulls of arguments do not make it null.
fn write(a: &Arguments<'_>, mut row_of: impl FnMut(usize, &mut Vec<u8>) -> Result<(), String>) -> Column {
    let all: Vec<&Column> = a.columns.iter().collect();
    let (scalar, rows) = column::shape(&all, a.rows);
    let errors = column::merged(&all, a.rows);
    // A column without nulls stands for the arguments.
    let base = Column::constant(std::sync::Arc::new(arrow_array::BooleanArray::from(vec![true])));
    let base = if scalar { base } else { base.expand(rows) };
    map_text(&[&Column { errors, ..base }], a.rows, |row, out| row_of(row, out))
}

fn put(a: &Arguments<'_>, argument: usize, row: usize, out: &mut Vec<u8>) {
    match a.columns[argument].is_null(row) {
        true => out.extend_from_slice(b"null"),
        false => out.extend_from_slice(a.text(argument, row).trim().as_bytes()),
    }
}

/// A list.
pub(super) fn array(a: &Arguments<'_>) -> Column {
    write(a, |row, out| {
        out.push(b'[');
        for argument in 0..a.columns.len() {
            if argument > 0 {
                out.push(b',');
            }
            put(a, argument, row, out);
        }
        out.push(b']');
        Ok(())
    })
}

/// An object.
pub(super) fn object(a: &Arguments<'_>) -> Column {
    write(a, |row, out| {
        out.push(b'{');
        for name in (0..a.columns.len()).step_by(2) {
            if name > 0 {
                out.push(b',');
            }
            if a.columns[name].is_null(row) {
                return Err("json_build_object: a name is null".into());
            }
            let text = a.text(name, row).trim();
            // Numbers and truth values are names by their spelling.
            let is_string = text.starts_with('"');
            if matches!(text.as_bytes().first(), Some(b'{' | b'[')) {
                return Err("json_build_object: a name is neither text nor a number".into());
            }
            out.extend((!is_string).then_some(b'"'));
            out.extend_from_slice(text.as_bytes());
            out.extend((!is_string).then_some(b'"'));
            out.push(b':');
            put(a, name + 1, row, out);
        }
        out.push(b'}');
        Ok(())
    })
}
