//! Lists of single values, kept as JSON of one spelling: `["a",null]`, `[1,2]`.

use super::json::write_string;
use super::{number, time};
use crate::formats::json::scan::{Scanner, unescape, unescape_or_spelled};
use crate::types::SqlType;

/// A list as it is kept: from JSON, or from a text in the form of PostgreSQL, `{a,"b c",NULL}`, which may stand in a string of JSON.
/// None where it is no list of such items.
pub fn kept(text: &str, item: SqlType) -> Option<String> {
    let text = text.trim();
    match text.as_bytes().first()? {
        b'[' => from_json(text, item),
        b'{' => from_braces(text, item),
        b'"' => {
            let mut inner = Vec::new();
            let raw = text.strip_prefix('"')?.strip_suffix('"')?;
            unescape(raw.as_bytes(), &mut inner).then_some(())?;
            from_braces(std::str::from_utf8(&inner).ok()?.trim(), item)
        }
        _ => None,
    }
}

/// Goes over the items of a list that is kept, as plain texts; None for null.
pub fn each(list: &str, mut take: impl FnMut(Option<&str>)) {
    let mut scanner = Scanner::new(list.as_bytes());
    let mut text = Vec::new();
    if scanner.expect(b'[', "a list").is_err() {
        return;
    }
    let _ = scanner.members(b']', |scanner| {
        text.clear();
        if scanner.peek() == b'"' {
            let raw = scanner.string()?;
            unescape_or_spelled(raw.bytes, &mut text);
            take(std::str::from_utf8(&text).ok());
            return Ok(());
        }
        let from = scanner.at;
        let to = scanner.skip_value(0)?;
        take(list.get(from..to).filter(|token| *token != "null"));
        Ok(())
    });
}

/// A list being written.
#[derive(Default)]
pub struct ListWriter {
    out: String,
}

impl ListWriter {
    /// Adds an item that is given as plain text; None where it is none of the type.
    pub fn add(&mut self, item: Option<&str>, ty: SqlType) -> Option<()> {
        self.out.push(if self.out.is_empty() { '[' } else { ',' });
        match item {
            None => self.out.push_str("null"),
            Some(text) => write_item(text, ty, &mut self.out)?,
        }
        Some(())
    }

    /// The list.
    pub fn finish(mut self) -> String {
        if self.out.is_empty() {
            self.out.push('[');
        }
        self.out.push(']');
        self.out
    }
}

/// Writes one item as JSON in its usual spelling.
fn write_item(text: &str, ty: SqlType, out: &mut String) -> Option<()> {
    use std::fmt::Write as _;
    let bytes = text.trim().as_bytes();
    let written = match ty {
        SqlType::Text => {
            write_string(out, text);
            Ok(())
        }
        SqlType::Boolean => write!(out, "{}", crate::expr::boolean_word(text)?),
        SqlType::Integer => write!(out, "{}", i32::try_from(number::parse_whole(bytes)?).ok()?),
        SqlType::Bigint => write!(out, "{}", number::parse_whole(bytes)?),
        SqlType::Double => {
            let value = number::parse_double(bytes)?;
            super::rows::float(out, value, |value| value.to_string());
            Ok(())
        }
        SqlType::Decimal { precision, scale } => {
            let value =
                number::parse_decimal(bytes, scale).filter(|value| number::fits_precision(*value, precision))?;
            number::write_decimal(out, value, scale);
            Ok(())
        }
        SqlType::Date => write!(out, "\"{}\"", time::show_date(time::parse_date(bytes)?)),
        SqlType::Timestamptz => write!(out, "\"{}\"", time::show_timestamp(moment(bytes)?)),
        _ => return None,
    };
    written.ok()
}

/// A moment as RFC 3339, or as PostgreSQL writes one.
fn moment(bytes: &[u8]) -> Option<i64> {
    time::parse_timestamp(bytes).or_else(|| {
        let text = std::str::from_utf8(bytes).ok()?;
        let (day, rest) = text.split_once(' ')?;
        let zone = if rest.ends_with("+00") { format!("{}Z", rest.trim_end_matches("+00")) } else { rest.to_string() };
        time::parse_timestamp(format!("{day}T{zone}").as_bytes())
    })
}

fn from_json(text: &str, item: SqlType) -> Option<String> {
    let mut scanner = Scanner::new(text.as_bytes());
    let (mut list, mut is_good, mut plain) = (ListWriter::default(), true, Vec::new());
    scanner.expect(b'[', "a list").ok()?;
    let walked = scanner.members(b']', |scanner| {
        let from = scanner.at;
        let added = match scanner.peek() {
            b'"' => {
                let raw = scanner.string()?;
                plain.clear();
                let text = unescape(raw.bytes, &mut plain).then(|| std::str::from_utf8(&plain).ok()).flatten();
                text.and_then(|text| list.add(Some(text), item))
            }
            b'[' | b'{' => {
                scanner.skip_value(0)?;
                None
            }
            _ => {
                let to = scanner.skip_value(0)?;
                text.get(from..to).and_then(|token| list.add(Some(token).filter(|token| *token != "null"), item))
            }
        };
        is_good &= added.is_some();
        Ok(())
    });
    scanner.skip_blanks();
    (walked.is_ok() && is_good && scanner.at == text.len()).then(|| list.finish())
}

fn from_braces(text: &str, item: SqlType) -> Option<String> {
    let inner = text.strip_prefix('{')?.strip_suffix('}')?;
    let mut list = ListWriter::default();
    if inner.trim().is_empty() {
        return Some(list.finish());
    }
    let mut rest = inner.trim_start();
    loop {
        let after = match rest.strip_prefix('"') {
            Some(quoted) => {
                let (mut text, mut escaped, mut end) = (String::new(), false, None);
                for (at, c) in quoted.char_indices() {
                    match c {
                        _ if escaped => {
                            text.push(c);
                            escaped = false;
                        }
                        '\\' => escaped = true,
                        '"' => {
                            end = Some(at + 1);
                            break;
                        }
                        _ => text.push(c),
                    }
                }
                list.add(Some(&text), item)?;
                &quoted[end?..]
            }
            None => {
                let end = rest.find(',').unwrap_or(rest.len());
                let word = rest[..end].trim();
                if word.is_empty() || word.contains(['{', '}', '"', '\\']) {
                    return None;
                }
                list.add(Some(word).filter(|word| !word.eq_ignore_ascii_case("null")), item)?;
                &rest[end..]
            }
        };
        match after.trim_start().strip_prefix(',') {
            Some(next) => rest = next.trim_start(),
            None if after.trim().is_empty() => return Some(list.finish()),
            None => return None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const D: SqlType = SqlType::Decimal { precision: 5, scale: 2 };

    #[rstest]
    #[case(SqlType::Text, "[ \"a\" , null, 7, true ]", Some("[\"a\",null,\"7\",\"true\"]"))]
    #[case(SqlType::Text, "[]", Some("[]"))]
    #[case(SqlType::Text, "{}", Some("[]"))]
    #[case(
        SqlType::Text,
        "{a, b c ,\"d, \\\"e\\\\\",NULL,\"NULL\",\"\"}",
        Some("[\"a\",\"b c\",\"d, \\\"e\\\\\",null,\"NULL\",\"\"]")
    )]
    #[case(SqlType::Text, "\"{a,\\\"b,c\\\"}\"", Some("[\"a\",\"b,c\"]"))]
    #[case(SqlType::Text, "[\"\\u00e9\\n\"]", Some("[\"é\\n\"]"))]
    #[case(SqlType::Text, "[\"\\ud800\"]", None)]
    #[case(SqlType::Text, "[[\"a\"]]", None)]
    #[case(SqlType::Text, "{{a},{b}}", None)]
    #[case(SqlType::Text, "{a,}", None)]
    #[case(SqlType::Text, "{\"a}", None)]
    #[case(SqlType::Text, "{\"a\"b}", None)]
    #[case(SqlType::Text, "[\"a\"", None)]
    #[case(SqlType::Text, "[\"a\"] x", None)]
    #[case(SqlType::Text, "\"a\"", None)]
    #[case(SqlType::Text, "", None)]
    #[case(SqlType::Integer, "[1, 2e0, \"3\"]", Some("[1,2,3]"))]
    #[case(SqlType::Integer, "{1,-2}", Some("[1,-2]"))]
    #[case(SqlType::Integer, "[2147483648]", None)]
    #[case(SqlType::Integer, "[1.5]", None)]
    #[case(SqlType::Integer, "[true]", None)]
    #[case(SqlType::Double, "[1.50, \"NaN\", -0.0]", Some("[1.5,\"NaN\",-0]"))]
    #[case(D, "[1.5, 999.99]", Some("[1.50,999.99]"))]
    #[case(D, "[1000]", None)]
    #[case(SqlType::Boolean, "{t,f,NULL}", Some("[true,false,null]"))]
    #[case(SqlType::Date, "[\"2026-07-01\"]", Some("[\"2026-07-01\"]"))]
    #[case(SqlType::Timestamptz, "{\"2026-07-01 05:06:07.5+00\"}", Some("[\"2026-07-01T05:06:07.500Z\"]"))]
    #[case(SqlType::Json, "[1]", None)]
    fn lists(#[case] item: SqlType, #[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(kept(text, item).as_deref(), expected);
        if let Some(list) = expected {
            assert_eq!(kept(list, item).as_deref(), expected);
        }
    }

    #[test]
    fn items_are_given_as_texts() {
        let mut found = Vec::new();
        each("[\"a\\\"b\",null,\"null\",7]", |item| found.push(item.map(str::to_string)));
        assert_eq!(found, [Some("a\"b".into()), None, Some("null".into()), Some("7".into())]);
    }

    proptest::proptest! {
        #[test]
        fn texts_come_back_whatever_they_are(items: Vec<Option<String>>) {
            let mut list = ListWriter::default();
            items.iter().for_each(|item| list.add(item.as_deref(), SqlType::Text).unwrap());
            let text = list.finish();
            proptest::prop_assert_eq!(kept(&text, SqlType::Text), Some(text.clone()));
            let mut back = Vec::new();
            each(&text, |item| back.push(item.map(str::to_string)));
            proptest::prop_assert_eq!(back, items);
        }

        #[test]
        fn nothing_panics(text: String) {
            let _ = kept(&text, SqlType::Text);
            let _ = kept(&format!("{{{text}}}"), SqlType::Double);
            let _ = kept(&format!("[{text}]"), SqlType::Timestamptz);
        }
    }
}
