//! Functions of bytes. They come as their digits after `\x`, see [`crate::values::bytes`].

use arrow_array::types::Int32Type;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;

use super::hash::{DigestOf, digest_of, hmac_of};
use super::{Arguments, Function, Parameter};
use crate::expr::column::{Column, map_primitive, map_text};
use crate::limit::Limit;
use crate::types::SqlType;
use crate::values::bytes;

const FORMS: Parameter = Parameter::Word(&["base64", "escape", "hex"]);

const ENCODINGS: Parameter = Parameter::Word(&["latin1", "utf8"]);

/// Functions of bytes.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "convert_from",
        signature: "convert_from(bytea, 'utf8' or 'latin1') → text",
        about: "The text that the bytes spell.",
        example: "convert_from('\\x4f7265', 'utf8')",
        gives: "Ore",
        parameters: &[Parameter::Bytes, ENCODINGS],
        compute: convert_from,
        ..Function::PLAIN
    },
    Function {
        name: "convert_to",
        signature: "convert_to(text, 'utf8' or 'latin1') → bytea",
        about: "The bytes that spell the text.",
        example: "convert_to('Ore', 'utf8')",
        gives: "\\x4f7265",
        parameters: &[Parameter::Text, ENCODINGS],
        limit: |_| Some(Limit::Bytea),
        compute: convert_to,
        ..Function::PLAIN
    },
    Function {
        name: "decode",
        signature: "decode(text, 'base64' or 'hex' or 'escape') → bytea",
        about: "The bytes that a text spells in base64, in hexadecimal digits, or as characters with \\123 for a byte in octal digits.",
        example: "decode('T3Jl', 'base64')",
        gives: "\\x4f7265",
        parameters: &[Parameter::Text, FORMS],
        limit: |_| Some(Limit::Bytea),
        compute: decode,
        ..Function::PLAIN
    },
    Function {
        name: "encode",
        signature: "encode(bytea, 'base64' or 'hex' or 'escape') → text",
        about: "The bytes as text: in base64 without line ends, in hexadecimal digits, or as characters with \\123 for what is \
                none.",
        example: "encode('\\x4f7265', 'base64')",
        gives: "T3Jl",
        parameters: &[Parameter::Bytes, FORMS],
        compute: encode,
        ..Function::PLAIN
    },
    Function {
        name: "get_byte",
        signature: "get_byte(bytea, place) → integer",
        about: "The byte at a place, counted from 0.",
        example: "get_byte('\\x4f7265', 0)",
        gives: "79",
        parameters: &[Parameter::Bytes, Parameter::Whole],
        result: |_| SqlType::Integer,
        compute: get_byte,
        ..Function::PLAIN
    },
];

/// What functions of texts do with bytes, by their names.
pub(super) const OF_BYTES: &[Function] = &[
    Function {
        name: "hmac_sha256",
        signature: "hmac_sha256(bytea, secret) → text",
        parameters: &[Parameter::Bytes, Parameter::Secret],
        compute: |a| hmac_of(a, read),
        ..Function::PLAIN
    },
    Function {
        name: "length",
        signature: "length(bytea) → integer",
        parameters: &[Parameter::Bytes],
        result: |_| SqlType::Integer,
        compute: length,
        ..Function::PLAIN
    },
    Function { name: "md5", signature: "md5(bytea) → text", compute: |a| digest(a, DigestOf::Md5), ..OF_ONE },
    Function {
        name: "octet_length",
        signature: "octet_length(bytea) → integer",
        parameters: &[Parameter::Bytes],
        result: |_| SqlType::Integer,
        compute: length,
        ..Function::PLAIN
    },
    Function {
        name: "sha224", signature: "sha224(bytea) → text", compute: |a| digest(a, DigestOf::Sha224), ..OF_ONE
    },
    Function {
        name: "sha256", signature: "sha256(bytea) → text", compute: |a| digest(a, DigestOf::Sha256), ..OF_ONE
    },
    Function {
        name: "sha384", signature: "sha384(bytea) → text", compute: |a| digest(a, DigestOf::Sha384), ..OF_ONE
    },
    Function {
        name: "sha512", signature: "sha512(bytea) → text", compute: |a| digest(a, DigestOf::Sha512), ..OF_ONE
    },
    Function {
        name: "substring",
        signature: "substring(bytea from start [for count]) → bytea",
        parameters: &[Parameter::Bytes, Parameter::Whole],
        optional: &[Parameter::Whole],
        limit: |_| Some(Limit::Bytea),
        compute: substring,
        ..Function::PLAIN
    },
    Function {
        name: "||",
        signature: "bytea || bytea",
        parameters: &[Parameter::Bytes, Parameter::Bytes],
        limit: |_| Some(Limit::Bytea),
        compute: join,
        ..Function::PLAIN
    },
];

const OF_ONE: Function = Function { parameters: &[Parameter::Bytes], ..Function::PLAIN };

/// The bytes of an argument, in a buffer that is used again.
fn read<'b>(a: &Arguments<'_>, argument: usize, row: usize, buffer: &'b mut Vec<u8>) -> Result<&'b [u8], String> {
    buffer.clear();
    bytes::read(a.text(argument, row), buffer).ok_or("this is no bytea")?;
    Ok(buffer)
}

fn digest(a: &Arguments<'_>, of: DigestOf) -> Column {
    let mut buffer = Vec::new();
    map_text(&a.all(), a.rows, |row, out| {
        digest_of(of, read(a, 0, row, &mut buffer)?, out);
        Ok(())
    })
}

fn convert_from(a: &Arguments<'_>) -> Column {
    let (mut buffer, is_latin) = (Vec::new(), a.columns[1].constant_text() == Some("latin1"));
    map_text(&a.all(), a.rows, |row, out| {
        let found = read(a, 0, row, &mut buffer)?;
        match is_latin {
            true => out.extend(found.iter().flat_map(|b| char::from(*b).to_string().into_bytes())),
            false => {
                let wrong =
                    |e: std::str::Utf8Error| format!("convert_from: from byte {} on this is no UTF-8", e.valid_up_to());
                out.extend_from_slice(std::str::from_utf8(found).map_err(wrong)?.as_bytes());
            }
        }
        Ok(())
    })
}

fn convert_to(a: &Arguments<'_>) -> Column {
    let is_latin = a.columns[1].constant_text() == Some("latin1");
    let mut buffer = Vec::new();
    map_text(&a.all(), a.rows, |row, out| {
        let text = a.text(0, row);
        if !is_latin {
            bytes::write(text.as_bytes(), out);
            return Ok(());
        }
        buffer.clear();
        for c in text.chars() {
            buffer.push(u8::try_from(c).map_err(|_| format!("convert_to: latin1 has no character {c:?}"))?);
        }
        bytes::write(&buffer, out);
        Ok(())
    })
}

fn decode(a: &Arguments<'_>) -> Column {
    let form = a.columns[1].constant_text().unwrap_or_default().to_string();
    map_text(&a.all(), a.rows, |row, out| {
        let text = a.text(0, row);
        let found = match form.as_str() {
            "hex" => bytes::from_digits(text),
            "escape" => escaped(text),
            _ => {
                let dense: Vec<u8> = text.bytes().filter(|b| !matches!(b, b' ' | b'\n' | b'\r' | b'\t')).collect();
                BASE64.decode(dense).ok()
            }
        };
        let shown = || text.chars().take(40).collect::<String>();
        bytes::write(&found.ok_or_else(|| format!("decode: `{}` is no {form}", shown()))?, out);
        Ok(())
    })
}

/// The bytes of a text with octal digits, in which digits after `\x` have no meaning.
fn escaped(text: &str) -> Option<Vec<u8>> {
    if text.starts_with("\\x") { None } else { bytes::from_sql(text) }
}

fn encode(a: &Arguments<'_>) -> Column {
    let (mut buffer, form) = (Vec::new(), a.columns[1].constant_text().unwrap_or_default().to_string());
    map_text(&a.all(), a.rows, |row, out| {
        let found = read(a, 0, row, &mut buffer)?;
        match form.as_str() {
            "hex" => bytes::write_digits(found, out),
            "escape" => {
                for byte in found {
                    match byte {
                        b'\\' => out.extend_from_slice(b"\\\\"),
                        0 | 0x80.. => out.extend_from_slice(format!("\\{byte:03o}").as_bytes()),
                        _ => out.push(*byte),
                    }
                }
            }
            _ => out.extend_from_slice(BASE64.encode(found).as_bytes()),
        }
        Ok(())
    })
}

fn get_byte(a: &Arguments<'_>) -> Column {
    let mut buffer = Vec::new();
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        let found = read(a, 0, row, &mut buffer)?;
        let place = a.whole(1, row);
        let byte = usize::try_from(place).ok().and_then(|place| found.get(place));
        let byte = byte.ok_or_else(|| format!("get_byte: there is no byte {place} of {}", found.len()))?;
        Ok(Some(i32::from(*byte)))
    })
}

fn length(a: &Arguments<'_>) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        Ok(i32::try_from((a.text(0, row).len().saturating_sub(2)) / 2).ok())
    })
}

fn substring(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (start, end) = a.span(row)?;
        let text = a.text(0, row);
        // Two digits for each byte, after the mark.
        let place = |byte: i64| {
            usize::try_from(byte.max(1) - 1).unwrap_or(usize::MAX).saturating_mul(2).saturating_add(2).min(text.len())
        };
        out.extend_from_slice(b"\\x");
        out.extend_from_slice(&text.as_bytes()[place(start)..place(end).max(place(start))]);
        Ok(())
    })
}

fn join(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        out.extend_from_slice(a.text(0, row).as_bytes());
        out.extend_from_slice(a.text(1, row).strip_prefix("\\x").unwrap_or_default().as_bytes());
        Ok(())
    })
}
