//! A small schema registry over HTTP, on loopback: what tests ask of one.

use std::collections::BTreeMap;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::{Arc, Mutex, PoisonError};

/// What it does with requests.
#[derive(Debug, Default)]
struct State {
    /// Answers about schemas, by number.
    schemas: BTreeMap<u32, String>,
    /// Answers about versions of subjects, by path.
    versions: BTreeMap<String, String>,
    /// The subjects, each with the numbers of its schemas.
    subjects: BTreeMap<String, Vec<u32>>,
    /// Subjects that take no other schema than they have.
    closed: Vec<String>,
    /// Requests so far, each by its path.
    asked: Vec<String>,
    /// Whether it answers nothing but that it is busy.
    is_busy: bool,
    /// The user and the password that it wants.
    login: Option<(String, String)>,
}

/// A running registry. It lives as long as the process.
#[derive(Clone, Debug)]
pub struct Registry {
    /// Where it listens.
    pub address: SocketAddr,
    state: Arc<Mutex<State>>,
}

impl Registry {
    /// Starts one on a free port of loopback.
    ///
    /// # Errors
    /// Where no port can be had.
    pub fn start() -> std::io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let registry = Self { address: listener.local_addr()?, state: Arc::default() };
        let served = registry.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let registry = served.clone();
                std::thread::spawn(move || registry.serve(stream));
            }
        });
        Ok(registry)
    }

    fn with<T>(&self, work: impl FnOnce(&mut State) -> T) -> T {
        work(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Makes a schema known under a number.
    pub fn add(&self, number: u32, schema: &str) {
        self.with(|state| state.schemas.insert(number, format!("{{\"schema\":{}}}", quoted(schema))));
    }

    /// Makes a schema of a language known under a number, with what it refers to: the name of each, its subject and its version.
    pub fn add_referring(&self, number: u32, language: &str, schema: &str, references: &[(&str, &str, u32)]) {
        self.with(|state| state.schemas.insert(number, answer(language, schema, references)));
    }

    /// Makes a version of a subject known, that others refer to.
    pub fn add_version(&self, subject: &str, version: u32, schema: &str, references: &[(&str, &str, u32)]) {
        let path = format!("/subjects/{subject}/versions/{version}");
        self.with(|state| state.versions.insert(path, answer("PROTOBUF", schema, references)));
    }

    /// From now on a subject takes no other schema than it has.
    pub fn close(&self, subject: &str) {
        self.with(|state| state.closed.push(subject.into()));
    }

    /// From now on it is busy, or not.
    pub fn set_busy(&self, is_busy: bool) {
        self.with(|state| state.is_busy = is_busy);
    }

    /// From now on only this user is answered.
    pub fn want(&self, user: &str, password: &str) {
        self.with(|state| state.login = Some((user.into(), password.into())));
    }

    /// The paths that it was asked for so far.
    pub fn asked(&self) -> Vec<String> {
        self.with(|state| state.asked.clone())
    }

    fn serve(&self, mut stream: TcpStream) {
        let Ok(reading) = stream.try_clone() else { return };
        let mut reading = BufReader::new(reading.take(1 << 20));
        loop {
            let mut request = String::new();
            let mut authorization = None;
            let mut length = 0_u64;
            loop {
                let mut line = String::new();
                match reading.read_line(&mut line) {
                    Ok(read) if read > 0 => {}
                    _ => return,
                }
                if request.is_empty() {
                    request.clone_from(&line);
                }
                let lower = line.to_ascii_lowercase();
                if let Some(number) = lower.strip_prefix("content-length:") {
                    length = number.trim().parse().unwrap_or(0);
                }
                if lower.starts_with("authorization:") {
                    authorization = line.split_once(':').map(|(_, value)| value.trim().to_string());
                }
                if line.trim().is_empty() {
                    break;
                }
            }
            let mut sent = Vec::new();
            if (&mut reading).take(length).read_to_end(&mut sent).is_err() {
                return;
            }
            let path = request.split(' ').nth(1).unwrap_or_default().to_string();
            let sent = request.starts_with("POST ").then_some(sent);
            let (status, body) = self.answer(&path, authorization.as_deref(), sent.as_deref());
            let answer = format!(
                "HTTP/1.1 {status}\r\nContent-Type: application/vnd.schemaregistry.v1+json\r\nContent-Length: {}\r\n\r\n{body}",
                body.len()
            );
            if stream.write_all(answer.as_bytes()).is_err() {
                return;
            }
        }
    }

    fn answer(&self, path: &str, authorization: Option<&str>, sent: Option<&[u8]>) -> (&'static str, String) {
        self.with(|state| {
            state.asked.push(path.to_string());
            if let Some((user, password)) = &state.login
                && authorization != Some(&format!("Basic {}", base64(format!("{user}:{password}").as_bytes())))
            {
                return ("401 Unauthorized", "{\"error_code\":401,\"message\":\"unauthorized\"}".into());
            }
            if state.is_busy {
                return ("503 Service Unavailable", "{\"error_code\":50003,\"message\":\"busy\"}".into());
            }
            if let Some(sent) = sent {
                return state.take(path, sent);
            }
            if path == "/subjects" {
                return ("200 OK", "[]".into());
            }
            if let Some(answer) = state.versions.get(path) {
                return ("200 OK", answer.clone());
            }
            let number = path.strip_prefix("/schemas/ids/").and_then(|n| n.parse::<u32>().ok());
            match number.and_then(|number| state.schemas.get(&number)) {
                Some(answer) => ("200 OK", answer.clone()),
                None => ("404 Not Found", "{\"error_code\":40403,\"message\":\"Schema not found\"}".into()),
            }
        })
    }
}

impl State {
    /// Makes a schema known, or says whether it would.
    fn take(&mut self, path: &str, sent: &[u8]) -> (&'static str, String) {
        const REFUSED: &str = "{\"error_code\":409,\"message\":\"the schema is incompatible with an earlier one\"}";
        let asks = path.strip_prefix("/compatibility/subjects/").and_then(|rest| rest.strip_suffix("/versions/latest"));
        let adds = path.strip_prefix("/subjects/").and_then(|rest| rest.strip_suffix("/versions"));
        let Some(subject) = asks.or(adds) else {
            return ("404 Not Found", "{\"error_code\":404,\"message\":\"not found\"}".into());
        };
        // The body is kept as it is: a number beside a schema is answered with it.
        let schema = String::from_utf8_lossy(sent).into_owned();
        let known = self.subjects.get(subject);
        let same = known.and_then(|numbers| numbers.iter().find(|number| self.schemas.get(number) == Some(&schema)));
        let is_refused = same.is_none() && self.closed.iter().any(|closed| closed == subject);
        match (asks, known, same) {
            (Some(_), None, _) => ("404 Not Found", "{\"error_code\":40401,\"message\":\"Subject not found\"}".into()),
            (Some(_), Some(_), _) => ("200 OK", format!("{{\"is_compatible\":{}}}", !is_refused)),
            (None, _, Some(number)) => ("200 OK", format!("{{\"id\":{number}}}")),
            (None, ..) if is_refused => ("409 Conflict", REFUSED.into()),
            (None, ..) => {
                let number = self.schemas.keys().last().map_or(1, |last| last + 1);
                self.schemas.insert(number, schema);
                self.subjects.entry(subject.into()).or_default().push(number);
                ("200 OK", format!("{{\"id\":{number}}}"))
            }
        }
    }
}

/// What it says of a schema.
fn answer(language: &str, schema: &str, references: &[(&str, &str, u32)]) -> String {
    let one = |(name, subject, version): &(&str, &str, u32)| {
        format!("{{\"name\":{},\"subject\":{},\"version\":{version}}}", quoted(name), quoted(subject))
    };
    let references: Vec<String> = references.iter().map(one).collect();
    let (language, references) = (quoted(language), references.join(","));
    format!("{{\"schemaType\":{language},\"references\":[{references}],\"schema\":{}}}", quoted(schema))
}

/// A text as JSON.
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => out.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

fn base64(bytes: &[u8]) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(bytes)
}
