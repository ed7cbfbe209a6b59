//! What a contract would say of a field: type, nullability, the spelling of times, and how sure that is.

use std::collections::HashSet;

use super::field::{FieldProfile, Texts};
use super::times::{SPELLINGS, Spelling, epoch_unit, names_a_time};
use crate::contract::join_path;
use crate::limit::Limit;
use crate::types::SqlType;
use crate::units::show_count;
use crate::values::number;

/// A field with its guess.
#[derive(Clone, Debug)]
pub struct FieldGuess {
    /// Where it stands in the event.
    pub path: Vec<String>,
    /// The name that it gets as a column.
    pub name: String,
    /// What was seen.
    pub profile: FieldProfile,
    /// Events that were seen.
    pub events: u64,
    /// What it probably is.
    pub guess: Guess,
}

/// What a field probably is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Guess {
    /// Its type.
    pub ty: SqlType,
    /// The narrower type, where the source declares one.
    pub limit: Option<Limit>,
    /// Whether every event had a value.
    pub not_null: bool,
    /// The text after `format`, where the type needs one.
    pub format: Option<String>,
    /// Values that do not fit.
    pub misfits: u64,
    /// Words that stand for null, for formats in which that can be said.
    pub null_words: Vec<&'static str>,
    /// What disagreed, and what else it could be.
    pub notes: Vec<String>,
}

/// Of the values at least this share must fit for a type to be guessed.
const NEARLY_ALL: f64 = 0.99;

/// Whole numbers up to this size are guessed to stay within 32 bits.
const SMALL: f64 = 100_000_000.0;

impl FieldGuess {
    pub(super) fn new(path: Vec<String>, profile: FieldProfile, events: u64, typed: bool) -> Self {
        let name = path.last().cloned().unwrap_or_default();
        let guess = guess(&name, &profile, events, typed);
        Self { path, name, profile, events, guess }
    }

    /// The path as `from '…'` takes it.
    pub fn spelled_path(&self) -> String {
        join_path(&self.path)
    }

    /// The earliest and latest moment, where the guess is a time. Microseconds since 1970.
    pub fn time_range(&self) -> Option<(i64, i64)> {
        if !matches!(self.guess.ty, SqlType::Timestamptz | SqlType::Date) {
            return None;
        }
        let unit = match self.guess.format.as_deref() {
            Some("epoch_s") => 1_000_000.0,
            Some("epoch_ms") => 1_000.0,
            Some("epoch_us") => 1.0,
            _ => return best_time(&self.profile.texts).and_then(|best| best.range),
        };
        let (low, high) = self.profile.numbers.range.as_ref()?;
        Some((micros(low.0 * unit)?, micros(high.0 * unit)?))
    }

    /// Events without a value.
    pub fn nulls(&self) -> u64 {
        self.events.saturating_sub(self.profile.values)
    }
}

/// The guess for a field of a name. `typed` says whether the format distinguishes texts from numbers.
pub fn guess(name: &str, profile: &FieldProfile, events: u64, typed: bool) -> Guess {
    let mut guess = Guess {
        ty: SqlType::Text,
        limit: None,
        not_null: events > 0 && profile.values == events,
        format: None,
        misfits: 0,
        null_words: Vec::new(),
        notes: Vec::new(),
    };
    let texts = &profile.texts;
    if profile.values == 0 {
        guess.notes.push("no value in any event, so the type is a guess".into());
    } else if profile.objects + profile.lists > 0 {
        guess.ty = SqlType::Json;
        mixture(&mut guess, profile);
    } else if profile.booleans == profile.values {
        guess.ty = SqlType::Boolean;
    } else if profile.bare == profile.values {
        numbers(&mut guess, name, profile);
    } else if texts.count == profile.values {
        of_texts(&mut guess, name, profile, typed);
    } else if profile.numbers.count == profile.values {
        numbers(&mut guess, name, profile);
        guess.notes.push(format!("{} of them are spelled as texts", show_count(texts.count)));
    } else {
        mixture(&mut guess, profile);
    }
    guess
}

/// Says of which kinds the values are.
fn mixture(guess: &mut Guess, profile: &FieldProfile) {
    let kinds = [
        ("texts", profile.texts.count),
        ("numbers", profile.bare),
        ("booleans", profile.booleans),
        ("lists", profile.lists),
        ("objects", profile.objects),
    ];
    let there: Vec<String> =
        kinds.iter().filter(|(_, n)| *n > 0).map(|(kind, n)| format!("{} {kind}", show_count(*n))).collect();
    if there.len() > 1 {
        guess.notes.push(format!("values of several kinds: {}", there.join(", ")));
    } else if profile.objects > 0 && profile.examples == ["{}"] {
        guess.notes.push("empty objects".into());
    } else if profile.objects > 0 {
        guess.notes.push("objects of many different names".into());
    }
}

fn numbers(guess: &mut Guess, name: &str, profile: &FieldProfile) {
    let numbers = &profile.numbers;
    let Some((low, high)) = &numbers.range else { return };
    let largest = low.0.abs().max(high.0.abs());
    if numbers.whole == numbers.count {
        guess.ty = if largest <= SMALL { SqlType::Integer } else { SqlType::Bigint };
        let whole = |text: &str| number::parse_whole(text.as_bytes());
        let unit = whole(&low.1).zip(whole(&high.1)).and_then(|(low, high)| epoch_unit(low, high));
        match unit {
            Some(unit) if names_a_time(name) => {
                guess.ty = SqlType::Timestamptz;
                guess.format = Some(unit.into());
            }
            Some(unit) if unit != "epoch_s" => guess.notes.push(format!("could be a time, format '{unit}'")),
            _ => {}
        }
        return;
    }
    let fractional = |unit: &str, factor: f64| {
        let (from, to) = (631_152_000.0 * factor, 4_102_444_800.0 * factor);
        (low.0 >= from && high.0 <= to && names_a_time(name)).then(|| unit.to_string())
    };
    if let Some(unit) = fractional("epoch_s", 1.0).or_else(|| fractional("epoch_ms", 1_000.0)) {
        guess.ty = SqlType::Timestamptz;
        guess.format = Some(unit);
    } else if numbers.wide == 0 && numbers.scale == 0 {
        guess.ty = SqlType::Decimal { precision: 38, scale: 0 };
        guess.notes.push("more than 64 bits".into());
    } else if numbers.wide == 0 && numbers.scale <= 4 && numbers.digits <= 14 {
        guess.ty = SqlType::Decimal { precision: 18, scale: numbers.scale };
    } else {
        guess.ty = SqlType::Double;
    }
}

fn of_texts(guess: &mut Guess, name: &str, profile: &FieldProfile, typed: bool) {
    let texts = &profile.texts;
    let nulls: u64 = texts.null_words.values().sum();
    let filled = texts.count - texts.empty - nulls;
    if filled == 0 {
        return note_null_words(guess, texts, typed);
    }
    // Where the format distinguishes texts from nothing, an empty text and a word for null are not values of another type.
    let all = if typed { texts.count } else { filled };
    let enough = |count: u64| count > 0 && count as f64 >= NEARLY_ALL * all as f64;
    // Words for null count as misfits where the format cannot say that they mean null.
    let disagree = |guess: &mut Guess, count: u64| {
        guess.misfits = all - count;
        if all > count {
            let examples = quoted(&profile.words);
            let verb = if all - count == 1 { "does" } else { "do" };
            guess.notes.push(format!("{} {verb} not fit{examples} and will be rejected", show_count(all - count)));
        }
        note_null_words(guess, texts, typed);
    };
    if let Some(BestTime { spelling, fits, swapped, .. }) = best_time(texts).filter(|b| enough(b.fits)) {
        guess.ty = if spelling.is_date { SqlType::Date } else { SqlType::Timestamptz };
        guess.format = spelling.pattern.map(str::to_string);
        if spelling.pattern.is_some_and(|p| !spelling.is_date && !p.contains("%z")) {
            guess.notes.push("no zone in the text: read as UTC".into());
        }
        if swapped {
            guess.notes.push("day and month could be swapped".into());
        }
        disagree(guess, fits);
    } else if enough(texts.numbers) && texts.zeros == 0 {
        numbers(guess, name, profile);
        if typed {
            guess.notes.push("spelled as texts".into());
        }
        disagree(guess, texts.numbers);
    } else if enough(texts.booleans) && (!typed || texts.booleans == texts.count) {
        guess.ty = SqlType::Boolean;
        disagree(guess, texts.booleans);
    } else if texts.json == filled && !typed {
        guess.ty = SqlType::Json;
        note_null_words(guess, texts, typed);
    } else {
        stays_text(guess, profile, filled, typed);
        if typed && texts.empty > 0 && !guess.notes.is_empty() {
            guess.notes.push(format!("{} are empty", show_count(texts.empty)));
        }
    }
    if guess.ty != SqlType::Text && texts.empty + nulls > 0 && !typed {
        guess.not_null = false;
    }
}

/// Says what most of the values look like although the field stays text.
fn stays_text(guess: &mut Guess, profile: &FieldProfile, filled: u64, typed: bool) {
    let texts = &profile.texts;
    let half = |count: u64| count * 2 > filled;
    if texts.zeros > 0 && half(texts.numbers + texts.zeros) {
        guess.notes.push("digits with zeros in front, kept as text".into());
    } else if half(texts.numbers) {
        let examples = quoted(&profile.words);
        guess.notes.push(format!("{} of {} are numbers{examples}", show_count(texts.numbers), show_count(filled)));
    } else if let Some(BestTime { fits, .. }) = best_time(texts).filter(|b| half(b.fits)) {
        let examples = quoted(&profile.words);
        guess.notes.push(format!("{} of {} are times{examples}", show_count(fits), show_count(filled)));
    }
    // In a text such a word may be meant as it stands; it is only said.
    if typed {
        note_null_words(guess, texts, typed);
    } else if !texts.null_words.is_empty() {
        note_null_words(guess, texts, false);
        guess.not_null = false;
    }
}

fn quoted(words: &[String]) -> String {
    match words {
        [] => String::new(),
        [one] => format!(", such as '{one}',"),
        [one, two, ..] => format!(", such as '{one}' and '{two}',"),
    }
}

fn note_null_words(guess: &mut Guess, texts: &Texts, typed: bool) {
    if texts.null_words.is_empty() {
        return;
    }
    let said: Vec<String> = texts.null_words.iter().map(|(word, n)| format!("{} '{word}'", show_count(*n))).collect();
    if typed {
        guess.notes.push(format!("{} among them", said.join(", ")));
    } else {
        guess.null_words = texts.null_words.keys().copied().collect();
        guess.notes.push(format!("{} taken as null", said.join(", ")));
    }
}

/// The spelling of times that fits most texts.
struct BestTime {
    spelling: Spelling,
    fits: u64,
    /// Whether another one fits as many with another meaning.
    swapped: bool,
    range: Option<(i64, i64)>,
}

fn best_time(texts: &Texts) -> Option<BestTime> {
    let counts = || SPELLINGS.iter().zip(&texts.times);
    let fits = counts().map(|(_, c)| c.fits).max().filter(|n| *n > 0)?;
    let (spelling, count) = counts().find(|(_, c)| c.fits == fits)?;
    let swapped = counts().any(|(other, c)| c.fits == fits && spelling.is_ambiguous_with(other));
    Some(BestTime { spelling: *spelling, fits, swapped, range: count.range })
}

#[expect(clippy::cast_possible_truncation, reason = "bounds are checked just before")]
fn micros(value: f64) -> Option<i64> {
    (value.abs() < 9e18).then_some(value as i64)
}

/// Gives every field a name as a column: its own where that is a plain name, and the names of its objects before it
/// where it is taken.
pub(super) fn name_all(fields: &mut [FieldGuess]) {
    let mut taken = HashSet::new();
    for field in fields.iter_mut() {
        let mut name = match field.path.as_slice() {
            [one] if is_plain(one) => one.clone(),
            path => plain(&path.join("_")),
        };
        let base = name.clone();
        let mut number = 2;
        while !taken.insert(name.to_lowercase()) {
            name = format!("{base}_{number}");
            number += 1;
        }
        field.name = name;
    }
}

/// Whether a name can be written in SQL without quotes and means itself there.
pub fn is_plain(name: &str) -> bool {
    let mut chars = name.chars();
    chars.next().is_some_and(|c| c.is_alphabetic() || c == '_')
        && chars.all(|c| c.is_alphanumeric() || c == '_')
        && !is_word(name)
}

/// Whether a name is a word of SQL that does not parse as a column everywhere.
fn is_word(name: &str) -> bool {
    const WORDS: &[&str] = &[
        "all",
        "and",
        "any",
        "array",
        "as",
        "asc",
        "between",
        "by",
        "case",
        "cast",
        "check",
        "constraint",
        "create",
        "cross",
        "current_date",
        "current_time",
        "date",
        "default",
        "desc",
        "distinct",
        "else",
        "end",
        "except",
        "exists",
        "extract",
        "false",
        "fetch",
        "for",
        "foreign",
        "from",
        "full",
        "group",
        "having",
        "in",
        "inner",
        "interval",
        "into",
        "is",
        "join",
        "left",
        "like",
        "limit",
        "natural",
        "not",
        "null",
        "offset",
        "on",
        "or",
        "order",
        "outer",
        "overlaps",
        "position",
        "primary",
        "qualify",
        "references",
        "right",
        "select",
        "set",
        "some",
        "substring",
        "table",
        "then",
        "time",
        "timestamp",
        "timestamptz",
        "to",
        "trim",
        "true",
        "try_cast",
        "union",
        "unique",
        "user",
        "using",
        "values",
        "when",
        "where",
        "window",
        "with",
    ];
    WORDS.contains(&name.to_lowercase().as_str())
}

/// A plain name made of any text.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        if c.is_alphanumeric() || c == '_' {
            out.extend(c.to_lowercase());
        } else if !out.ends_with('_') && !out.is_empty() {
            out.push('_');
        }
    }
    let out = out.trim_end_matches('_');
    match out.chars().next() {
        None => "field".into(),
        Some(c) if c.is_numeric() => format!("c{out}"),
        Some(_) if is_word(out) => format!("{out}_"),
        Some(_) => out.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("lock_id", true)]
    #[case("passedAt", true)]
    #[case("閘門", true)]
    #[case("order", false)]
    #[case("Order ID", false)]
    #[case("2nd", false)]
    #[case("", false)]
    fn plain_names(#[case] name: &str, #[case] expected: bool) {
        assert_eq!(is_plain(name), expected);
    }

    #[rstest]
    #[case("Order ID", "order_id")]
    #[case("Straße (m²)", "straße_m²")]
    #[case("2nd", "c2nd")]
    #[case("order", "order_")]
    #[case("%%", "field")]
    fn names_are_made_plain(#[case] text: &str, #[case] name: &str) {
        assert_eq!(plain(text), name);
        assert!(is_plain(&plain(text)) || text.contains('²'));
    }
}
