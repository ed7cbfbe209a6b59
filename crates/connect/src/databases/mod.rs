//! Database servers: how they are named, logged into and waited for.
//!
//! Their protocols are spoken by their own crates; the tables, the batches in them and what an error means for a batch
//! are decided in `landings/tables` and the folder of each kind.

mod error;
mod http;
pub(crate) mod mariadb;
pub(crate) mod postgres;
mod tls;

use std::future::Future;
use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::Duration;

use sluice_core::config::{OptionSpec, ValueKind, refuse_unencrypted_password};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::units::show_duration;

pub(crate) use error::{StoreError, StoreResult};
pub(crate) use http::{http_client, no_tls};
pub(crate) use tls::{Identity, client_config, tls_config, trusted};

/// How long a server may take to take a connection.
pub(crate) const PATIENCE: Duration = Duration::from_secs(10);

/// How long a server may be silent where nothing else says so.
const ANSWER_WITHIN: &str = "10m";

/// No server answers faster than this for certain.
const SHORTEST_WAIT: Duration = Duration::from_millis(100);

/// Keys of connections to database servers.
pub(crate) const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("user", ValueKind::Text, "the user to log in as").with(&["password"]),
    OptionSpec::optional("password", ValueKind::Secret, "the user's password").with(&["user", "tls"]),
    OptionSpec::with_default(
        "tls",
        ValueKind::Flag,
        "false",
        "whether the connection is encrypted and the server's certificate verified; to send a password to another host \
         without encryption, write `false`",
    )
    .with(&["authority", "password"]),
    OptionSpec::optional(
        "authority",
        ValueKind::Text,
        "a PEM file with the certificates to trust, relative to the project; without it the system's",
    )
    .with(&["tls"]),
    OptionSpec::with_default(
        "answer_within",
        ValueKind::Duration,
        ANSWER_WITHIN,
        "how long the server may take to answer a statement, or to send the next rows (at least 100ms); then the \
         connection is given up and tried again",
    ),
];

/// Where a server is and who we are there.
#[derive(Clone)]
pub(crate) struct Server {
    /// The connection's name in the project.
    pub name: String,
    /// Its host.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// The database.
    pub database: String,
    /// The user; None leaves it to the server.
    pub user: Option<String>,
    /// The password.
    pub password: Option<String>,
    /// Whether the connection is encrypted.
    pub tls: bool,
    /// The certificates to trust; None for the system's.
    pub authority: Option<PathBuf>,
    /// How long it may take to answer.
    pub answer_within: Duration,
}

impl Server {
    /// What the connection names. Reaches nothing yet.
    ///
    /// # Errors
    /// Where the URL is not HOST:PORT/DATABASE, or the password cannot be read.
    pub(crate) fn new(settings: &Settings, default_port: u16) -> Outcome<Self> {
        let connection = &settings.connection;
        let wrong = |what: &str| {
            let scheme = &connection.scheme;
            let message = format!("the url of connection `{}` {what}", connection.name);
            Failure::new(FailureKind::Configuration, message).with_help(format!(
                "write it as {scheme}://HOST:PORT/DATABASE; user and password are keys of their own"
            ))
        };
        let target = connection.target.trim_start_matches('/');
        let (place, database) = target.split_once('/').unwrap_or((target, ""));
        if place.contains('@') {
            return Err(wrong("holds a user"));
        }
        if database.is_empty() {
            return Err(wrong("names no database"));
        }
        let (host, port) = match place.rsplit_once(':') {
            Some((host, port)) => (host, port.parse().map_err(|_| wrong("has a port that is not a number"))?),
            None => (place, default_port),
        };
        let options = &connection.options;
        refuse_unencrypted_password(connection)?;
        let password = match options.secret("password") {
            None => None,
            Some(place) => Some(settings.secrets.read(place).map_err(|reason| {
                let message = format!("the password of connection `{}` cannot be read: {reason}", connection.name);
                Failure::new(FailureKind::Configuration, message)
                    .with_help("set the variable, or make the file, that [connection] names in sluice.toml")
            })?),
        };
        Ok(Self {
            name: connection.name.clone(),
            host: host.trim_matches(['[', ']']).to_string(),
            port,
            database: database.to_string(),
            user: options.text("user"),
            password: password.map(|p| p.reveal().to_string()),
            tls: options.flag("tls"),
            authority: options.text("authority").map(|path| settings.root.join(path)),
            answer_within: options.duration("answer_within").max(SHORTEST_WAIT),
        })
    }

    /// The server for people: name and address.
    pub(crate) fn shown(&self) -> String {
        format!("{} at {}:{}", self.name, self.host, self.port)
    }
}

/// Waits for something of the network. Core is synchronous; what waits runs on two threads of its own.
pub(crate) fn wait<T>(work: impl Future<Output = T>) -> T {
    runtime().block_on(work)
}

/// What a server answers, if it does within a time; else `late` with the reason.
///
/// # Errors
/// As `said` reads the error of the step, or `late`.
pub(crate) async fn in_time<T, E, F>(
    within: Duration,
    step: impl Future<Output = Result<T, E>>,
    said: impl FnOnce(E) -> F,
    late: impl FnOnce(String) -> F,
) -> Result<T, F> {
    match tokio::time::timeout(within, step).await {
        Ok(answer) => answer.map_err(said),
        Err(_) => Err(late(format!("gave no answer within {}", show_duration(within)))),
    }
}

/// Begins something that goes on beside others.
pub(crate) fn spawn(work: impl Future<Output = ()> + Send + 'static) -> tokio::task::JoinHandle<()> {
    runtime().spawn(work)
}

fn runtime() -> &'static tokio::runtime::Runtime {
    static RUNTIME: OnceLock<tokio::runtime::Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| {
        tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .thread_name("network")
            .enable_all()
            .build()
            .expect("threads can be started")
    })
}
