//! What commands and the background process say to each other.

use std::io::{BufRead as _, BufReader, Read as _};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::plan::SealedTexts;

use super::place::{Holding, Place, Process};
use crate::crew::MemberReport;

/// What a command asks of the process.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "snake_case")]
pub(crate) enum Request {
    /// How it is.
    Report,
    /// Let pipelines run; all of the project where none is named.
    Start {
        /// Their names.
        pipelines: Vec<String>,
    },
    /// Let pipelines settle and end; all where none is named.
    Stop {
        /// Their names.
        pipelines: Vec<String>,
    },
    /// The texts that a pipeline runs under.
    Texts {
        /// Its name.
        pipeline: String,
    },
    /// Let a pipeline settle and go on under its files as they are now.
    Renew {
        /// Its name.
        pipeline: String,
        /// SHA-256 of the texts that were checked: others are refused.
        texts: String,
    },
}

/// What the process answers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Answer {
    /// Who answers.
    #[serde(flatten)]
    pub process: Process,
    /// Its pipelines, by name.
    pub pipelines: Vec<MemberReport>,
    /// The texts that were asked for.
    pub texts: Option<SealedTexts>,
    /// Why it did not do what was asked.
    pub refused: Option<Refusal>,
    /// Whether it is about to end, since nothing is left to do: what was asked is to be asked of another one.
    pub ends: bool,
}

/// A failure on its way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Refusal {
    /// Whether the pipeline's files are at fault, or who asks.
    pub is_configuration: bool,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
}

/// The longest line.
const LONGEST: u64 = 8 << 20;

impl Request {
    /// How long its answer may take: to start a pipeline, its source may have to be asked for tables.
    fn patience(&self) -> Duration {
        match self {
            Self::Report | Self::Texts { .. } | Self::Stop { .. } => Duration::from_secs(5),
            Self::Start { .. } | Self::Renew { .. } => Duration::from_secs(60),
        }
    }
}

impl From<Failure> for Refusal {
    fn from(failure: Failure) -> Self {
        Self {
            is_configuration: failure.kind == FailureKind::Configuration,
            message: failure.message,
            help: failure.help,
        }
    }
}

impl From<Refusal> for Failure {
    fn from(refusal: Refusal) -> Self {
        let kind = if refusal.is_configuration { FailureKind::Configuration } else { FailureKind::Unreachable };
        let failure = Self::new(kind, refusal.message);
        match refusal.help {
            Some(help) => failure.with_help(help),
            None => failure,
        }
    }
}

/// Asks the process of a project; None where there is none.
///
/// # Errors
/// Where it does not answer, or refuses.
pub(crate) fn ask(root: &Path, request: &Request) -> Outcome<Option<Answer>> {
    let place = Place::of(root);
    let Ok(stream) = place.connect() else {
        return match place.holding() {
            // It has begun and does not listen yet, or has settled and is about to end.
            Holding::Lives(process) => {
                let who = process.map_or(String::new(), |p| format!(" (process {})", p.process));
                Err(Failure::away(format!("the background process{who} does not answer"))
                    .with_help("it is starting or stopping: try again"))
            }
            Holding::Nobody | Holding::Gone(_) => Ok(None),
        };
    };
    let answer = speak(&stream, request).map_err(|error| {
        Failure::away(format!("the background process does not answer as expected: {error}"))
            .with_help("if another version of this program started it, stop it with that version: sluice stop --all")
    })?;
    match answer.refused {
        Some(refusal) => Err(refusal.into()),
        None => Ok(Some(answer)),
    }
}

/// How the process is; None where there is none, or none that answers.
pub(crate) fn find(root: &Path) -> Option<Answer> {
    ask(root, &Request::Report).ok().flatten()
}

fn speak(mut stream: &UnixStream, request: &Request) -> std::io::Result<Answer> {
    stream.set_read_timeout(Some(request.patience()))?;
    stream.set_write_timeout(Some(request.patience()))?;
    write_line(&mut stream, request)?;
    read_line(stream)
}

/// Writes one line.
pub(super) fn write_line(mut stream: impl std::io::Write, said: &impl Serialize) -> std::io::Result<()> {
    let mut line = serde_json::to_vec(said)?;
    line.push(b'\n');
    stream.write_all(&line)?;
    stream.flush()
}

/// Reads one line.
pub(super) fn read_line<T: for<'de> Deserialize<'de>>(stream: &UnixStream) -> std::io::Result<T> {
    let mut line = String::new();
    BufReader::new(stream.take(LONGEST)).read_line(&mut line)?;
    Ok(serde_json::from_str(&line)?)
}

/// The other side of a conversation: at most so long.
pub(super) fn be_patient(stream: &UnixStream) -> std::io::Result<()> {
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    stream.set_write_timeout(Some(Duration::from_secs(5)))
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Request::Report)]
    #[case(Request::Start { pipelines: vec!["passages".into(), "tolls".into()] })]
    #[case(Request::Stop { pipelines: Vec::new() })]
    #[case(Request::Renew { pipeline: "passages".into(), texts: "ab".into() })]
    fn requests_arrive_as_they_were_sent(#[case] request: Request) {
        let (here, there) = UnixStream::pair().unwrap();
        write_line(&here, &request).unwrap();
        assert_eq!(read_line::<Request>(&there).unwrap(), request);
    }

    #[rstest]
    #[case(b"\n".as_slice())]
    #[case(b"{\"ask\":\"dance\"}\n")]
    #[case(b"{\"ask\":\"start\"}\n")]
    #[case(b"\xff\xfe\n")]
    #[case(b"")]
    fn nonsense_is_an_error(#[case] said: &[u8]) {
        let (mut here, there) = UnixStream::pair().unwrap();
        here.write_all(said).unwrap();
        drop(here);
        assert!(read_line::<Request>(&there).is_err());
    }
}
