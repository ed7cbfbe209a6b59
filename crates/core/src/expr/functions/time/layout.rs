//! Patterns of `to_char`, `to_timestamp` and `to_date`, after PostgreSQL's.

use super::Prepared;
use crate::expr::Expr;

/// A pattern, cut into its parts.
#[derive(Debug)]
pub(crate) struct Layout(pub(super) Vec<Part>);

/// A part of a pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// Text that stands as it is.
    Text(String),
    /// A field.
    Field(Field),
}

/// A field, and how it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Field {
    /// What it is.
    pub(super) kind: Kind,
    /// Whether it is as short as it can be: `FM`.
    pub(super) is_short: bool,
    /// Upper or lower case of names.
    pub(super) case: Case,
}

/// The case of a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Case {
    /// `MONTH`
    Upper,
    /// `Month`
    Capital,
    /// `month`
    Lower,
}

/// What a field is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Year,
    YearOfCentury,
    IsoYear,
    Quarter,
    Month,
    MonthName,
    MonthShort,
    DayOfMonth,
    DayOfYear,
    DayOfWeek,
    IsoDayOfWeek,
    DayName,
    DayShort,
    Week,
    IsoWeek,
    Hour24,
    Hour12,
    Minute,
    Second,
    Millisecond,
    Microsecond,
    SecondOfDay,
    Half,
    HalfWithPoints,
    Zone,
    Offset,
    OffsetHour,
    OffsetMinute,
}

/// The spellings, the longer ones of one beginning first.
const SPELLINGS: &[(&str, Kind)] = &[
    ("YYYY", Kind::Year),
    ("YY", Kind::YearOfCentury),
    ("IYYY", Kind::IsoYear),
    ("IW", Kind::IsoWeek),
    ("ID", Kind::IsoDayOfWeek),
    ("MONTH", Kind::MonthName),
    ("MON", Kind::MonthShort),
    ("MM", Kind::Month),
    ("MI", Kind::Minute),
    ("MS", Kind::Millisecond),
    ("DAY", Kind::DayName),
    ("DDD", Kind::DayOfYear),
    ("DD", Kind::DayOfMonth),
    ("DY", Kind::DayShort),
    ("D", Kind::DayOfWeek),
    ("HH24", Kind::Hour24),
    ("HH12", Kind::Hour12),
    ("HH", Kind::Hour12),
    ("SSSSS", Kind::SecondOfDay),
    ("SSSS", Kind::SecondOfDay),
    ("SS", Kind::Second),
    ("US", Kind::Microsecond),
    ("AM", Kind::Half),
    ("PM", Kind::Half),
    ("A.M.", Kind::HalfWithPoints),
    ("P.M.", Kind::HalfWithPoints),
    ("TZH", Kind::OffsetHour),
    ("TZM", Kind::OffsetMinute),
    ("TZ", Kind::Zone),
    ("OF", Kind::Offset),
    ("Q", Kind::Quarter),
    ("WW", Kind::Week),
];

impl Layout {
    /// Cuts a pattern.
    ///
    /// # Errors
    /// Names letters that stand for nothing; text belongs in double quotes.
    pub(super) fn read(pattern: &str) -> Result<Self, String> {
        let mut parts: Vec<Part> = Vec::new();
        let mut rest = pattern;
        let mut is_short = false;
        while let Some(c) = rest.chars().next() {
            if let Some(after) = strip(rest, "FM") {
                is_short = true;
                rest = after;
                continue;
            }
            if let Some((spelled, kind)) = SPELLINGS.iter().find(|(spelled, _)| strip(rest, spelled).is_some()) {
                parts.push(Part::Field(Field { kind: *kind, is_short, case: case_of(&rest[..spelled.len()]) }));
                rest = &rest[spelled.len()..];
                is_short = false;
                continue;
            }
            rest = &rest[c.len_utf8()..];
            if c == '"' {
                let end = rest.find('"').ok_or("the pattern has a double quote that is not closed")?;
                push_text(&mut parts, &rest[..end]);
                rest = &rest[end + 1..];
            } else if c.is_ascii_alphabetic() && !matches!(c, 'T' | 'Z') {
                let word: String =
                    std::iter::once(c).chain(rest.chars().take_while(char::is_ascii_alphabetic)).collect();
                return Err(format!(
                    "`{word}` is not a field of a pattern; known are YYYY, MM, DD, HH24, MI, SS and others, text stands in \
                     double quotes"
                ));
            } else {
                push_text(&mut parts, c.encode_utf8(&mut [0; 4]));
            }
        }
        Ok(Self(parts))
    }
}

fn push_text(parts: &mut Vec<Part>, text: &str) {
    match parts.last_mut() {
        Some(Part::Text(last)) => last.push_str(text),
        _ => parts.push(Part::Text(text.into())),
    }
}

/// What follows a word, whatever its case.
pub(super) fn strip<'t>(text: &'t str, word: &str) -> Option<&'t str> {
    let start = text.get(..word.len())?;
    start.eq_ignore_ascii_case(word).then(|| &text[word.len()..])
}

fn case_of(spelled: &str) -> Case {
    let mut letters = spelled.chars().filter(char::is_ascii_alphabetic);
    match (letters.next(), letters.next()) {
        (Some(first), Some(second)) if first.is_ascii_uppercase() && second.is_ascii_lowercase() => Case::Capital,
        (Some(first), _) if first.is_ascii_lowercase() => Case::Lower,
        _ => Case::Upper,
    }
}

/// Makes a constant pattern ready.
pub(super) fn prepare(pattern: &Expr) -> Result<Prepared, String> {
    let text = pattern.as_text().ok_or("the pattern must be a constant text")?;
    Layout::read(&text).map(|layout| Prepared::Moment(layout.into()))
}

/// Makes a constant pattern ready by which moments are read: without a year there is no day.
pub(super) fn prepare_to_read(pattern: &Expr) -> Result<Prepared, String> {
    let prepared = prepare(pattern)?;
    let is_year =
        |part: &Part| matches!(part, Part::Field(Field { kind: Kind::Year | Kind::YearOfCentury | Kind::IsoYear, .. }));
    match &prepared {
        Prepared::Moment(layout) if !layout.0.iter().any(is_year) => Err("the pattern has no year: YYYY".into()),
        _ => Ok(prepared),
    }
}

/// English names, as PostgreSQL has them without a locale.
pub(super) const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

/// English names, from Sunday.
pub(super) const DAYS: [&str; 7] = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];
