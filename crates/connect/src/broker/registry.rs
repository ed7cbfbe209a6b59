//! A schema registry, over its HTTP interface: the schemas of messages that carry the number of theirs, and numbers for schemas of
//! ours.
//!
//! A message is a zero byte, the number of its schema as four bytes, the highest first, and its value. The registry answers
//! `GET /schemas/ids/NUMBER` with `{"schema": "…"}`, beside which stand its language, where that is not Avro, and the schemas that
//! it refers to. `GET /subjects/SUBJECT/versions/VERSION` gives these. `POST /subjects/SUBJECT/versions` with `{"schema": "…"}`, its language beside it where that is not Avro, makes a schema known, and is answered with `{"id": NUMBER}`;
//! `POST /compatibility/subjects/SUBJECT/versions/latest` says beforehand whether it would be.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fmt::Write as _;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use reqwest::{Client, RequestBuilder, StatusCode};
use serde::Deserialize;
use sluice_core::event::{Chunk, MessageSchema, MessageSchemas, RegisteredSchema, SchemaLanguage};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::avro::schema_number;
use sluice_core::kinds::Settings;
use sluice_core::printable;
use sluice_core::run::Stop;

use crate::databases::{Server, http_client, wait};

/// Bytes of an answer that are read.
const LONGEST: usize = 16 << 20;

/// How long an answer may take.
const WITHIN: Duration = Duration::from_secs(15);

/// How long it is believed that a schema is not known: a copy of a registry may learn of it a little later than its writers.
const UNKNOWN: Duration = Duration::from_secs(30);

/// Unknown numbers that are remembered at most: damaged messages can name any.
const MOST_UNKNOWN: usize = 10_000;

/// A schema registry.
pub(crate) struct Registry {
    client: Client,
    url: String,
    /// What people are told of it.
    shown: String,
    login: Option<(String, String)>,
    known: Mutex<BTreeMap<u32, (MessageSchema, Instant)>>,
    stop: Arc<Stop>,
}

/// What is read of an answer.
#[derive(Deserialize)]
struct Answer {
    schema: String,
    #[serde(rename = "schemaType")]
    kind: Option<String>,
    references: Option<Vec<Reference>>,
}

/// Another schema that one refers to: a version of a subject, and the name that stands for it.
#[derive(Clone, Deserialize)]
struct Reference {
    name: String,
    subject: String,
    version: u32,
}

/// The answer to a schema that was made known.
#[derive(Deserialize)]
struct Registered {
    id: u32,
}

/// The answer to whether a schema would be taken.
#[derive(Deserialize)]
struct Compatible {
    is_compatible: bool,
}

/// The answer to what is refused.
#[derive(Deserialize)]
struct Refused {
    message: Option<String>,
}

/// The beginning of what a server says, as far as people read it.
fn cut(text: &str) -> String {
    text.chars().take(400).collect()
}

/// Schemas that one may refer to, with all that these refer to.
const MOST_REFERENCES: usize = 200;

impl Registry {
    /// The registry of a connection. Reaches nothing yet.
    ///
    /// # Errors
    /// Where the connection names none, or its secrets cannot be read.
    pub(crate) fn new(settings: &Settings) -> Outcome<Self> {
        let connection = &settings.connection;
        let options = &connection.options;
        let wrong = |message: String, help: &str| Failure::new(FailureKind::Configuration, message).with_help(help);
        let name = &connection.name;
        let url = options.text("registry").ok_or_else(|| {
            let message = format!("connection `{name}` names no schema registry");
            wrong(message, "write registry = \"https://HOST:PORT\" in its [connection]")
        })?;
        let url = url.trim_end_matches('/').to_string();
        let (tls, address) = match (url.strip_prefix("https://"), url.strip_prefix("http://")) {
            (Some(address), _) => (true, address),
            (None, Some(address)) => (false, address),
            _ => {
                let message = format!("the registry of connection `{name}` is not an address of HTTP");
                return Err(wrong(message, "write it as https://HOST:PORT, or http://HOST:PORT"));
            }
        };
        let host = address.split('/').next().unwrap_or_default();
        if host.contains('@') {
            let message = format!("the registry of connection `{name}` holds a user");
            return Err(wrong(message, "write registry_user and registry_password"));
        }
        let password = options.secret("registry_password").map(|secret| {
            settings.secrets.read(secret).map_err(|reason| {
                let message = format!("the registry_password of connection `{name}` cannot be read: {reason}");
                wrong(message, "set the variable, or make the file, that [connection] names in sluice.toml")
            })
        });
        let password = password.transpose()?.map(|p| p.reveal().to_string());
        let server = Server {
            name: name.clone(),
            host: host.to_string(),
            port: 0,
            database: String::new(),
            user: None,
            password: None,
            tls,
            authority: options.text("authority").map(|path| settings.root.join(path)),
            answer_within: WITHIN,
        };
        let client = http_client(&server)?;
        let login = options.text("registry_user").map(|user| (user, password.unwrap_or_default()));
        let shown = format!("the schema registry of {name} at {host}");
        Ok(Self { client, url, shown, login, known: Mutex::default(), stop: Arc::clone(&settings.stop) })
    }

    /// Asks for a schema, unless it is known.
    fn schema(&self, number: u32) -> Outcome<MessageSchema> {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner).get(&number).cloned();
        if let Some((schema, at)) = known
            && (schema.is_ok() || at.elapsed() < UNKNOWN)
        {
            return Ok(schema);
        }
        let schema = match self.get(&format!("/schemas/ids/{number}"))? {
            None => Err(format!("{} does not know schema {number}", self.shown)),
            Some(body) => self.read(number, &body)?,
        };
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if schema.is_err() && known.values().filter(|(schema, _)| schema.is_err()).count() >= MOST_UNKNOWN {
            known.retain(|_, (schema, _)| schema.is_ok());
        }
        known.insert(number, (schema.clone(), Instant::now()));
        Ok(schema)
    }

    /// What an answer says of a schema, with all that it refers to.
    ///
    /// # Errors
    /// Where no registry answers.
    fn read(&self, number: u32, body: &[u8]) -> Outcome<MessageSchema> {
        let answer: Answer = match serde_json::from_slice(body) {
            Ok(answer) => answer,
            Err(e) => return Ok(Err(format!("{} gave something else than schema {number}: {e}", self.shown))),
        };
        let language = match answer.kind.as_deref() {
            None | Some("AVRO") => SchemaLanguage::Avro,
            Some("PROTOBUF") => SchemaLanguage::Protobuf,
            Some(_) => return Ok(Err(format!("schema {number} is not one of Avro or Protobuf"))),
        };
        let mut references = Vec::new();
        let mut open: VecDeque<Reference> = answer.references.unwrap_or_default().into();
        let mut seen: BTreeSet<String> = BTreeSet::new();
        let mut bytes = answer.schema.len();
        while let Some(Reference { name, subject, version }) = open.pop_front() {
            if !seen.insert(name.clone()) {
                continue;
            }
            if seen.len() > MOST_REFERENCES {
                return Ok(Err(format!("schema {number} refers to more than {MOST_REFERENCES} others")));
            }
            let body = self.get(&format!("/subjects/{}/versions/{version}", encoded(&subject)))?;
            let referred = body.and_then(|body| serde_json::from_slice::<Answer>(&body).ok());
            let Some(referred) = referred else {
                let what = sluice_core::names::shown(&name);
                return Ok(Err(format!("{} does not know {what}, which schema {number} refers to", self.shown)));
            };
            bytes += referred.schema.len();
            if bytes > LONGEST {
                return Ok(Err(format!("schema {number} has more than 16 MiB with all that it refers to")));
            }
            open.extend(referred.references.unwrap_or_default());
            references.push((name, referred.schema));
        }
        Ok(Ok(Arc::new(RegisteredSchema { language, text: answer.schema, references })))
    }

    /// What stands under a path; None where nothing does.
    ///
    /// # Errors
    /// Where no registry answers, or it refuses.
    fn get(&self, path: &str) -> Outcome<Option<Vec<u8>>> {
        Ok(match self.ask(self.client.get(format!("{}{path}", self.url)))? {
            (StatusCode::NOT_FOUND, _) => None,
            (_, body) => Some(body),
        })
    }

    /// Sends a schema under a path; the status and the body of the answer.
    fn post(&self, path: &str, language: SchemaLanguage, schema: &str) -> Outcome<(StatusCode, Vec<u8>)> {
        let body = match language {
            SchemaLanguage::Avro => serde_json::json!({ "schema": schema }),
            SchemaLanguage::Protobuf => serde_json::json!({ "schemaType": "PROTOBUF", "schema": schema }),
        };
        let body = body.to_string();
        let request = self.client.post(format!("{}{path}", self.url)).body(body);
        self.ask(request.header("Content-Type", "application/vnd.schemaregistry.v1+json"))
    }

    /// Makes a schema known under a subject; gives its number, the same for the same schema.
    ///
    /// # Errors
    /// Where no registry answers, or it refuses the schema.
    pub(crate) fn register(&self, subject: &str, language: SchemaLanguage, schema: &str) -> Outcome<u32> {
        let (status, body) = self.post(&format!("/subjects/{}/versions", encoded(subject)), language, schema)?;
        let number = serde_json::from_slice::<Registered>(&body).ok().map(|registered| registered.id);
        match number.filter(|_| status == StatusCode::OK) {
            Some(number) => Ok(number),
            None => Err(self.refused(subject, language, &body)),
        }
    }

    /// Why a schema would be refused under a subject; None where it would be taken.
    ///
    /// # Errors
    /// Where no registry answers.
    pub(crate) fn objection(&self, subject: &str, language: SchemaLanguage, schema: &str) -> Outcome<Option<Failure>> {
        let path = format!("/compatibility/subjects/{}/versions/latest", encoded(subject));
        let (status, body) = self.post(&path, language, schema)?;
        // What is not known yet has nothing to be compatible with.
        if status == StatusCode::NOT_FOUND {
            return Ok(None);
        }
        let answer = serde_json::from_slice::<Compatible>(&body).ok();
        Ok(match answer.filter(|_| status == StatusCode::OK) {
            Some(answer) if answer.is_compatible => None,
            _ => Some(self.refused(subject, language, &body)),
        })
    }

    fn refused(&self, subject: &str, language: SchemaLanguage, body: &[u8]) -> Failure {
        let said = serde_json::from_slice::<Refused>(body).ok().and_then(|refused| refused.message);
        let said = said.map_or_else(String::new, |said| format!(": {}", printable::text(&cut(&said))));
        let message =
            format!("{} does not take this schema under the subject `{}`{said}", self.shown, printable::text(subject));
        Failure::new(FailureKind::Configuration, message).with_help(match language {
            SchemaLanguage::Avro => {
                "columns that come later must be nullable and none may change its type; or write another subject: avro = { subject = \
                 \"…\" }; sluice manual --shape PIPELINE.EVENT.LANDING --as avro shows the schema"
            }
            SchemaLanguage::Protobuf => {
                "fields that come later get new numbers, and none may change its number or its type; or write another subject: \
                 protobuf = { subject = \"…\" }"
            }
        })
    }

    /// Sends a request. Where nothing stands, or what was sent is refused, the caller decides.
    ///
    /// # Errors
    /// Where no registry answers, or it refuses who asks.
    fn ask(&self, request: RequestBuilder) -> Outcome<(StatusCode, Vec<u8>)> {
        let mut request = request.timeout(WITHIN);
        request = request.header("Accept", "application/vnd.schemaregistry.v1+json, application/json");
        if let Some((user, password)) = &self.login {
            request = request.basic_auth(user, Some(password));
        }
        let away = |why: &dyn std::fmt::Display| Failure::away(format!("{} does not answer: {why}", self.shown));
        wait(async {
            let mut answer = request.send().await.map_err(|e| away(&e.without_url()))?;
            let status = answer.status();
            match status {
                StatusCode::OK | StatusCode::NOT_FOUND | StatusCode::CONFLICT | StatusCode::UNPROCESSABLE_ENTITY => {}
                StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => {
                    let message = format!("{} refuses: {}", self.shown, answer.status());
                    let help = "registry_user and registry_password in [connection] say who asks";
                    return Err(Failure::unreachable(message).with_help(help));
                }
                other if other.is_redirection() => {
                    let help = "redirects are not followed; write the server's own address in [connection]";
                    return Err(Failure::unreachable(format!("{} redirects elsewhere", self.shown)).with_help(help));
                }
                other => return Err(away(&other)),
            }
            let mut body = Vec::new();
            while let Some(part) = answer.chunk().await.map_err(|e| away(&e.without_url()))? {
                body.extend_from_slice(&part);
                if body.len() > LONGEST {
                    return Err(Failure::unreachable(format!("{} answers with more than 16 MiB", self.shown)));
                }
            }
            Ok((status, body))
        })
    }

    /// Whether a registry answers at all.
    ///
    /// # Errors
    /// Where none does.
    pub(crate) fn look(&self) -> Outcome<()> {
        self.get("/subjects").map(drop)
    }

    /// Waits before it is asked again, unless the run is to stop.
    pub(crate) fn wait(&self, at_most: Duration) {
        self.stop.wait(at_most);
    }

    /// Adds to a chunk the schemas that its messages name; false where the run was asked to settle before all were there.
    pub(crate) fn complete(&self, chunk: &mut Chunk) -> Outcome<bool> {
        let mut schemas = MessageSchemas::new();
        for message in chunk.messages.iter().flat_map(|messages| &messages.each) {
            if let Some(number) = schema_number(message.span.of(&chunk.bytes))
                && !schemas.contains_key(&number)
            {
                if self.stop.is_settling() {
                    return Ok(false);
                }
                schemas.insert(number, self.schema(number)?);
            }
        }
        chunk.schemas = Some(Arc::new(schemas));
        Ok(true)
    }
}

/// A part of a path of HTTP.
fn encoded(part: &str) -> String {
    let mut out = String::new();
    for byte in part.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'~' => out.push(char::from(byte)),
            // A dot by itself would lead elsewhere.
            b'.' if !matches!(part, "." | "..") => out.push('.'),
            _ => {
                let _ = write!(out, "%{byte:02X}");
            }
        }
    }
    out
}
