//! Cuts JSON that is not in lines into its records: the elements of a list, or values one after the other.

/// What came next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Found {
    /// A record was added to the lines, with a line end.
    Record,
    /// A record is longer than allowed: its length in bytes. Its beginning was added to the lines, with a line end; it is about
    /// as long as a record may be.
    TooLong(u64),
    /// More bytes are needed.
    More,
    /// The byte at this place of the file can't stand there, so that nothing after it can be told apart.
    Broken {
        /// The place.
        at: u64,
        /// What could stand there.
        wanted: &'static str,
    },
}

/// Bytes of a record that is too long which are kept at least.
const KEPT: u64 = 64 << 10;

/// Where it stands between records.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    /// Before a value of the file.
    Between,
    /// In a list, before its first element.
    Opened,
    /// In a list, after a comma.
    AfterComma,
    /// In a list, after an element.
    AfterElement,
    /// Within a record.
    Within,
}

/// Reads a document piece by piece.
#[derive(Debug)]
pub struct Documents {
    place: Place,
    in_list: bool,
    /// Open braces and brackets of the record.
    depth: u32,
    /// Whether the record is neither an object, a list nor a text: it ends before what can't belong to it.
    is_bare: bool,
    in_text: bool,
    escaped: bool,
    length: u64,
    most: u64,
    at: u64,
}

impl Documents {
    /// A document from its first byte. Records have at most so many bytes.
    pub fn new(most: u64) -> Self {
        Self {
            place: Place::Between,
            in_list: false,
            depth: 0,
            is_bare: false,
            in_text: false,
            escaped: false,
            length: 0,
            most,
            at: 0,
        }
    }

    /// Whether the document may end here.
    pub fn is_whole(&self) -> bool {
        self.place == Place::Between || (self.place == Place::Within && self.is_bare && !self.in_list)
    }

    /// Takes bytes away from the front until something was found. Line ends of a record become blanks, so that each record is
    /// one line.
    pub fn next(&mut self, bytes: &mut &[u8], line: &mut Vec<u8>) -> Found {
        while let Some((&byte, rest)) = bytes.split_first() {
            if self.is_mark(byte) {
                *bytes = rest;
                self.at += 1;
                continue;
            }
            if self.place != Place::Within {
                match self.between(byte) {
                    Err(wanted) => return Found::Broken { at: self.at, wanted },
                    Ok(false) => {
                        *bytes = rest;
                        self.at += 1;
                    }
                    Ok(true) => self.begin(byte),
                }
                continue;
            }
            if self.is_bare && (byte.is_ascii_whitespace() || matches!(byte, b',' | b']' | b'}' | b'{' | b'[' | b'"')) {
                return self.end(line);
            }
            *bytes = rest;
            self.at += 1;
            self.add(byte, line);
            if self.is_at_end(byte) {
                return self.end(line);
            }
        }
        Found::More
    }

    /// The last record of a document that ends without anything after it.
    pub fn finish(&mut self, line: &mut Vec<u8>) -> Option<Found> {
        (self.place == Place::Within && self.is_whole()).then(|| self.end(line))
    }

    /// Whether a byte belongs to a byte order mark at the very beginning.
    fn is_mark(&self, byte: u8) -> bool {
        let at = usize::try_from(self.at).unwrap_or(usize::MAX);
        self.place == Place::Between && super::super::BYTE_ORDER_MARK.get(at) == Some(&byte)
    }

    /// Whether a byte between records begins one; false where it only leads there.
    fn between(&mut self, byte: u8) -> Result<bool, &'static str> {
        if byte.is_ascii_whitespace() {
            return Ok(false);
        }
        match (self.place, byte) {
            (Place::Between, b'[') => {
                self.in_list = true;
                self.place = Place::Opened;
                Ok(false)
            }
            (Place::Opened | Place::AfterElement, b']') => {
                self.in_list = false;
                self.place = Place::Between;
                Ok(false)
            }
            (Place::AfterElement, b',') => {
                self.place = Place::AfterComma;
                Ok(false)
            }
            (Place::AfterElement, _) => Err("`,` or `]`"),
            (_, b',' | b']' | b'}' | b':') => Err("a JSON value"),
            _ => Ok(true),
        }
    }

    fn begin(&mut self, byte: u8) {
        self.place = Place::Within;
        (self.depth, self.length) = (0, 0);
        self.is_bare = !matches!(byte, b'{' | b'[' | b'"');
    }

    fn add(&mut self, byte: u8, line: &mut Vec<u8>) {
        self.length += 1;
        let is_kept = self.length <= self.most.max(KEPT);
        match byte {
            _ if !is_kept => {}
            // Within a text it is not JSON, strictly; it is read as what it means.
            b'\n' if self.in_text => line.extend_from_slice(b"\\n"),
            b'\r' if self.in_text => line.extend_from_slice(b"\\r"),
            b'\n' | b'\r' => line.push(b' '),
            byte => line.push(byte),
        }
    }

    /// Whether a byte of a record is its last.
    fn is_at_end(&mut self, byte: u8) -> bool {
        if self.in_text {
            match byte {
                _ if self.escaped => self.escaped = false,
                b'\\' => self.escaped = true,
                b'"' => {
                    self.in_text = false;
                    return self.depth == 0;
                }
                _ => {}
            }
            return false;
        }
        match byte {
            b'"' => self.in_text = true,
            b'{' | b'[' => self.depth += 1,
            b'}' | b']' => {
                self.depth = self.depth.saturating_sub(1);
                return self.depth == 0;
            }
            _ => {}
        }
        false
    }

    fn end(&mut self, line: &mut Vec<u8>) -> Found {
        self.place = if self.in_list { Place::AfterElement } else { Place::Between };
        line.push(b'\n');
        if self.length > self.most { Found::TooLong(self.length) } else { Found::Record }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// What a document holds that comes so many bytes at a time: its records, and what ends it.
    fn read(text: &str, piece: usize) -> (Vec<String>, String) {
        let mut documents = Documents::new(40);
        let (mut line, mut records) = (Vec::new(), Vec::new());
        let mut take = |line: &mut Vec<u8>, found: Found| {
            let text = String::from_utf8(std::mem::take(line)).unwrap();
            records.push(match found {
                Found::TooLong(length) => format!("{length} bytes"),
                _ => text.trim_end().to_string(),
            });
        };
        for mut bytes in text.as_bytes().chunks(piece) {
            loop {
                match documents.next(&mut bytes, &mut line) {
                    Found::More => break,
                    Found::Broken { at, wanted } => return (records, format!("{wanted} at {at}")),
                    found => take(&mut line, found),
                }
            }
        }
        if let Some(found) = documents.finish(&mut line) {
            take(&mut line, found);
        }
        (records, if documents.is_whole() { "whole".into() } else { "cut".into() })
    }

    #[rstest]
    #[case("", &[], "whole")]
    #[case("[]", &[], "whole")]
    #[case(" [ ] [] ", &[], "whole")]
    #[case("\u{feff}[{\"a\":1},{\"a\":2}]", &["{\"a\":1}", "{\"a\":2}"], "whole")]
    #[case("[\n  {\n    \"a\": [1, {}]\n  }\n]\n", &["{     \"a\": [1, {}]   }"], "whole")]
    #[case("{\"a\":1}{\"b\":2}\n{\"c\":3}", &["{\"a\":1}", "{\"b\":2}", "{\"c\":3}"], "whole")]
    #[case("[{\"a\":\"]}\\\"{\"}]", &["{\"a\":\"]}\\\"{\"}"], "whole")]
    #[case("[{\"a\":\"x\ny\"}]", &["{\"a\":\"x\\ny\"}"], "whole")]
    #[case("[1, \"a b\", [2], null]", &["1", "\"a b\"", "[2]", "null"], "whole")]
    #[case("12 {\"a\":1} 34", &["12", "{\"a\":1}", "34"], "whole")]
    #[case("[{\"a\":1}", &["{\"a\":1}"], "cut")]
    #[case("[{\"a\":1},{\"b\":", &["{\"a\":1}"], "cut")]
    #[case("[1", &[], "cut")]
    #[case("[1,]", &["1"], "a JSON value at 3")]
    #[case("[{\"a\":1} {\"b\":2}]", &["{\"a\":1}"], "`,` or `]` at 9")]
    #[case("{\"a\":1},{\"b\":2}", &["{\"a\":1}"], "a JSON value at 7")]
    #[case("[{\"a\":\"0123456789012345678901234567890123456789\"},7]", &["48 bytes", "7"], "whole")]
    fn documents(#[case] text: &str, #[case] records: &[&str], #[case] end: &str) {
        for piece in 1..=text.len().max(1) {
            let (found, ended) = read(text, piece);
            assert_eq!((found.iter().map(String::as_str).collect::<Vec<_>>(), ended.as_str()), (records.to_vec(), end));
        }
    }
}
