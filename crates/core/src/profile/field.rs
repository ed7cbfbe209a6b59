//! What has been seen in one field.

use std::collections::BTreeMap;

use super::times::SPELLINGS;
use crate::distinct::Distinct;
use crate::values::number;

/// Spellings of null that programs write into texts.
pub const NULL_WORDS: &[&str] =
    &["NULL", "null", "Null", "\\N", "N/A", "n/a", "NA", "NaN", "nan", "None", "none", "-", "--", "?", "#N/A"];

/// A value as a format spells it.
#[derive(Clone, Copy, Debug)]
pub enum Seen<'a> {
    /// No value.
    Null,
    /// `true` or `false`.
    Boolean(bool),
    /// A number in its own spelling.
    Number(&'a [u8]),
    /// A text.
    Text(&'a [u8]),
    /// A list, as it is spelled.
    List(&'a [u8]),
    /// An object, as it is spelled.
    Object(&'a [u8]),
}

/// Numbers, bare or spelled as texts.
#[derive(Clone, Debug, Default)]
pub struct Numbers {
    /// How many.
    pub count: u64,
    /// How many are whole and fit 64 bits.
    pub whole: u64,
    /// How many are spelled with an exponent, or have more digits than a decimal holds.
    pub wide: u64,
    /// Most digits after the point.
    pub scale: u8,
    /// Most digits before the point.
    pub digits: u8,
    /// The smallest and the largest, in their own spelling.
    pub range: Option<((f64, String), (f64, String))>,
}

impl Numbers {
    fn add(&mut self, text: &[u8]) {
        self.count += 1;
        self.whole +=
            u64::from(number::parse_whole(text).is_some() && text.iter().all(|b| !matches!(b, b'.' | b'e' | b'E')));
        let unsigned = text.strip_prefix(b"-").unwrap_or(text);
        let point = unsigned.iter().position(|b| *b == b'.').unwrap_or(unsigned.len());
        let after = unsigned.len().saturating_sub(point + 1);
        let is_wide = unsigned.iter().any(|b| matches!(b, b'e' | b'E')) || point > 30 || after > 15;
        self.wide += u64::from(is_wide);
        if !is_wide {
            self.scale = self.scale.max(u8::try_from(after).unwrap_or(u8::MAX));
            self.digits = self.digits.max(u8::try_from(point).unwrap_or(u8::MAX));
        }
        let Some(value) = number::parse_double(text) else { return };
        let own = || (value, String::from_utf8_lossy(text).into_owned());
        match &mut self.range {
            None => self.range = Some((own(), own())),
            Some((low, high)) => {
                if value < low.0 {
                    *low = own();
                }
                if value > high.0 {
                    *high = own();
                }
            }
        }
    }
}

/// How often one spelling of times fitted, and the earliest and latest moment by it.
#[derive(Clone, Copy, Debug, Default)]
pub struct TimeCount {
    /// Texts that fit.
    pub fits: u64,
    tried: u64,
    /// The earliest and latest moment in microseconds since 1970.
    pub range: Option<(i64, i64)>,
}

/// Texts.
#[derive(Clone, Debug, Default)]
pub struct Texts {
    /// How many.
    pub count: u64,
    /// How many are empty.
    pub empty: u64,
    /// How many are numbers.
    pub numbers: u64,
    /// How many are numbers that begin with a zero that a number would lose.
    pub zeros: u64,
    /// How many are true or false.
    pub booleans: u64,
    /// How many are whole JSON objects or lists.
    pub json: u64,
    /// Words for null.
    pub null_words: BTreeMap<&'static str, u64>,
    /// For each of [`SPELLINGS`], how often it fits.
    pub times: Vec<TimeCount>,
    /// The longest, in bytes.
    pub longest: usize,
    /// The first and last in the order of bytes.
    pub range: Option<(String, String)>,
}

/// All that has been seen in one field.
#[derive(Clone, Debug, Default)]
pub struct FieldProfile {
    /// Values that are not null.
    pub values: u64,
    /// Nulls that are spelled out.
    pub nulls: u64,
    /// Booleans.
    pub booleans: u64,
    /// Bare numbers.
    pub bare: u64,
    /// Numbers, those spelled as texts too.
    pub numbers: Numbers,
    /// Texts.
    pub texts: Texts,
    /// Lists.
    pub lists: u64,
    /// Objects.
    pub objects: u64,
    /// Different values.
    pub distinct: Distinct,
    /// The first few distinct values, as they are spelled.
    pub examples: Vec<String>,
    /// The first few texts that are not numbers, times or booleans.
    pub words: Vec<String>,
}

/// Characters of an example or bound that are kept.
const KEPT: usize = 120;
const EXAMPLES: usize = 3;

impl FieldProfile {
    /// Adds a value.
    pub fn add(&mut self, seen: Seen<'_>) {
        let spelled: &[u8] = match seen {
            Seen::Null => {
                self.nulls += 1;
                return;
            }
            Seen::Boolean(value) => {
                self.booleans += 1;
                if value { b"true" } else { b"false" }
            }
            Seen::Number(text) => {
                self.bare += 1;
                self.numbers.add(text);
                text
            }
            Seen::Text(text) => {
                self.text(text);
                text
            }
            Seen::List(text) => {
                self.lists += 1;
                text
            }
            Seen::Object(text) => {
                self.objects += 1;
                text
            }
        };
        self.values += 1;
        self.distinct.add(spelled);
        // A word for null shows nothing of what the values look like.
        if !NULL_WORDS.iter().any(|w| w.as_bytes() == spelled) {
            remember(&mut self.examples, spelled);
        }
    }

    /// How many distinct values there are, about; never more than there are values.
    pub fn distinct_values(&self) -> u64 {
        self.distinct.count().min(self.values)
    }

    fn text(&mut self, bytes: &[u8]) {
        let texts = &mut self.texts;
        texts.count += 1;
        texts.longest = texts.longest.max(bytes.len());
        let text = bytes.trim_ascii();
        if text.is_empty() {
            texts.empty += 1;
            return;
        }
        if let Some(word) = NULL_WORDS.iter().find(|w| w.as_bytes() == text) {
            *texts.null_words.entry(word).or_default() += 1;
            return;
        }
        note_range(&mut texts.range, bytes);
        let is_number = number::is_number(text);
        let has_zeros = !is_number && matches!(text, [b'0', b'0'..=b'9', ..]) && text.iter().all(u8::is_ascii_digit);
        let is_boolean = matches!(text.to_ascii_lowercase().as_slice(), b"true" | b"false");
        let is_json = matches!(text[0], b'{' | b'[') && crate::formats::json::is_value(text);
        texts.numbers += u64::from(is_number);
        texts.zeros += u64::from(has_zeros);
        texts.booleans += u64::from(is_boolean);
        texts.json += u64::from(is_json);
        if is_number {
            self.numbers.add(text);
            return;
        }
        if !self.time(text) && !is_boolean && !is_json && !has_zeros {
            remember(&mut self.words, text);
        }
    }

    /// Counts which spellings of times fit; one that hardly ever fits is not tried any more.
    fn time(&mut self, text: &[u8]) -> bool {
        const LONGEST: usize = 40;
        let times = &mut self.texts.times;
        times.resize(SPELLINGS.len(), TimeCount::default());
        let mut fits = false;
        if text.len() > LONGEST || text.len() < 8 || !text.iter().any(u8::is_ascii_digit) {
            return false;
        }
        for (spelling, count) in SPELLINGS.iter().zip(times) {
            if count.tried > 50 && count.fits * 2 < count.tried {
                continue;
            }
            count.tried += 1;
            let Some(micros) = spelling.parse(text) else { continue };
            fits = true;
            count.fits += 1;
            let (low, high) = count.range.unwrap_or((micros, micros));
            count.range = Some((low.min(micros), high.max(micros)));
        }
        fits
    }
}

fn remember(list: &mut Vec<String>, bytes: &[u8]) {
    if list.len() < EXAMPLES {
        let text: String = String::from_utf8_lossy(bytes).chars().take(KEPT).collect();
        if !list.contains(&text) {
            list.push(text);
        }
    }
}

fn note_range(range: &mut Option<(String, String)>, bytes: &[u8]) {
    let own = || String::from_utf8_lossy(&bytes[..bytes.len().min(KEPT)]).into_owned();
    match range {
        None => *range = Some((own(), own())),
        Some((low, high)) => {
            if bytes < low.as_bytes() {
                *low = own();
            }
            if bytes > high.as_bytes() && !high.as_bytes().starts_with(bytes) {
                *high = own();
            }
        }
    }
}
