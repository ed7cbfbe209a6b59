//! Messages as they are: bytes that no format explains, as one text each. What they mean is found by expressions.

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use super::json::JsonLines;
use super::recognise::{Recognised, Start};
use super::spelled::{self, Spell, Spelled, SpelledDecoder};
use super::{Cut, Decoder, Format, FormatKind, RowWriter, Tail};
use crate::config::{OptionSpec, OptionValue, Options, ValueKind};
use crate::contract::Contract;
use crate::event::Chunk;
use crate::profile::Profile;
use crate::reject::{Reason, Reject};
use crate::values::json::write_string;
use crate::values::rows::hex;

/// The kind.
pub const KIND: BytesKind = BytesKind;

/// Bytes by name.
pub struct BytesKind;

/// The field that a message is.
pub const VALUE: &str = "value";

const SPELLINGS: &[&str] = &["hex", "base64", "text"];

/// Keys of `bytes` of an arrival.
pub const OPTIONS: &[OptionSpec] = &[OptionSpec::with_default(
    "spelling",
    ValueKind::Choice(SPELLINGS),
    "hex",
    "how the field `value` spells a message: in hex after \\x, in base64, or as the text that it is",
)];

impl FormatKind for BytesKind {
    fn names(&self) -> &'static [&'static str] {
        &["bytes"]
    }

    fn title(&self) -> &'static str {
        "bytes"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn open(&self, options: &Options) -> Arc<dyn Format> {
        let spelling = match options.text("spelling").as_deref() {
            Some("base64") => Spelling::Base64,
            Some("text") => Spelling::Text,
            _ => Spelling::Hex,
        };
        Arc::new(Bytes { spelling })
    }

    fn writer(&self, _: &Options) -> Option<Arc<dyn RowWriter>> {
        None
    }

    fn recognise(&self, _: &Start<'_>) -> Option<Recognised> {
        None
    }
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Spelling {
    #[default]
    Hex,
    Base64,
    Text,
}

/// The format `bytes`.
#[derive(Clone, Copy, Debug, Default)]
pub struct Bytes {
    spelling: Spelling,
}

impl Spell for Bytes {
    fn as_json(&mut self, chunk: &Chunk) -> (Chunk, Vec<Reject>) {
        let mut spelled = Spelled::new(chunk, Reason::NOT_UTF8);
        for message in spelled.messages() {
            let start = spelled.text.len();
            let bytes = message.span.of(&chunk.bytes);
            spelled.text.push_str("{\"value\":");
            match self.spelling {
                Spelling::Hex => hex(&mut spelled.text, bytes),
                Spelling::Base64 => write_string(&mut spelled.text, &STANDARD.encode(bytes)),
                Spelling::Text => match std::str::from_utf8(bytes) {
                    Ok(text) => write_string(&mut spelled.text, text),
                    Err(error) => {
                        spelled.text.truncate(start);
                        spelled.reject(message, format!("byte {} is not UTF-8", error.valid_up_to()));
                        continue;
                    }
                },
            }
            spelled.text.push_str("}\n");
            spelled.add(message, start);
        }
        spelled.finish()
    }
}

impl Format for Bytes {
    fn kind(&self) -> &'static dyn FormatKind {
        &KIND
    }

    fn spelling(&self) -> Vec<(&'static str, OptionValue)> {
        match self.spelling {
            Spelling::Hex => Vec::new(),
            Spelling::Base64 => vec![("spelling", OptionValue::Text("base64".into()))],
            Spelling::Text => vec![("spelling", OptionValue::Text("text".into()))],
        }
    }

    fn cut(&self, bytes: &[u8], limit: u64) -> Cut {
        JsonLines.cut(bytes, limit)
    }

    fn of_messages(&self) -> Arc<dyn Format> {
        Arc::new(*self)
    }

    fn is_whole(&self, tail: &[u8], head: Option<&[u8]>) -> Tail {
        JsonLines.is_whole(tail, head)
    }

    fn spelled(&self, chunk: &Chunk) -> Option<Chunk> {
        chunk.messages.is_some().then(|| self.to_owned().as_json(chunk).0)
    }

    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder> {
        Box::new(SpelledDecoder::new(*self, JsonLines.decoder(contract)))
    }

    fn profile(&self, chunk: &Chunk, profile: &mut Profile) {
        spelled::profile(&mut self.to_owned(), chunk, profile);
    }

    fn fitted(&self, _: &Profile) -> Arc<dyn Format> {
        Arc::new(*self)
    }

    fn field_names(&self) -> Option<Vec<String>> {
        Some(vec![VALUE.into()])
    }

    fn takes_path(&self, path: &[String]) -> bool {
        path == [VALUE]
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::config::ExtraFields;
    use crate::contract::parse_fields;
    use crate::formats::spelled::testing::{chunk, decoded};
    use crate::problem::Problems;
    use crate::sql::tests::embed;

    #[rstest]
    #[case(Spelling::Hex, [r"\\x4120c3a90a", r"\\xff00", r"\\x"])]
    #[case(Spelling::Base64, ["QSDDqQo=", "/wA=", ""])]
    #[case(Spelling::Text, [r"A é\n", "", ""])]
    fn a_message_is_its_bytes(#[case] spelling: Spelling, #[case] expected: [&str; 3]) {
        let fields = parse_fields(&embed("value text not null"), &mut Problems::new());
        let contract = Contract { fields, extra: ExtraFields::Ignore, may_lack: false };
        let values = ["A é\n".as_bytes().to_vec(), vec![0xff, 0], Vec::new()];
        let format = Bytes { spelling };
        let (rows, origins, rejects) = decoded(&format, &contract, &values);
        let is_bad = |n: &usize| spelling == Spelling::Text && *n == 1;
        let good: Vec<usize> = (0..3).filter(|n| !is_bad(n)).collect();
        assert_eq!(rows, good.iter().map(|n| format!("{{\"value\":\"{}\"}}", expected[*n])).collect::<Vec<_>>());
        assert_eq!(origins, good.iter().map(|n| values[*n].clone()).collect::<Vec<_>>());
        let seen: Vec<_> = rejects.iter().map(|r| (r.position.major, r.reason, r.message.as_str())).collect();
        let bad = [(12, Reason::NOT_UTF8, "byte 0 is not UTF-8")];
        assert_eq!(seen, if spelling == Spelling::Text { &bad[..] } else { &[] });
        let mut profile = Profile::default();
        profile.add_chunk(&chunk(&values), &format);
        assert_eq!(profile.events, good.len() as u64);
    }
}
