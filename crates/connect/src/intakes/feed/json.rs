//! Writes rows as JSON, value by value, from the texts that databases send.

/// How a value is spelled in JSON.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Spelling {
    /// Digits, where they are some; else in quotes.
    Number,
    /// `t` and `f`.
    Truth,
    /// It is JSON.
    Json,
    /// In quotes.
    Text,
}

/// Writes a text in quotes.
pub(crate) fn write_text(out: &mut Vec<u8>, text: &[u8]) {
    out.push(b'"');
    let mut from = 0;
    for (at, byte) in text.iter().enumerate() {
        if *byte >= 0x20 && *byte != b'"' && *byte != b'\\' {
            continue;
        }
        out.extend_from_slice(&text[from..at]);
        from = at + 1;
        match byte {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            _ => out.extend_from_slice(format!("\\u{byte:04x}").as_bytes()),
        }
    }
    out.extend_from_slice(&text[from..]);
    out.push(b'"');
}

/// Writes a value.
pub(crate) fn write_value(out: &mut Vec<u8>, spelling: Spelling, text: &[u8]) {
    match spelling {
        // NaN and the infinities are not numbers of JSON.
        Spelling::Number if text.last().is_some_and(u8::is_ascii_digit) => out.extend_from_slice(text),
        Spelling::Truth => out.extend_from_slice(if text == b"t" || text == b"1" { b"true" } else { b"false" }),
        Spelling::Json => write_json(out, text),
        Spelling::Number | Spelling::Text => write_text(out, text),
    }
}

/// Writes JSON on one line. Line ends stand only between values: within texts they are escaped.
fn write_json(out: &mut Vec<u8>, text: &[u8]) {
    out.extend(text.iter().map(|byte| if matches!(byte, b'\n' | b'\r') { b' ' } else { *byte }));
}

/// Writes an object, member by member.
pub(crate) struct Object<'o> {
    out: &'o mut Vec<u8>,
    is_empty: bool,
}

impl<'o> Object<'o> {
    pub(crate) fn begin(out: &'o mut Vec<u8>) -> Self {
        out.push(b'{');
        Self { out, is_empty: true }
    }

    /// Writes a member. `name` is written already, as [`member_name`] does.
    pub(crate) fn member(&mut self, name: &[u8], spelling: Spelling, value: Option<&[u8]>) {
        if !std::mem::take(&mut self.is_empty) {
            self.out.push(b',');
        }
        self.out.extend_from_slice(name);
        match value {
            Some(text) => write_value(self.out, spelling, text),
            None => self.out.extend_from_slice(b"null"),
        }
    }

    pub(crate) fn end(self) {
        self.out.push(b'}');
    }
}

/// A member's name with quotes and colon.
pub(crate) fn member_name(name: &str) -> Vec<u8> {
    let mut out = Vec::with_capacity(name.len() + 3);
    write_text(&mut out, name.as_bytes());
    out.push(b':');
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Spelling::Number, "-12.50", "-12.50")]
    #[case(Spelling::Number, "NaN", "\"NaN\"")]
    #[case(Spelling::Number, "-Infinity", "\"-Infinity\"")]
    #[case(Spelling::Truth, "t", "true")]
    #[case(Spelling::Truth, "f", "false")]
    #[case(Spelling::Json, "{\"a\":\n [1]}", "{\"a\":  [1]}")]
    #[case(Spelling::Text, "a\"b\\c\n\u{1}ä", "\"a\\\"b\\\\c\\n\\u0001ä\"")]
    #[case(Spelling::Text, "", "\"\"")]
    fn values_are_spelled_as_json(#[case] spelling: Spelling, #[case] text: &str, #[case] expected: &str) {
        let mut out = Vec::new();
        write_value(&mut out, spelling, text.as_bytes());
        assert_eq!(String::from_utf8(out).unwrap(), expected);
    }

    #[test]
    fn an_object_has_commas_between_its_members() {
        let mut out = Vec::new();
        let mut object = Object::begin(&mut out);
        object.member(&member_name("n"), Spelling::Number, Some(b"7"));
        object.member(&member_name("a \"b\""), Spelling::Text, None);
        object.end();
        assert_eq!(String::from_utf8(out).unwrap(), "{\"n\":7,\"a \\\"b\\\"\":null}");
    }
}
