//! `[notice.NAME]` and `[recipient.NAME]` of sluice.toml: what people are told, and how.

use std::time::Duration;

use toml::de::DeTable;

use super::options::{OptionSpec, Options, ValueKind};
use super::reader::TableReader;
use crate::notice::body::{self, Body};
use crate::problem::{Place, Problem, Problems};
use crate::secret::SecretRef;
use crate::units::{show_count, show_many, spelled};

/// Keys of `[notice.NAME]`.
pub const NOTICE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional(
        "behind",
        ValueKind::Duration,
        "begins when the oldest unread event is older than this, such as \"10m\"",
    ),
    OptionSpec::optional(
        "events_behind",
        ValueKind::Integer { min: 1, max: u64::MAX },
        "begins when more events than this are unread",
    ),
    OptionSpec::optional("silent", ValueKind::Duration, "begins when no event has been read for this long"),
    OptionSpec::optional(
        "rejects",
        ValueKind::Integer { min: 0, max: u64::MAX },
        "begins when more events than this were rejected `within` the time before",
    )
    .with(&["within"]),
    OptionSpec::with_default("within", ValueKind::Duration, "1h", "the time that `rejects` counts over")
        .with(&["rejects"]),
    OptionSpec::optional(
        "unreachable",
        ValueKind::Duration,
        "begins when a source or store has not answered for this long",
    ),
    OptionSpec::optional(
        "stopped",
        ValueKind::Flag,
        "true: begins when the pipeline stops because of a failure, or has failed three times in a row",
    ),
    OptionSpec::optional(
        "schema",
        ValueKind::Flag,
        "true: begins when arriving events have a new field, lack one, or have values of another type",
    ),
    OptionSpec::optional("pipelines", ValueKind::Texts, "the pipelines that it is about [default: all]"),
    OptionSpec::optional("to", ValueKind::Texts, "the recipients, by name: [recipient.NAME]"),
];

/// Keys of `[recipient.NAME]`.
pub const RECIPIENT_OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional(
        "command",
        ValueKind::Texts,
        "a program and its arguments; it gets the notice as JSON on standard input",
    ),
    OptionSpec::optional("file", ValueKind::Text, "a file, relative to the project: one line of JSON a notice"),
    OptionSpec::optional("post", ValueKind::Text, "the URL of a POST request; {token} in it stands for `token`")
        .with(&["body", "token"]),
    OptionSpec::with_default(
        "body",
        ValueKind::Text,
        "json",
        "body of the request: \"json\", \"text\", or JSON with {message} and other parts in braces, such as \
         {\"text\": {message}}",
    )
    .with(&["post"]),
    OptionSpec::optional("token", ValueKind::Secret, "sent as Authorization: Bearer TOKEN, or as part of the URL")
        .with(&["post"]),
    OptionSpec::optional("mail", ValueKind::Texts, "mail addresses").with(&["server", "from"]),
    OptionSpec::optional("server", ValueKind::Text, "the SMTP server, HOST:PORT").with(&["mail"]),
    OptionSpec::optional("from", ValueKind::Text, "the mail address of the sender").with(&["mail"]),
    OptionSpec::with_default(
        "tls",
        ValueKind::Choice(&["start", "always", "never"]),
        "start",
        "encryption to the SMTP server: STARTTLS, from the first byte, or none",
    )
    .with(&["mail"]),
    OptionSpec::optional("authority", ValueKind::Text, "a file with the certificates to trust instead of the system's")
        .with(&["mail"]),
    OptionSpec::optional("user", ValueKind::Text, "the user at the SMTP server").with(&["password"]),
    OptionSpec::optional("password", ValueKind::Secret, "the user's password").with(&["user"]),
];

/// What a notice is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Condition {
    /// The oldest unread event is older than this.
    Behind(Duration),
    /// More events than this are unread.
    EventsBehind(u64),
    /// No event has been read for so long.
    Silent(Duration),
    /// More than so many were rejected within so long.
    Rejects(u64, Duration),
    /// A source or store has not answered for so long.
    Unreachable(Duration),
    /// The pipeline has stopped, or fails again and again.
    Stopped,
    /// Fields of arriving events have changed.
    Schema,
}

impl Condition {
    /// Whether the source is asked for it.
    pub fn asks_source(&self) -> bool {
        matches!(self, Self::Behind(_) | Self::EventsBehind(_))
    }

    /// In words, as it is listed.
    pub fn in_words(&self) -> String {
        match self {
            Self::Behind(limit) => format!("oldest unread event older than {}", spelled(*limit)),
            Self::EventsBehind(limit) => format!("more than {} unread", show_many(*limit, "event")),
            Self::Silent(limit) => format!("no event read for {}", spelled(*limit)),
            Self::Rejects(limit, within) => {
                format!("more than {} events rejected within {}", show_count(*limit), spelled(*within))
            }
            Self::Unreachable(limit) => format!("a source or store does not answer for {}", spelled(*limit)),
            Self::Stopped => "stopped by a failure".into(),
            Self::Schema => "fields of events have changed".into(),
        }
    }
}

/// One `[notice.NAME]`.
#[derive(Clone, Debug)]
pub struct NoticeRule {
    /// Its name.
    pub name: String,
    /// When it begins.
    pub condition: Condition,
    /// The pipelines; all where it names none.
    pub pipelines: Vec<String>,
    /// Where they stand.
    pub pipelines_place: Place,
    /// The names of the recipients.
    pub to: Vec<String>,
}

impl NoticeRule {
    /// Whether it is about a pipeline.
    pub fn is_about(&self, pipeline: &str) -> bool {
        self.pipelines.is_empty() || self.pipelines.iter().any(|name| name == pipeline)
    }
}

/// How a recipient gets notices.
#[derive(Clone, Debug)]
pub enum Channel {
    /// A program with its arguments.
    Command(Vec<String>),
    /// A file, relative to the project.
    File(String),
    /// A request.
    Post {
        /// Where; `{token}` in it stands for the token.
        url: String,
        /// What is sent.
        body: Body,
        /// Sent along, or put into the URL.
        token: Option<SecretRef>,
    },
    /// Mail.
    Mail(Box<MailChannel>),
}

/// Keys of mail.
#[derive(Clone, Debug)]
pub struct MailChannel {
    /// Who gets it.
    pub to: Vec<String>,
    /// Who sends it.
    pub from: String,
    /// The server.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// How the connection is encrypted.
    pub tls: MailTls,
    /// A file of certificates to trust.
    pub authority: Option<String>,
    /// The user, and where the password is.
    pub login: Option<(String, SecretRef)>,
}

/// Encryption of the connection to a mail server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MailTls {
    /// By STARTTLS.
    Start,
    /// From the first byte.
    Always,
    /// None.
    Never,
}

/// One `[recipient.NAME]`.
#[derive(Clone, Debug)]
pub struct Recipient {
    /// Its name.
    pub name: String,
    /// How it gets notices.
    pub channel: Channel,
}

/// Reads all notices and recipients.
pub(super) fn read(reader: &mut TableReader<'_>, table: &DeTable<'_>) -> (Vec<NoticeRule>, Vec<Recipient>) {
    let (mut recipients, mut names) = (Vec::new(), Vec::new());
    for (name, _, body, place) in reader.named_tables(table, "recipient", "recipient") {
        let options = reader.options(body, &place, &[RECIPIENT_OPTIONS], &format!("recipient `{name}`"));
        names.push(name.clone());
        let channel = read_channel(&options, &name, reader.problems);
        recipients.extend(channel.map(|channel| Recipient { name, channel }));
    }
    let mut rules = Vec::new();
    for (name, _, body, place) in reader.named_tables(table, "notice", "notice") {
        let options = reader.options(body, &place, &[NOTICE_OPTIONS], &format!("notice `{name}`"));
        let to = options.texts("to");
        for unknown in to.iter().filter(|to| !names.contains(to)) {
            reader.problems.add(
                Problem::error("name.unknown", format!("there is no recipient `{unknown}`"), options.place_of("to"))
                    .with_nearest(unknown, "recipients", names.iter().map(String::as_str)),
            );
        }
        let Some(condition) = read_condition(&options, &name, reader.problems) else { continue };
        let pipelines_place = options.place_of("pipelines");
        rules.push(NoticeRule { name, condition, pipelines: options.texts("pipelines"), pipelines_place, to });
    }
    (rules, recipients)
}

/// The one key of several that is set.
fn only<'k>(options: &Options, keys: &[&'k str], what: &str, problems: &mut Problems) -> Option<&'k str> {
    let set: Vec<&str> = keys.iter().copied().filter(|key| options.is_set(key)).collect();
    if let [one] = set[..] {
        return Some(one);
    }
    let all = keys.iter().map(|key| format!("`{key}`")).collect::<Vec<_>>().join(", ");
    let (message, place) = match set.last() {
        None => (format!("{what} needs one of {all}"), options.place.clone()),
        Some(last) => (
            format!(
                "{what} has {}; expected only one of them",
                set.iter().map(|k| format!("`{k}`")).collect::<Vec<_>>().join(" and ")
            ),
            options.place_of(last),
        ),
    };
    problems.add(Problem::error("key.missing", message, place));
    None
}

const CONDITIONS: &[&str] = &["behind", "events_behind", "silent", "rejects", "unreachable", "stopped", "schema"];

fn read_condition(options: &Options, name: &str, problems: &mut Problems) -> Option<Condition> {
    let key = only(options, CONDITIONS, &format!("notice `{name}`"), problems)?;
    let long_enough = |key: &str, problems: &mut Problems| {
        let duration = options.duration(key);
        let is_good = duration >= Duration::from_secs(1);
        if !is_good {
            problems.add(
                Problem::error("value.range", format!("`{key}` is shorter than a second"), options.place_of(key))
                    .with_label("expected at least 1s"),
            );
        }
        is_good.then_some(duration)
    };
    if options.is_set("within") && key != "rejects" {
        problems.add(
            Problem::error("key.missing", "`within` has no effect without `rejects`", options.place_of("within"))
                .with_help("remove it, or add: rejects = 100"),
        );
    }
    Some(match key {
        "behind" => Condition::Behind(long_enough(key, problems)?),
        "events_behind" => Condition::EventsBehind(options.integer(key)),
        "silent" => Condition::Silent(long_enough(key, problems)?),
        "rejects" => Condition::Rejects(options.integer(key), long_enough("within", problems)?),
        "unreachable" => Condition::Unreachable(long_enough(key, problems)?),
        flag => {
            if !options.flag(flag) {
                problems.add(
                    Problem::error("value.range", format!("`{flag}` can only be true"), options.place_of(flag))
                        .with_help(format!("to turn the notice off, remove [notice.{name}]")),
                );
                return None;
            }
            if flag == "stopped" { Condition::Stopped } else { Condition::Schema }
        }
    })
}

/// Keys that belong to one way of sending, each with the key that begins it.
const PARTS: &[(&str, &[&str])] =
    &[("post", &["body", "token"]), ("mail", &["server", "from", "tls", "authority", "user", "password"])];

fn read_channel(options: &Options, name: &str, problems: &mut Problems) -> Option<Channel> {
    let key = only(options, &["command", "file", "post", "mail"], &format!("recipient `{name}`"), problems)?;
    for (owner, parts) in PARTS {
        for part in parts.iter().filter(|part| *owner != key && options.is_set(part)) {
            problems.add(Problem::error(
                "key.missing",
                format!("`{part}` has no effect without `{owner}`"),
                options.place_of(part),
            ));
        }
    }
    match key {
        "command" => {
            let command = options.texts("command");
            if command.first().is_none_or(|program| program.is_empty()) {
                problems.add(
                    Problem::error("value.type", "`command` names no program", options.place_of("command"))
                        .with_help("write the program and its arguments: command = [\"bin/tell\", \"locks\"]"),
                );
                return None;
            }
            Some(Channel::Command(command))
        }
        "file" => Some(Channel::File(options.text("file")?)),
        "post" => read_post(options, problems),
        _ => read_mail(options, name, problems),
    }
}

fn read_post(options: &Options, problems: &mut Problems) -> Option<Channel> {
    let url = options.text("post")?;
    let authority = ["https://", "http://"].iter().find_map(|scheme| url.strip_prefix(scheme));
    let host = authority.unwrap_or_default().split('/').next().unwrap_or_default();
    if host.is_empty() || host.contains(char::is_whitespace) {
        problems.add(
            Problem::error("value.type", format!("`{url}` is not a URL"), options.place_of("post"))
                .with_label("expected https://HOST/PATH or http://HOST/PATH"),
        );
        return None;
    }
    if host.contains('@') {
        problems.add(
            Problem::error("secret.plain", "a login must not stand in the URL", options.place_of("post"))
                .with_help("write {token} where it belongs, and token = { env = \"VARIABLE\" }"),
        );
        return None;
    }
    let token = options.secret("token").cloned();
    if url.contains("{token}") && token.is_none() {
        problems.add(
            Problem::error("key.missing", "the URL has {token}, and there is no `token`", options.place_of("post"))
                .with_help("add token = { env = \"VARIABLE\" }"),
        );
        return None;
    }
    let text = options.text("body").unwrap_or_default();
    match Body::parse(&text) {
        Ok(body) => Some(Channel::Post { url, body, token }),
        Err(why) => {
            let known = body::PARTS.iter().map(|part| format!("{{{part}}}")).collect::<Vec<_>>().join(", ");
            problems.add(
                Problem::error("value.type", format!("`body`: {why}"), options.place_of("body")).with_help(format!(
                    "\"json\", \"text\", or JSON in which {known} stand for values, without quotes"
                )),
            );
            None
        }
    }
}

fn read_mail(options: &Options, name: &str, problems: &mut Problems) -> Option<Channel> {
    let missing = |key: &str, problems: &mut Problems| {
        let found = options.text(key).filter(|text| !text.is_empty());
        if found.is_none() {
            let message = format!("recipient `{name}` has `mail` and needs `{key}`");
            problems.add(Problem::error("key.missing", message, options.place.clone()));
        }
        found
    };
    let (server, from) = (missing("server", problems), missing("from", problems));
    let to = options.texts("mail");
    let (server, from) = (server?, from?);
    for address in to.iter().chain([&from]) {
        let is_one = address.rsplit_once('@').is_some_and(|(user, host)| !user.is_empty() && !host.is_empty());
        if !is_one || address.contains(char::is_control) {
            let key = if *address == from { "from" } else { "mail" };
            let message = format!("`{}` is not a mail address", address.escape_debug());
            problems.add(Problem::error("value.type", message, options.place_of(key)));
            return None;
        }
    }
    let place = options.place_of("server");
    let Some((host, port)) = server.rsplit_once(':').and_then(|(host, port)| Some((host, port.parse().ok()?))) else {
        problems.add(
            Problem::error("value.type", format!("`{server}` is not a server with a port"), place)
                .with_help("write HOST:PORT, such as \"mail.tarrow.example:587\""),
        );
        return None;
    };
    let tls = match options.text("tls").as_deref() {
        Some("always") => MailTls::Always,
        Some("never") => MailTls::Never,
        _ => MailTls::Start,
    };
    let login = match (options.text("user"), options.secret("password").cloned()) {
        (Some(user), Some(password)) => Some((user, password)),
        (None, None) => None,
        _ => {
            let message = format!("recipient `{name}` needs `user` and `password`, or neither");
            problems.add(Problem::error("key.missing", message, options.place.clone()));
            return None;
        }
    };
    if login.is_some() && tls == MailTls::Never {
        problems.add(
            Problem::error("secret.plain", "the password would be sent without encryption", options.place_of("tls"))
                .with_help("use tls = \"start\" or tls = \"always\""),
        );
        return None;
    }
    let authority = options.text("authority");
    Some(Channel::Mail(Box::new(MailChannel { to, from, host: host.into(), port, tls, authority, login })))
}

#[cfg(test)]
#[path = "notice_tests.rs"]
mod tests;
