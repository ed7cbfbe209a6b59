//! Options declared once, as data: parsing, help, reference and editor schema all read these declarations.

use std::ops::Range;
use std::time::Duration;

use crate::config::EmbeddedText;
use crate::problem::{Place, Problem, Problems};
use crate::secret::SecretRef;

/// One key of a table in a project or pipeline file.
#[derive(Clone, Copy, Debug)]
pub struct OptionSpec {
    /// The key.
    pub key: &'static str,
    /// What its value looks like.
    pub value: ValueKind,
    /// The value where the key is absent, spelled as in the file.
    pub default: Option<&'static str>,
    /// Whether the key must be there.
    pub required: bool,
    /// One line of help.
    pub help: &'static str,
    /// Other keys that matter together with it.
    pub goes_with: &'static [&'static str],
}

impl OptionSpec {
    /// An option that may be absent and has no default.
    pub const fn optional(key: &'static str, value: ValueKind, help: &'static str) -> Self {
        Self { key, value, default: None, required: false, help, goes_with: &[] }
    }

    /// An option that must be there.
    pub const fn required(key: &'static str, value: ValueKind, help: &'static str) -> Self {
        Self { key, value, default: None, required: true, help, goes_with: &[] }
    }

    /// The option with the keys that matter together with it.
    #[must_use]
    pub const fn with(mut self, keys: &'static [&'static str]) -> Self {
        self.goes_with = keys;
        self
    }

    /// An option with a default.
    pub const fn with_default(key: &'static str, value: ValueKind, default: &'static str, help: &'static str) -> Self {
        Self { key, value, default: Some(default), required: false, help, goes_with: &[] }
    }
}

/// The form of an option's value.
#[derive(Clone, Copy, Debug)]
pub enum ValueKind {
    /// Any text.
    Text,
    /// One text, or a list of them.
    Texts,
    /// The path of a file of the project, or a list of them. Their texts are read together with the pipeline.
    Files,
    /// One ASCII character.
    Character,
    /// A name: letters, digits, `-` and `_`.
    Name,
    /// A whole number within bounds, both included.
    Integer {
        /// The least value.
        min: u64,
        /// The largest value.
        max: u64,
    },
    /// A size in bytes, such as `"64MiB"`.
    Size,
    /// A duration, such as `"5s"`.
    Duration,
    /// A share, such as `"5%"`.
    Share,
    /// `true` or `false`.
    Flag,
    /// One of some words.
    Choice(&'static [&'static str]),
    /// SQL: a condition, a select list or column definitions.
    Sql,
    /// A path with columns in braces, such as `"passages/{passed_at:%Y/%m/%d}"`.
    Template,
    /// A reference to a secret: `{ env = "NAME" }` or `{ file = "PATH" }`.
    Secret,
    /// A table with keys of its own.
    Table(&'static [OptionSpec]),
    /// A table of tables, or a list of tables, that is read by its own rules.
    Tables,
}

impl ValueKind {
    /// The words for this form in messages and help.
    pub fn describe(&self) -> String {
        match self {
            Self::Text => "text".into(),
            Self::Texts => "a text, or a list of texts".into(),
            Self::Files => "the path of a file, or a list of them".into(),
            Self::Character => "one ASCII character".into(),
            Self::Name => "a name".into(),
            Self::Integer { min, max } if *max == u64::MAX => format!("a whole number from {min}"),
            Self::Integer { min, max } => format!("a whole number from {min} to {max}"),
            Self::Size => "a size in bytes such as \"64MiB\"".into(),
            Self::Duration => "a duration such as \"5s\"".into(),
            Self::Share => "a share such as \"5%\"".into(),
            Self::Flag => "true or false".into(),
            Self::Choice(words) => format!("one of {}", words.join(", ")),
            Self::Sql => "SQL as text".into(),
            Self::Template => "a path such as \"passages/{passed_at:%Y/%m/%d}\"".into(),
            Self::Secret => "{ env = \"NAME\" } or { file = \"PATH\" }".into(),
            Self::Table(_) | Self::Tables => "a table".into(),
        }
    }
}

impl OptionSpec {
    /// Whether the default, where there is one, is a value of the option's own form.
    pub fn default_is_sound(&self) -> bool {
        let Some(text) = self.default else { return true };
        match self.value {
            ValueKind::Integer { min, max } => {
                text.replace('_', "").parse().is_ok_and(|n: u64| (min..=max).contains(&n))
            }
            ValueKind::Size => crate::units::parse_size(text).is_ok(),
            ValueKind::Duration => crate::units::parse_duration(text).is_ok(),
            ValueKind::Share => crate::units::parse_share(text).is_ok(),
            ValueKind::Flag => matches!(text, "true" | "false"),
            ValueKind::Choice(words) => words.contains(&text),
            ValueKind::Name => crate::names::is_valid(text),
            ValueKind::Text | ValueKind::Texts => true,
            ValueKind::Files => false,
            ValueKind::Character => text.len() == 1,
            ValueKind::Sql | ValueKind::Template | ValueKind::Secret | ValueKind::Table(_) | ValueKind::Tables => false,
        }
    }
}

/// A value with its place in the file.
#[derive(Clone, Debug)]
pub struct Located<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub place: Place,
}

/// A parsed value.
#[derive(Clone, Debug)]
pub enum OptionValue {
    /// Text, a name or a choice.
    Text(String),
    /// Texts.
    Texts(Vec<String>),
    /// Files: the path of each, and its bytes.
    Files(Vec<(String, Vec<u8>)>),
    /// A whole number.
    Integer(u64),
    /// Bytes.
    Size(u64),
    /// A duration.
    Duration(Duration),
    /// A share from 0 to 1.
    Share(f64),
    /// True or false.
    Flag(bool),
    /// SQL with its way back to the file.
    Sql(EmbeddedText),
    /// A reference to a secret.
    Secret(SecretRef),
    /// A table with keys of its own.
    Table(Options),
}

impl OptionValue {
    fn signature(&self) -> String {
        match self {
            Self::Sql(sql) => sql.text.clone(),
            Self::Table(table) => format!("{{{}}}", table.signature()),
            other => format!("{other:?}"),
        }
    }
}

/// Keys of connections that name files of certificates and their keys.
const CERTIFICATES: &[&str] = &["authority", "certificate", "private_key"];

/// The options of one table, checked against their declarations.
#[derive(Clone, Debug)]
pub struct Options {
    specs: Vec<&'static [OptionSpec]>,
    values: Vec<(&'static str, Located<OptionValue>)>,
    /// Where the table itself stands.
    pub place: Place,
}

impl Options {
    /// Options with no value set.
    pub fn empty(specs: Vec<&'static [OptionSpec]>, place: Place) -> Self {
        Self { specs, values: Vec::new(), place }
    }

    /// Sets a value; the reader does this for every key that it has checked.
    pub fn set(&mut self, key: &'static str, value: OptionValue, place: Place) {
        self.values.retain(|(known, _)| *known != key);
        self.values.push((key, Located { value, place }));
    }

    fn get(&self, key: &str) -> Option<&Located<OptionValue>> {
        debug_assert!(self.spec(key).is_some(), "undeclared option {key}");
        self.values.iter().find(|(k, _)| *k == key).map(|(_, v)| v)
    }

    fn spec(&self, key: &str) -> Option<&'static OptionSpec> {
        self.specs.iter().flat_map(|s| s.iter()).find(|s| s.key == key)
    }

    fn default(&self, key: &str) -> &'static str {
        self.spec(key).and_then(|s| s.default).unwrap_or_default()
    }

    /// Whether the table has such a key.
    pub fn knows(&self, key: &str) -> bool {
        self.spec(key).is_some()
    }

    /// Whether the key stands in the file.
    pub fn is_set(&self, key: &str) -> bool {
        self.get(key).is_some()
    }

    /// The place of a key's value, or of the table.
    pub fn place_of(&self, key: &str) -> Place {
        self.get(key).map_or_else(|| self.place.clone(), |v| v.place.clone())
    }

    /// A text, name or choice, or its default.
    pub fn text(&self, key: &str) -> Option<String> {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Text(text)) => Some(text.clone()),
            _ => self.spec(key).and_then(|s| s.default).map(str::to_string),
        }
    }

    /// A text that stands in the file, with its place.
    pub fn located_text(&self, key: &str) -> Option<Located<String>> {
        match self.get(key) {
            Some(Located { value: OptionValue::Text(text), place }) => {
                Some(Located { value: text.clone(), place: place.clone() })
            }
            _ => None,
        }
    }

    /// Texts, or the default as the only one, or none.
    pub fn texts(&self, key: &str) -> Vec<String> {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Texts(texts)) => texts.clone(),
            _ => self.spec(key).and_then(|s| s.default).map(str::to_string).into_iter().collect(),
        }
    }

    /// Files, each with its path and its bytes; none before [`Self::read_files`].
    pub fn files(&self, key: &str) -> Vec<(String, Vec<u8>)> {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Files(files)) => files.clone(),
            _ => Vec::new(),
        }
    }

    /// Reads the files that options name, those of inner tables too. `read` gives the bytes of a path, or says why there is none.
    pub fn read_files(&mut self, read: &dyn Fn(&str) -> Result<Vec<u8>, String>, problems: &mut Problems) {
        let specs = self.specs.clone();
        for (key, located) in &mut self.values {
            let spec = specs.iter().flat_map(|s| s.iter()).find(|s| s.key == *key);
            match &mut located.value {
                OptionValue::Table(table) => table.read_files(read, problems),
                OptionValue::Texts(paths) if spec.is_some_and(|s| matches!(s.value, ValueKind::Files)) => {
                    let mut files = Vec::new();
                    for path in paths.iter() {
                        match read(path) {
                            Ok(bytes) => files.push((path.clone(), bytes)),
                            Err(why) => problems.add(
                                Problem::error("place.missing", format!("{path}: {why}"), located.place.clone())
                                    .with_help("paths are relative to the folder of sluice.toml"),
                            ),
                        }
                    }
                    located.value = OptionValue::Files(files);
                }
                _ => {}
            }
        }
    }

    /// One ASCII character, or its default, or 0.
    pub fn character(&self, key: &str) -> u8 {
        self.text(key).and_then(|t| t.bytes().next()).unwrap_or(0)
    }

    /// The keys that are set with their values, without their places: equal for two files that say the same.
    pub fn signature(&self) -> String {
        let mut parts: Vec<String> =
            self.values.iter().map(|(key, v)| format!("{key}={}", v.value.signature())).collect();
        parts.sort();
        parts.join("\n")
    }

    /// A whole number, or its default, or 0.
    pub fn integer(&self, key: &str) -> u64 {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Integer(n)) => *n,
            _ => self.default(key).replace('_', "").parse().unwrap_or(0),
        }
    }

    /// A size in bytes, or its default, or 0.
    pub fn size(&self, key: &str) -> u64 {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Size(n)) => *n,
            _ => crate::units::parse_size(self.default(key)).unwrap_or(0),
        }
    }

    /// A duration, or its default, or zero.
    pub fn duration(&self, key: &str) -> Duration {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Duration(d)) => *d,
            _ => crate::units::parse_duration(self.default(key)).unwrap_or_default(),
        }
    }

    /// A share from 0 to 1, or its default, or 0.
    pub fn share(&self, key: &str) -> f64 {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Share(s)) => *s,
            _ => crate::units::parse_share(self.default(key)).unwrap_or(0.0),
        }
    }

    /// A flag, or its default, or false.
    pub fn flag(&self, key: &str) -> bool {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Flag(f)) => *f,
            _ => self.default(key) == "true",
        }
    }

    /// A SQL text or template that stands in the file.
    pub fn sql(&self, key: &str) -> Option<&EmbeddedText> {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Sql(sql)) => Some(sql),
            _ => None,
        }
    }

    /// A reference to a secret.
    pub fn secret(&self, key: &str) -> Option<&SecretRef> {
        match self.get(key).map(|v| &v.value) {
            Some(OptionValue::Secret(secret)) => Some(secret),
            _ => None,
        }
    }

    /// The paths of files that are read whenever a connection is made: of secrets, and of certificates.
    pub fn files_behind(&self) -> Vec<String> {
        let path = |(key, located): &(&'static str, Located<OptionValue>)| match &located.value {
            OptionValue::Secret(SecretRef::File(path)) => Some(path.clone()),
            OptionValue::Text(path) if CERTIFICATES.contains(key) => Some(path.clone()),
            _ => None,
        };
        self.values.iter().filter_map(path).collect()
    }

    /// A table of its own keys; an empty one where the key is absent.
    pub fn table(&self, key: &str) -> Options {
        match (self.get(key).map(|v| &v.value), self.spec(key).map(|s| s.value)) {
            (Some(OptionValue::Table(table)), _) => table.clone(),
            (_, Some(ValueKind::Table(specs))) => Options::empty(vec![specs], self.place.clone()),
            _ => Options::empty(Vec::new(), self.place.clone()),
        }
    }
}

/// A byte range as a place of a source; a short hand for readers.
pub(crate) fn place(source: &std::sync::Arc<crate::problem::SourceText>, span: Range<usize>) -> Place {
    Place::new(source, span)
}
