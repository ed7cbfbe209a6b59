//! Checks the tables of a TOML file against declared options.

use std::sync::Arc;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::EmbeddedText;
use super::options::{OptionSpec, OptionValue, Options, ValueKind, place};
use crate::expr::own::OwnFunctions;
use crate::names;
use crate::problem::{Place, Problem, Problems, SourceText};
use crate::secret::SecretRef;
use crate::units;

/// Reads the tables of one file and gathers what is wrong with them.
pub struct TableReader<'a> {
    /// The file.
    pub source: &'a Arc<SourceText>,
    /// What is wrong so far.
    pub problems: &'a mut Problems,
    /// The functions that SQL in it can call beside the built-in ones.
    pub functions: Arc<OwnFunctions>,
}

/// Parses a file as TOML; mistakes of syntax become problems and what could be read is returned.
pub fn parse_toml<'a>(source: &'a Arc<SourceText>, problems: &mut Problems) -> Spanned<DeTable<'a>> {
    let (table, errors) = DeTable::parse_recoverable(&source.text);
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        let end = span.end.max(span.start + 1).min(source.text.len());
        let message = error.message().trim().replace('\n', ", ");
        problems.add(
            Problem::error(
                "syntax.toml",
                format!("this is not valid TOML: {message}"),
                place(source, span.start.min(end)..end),
            )
            .with_label("here"),
        );
    }
    table
}

impl TableReader<'_> {
    /// A place in this file.
    pub fn place(&self, span: std::ops::Range<usize>) -> Place {
        place(self.source, span)
    }

    /// Checks a table against the declarations: unknown keys, missing keys, wrong values. `what` names the table.
    pub fn options(
        &mut self,
        table: &DeTable<'_>,
        table_place: &Place,
        specs: &[&'static [OptionSpec]],
        what: &str,
    ) -> Options {
        self.options_of_any(table, table_place, (specs, &[]), what)
    }

    /// As [`Self::options`], where it is not known of which kind a table is: keys of all `possible` declarations may be there, and
    /// none of them must.
    pub fn options_of_any(
        &mut self,
        table: &DeTable<'_>,
        table_place: &Place,
        (specs, possible): (&[&'static [OptionSpec]], &[&'static [OptionSpec]]),
        what: &str,
    ) -> Options {
        let mut options = Options::empty([specs, possible].concat(), table_place.clone());
        let all = || specs.iter().chain(possible).flat_map(|s| s.iter());
        for (key, value) in table {
            let name: &str = key.get_ref();
            match all().find(|s| s.key == name) {
                Some(spec) => self.option(spec, value, &mut options),
                None => {
                    let place = self.place(key.span());
                    self.problems.add(
                        Problem::error("key.unknown", format!("{what} has no key `{name}`"), place)
                            .with_label("nothing reads this")
                            .with_nearest(name, "keys", all().map(|s| s.key)),
                    );
                }
            }
        }
        for spec in specs.iter().flat_map(|s| s.iter()).filter(|s| s.required && !table.contains_key(s.key)) {
            self.problems.add(
                Problem::error("key.missing", format!("{what} requires the key `{}`", spec.key), table_place.clone())
                    .with_label(format!("`{}` is missing", spec.key))
                    .with_help(help_of_missing(spec)),
            );
        }
        options
    }

    fn option(&mut self, spec: &'static OptionSpec, value: &Spanned<DeValue<'_>>, options: &mut Options) {
        if matches!(spec.value, ValueKind::Tables) {
            return;
        }
        let place = self.place(value.span());
        if let Some(parsed) = self.value(spec, value) {
            options.set(spec.key, parsed, place);
        }
    }

    fn value(&mut self, spec: &'static OptionSpec, value: &Spanned<DeValue<'_>>) -> Option<OptionValue> {
        let place = self.place(value.span());
        if let (ValueKind::Table(specs), DeValue::Table(table)) = (spec.value, value.get_ref()) {
            let what = format!("`{}`", spec.key);
            return Some(OptionValue::Table(self.options(table, &place, &[specs], &what)));
        }
        if matches!(spec.value, ValueKind::Sql | ValueKind::Template)
            && let DeValue::String(text) = value.get_ref()
        {
            return Some(OptionValue::Sql(
                EmbeddedText::new(self.source, value.span(), text).with_functions(&self.functions),
            ));
        }
        match parse_scalar(spec.value, value.get_ref()) {
            Ok(parsed) => Some(parsed),
            Err(wrong) => {
                self.problems.add(wrong.into_problem(spec, place));
                None
            }
        }
    }

    /// Reads a table of named tables such as `[connection.NAME]`.
    pub fn named_tables<'t, 'i>(
        &mut self,
        table: &'t DeTable<'i>,
        key: &str,
        what: &str,
    ) -> Vec<(String, Place, &'t DeTable<'i>, Place)> {
        let Some(value) = table.get(key) else { return Vec::new() };
        let Some(inner) = value.get_ref().as_table() else {
            let place = self.place(value.span());
            self.problems.add(
                Problem::error("value.type", format!("`{key}` must be a table of {what}s by name"), place)
                    .with_help(format!("write [{key}.NAME]")),
            );
            return Vec::new();
        };
        let mut found = Vec::new();
        for (name, value) in inner {
            let (name_place, text) = (self.place(name.span()), name.get_ref().to_string());
            let Some(body) = value.get_ref().as_table() else {
                self.problems.add(
                    Problem::error("value.type", format!("{what} `{text}` must be a table"), name_place)
                        .with_help(format!("write [{key}.{text}]")),
                );
                continue;
            };
            if !names::is_valid(&text) {
                self.problems.add(
                    Problem::error("name.form", format!("`{text}` cannot be the name of a {what}"), name_place.clone())
                        .with_help("a name starts with a letter and holds letters, digits, - and _, 63 at most"),
                );
            }
            found.push((text, name_place.clone(), body, name_place));
        }
        found.sort_by_key(|(_, place, _, _)| place.span.start);
        found
    }
}

/// What a type of TOML is called.
fn in_words(found: &str) -> &str {
    match found {
        "string" => "a text",
        "integer" => "a whole number",
        "float" => "a number",
        "boolean" => "true or false",
        "array" => "a list",
        "table" => "a table",
        "datetime" => "a time",
        other => other,
    }
}

/// What an option means; of a table with what it needs, as it may be written.
fn help_of(spec: &OptionSpec) -> String {
    let ValueKind::Table(parts) = spec.value else { return spec.help.into() };
    let needed: Vec<String> = parts.iter().filter(|p| p.required).map(|p| format!("{} = …", p.key)).collect();
    match needed.is_empty() {
        true => spec.help.into(),
        false => format!("{}: {} = {{ {} }}", spec.help, spec.key, needed.join(", ")),
    }
}

fn help_of_missing(spec: &OptionSpec) -> String {
    match spec.value {
        ValueKind::Table(_) => help_of(spec),
        _ => format!("{}: {}", spec.value.describe(), spec.help),
    }
}

enum Wrong {
    Type(&'static str),
    Text(String),
    Word(String),
    Range,
    PlainSecret,
}

impl Wrong {
    fn into_problem(self, spec: &OptionSpec, place: Place) -> Problem {
        let key = spec.key;
        let wanted = spec.value.describe();
        match self {
            Self::Type(found) => {
                let message = format!("`{key}` must be {wanted}, and {} stands here", in_words(found));
                Problem::error("value.type", message, place).with_help(help_of(spec))
            }
            Self::Text(reason) => {
                Problem::error("value.type", format!("`{key}`: {reason}"), place).with_help(spec.help)
            }
            Self::Word(word) => {
                let words = if let ValueKind::Choice(words) = spec.value { words } else { &[] };
                Problem::error("value.type", format!("`{key}` cannot be `{word}`"), place).with_nearest(
                    &word,
                    "words",
                    words.iter().copied(),
                )
            }
            Self::Range => {
                Problem::error("value.range", format!("`{key}` must be {wanted}"), place).with_help(spec.help)
            }
            Self::PlainSecret => {
                Problem::error("secret.plain", format!("`{key}` must not stand here in plain text"), place).with_help(
                    format!("name where it is kept: {key} = {{ env = \"VARIABLE\" }} or {{ file = \"PATH\" }}"),
                )
            }
        }
    }
}

fn parse_scalar(kind: ValueKind, value: &DeValue<'_>) -> Result<OptionValue, Wrong> {
    let text = value.as_str();
    let number = || value.as_integer().map(|n| n.as_str().replace('_', ""));
    match kind {
        ValueKind::Text => text.map(|t| OptionValue::Text(t.into())).ok_or(Wrong::Type(value.type_str())),
        ValueKind::Texts | ValueKind::Files => parse_texts(value),
        ValueKind::Character => match text {
            Some(t) if t.len() == 1 && !matches!(t, "\n" | "\r") => Ok(OptionValue::Text(t.into())),
            Some(t) => Err(Wrong::Text(format!("`{}` is not one ASCII character", t.escape_debug()))),
            None => Err(Wrong::Type(value.type_str())),
        },
        ValueKind::Name => match text {
            Some(t) if names::is_valid(t) => Ok(OptionValue::Text(t.into())),
            Some(t) => Err(Wrong::Text(format!("`{t}` is not a name (a letter first, then letters, digits, - and _)"))),
            None => Err(Wrong::Type(value.type_str())),
        },
        ValueKind::Integer { min, max } => {
            let number = number().ok_or(Wrong::Type(value.type_str()))?;
            match number.parse::<u64>() {
                Ok(n) if (min..=max).contains(&n) => Ok(OptionValue::Integer(n)),
                _ => Err(Wrong::Range),
            }
        }
        ValueKind::Size => {
            let spelled = text.map(str::to_string).or_else(number).ok_or(Wrong::Type(value.type_str()))?;
            units::parse_size(&spelled).map(OptionValue::Size).map_err(Wrong::Text)
        }
        ValueKind::Duration => {
            let spelled = text.ok_or(Wrong::Type(value.type_str()))?;
            units::parse_duration(spelled).map(OptionValue::Duration).map_err(Wrong::Text)
        }
        ValueKind::Share => {
            let float = || value.as_float().map(|f| f.as_str().to_string());
            let spelled =
                text.map(str::to_string).or_else(float).or_else(number).ok_or(Wrong::Type(value.type_str()))?;
            units::parse_share(&spelled).map(OptionValue::Share).map_err(Wrong::Text)
        }
        ValueKind::Flag => value.as_bool().map(OptionValue::Flag).ok_or(Wrong::Type(value.type_str())),
        ValueKind::Choice(words) => match text {
            Some(t) if words.contains(&t) => Ok(OptionValue::Text(t.into())),
            // Texts that earlier versions sealed say `hold`, and their batches must still be finished.
            Some("hold") if words.contains(&"stop") => Ok(OptionValue::Text("stop".into())),
            Some(t) => Err(Wrong::Word(t.into())),
            None => Err(Wrong::Type(value.type_str())),
        },
        ValueKind::Secret => parse_secret(value),
        ValueKind::Sql | ValueKind::Template | ValueKind::Table(_) | ValueKind::Tables => {
            Err(Wrong::Type(value.type_str()))
        }
    }
}

fn parse_texts(value: &DeValue<'_>) -> Result<OptionValue, Wrong> {
    if let Some(text) = value.as_str() {
        return Ok(OptionValue::Texts(vec![text.into()]));
    }
    let list = value.as_array().ok_or(Wrong::Type(value.type_str()))?;
    let texts: Option<Vec<String>> = list.iter().map(|v| v.get_ref().as_str().map(str::to_string)).collect();
    texts.map(OptionValue::Texts).ok_or(Wrong::Text("every item of the list must be a text".into()))
}

fn parse_secret(value: &DeValue<'_>) -> Result<OptionValue, Wrong> {
    if value.as_str().is_some() {
        return Err(Wrong::PlainSecret);
    }
    let table = value.as_table().ok_or(Wrong::Type(value.type_str()))?;
    let text = |key: &str| table.get(key).and_then(|v| v.get_ref().as_str()).map(str::to_string);
    match (text("env"), text("file"), table.len()) {
        (Some(name), None, 1) => Ok(OptionValue::Secret(SecretRef::Env(name))),
        (None, Some(path), 1) => Ok(OptionValue::Secret(SecretRef::File(path))),
        _ => Err(Wrong::Text("write { env = \"VARIABLE\" } or { file = \"PATH\" }".into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SPECS: &[OptionSpec] = &[
        OptionSpec::required("at", ValueKind::Name, "the connection"),
        OptionSpec::with_default("rows", ValueKind::Integer { min: 1, max: 10 }, "5", "rows"),
        OptionSpec::optional("format", ValueKind::Choice(&["jsonl", "parquet"]), "the format"),
        OptionSpec::optional("refused", ValueKind::Choice(&["skip", "stop"]), "refused rows"),
        OptionSpec::optional("password", ValueKind::Secret, "the password"),
        OptionSpec::optional("every", ValueKind::Duration, "how often"),
        OptionSpec::optional(
            "of",
            ValueKind::Table(&[OptionSpec::required("name", ValueKind::Name, "a name")]),
            "whose",
        ),
    ];

    #[rstest]
    #[case("at = 5", "`at` must be a name, and a whole number stands here", "the connection")]
    #[case("at = \"a\"\nevery = [1]", "`every` must be a duration such as \"5s\", and a list stands here", "how often")]
    #[case("at = \"a\"\nof = \"b\"", "`of` must be a table, and a text stands here", "whose: of = { name = … }")]
    #[case("", "the table requires the key `at`", "a name: the connection")]
    fn what_stands_there_is_named_in_words(#[case] toml: &str, #[case] message: &str, #[case] help: &str) {
        let (_, problems) = read(toml);
        assert_eq!((problems[0].message.as_str(), problems[0].help.as_deref()), (message, Some(help)));
    }

    /// Where it is not known of which kind a table is, nothing of any kind is missing.
    #[test]
    fn keys_of_possible_kinds_are_known_and_not_needed() {
        let source = SourceText::new("t.toml", "every = \"5s\"\nnone = 1");
        let mut problems = Problems::new();
        let table = parse_toml(&source, &mut problems);
        let mut reader = TableReader { source: &source, problems: &mut problems, functions: Arc::default() };
        let place = reader.place(0..1);
        reader.options_of_any(table.get_ref(), &place, (&[], &[SPECS]), "the table");
        let problems = problems.into_sorted();
        assert_eq!(problems.iter().map(|p| p.message.as_str()).collect::<Vec<_>>(), ["the table has no key `none`"]);
    }

    #[rstest]
    #[case("skip", Some("skip"))]
    #[case("stop", Some("stop"))]
    #[case("hold", Some("stop"))]
    #[case("held", None)]
    fn the_old_word_for_stop_is_understood(#[case] word: &str, #[case] expected: Option<&str>) {
        let (options, problems) = read(&format!("at = \"a\"\nrefused = \"{word}\""));
        assert_eq!((options.text("refused").as_deref(), problems.is_empty()), (expected, expected.is_some()));
    }

    fn read(toml: &str) -> (Options, Vec<Problem>) {
        let source = SourceText::new("t.toml", toml);
        let mut problems = Problems::new();
        let table = parse_toml(&source, &mut problems);
        let mut reader = TableReader { source: &source, problems: &mut problems, functions: Arc::default() };
        let place = reader.place(0..1);
        let options = reader.options(table.get_ref(), &place, &[SPECS], "the table");
        (options, problems.into_sorted())
    }

    #[test]
    fn values_and_defaults() {
        let (options, problems) = read("at = \"archive\"\nformat = \"jsonl\"");
        assert!(problems.is_empty());
        assert_eq!(options.text("at").unwrap(), "archive");
        assert_eq!(options.integer("rows"), 5);
        assert!(!options.is_set("rows"));
    }

    #[rstest]
    #[case("at = \"a\"\nfromat = \"jsonl\"", "key.unknown", "did you mean `format`?")]
    #[case("rows = 3", "key.missing", "a name: the connection")]
    #[case("at = \"a\"\nformat = \"jsonn\"", "value.type", "did you mean `jsonl`?")]
    #[case("at = \"a\"\nrows = 11", "value.range", "rows")]
    #[case("at = \"a\"\nrows = \"3\"", "value.type", "rows")]
    #[case("at = \"a\"\nevery = \"5\"", "value.type", "how often")]
    #[case("at = \"a\"\npassword = \"x\"", "secret.plain", "{ env = \"VARIABLE\" }")]
    fn mistakes_have_a_code_and_a_remedy(#[case] toml: &str, #[case] code: &str, #[case] help: &str) {
        let (_, problems) = read(toml);
        assert_eq!(problems.len(), 1, "{problems:?}");
        assert_eq!(problems[0].code, code);
        assert!(problems[0].help.as_ref().unwrap().contains(help), "{problems:?}");
    }

    #[test]
    fn all_mistakes_come_at_once() {
        let (_, problems) = read("rows = 0\nfromat = 1\nevery = \"x\"\n");
        assert_eq!(problems.len(), 4);
    }

    #[test]
    fn a_plain_secret_is_not_repeated_in_the_message() {
        let (_, problems) = read("at = \"a\"\npassword = \"hunter-gate-7\"");
        assert!(!format!("{}", problems[0]).contains("hunter-gate-7"));
    }

    #[test]
    fn broken_toml_is_a_problem_with_a_place() {
        let (_, problems) = read("at = \"a\"\nrows = = 3\n");
        assert_eq!((problems.len(), problems[0].code), (1, "syntax.toml"));
        assert_eq!(
            problems[0].place.as_ref().unwrap().source.line_column(problems[0].place.as_ref().unwrap().span.start).0,
            2
        );
    }
}
