//! `sluice.toml`: the project's name, its ledger and its connections.

use std::net::SocketAddr;
use std::sync::Arc;

use super::notice::{self, NoticeRule, Recipient};
use super::options::{OptionSpec, Options, ValueKind};
use super::protection;
use super::reader::{TableReader, parse_toml};
use crate::expr::own::{FUNCTION_OPTIONS, OwnFunctions};
use crate::expr::secrets::{ExpressionSecret, SECRET_OPTIONS};
use crate::kinds::Registry;
use crate::problem::{Place, Problem, Problems, SourceText};
use crate::secret::SecretRef;
use crate::throttle::{RATE_BYTES, RATE_EVENTS, ReadRate};

/// Keys of the file's top level.
pub const FILE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("project", ValueKind::Table(PROJECT_OPTIONS), "the project itself"),
    OptionSpec::optional("connection", ValueKind::Tables, "the outside systems, by name: [connection.NAME]"),
    OptionSpec::optional(
        "secret",
        ValueKind::Tables,
        "secrets for expressions of all pipelines, by name: [secret.NAME]",
    ),
    OptionSpec::optional(
        "function",
        ValueKind::Tables,
        "functions for expressions of all pipelines, by name: [function.NAME]",
    ),
    OptionSpec::optional(
        "notice",
        ValueKind::Tables,
        "what people are told when something goes wrong, by name: [notice.NAME]",
    ),
    OptionSpec::optional("recipient", ValueKind::Tables, "who is told, and how, by name: [recipient.NAME]"),
];

/// Keys of `[project]`.
pub const PROJECT_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("name", ValueKind::Name, "the project's name, as it is shown"),
    OptionSpec::with_default(
        "ledger",
        ValueKind::Text,
        ".sluice/ledger.db",
        "where batches, positions and counts are recorded: a file, relative to the project",
    ),
    RUNS,
    OptionSpec::optional(
        "watch",
        ValueKind::Text,
        "address at which running pipelines serve metrics (/metrics) and health (/alive, /ready) over HTTP, such as \
         \"127.0.0.1:9464\"",
    )
    .with(&["watch_token"]),
    OptionSpec::optional(
        "watch_token",
        ValueKind::Secret,
        "token that requests to `watch` must send: Authorization: Bearer TOKEN",
    )
    .with(&["watch"]),
];

/// How many scheduled pipelines run at a time, in one process.
const RUNS: OptionSpec = OptionSpec::optional(
    "runs",
    ValueKind::Integer { min: 1, max: 1_000_000 },
    "maximum number of scheduled pipelines that run at the same time; the others wait",
);

/// Keys of `at_most` of a connection.
pub const SOURCE_LIMIT_OPTIONS: &[OptionSpec] = &[RATE_EVENTS, RATE_BYTES, RUNS];

/// Keys that every `[connection.NAME]` has, before those of its kind.
pub const CONNECTION_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required(
        "url",
        ValueKind::Text,
        "where it is: a kind and a place with a colon between, such as file:DIR",
    ),
    OptionSpec::optional(
        "at_most",
        ValueKind::Table(SOURCE_LIMIT_OPTIONS),
        "limits on how fast the pipelines of one process together read from it",
    ),
];

/// One outside system.
#[derive(Clone, Debug)]
pub struct ConnectionConfig {
    /// Its name in pipeline files.
    pub name: String,
    /// The part of the URL before the colon.
    pub scheme: String,
    /// The part of the URL after the colon.
    pub target: String,
    /// All keys, those of the kind included.
    pub options: Options,
    /// Where it is declared.
    pub place: Option<Place>,
}

impl ConnectionConfig {
    /// How much is read from it in a second.
    pub fn rate(&self) -> ReadRate {
        self.limits().map(|limits| ReadRate::read(&limits)).unwrap_or_default()
    }

    /// How many scheduled pipelines that read from it run at a time.
    pub fn runs_at_once(&self) -> Option<u64> {
        self.limits().filter(|limits| limits.is_set("runs")).map(|limits| limits.integer("runs"))
    }

    fn limits(&self) -> Option<Options> {
        (self.options.knows("at_most") && self.options.is_set("at_most")).then(|| self.options.table("at_most"))
    }
}

/// The checked `sluice.toml`.
#[derive(Clone, Debug)]
pub struct ProjectConfig {
    /// The project's name.
    pub name: String,
    /// The ledger's place, as written.
    pub ledger: String,
    /// Connections in the order of the file, then the built-in `screen`.
    pub connections: Vec<ConnectionConfig>,
    /// How many scheduled pipelines run at a time.
    pub runs_at_once: Option<u64>,
    /// Where figures of running pipelines are served.
    pub watch: Option<SocketAddr>,
    /// What requests for them have to give.
    pub watch_token: Option<SecretRef>,
    /// The functions that expressions of its pipelines can call, and the secrets that they can use.
    pub functions: Arc<OwnFunctions>,
    /// What people are told.
    pub notices: Vec<NoticeRule>,
    /// Who is told, and how.
    pub recipients: Vec<Recipient>,
}

impl ProjectConfig {
    /// Reads the file. What is wrong is added to `problems`; what could be read is returned.
    pub fn read(source: &Arc<SourceText>, registry: &Registry, problems: &mut Problems) -> Self {
        let table = parse_toml(source, problems);
        let mut reader = TableReader { source, problems, functions: Arc::default() };
        let top = reader.place(0..0);
        let options = reader.options(table.get_ref(), &top, &[FILE_OPTIONS], "sluice.toml");
        let project = options.table("project");
        let mut connections = Vec::new();
        for (name, name_place, body, place) in reader.named_tables(table.get_ref(), "connection", "connection") {
            if let Some(connection) = read_connection(&mut reader, registry, name, name_place, body, &place) {
                connections.push(connection);
            }
        }
        connections.push(screen(options.place.clone()));
        let mut declared = OwnFunctions::default();
        for (name, _, body, place) in reader.named_tables(table.get_ref(), "secret", "secret") {
            let options = reader.options(body, &place, &[SECRET_OPTIONS], &format!("secret `{name}`"));
            if let Some(from) = options.secret("from") {
                declared.declare_secret(ExpressionSecret::new(name, from.clone()));
            }
        }
        reader.functions = Arc::new(declared);
        for (name, name_place, body, place) in reader.named_tables(table.get_ref(), "function", "function") {
            // Each can call those above it.
            let options = reader.options(body, &place, &[FUNCTION_OPTIONS], &format!("function `{name}`"));
            let mut functions = OwnFunctions::clone(&reader.functions);
            functions.declare(&name, &name_place, &options, reader.problems);
            reader.functions = Arc::new(functions);
        }
        let functions = Arc::clone(&reader.functions);
        let (notices, recipients) = notice::read(&mut reader, table.get_ref());
        let watch = project.located_text("watch");
        let address: Option<SocketAddr> = watch.as_ref().and_then(|text| text.value.parse().ok());
        if let Some(text) = watch.filter(|_| address.is_none()) {
            reader.problems.add(
                Problem::error("value.type", format!("`{}` is not an address with a port", text.value), text.place)
                    .with_label("expected an IP address and a port")
                    .with_help("to serve this machine only: watch = \"127.0.0.1:9464\""),
            );
        }
        Self {
            name: project.text("name").unwrap_or_default(),
            ledger: project.text("ledger").unwrap_or_default(),
            connections,
            watch: address,
            watch_token: project.secret("watch_token").cloned(),
            runs_at_once: project.is_set("runs").then(|| project.integer("runs")),
            functions,
            notices,
            recipients,
        }
    }

    /// The connection of a name.
    pub fn connection(&self, name: &str) -> Option<&ConnectionConfig> {
        self.connections.iter().find(|c| c.name == name)
    }
}

/// The connection that is always there: the terminal.
fn screen(place: Place) -> ConnectionConfig {
    ConnectionConfig {
        name: "screen".into(),
        scheme: "screen".into(),
        target: String::new(),
        options: Options::empty(vec![CONNECTION_OPTIONS], place),
        place: None,
    }
}

fn read_connection(
    reader: &mut TableReader<'_>,
    registry: &Registry,
    name: String,
    name_place: Place,
    body: &toml::de::DeTable<'_>,
    place: &Place,
) -> Option<ConnectionConfig> {
    if name == "screen" {
        reader.problems.add(
            Problem::error("name.taken", "`screen` is always there and cannot be declared", name_place)
                .with_help("give the connection another name"),
        );
        return None;
    }
    let url = body.get("url").and_then(|v| v.get_ref().as_str()).unwrap_or_default().to_string();
    let (scheme, target) = url.split_once(':').unwrap_or((url.as_str(), ""));
    let kind = registry.connection(scheme);
    let mut specs = vec![CONNECTION_OPTIONS];
    specs.extend(kind.map(|k| k.options));
    let what = format!("connection `{name}`");
    let options = match kind {
        Some(_) => reader.options(body, place, &specs, &what),
        // Without a kind nobody knows its keys: only the URL is to be fixed first.
        None => {
            let mut options = Options::empty(specs.clone(), place.clone());
            match body.get("url") {
                Some(value) => {
                    let at = reader.place(value.span());
                    let schemes: Vec<&str> = registry.connections().map(|c| c.scheme).collect();
                    reader.problems.add(
                        Problem::error(
                            "connection.kind",
                            format!("`{scheme}:` is not a kind of connection"),
                            at.clone(),
                        )
                        .with_label("expected a kind before the colon")
                        .with_nearest(scheme, "kinds", schemes),
                    );
                    options.set("url", super::OptionValue::Text(url.clone()), at);
                }
                None => {
                    reader.options(body, place, &specs, &what);
                }
            }
            options
        }
    };
    check_url(reader, &options, target);
    let connection = ConnectionConfig {
        name,
        scheme: scheme.to_string(),
        target: target.to_string(),
        options,
        place: Some(name_place),
    };
    if let Some(problem) = protection::problem(&connection) {
        reader.problems.add(problem);
    }
    Some(connection)
}

fn check_url(reader: &mut TableReader<'_>, options: &Options, target: &str) {
    let place = options.place_of("url");
    let authority = target.trim_start_matches('/').split(['/', '?']).next().unwrap_or_default();
    if authority.rsplit_once('@').is_some_and(|(user, _)| user.contains(':')) {
        reader.problems.add(
            Problem::error("secret.plain", "a password must not stand in the URL in plain text", place)
                .with_help("take it out of the URL and write password = { env = \"VARIABLE\" }"),
        );
    }
}
