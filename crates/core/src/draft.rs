//! A pipeline file drafted from what events look like. It is made to be read and changed: every guess says what it
//! rests on.

use std::fmt::Write as _;

use crate::config::OptionValue;
use crate::formats::Format;
use crate::limit::shown;
use crate::printable;
use crate::profile::FieldGuess;
use crate::types::SqlType;
use crate::units::{show_count, show_many, show_micros, show_share};
use crate::values::time::DAY;

/// What a draft is made of.
pub struct Draft<'a> {
    /// The pipeline's name.
    pub pipeline: &'a str,
    /// The event's name.
    pub event: &'a str,
    /// Where the events were looked at, for the first comment.
    pub origin: &'a str,
    /// The day of the draft, as `YYYY-MM-DD`.
    pub day: &'a str,
    /// The connection where they arrive.
    pub at: &'a str,
    /// Whether the source declares its types.
    pub is_declared: bool,
    /// The files of it.
    pub pattern: &'a str,
    /// Whether the pattern names topics.
    pub is_topic: bool,
    /// A remark beside the pattern; empty for none.
    pub pattern_note: &'a str,
    /// Their format.
    pub format: &'a dyn Format,
    /// The connection where they land.
    pub into: &'a str,
    /// Whether that is a database.
    pub into_table: bool,
    /// Whether the sample is not all there is.
    pub more: bool,
    /// Events of the sample.
    pub events: u64,
    /// Records of the sample that are none.
    pub broken: u64,
    /// The fields.
    pub fields: &'a [FieldGuess],
    /// The field whose values are all distinct, where one is.
    pub key: Option<&'a FieldGuess>,
    /// The window that counts the events, where one is wanted.
    pub window: Option<DraftedWindow<'a>>,
}

/// A window that counts events.
pub struct DraftedWindow<'a> {
    /// How long it is, as it is written.
    pub length: &'a str,
    /// How far an event came behind newer ones at most, in microseconds.
    pub behind: i64,
}

/// The text of the file.
pub fn write(draft: &Draft<'_>) -> String {
    let mut out = String::from("#:schema ../.sluice/schema/pipeline.schema.json\n\n");
    head(&mut out, draft);
    event(&mut out, draft);
    arrives(&mut out, draft);
    lands(&mut out, draft);
    window(&mut out, draft);
    out
}

fn head(out: &mut String, draft: &Draft<'_>) {
    let all = if draft.more { "a sample of" } else { "all" };
    let origin = one_line(draft.origin);
    let _ = match draft.events {
        0 if draft.is_declared => {
            writeln!(out, "# Drafted on {} from the schema of {origin}; no event has come yet.", draft.day)
        }
        0 => writeln!(
            out,
            "# Drafted on {} from the header row of {origin}; no event has come yet, so correct the types.",
            draft.day
        ),
        events => writeln!(out, "# Drafted on {} from {all} {} of {origin}.", draft.day, show_many(events, "event")),
    };
    if draft.broken > 0 {
        let _ = writeln!(out, "# {} could not be read and would be rejected.", show_many(draft.broken, "more record"));
    }
    let _ = write!(
        out,
        "# Rename, retype and drop as you like; `sluice rehearse {0} --follow` shows what lands at each save.\n\n\
         pipeline = \"{0}\"\nabout    = \"\"   # what it is for, in one line\n\n",
        draft.pipeline
    );
}

fn event(out: &mut String, draft: &Draft<'_>) {
    let _ = writeln!(out, "[event.{}]", draft.event);
    if let Some(time) = event_time(draft.fields) {
        let _ = writeln!(out, "time   = {}", text(&time.name));
    }
    if let Some(key) = draft.key {
        let _ = writeln!(out, "key    = {}   # distinct in all {} events", text(&key.name), show_count(draft.events));
    }
    out.push_str("extra  = \"ignore\"   # fields that the contract does not name: ignore | keep | reject\n");
    let lines: Vec<(String, String)> = draft.fields.iter().map(|f| (definition(f, draft), comment(f))).collect();
    let widest = lines.iter().map(|(d, _)| d.chars().count()).max().unwrap_or(0).min(60);
    let mut body = String::new();
    for (i, (definition, comment)) in lines.iter().enumerate() {
        let comma = if i + 1 == lines.len() { ' ' } else { ',' };
        let space = " ".repeat(widest.saturating_sub(definition.chars().count()));
        let _ = writeln!(body, "{definition}{comma}{space}  -- {comment}");
    }
    let _ = write!(out, "fields = {}\n\n", block(&body));
}

/// One line of `fields`, without its comma.
fn definition(field: &FieldGuess, draft: &Draft<'_>) -> String {
    let names = draft.fields.iter().map(|f| f.name.chars().count()).max().unwrap_or(0).min(24);
    let space = " ".repeat(names.saturating_sub(field.name.chars().count()));
    let ty = shown(field.guess.ty, field.guess.limit);
    let mut line = format!("{}{space}  {ty}", field.name);
    if field.guess.not_null {
        line.push_str(" not null");
    }
    let path = field.spelled_path();
    if path != field.name {
        let _ = write!(line, " from '{}'", path.replace('\'', "''"));
    }
    if let Some(format) = &field.guess.format {
        let _ = write!(line, " format '{}'", format.replace('\'', "''"));
    }
    line
}

/// What a guess rests on.
fn comment(field: &FieldGuess) -> String {
    let profile = &field.profile;
    let mut parts = Vec::new();
    if profile.values == 0 {
        parts.push("never filled".to_string());
    } else {
        parts.push(match field.nulls() {
            0 => show_many(profile.values, "value"),
            nulls => format!(
                "{}, {} null",
                show_many(profile.values, "value"),
                show_share(nulls as f64 / field.events.max(1) as f64)
            ),
        });
        let about = if profile.distinct.is_exact() { "" } else { "about " };
        parts.push(match profile.distinct_values() {
            1 if profile.values > 1 => "always the same".to_string(),
            1 => "one only".to_string(),
            n if n == profile.values => "all distinct".to_string(),
            n => format!("{about}{} distinct", show_count(n)),
        });
    }
    parts.extend(profile.examples.first().map(|e| format!("such as {}", short(e))));
    let mut text = parts.join(", ");
    for note in field.guess.notes.iter().filter(|_| profile.values > 0) {
        let _ = write!(text, "; {note}");
    }
    one_line(&text)
}

fn short(text: &str) -> String {
    match text.chars().count() > 40 {
        true => text.chars().take(39).chain(['…']).collect(),
        false => text.to_string(),
    }
}

/// Comments end with their line; what could end it is shown instead.
fn one_line(text: &str) -> String {
    printable::line(text).into_owned()
}

fn arrives(out: &mut String, draft: &Draft<'_>) {
    let names = draft.format.kind().names();
    let spelling: Vec<String> =
        draft.format.spelling().iter().map(|(key, value)| format!("{key} = {}", spelled(value))).collect();
    // The signs stand below each other, however long the name of the format is.
    let width = if spelling.is_empty() { 6 } else { names[0].len().max(6) };
    let key = if draft.is_topic { "topic" } else { "match" };
    let _ = write!(out, "[event.{}.arrives]\n{:width$} = \"{}\"\n{key:width$} = ", draft.event, "at", draft.at);
    let patterns: Vec<String> = match draft.is_topic {
        true => draft.pattern.split(',').map(text).collect(),
        false => vec![text(draft.pattern)],
    };
    match patterns.as_slice() {
        [one] => out.push_str(one),
        several => {
            let _ = write!(out, "[{}]", several.join(", "));
        }
    }
    if !draft.pattern_note.is_empty() {
        let _ = write!(out, "   # {}", one_line(draft.pattern_note));
    }
    out.push('\n');
    let name = if draft.is_topic { names.last() } else { names.first() };
    let _ = writeln!(out, "{:width$} = {}", "format", text(name.copied().unwrap_or_default()));
    if !spelling.is_empty() {
        let _ = writeln!(out, "{:width$} = {{ {} }}", names[0], spelling.join(", "));
    }
    if draft.is_topic {
        let _ = writeln!(out, "{:width$} = \"earliest\"", "start");
    }
    out.push('\n');
}

/// The value of an option as TOML.
fn spelled(value: &OptionValue) -> String {
    match value {
        // A literal string needs no second backslash: a pattern stays readable.
        OptionValue::Text(value)
            if value.contains('\\') && !value.contains('\'') && !value.contains(char::is_control) =>
        {
            format!("'{value}'")
        }
        OptionValue::Text(value) => text(value),
        OptionValue::Texts(values) => {
            format!("[{}]", values.iter().map(|value| text(value)).collect::<Vec<_>>().join(", "))
        }
        OptionValue::Flag(value) => value.to_string(),
        OptionValue::Integer(value) | OptionValue::Size(value) => value.to_string(),
        // Formats have no others; a test goes over all of them.
        _ => String::new(),
    }
}

fn lands(out: &mut String, draft: &Draft<'_>) {
    let _ = writeln!(out, "[event.{}.lands.{into}]\nat      = \"{into}\"", draft.event, into = draft.into);
    match draft.into_table {
        true => {
            let _ = writeln!(out, "table   = {}", text(&draft.pipeline.replace('-', "_")));
            out.push_str("create  = true        # run makes the table; `sluice check` shows the statement\n");
        }
        false => {
            let _ = writeln!(out, "path    = {}", text(&folders(draft)));
            out.push_str("format  = \"parquet\"\n");
        }
    }
    out.push_str("# when  = \"\"   # a condition; only events that meet it land\n");
    let names: Vec<String> = draft.fields.iter().map(|f| f.name.clone()).collect();
    let body = names.join(",\n") + "\n";
    let _ = writeln!(out, "columns = {}", block(&body));
}

/// The event that counts those that arrive, and where its rows land.
fn window(out: &mut String, draft: &Draft<'_>) {
    let Some(window) = &draft.window else { return };
    let made = format!("{}_counts", draft.event);
    let candidates = candidates(draft);
    let group = candidates.first();
    let _ = write!(
        out,
        "\n[event.{made}.made]\nof      = \"{}\"\nwindow  = {{ length = {} }}\n",
        draft.event,
        text(window.length)
    );
    if let Some(group) = group {
        let others = candidates.iter().skip(1).take(3);
        let others: Vec<String> =
            others.map(|f| format!("{} ({})", f.name, show_count(f.profile.distinct_values()))).collect();
        let also = if others.is_empty() { String::new() } else { format!("; others: {}", others.join(", ")) };
        let distinct = show_many(group.profile.distinct_values(), "value");
        let _ = writeln!(
            out,
            "group   = {}   # {}",
            text(&group.name),
            one_line(&format!("{distinct} in the sample{also}"))
        );
    }
    let _ = writeln!(out, "late    = {}   # {}", text(&allowed(window.behind)), seen_behind(window.behind));
    let mut body: Vec<String> = group.iter().map(|f| f.name.clone()).collect();
    body.push("window_start".into());
    let is_taken = |name: &str| group.is_some_and(|group| group.name == name);
    body.push(format!("count(*) as {}", if is_taken("events") { "event_count" } else { "events" }));
    body.extend(sums(draft).map(|f| format!("sum({0}) as {0}_sum", f.name)));
    let _ = write!(out, "columns = {}\n\n", block(&(body.join(",\n") + "\n")));
    let _ = writeln!(out, "[event.{made}.lands.{into}]\nat      = \"{into}\"", into = draft.into);
    match draft.into_table {
        true => {
            let table = format!("{}_counts", draft.pipeline.replace('-', "_"));
            let _ = write!(out, "table   = {}\ncreate  = true\n", text(&table));
        }
        false => {
            let path = format!("{}-counts/{{window_start:%Y/%m/%d}}", draft.pipeline);
            let _ = write!(out, "path    = {}\nformat  = \"parquet\"\n", text(&path));
        }
    }
}

/// Fields that could say which group an event belongs to: the one with the most values first.
fn candidates<'d>(draft: &Draft<'d>) -> Vec<&'d FieldGuess> {
    let could = |f: &&FieldGuess| {
        let distinct = f.profile.distinct_values();
        let is_code = matches!(f.guess.ty, SqlType::Text | SqlType::Boolean);
        let is_key = draft.key.is_some_and(|key| key.name == f.name);
        is_code && !is_key && (2..=1_000).contains(&distinct) && distinct.saturating_mul(5) <= f.profile.values
    };
    let mut found: Vec<&FieldGuess> = draft.fields.iter().filter(could).collect();
    found.sort_by_key(|f| (!f.guess.not_null, std::cmp::Reverse(f.profile.distinct_values())));
    found
}

/// Fields of which a sum may tell something.
fn sums<'d>(draft: &Draft<'d>) -> impl Iterator<Item = &'d FieldGuess> {
    let key = draft.key.map(|key| key.name.clone());
    let is_measure = move |f: &&FieldGuess| {
        let is_number =
            matches!(f.guess.ty, SqlType::Decimal { .. } | SqlType::Double | SqlType::Integer | SqlType::Bigint);
        let names_things = f.name.split('_').any(|word| NUMBERS_THINGS.contains(&word.to_lowercase().as_str()));
        is_number && !names_things && key.as_ref() != Some(&f.name)
    };
    draft.fields.iter().filter(is_measure).take(3)
}

/// Words in the names of fields that number things.
pub const NUMBERS_THINGS: &[&str] = &["id", "key", "no", "nr", "number", "uuid", "ticket", "code", "ref"];

/// How far behind an event may come: with room for more than was seen.
fn allowed(behind: i64) -> String {
    const STEPS: &[(i64, &str)] = &[
        (60, "1m"),
        (120, "2m"),
        (300, "5m"),
        (600, "10m"),
        (1_800, "30m"),
        (3_600, "1h"),
        (7_200, "2h"),
        (21_600, "6h"),
        (86_400, "1d"),
        (604_800, "7d"),
    ];
    let wanted = behind.saturating_add(behind / 2) / 1_000_000;
    STEPS.iter().find(|(step, _)| wanted <= *step).map_or("30d", |(_, text)| text).to_string()
}

fn seen_behind(behind: i64) -> String {
    match behind {
        0 => "in the sample no event comes after a newer one".to_string(),
        behind => format!("in the sample events come up to {} after newer ones", show_micros(behind)),
    }
}

/// The folders: by the event time, so coarse that they stay few.
fn folders(draft: &Draft<'_>) -> String {
    let Some(time) = event_time(draft.fields) else { return draft.pipeline.to_string() };
    let days = time.time_range().map_or(0, |(low, high)| (high - low) / DAY);
    let pattern = match days {
        0..=400 => "%Y/%m/%d",
        401..=4_000 => "%Y/%m",
        _ => "%Y",
    };
    format!("{}/{{{}:{pattern}}}", draft.pipeline, time.name)
}

/// The field that most probably says when the event happened.
pub fn event_time(fields: &[FieldGuess]) -> Option<&FieldGuess> {
    let rank = |f: &&FieldGuess| match (f.guess.ty, f.guess.not_null) {
        (SqlType::Timestamptz, true) => Some(0),
        (SqlType::Date, true) => Some(1),
        (SqlType::Timestamptz, false) => Some(2),
        (SqlType::Date, false) => Some(3),
        _ => None,
    };
    fields.iter().filter(|f| rank(f).is_some()).min_by_key(|f| rank(f))
}

/// A TOML string on one line.
fn text(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\t' => out.push_str("\\t"),
            c => push_escaped(&mut out, c),
        }
    }
    out.push('"');
    out
}

/// A character within a basic string of TOML; one that cannot be seen, or must not stand there, as an escape.
fn push_escaped(out: &mut String, c: char) {
    let _ = match u32::from(c) {
        _ if printable::is_harmless(c) => return out.push(c),
        number @ 0..=0xffff => write!(out, "\\u{number:04X}"),
        number => write!(out, "\\U{number:08X}"),
    };
}

/// A TOML string over several lines; the plain form, unless the text has what would end it.
fn block(body: &str) -> String {
    if !body.contains("'''") && body.chars().all(|c| c == '\n' || printable::is_harmless(c)) {
        return format!("'''\n{body}'''");
    }
    let mut out = String::from("\"\"\"\n");
    for c in body.replace('\\', "\\\\").replace("\"\"\"", "\\\"\\\"\\\"").chars() {
        match c {
            '\n' => out.push(c),
            c => push_escaped(&mut out, c),
        }
    }
    out.push_str("\"\"\"");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::JsonLines;
    use crate::formats::csv::{Csv, Dialect};
    use crate::profile::Profile;
    use rstest::rstest;

    fn drafted(lines: &[&str], format: &dyn Format) -> String {
        let mut profile = Profile::default();
        lines.iter().for_each(|line| profile.add_json(line.as_bytes()));
        let fields = profile.guesses();
        write(&Draft {
            pipeline: "passages",
            event: "passage",
            origin: "locks:a\nb.jsonl",
            day: "2026-04-01",
            at: "locks",
            is_declared: false,
            pattern: "a \"b\"\\*.jsonl",
            is_topic: false,
            pattern_note: "",
            format,
            into: "archive",
            into_table: false,
            more: true,
            events: profile.events,
            broken: profile.broken_count,
            fields: &fields,
            key: fields.first(),
            window: None,
        })
    }

    /// The text or truth at a path of the file, which must be valid TOML.
    fn at(text: &str, path: &[&str]) -> Option<String> {
        let table = toml::de::DeTable::parse(text).unwrap_or_else(|e| panic!("{e}\n{text}"));
        let mut value = table.get_ref().get(path[0])?;
        for key in &path[1..] {
            value = match key.parse::<usize>() {
                Ok(index) => value.get_ref().as_array()?.get(index)?,
                Err(_) => value.get_ref().as_table()?.get(*key)?,
            };
        }
        let value = value.get_ref();
        value.as_str().map(str::to_string).or_else(|| value.as_bool().map(|b| b.to_string()))
    }

    fn arrives(text: &str, key: &[&str]) -> Option<String> {
        at(text, &[&["event", "passage", "arrives"], key].concat())
    }

    #[test]
    fn names_that_hold_control_characters_are_escaped() {
        let name = "a\u{1b}[31mb\u{202e}\u{e0041}\t'c\\d";
        let record = serde_json::json!({ name: 1 }).to_string();
        let text = drafted(&[record.as_str()], &JsonLines);
        assert!(text.chars().all(|c| c == '\n' || printable::is_harmless(c)), "{text}");
        let fields = at(&text, &["event", "passage", "fields"]).unwrap();
        assert!(fields.contains(&format!("from '{}'", name.replace('\'', "''"))), "{fields}");
    }

    #[test]
    fn it_is_toml_whatever_the_names_hold() {
        let text = drafted(&[r#"{"it's":"x","a'''b":1,"c\\d":"line\nend","\"q\"":null}"#, "broken"], &JsonLines);
        assert_eq!(arrives(&text, &["match"]).unwrap(), "a \"b\"\\*.jsonl");
        let fields = at(&text, &["event", "passage", "fields"]).unwrap();
        assert!(fields.contains("from 'it''s'") && fields.contains("from 'a''''''b'"), "{fields}");
        assert!(fields.contains("such as line⏎end"), "a comment stays on its line: {fields}");
        assert!(text.contains("# 1 more record could not be read and would be rejected."), "{text}");
        assert!(text.contains("a sample of 1 event of locks:a⏎b.jsonl"), "{text}");
    }

    #[rstest]
    #[case(&[r#"{"at":"2026-04-01T08:00:00Z"}"#], "passages/{at:%Y/%m/%d}")]
    #[case(&[r#"{"at":"2020-04-01"}"#, r#"{"at":"2026-04-01"}"#], "passages/{at:%Y/%m}")]
    #[case(&[r#"{"at":1000000000}"#, r#"{"at":1775000000}"#], "passages/{at:%Y}")]
    #[case(&[r#"{"maybe_at":null,"n":1}"#], "passages")]
    #[case(&[r#"{"day":"2026-04-01","sent_at":"2026-04-01T08:00:00Z"}"#], "passages/{sent_at:%Y/%m/%d}")]
    fn folders_are_as_coarse_as_the_time_is_long(#[case] lines: &[&str], #[case] path: &str) {
        let text = drafted(lines, &JsonLines);
        assert_eq!(at(&text, &["event", "passage", "lands", "archive", "path"]).unwrap(), path);
    }

    #[test]
    fn a_dialect_is_written_where_it_is_not_the_usual_one() {
        let line = [r#"{"a":1}"#];
        let usual = drafted(&line, &Csv::new(Dialect::default()));
        assert_eq!(arrives(&usual, &["csv", "header"]), None);
        let other = Dialect { delimiter: b'\t', quote: b'\'', head: false, nulls: vec![String::new(), "\\N".into()] };
        let text = drafted(&line, &Csv::new(other));
        let found = ["delimiter", "quote", "header"].map(|key| arrives(&text, &["csv", key]).unwrap());
        assert_eq!(found, ["\t", "'", "false"]);
        assert_eq!(arrives(&text, &["csv", "nulls", "1"]).unwrap(), "\\N");
    }

    #[test]
    fn comments_say_what_a_guess_rests_on() {
        let lines: Vec<String> = (0..200)
            .map(|i| format!("{{\"id\":{i},\"kind\":\"salt\",\"n\":{}}}", if i % 4 == 0 { "null" } else { "7" }))
            .collect();
        let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
        let text = drafted(&lines, &JsonLines);
        for comment in [
            "-- 200 values, all distinct, such as 0",
            "-- 200 values, always the same, such as salt",
            "-- 150 values, 25 % null, always the same",
        ] {
            assert!(text.contains(comment), "no `{comment}` in\n{text}");
        }
        assert!(text.contains("key    = \"id\"   # distinct in all 200 events"), "{text}");
    }
}
