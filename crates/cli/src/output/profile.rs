//! The fields of events as a table: what each is, how full, how many distinct values, from where to where.

use serde_json::{Value, json};
use sluice_core::columns::OutputColumn;
use sluice_core::contract::{Contract, join_path};
use sluice_core::profile::{FieldGuess, FieldProfile, Profile};
use sluice_core::types::SqlType;
use sluice_core::units::{show_count, show_share};
use sluice_core::values::time::{DAY, show_date, show_timestamp};

use super::rows::{Cell, Rows, cut};
use super::style;

/// The fields as a table of at most `width` columns, with notes below. With a contract it says where the two differ;
/// `columns` are the types of stored rows, which are known and not guessed.
pub(crate) fn render(
    profile: &Profile,
    contract: Option<&Contract>,
    columns: Option<&[OutputColumn]>,
    width: usize,
) -> String {
    let guesses = profile.guesses();
    let mut rows = Rows {
        columns: [
            ("field", false),
            ("type", false),
            ("null", true),
            ("distinct", true),
            ("smallest", false),
            ("largest", false),
            ("example", false),
        ]
        .map(|(n, r)| (n.to_string(), r))
        .to_vec(),
        rows: Vec::new(),
        widest: 0,
    };
    let mut notes = Vec::new();
    for guess in &guesses {
        let ty = type_text(guess, columns);
        let (low, high) = bounds(guess);
        let nulls = show_share(guess.nulls() as f64 / guess.events.max(1) as f64);
        let texts = [
            (guess.spelled_path(), false),
            (ty, false),
            (nulls, guess.nulls() > 0 && guess.profile.values == 0),
            (distinct(&guess.profile), false),
            (cut(&low, 24), false),
            (cut(&high, 24), false),
            (guess.profile.examples.first().map(|e| cut(e, 28)).unwrap_or_default(), false),
        ];
        rows.rows.push(texts.map(|(text, marked)| Cell { text: Some(text), marked }).to_vec());
        if columns.is_none() {
            notes.extend(guess.guess.notes.iter().map(|note| format!("{}: {note}", guess.spelled_path())));
        }
        notes.extend(contract.and_then(|c| against(c, guess)).map(|n| format!("{}: {n}", guess.spelled_path())));
    }
    if let Some(contract) = contract {
        let missing = contract.fields.iter().filter(|f| !guesses.iter().any(|g| leads_to(&f.path, &g.path)));
        notes.extend(missing.map(|f| format!("{}: no event has it", join_path(&f.path))));
    }
    let mut out = rows.render(width, 1);
    for note in &notes {
        out.push_str(&format!(" {} {}\n", style::warn("!"), cut(note, width.saturating_sub(4).max(40) * 2)));
    }
    out
}

fn type_text(guess: &FieldGuess, columns: Option<&[OutputColumn]>) -> String {
    if let Some(column) = columns.and_then(|c| c.iter().find(|c| guess.path == [c.name.clone()])) {
        return format!("{}{}", column.type_shown(), if column.nullable { "" } else { " not null" });
    }
    let ty = guess.guess.ty.to_string();
    match &guess.guess.format {
        Some(format) => format!("{ty} '{format}'"),
        None => ty,
    }
}

/// Whether a contract's path leads to a field, or to an object around it or a value within it.
fn leads_to(contract: &[String], field: &[String]) -> bool {
    contract.starts_with(field) || field.starts_with(contract)
}

/// What the contract says otherwise.
fn against(contract: &Contract, guess: &FieldGuess) -> Option<String> {
    let Some(field) = contract.fields.iter().find(|f| leads_to(&f.path, &guess.path)) else {
        return Some("the contract does not name it".into());
    };
    let guessed = guess.guess.ty;
    let takes = field.ty == guessed
        || guessed.fits_into(field.ty)
        || guess.profile.values == 0
        || matches!(field.ty, SqlType::Text | SqlType::Json)
        || (field.ty == SqlType::Double && guessed.is_numeric())
        || (field.ty.is_numeric() && guessed.is_numeric());
    if !takes {
        return Some(format!("the contract says {}", field.ty));
    }
    (field.not_null && guess.nulls() > 0)
        .then(|| format!("not null in the contract, and {} have none", show_count(guess.nulls())))
}

fn distinct(profile: &FieldProfile) -> String {
    let count = show_count(profile.distinct_values());
    if profile.distinct.is_exact() { count } else { format!("~{count}") }
}

/// The smallest and largest value: by number or time where the values are such, else by the order of texts.
pub(crate) fn bounds(guess: &FieldGuess) -> (String, String) {
    let profile = &guess.profile;
    let moment = |micros: i64| match guess.guess.ty {
        SqlType::Date => i32::try_from(micros / DAY).map(show_date).unwrap_or_default(),
        _ => show_timestamp(micros),
    };
    if let Some((low, high)) = guess.time_range() {
        return (moment(low), moment(high));
    }
    if let Some((low, high)) = &profile.numbers.range
        && profile.numbers.count * 2 >= profile.values
    {
        return (low.1.clone(), high.1.clone());
    }
    profile.texts.range.clone().unwrap_or_default()
}

/// The fields as JSON.
pub(crate) fn json(profile: &Profile, columns: Option<&[OutputColumn]>) -> Vec<Value> {
    let field = |guess: &FieldGuess| {
        let known = columns.and_then(|c| c.iter().find(|c| guess.path == [c.name.clone()]));
        let (low, high) = bounds(guess);
        json!({
            "path": guess.spelled_path(),
            "name": guess.name,
            "type": known.map_or_else(|| guess.guess.ty.to_string(), sluice_core::columns::OutputColumn::type_shown),
            "format": guess.guess.format,
            "not_null": guess.guess.not_null,
            "values": guess.profile.values,
            "nulls": guess.nulls(),
            "distinct": guess.profile.distinct_values(),
            "distinct_is_exact": guess.profile.distinct.is_exact(),
            "smallest": low,
            "largest": high,
            "examples": guess.profile.examples,
            "misfits": guess.guess.misfits,
            "notes": guess.guess.notes,
        })
    };
    profile.guesses().iter().map(field).collect()
}
