//! One connection to one broker, logged in as librdkafka is.

use std::io::{Read, Write};
use std::net::{TcpStream, ToSocketAddrs as _};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rdkafka::config::ClientConfig;
use rustls::pki_types::ServerName;
use rustls::{ClientConnection, StreamOwned};

use super::fields::{Body, Fields};
use super::scram::{Hash, Scram};
use crate::databases::{Identity, tls_config};

/// No answer to our questions is longer.
const LONGEST: usize = 4 << 20;

const API_VERSIONS: i16 = 18;
const SASL_HANDSHAKE: i16 = 17;
const SASL_AUTHENTICATE: i16 = 36;

trait Stream: Read + Write {}
impl<T: Read + Write> Stream for T {}

/// A broker that can be asked.
pub(super) struct Session {
    stream: Box<dyn Stream>,
    asked: i32,
    until: Instant,
    /// The kinds of requests that it knows, each with its oldest and newest version.
    known: Vec<(i16, i16, i16)>,
}

impl Session {
    /// Connects and logs in; None where that does not work before `until`. Nobody depends on it: what is asked here
    /// completes a message that is true without it.
    pub(super) fn open(config: &ClientConfig, host: &str, port: u16, until: Instant) -> Option<Self> {
        let left = || until.checked_duration_since(Instant::now()).filter(|left| !left.is_zero());
        let mut stream = None;
        for address in (host, port).to_socket_addrs().ok()? {
            stream = TcpStream::connect_timeout(&address, left()?.min(Duration::from_secs(1))).ok();
            if stream.is_some() {
                break;
            }
        }
        let stream = stream?;
        stream.set_nodelay(true).ok()?;
        // One that sends a byte now and then is given up as a whole by `until`.
        stream.set_read_timeout(Some(left()?)).ok()?;
        stream.set_write_timeout(Some(left()?)).ok()?;
        let protocol = config.get("security.protocol").unwrap_or_default();
        let stream: Box<dyn Stream> = match protocol.ends_with("ssl") {
            true => Box::new(StreamOwned::new(encrypted(config, host)?, stream)),
            false => Box::new(stream),
        };
        let mut session = Self { stream, asked: 0, until, known: Vec::new() };
        session.look_up_versions()?;
        if protocol.starts_with("sasl") {
            session.log_in(config)?;
        }
        Some(session)
    }

    /// Whether it knows a kind of request in a version.
    pub(super) fn knows(&self, kind: i16, version: i16) -> bool {
        self.known.iter().any(|(known, min, max)| *known == kind && (*min..=*max).contains(&version))
    }

    /// Sends a request and gives the body of its answer. Where lengths are packed, the headers have room for more parts.
    pub(super) fn ask(&mut self, kind: i16, version: i16, is_packed: bool, body: &Body) -> Option<Vec<u8>> {
        self.asked += 1;
        let number = self.asked;
        let mut request = Vec::with_capacity(32 + body.0.len());
        request.extend_from_slice(&kind.to_be_bytes());
        request.extend_from_slice(&version.to_be_bytes());
        let mut request = Body(request).int(number).text("sluice");
        if is_packed {
            request = request.no_tags();
        }
        request.0.extend_from_slice(&body.0);
        self.stream.write_all(&Body::default().bytes(&request.0).0).ok()?;
        self.stream.flush().ok()?;
        let mut length = [0; 4];
        self.fill(&mut length)?;
        let length = usize::try_from(i32::from_be_bytes(length)).ok().filter(|n| *n <= LONGEST)?;
        let mut answer = vec![0; length];
        self.fill(&mut answer)?;
        let mut fields = Fields(&answer);
        if fields.int()? != number {
            return None;
        }
        if is_packed {
            fields.tags()?;
        }
        let from = answer.len() - fields.0.len();
        Some(answer.split_off(from))
    }

    fn fill(&mut self, mut room: &mut [u8]) -> Option<()> {
        while !room.is_empty() {
            if Instant::now() >= self.until {
                return None;
            }
            let count = self.stream.read(room).ok().filter(|n| *n > 0)?;
            room = room.get_mut(count..)?;
        }
        Some(())
    }

    fn look_up_versions(&mut self) -> Option<()> {
        let answer = self.ask(API_VERSIONS, 0, false, &Body::default())?;
        let mut fields = Fields(&answer);
        fields.short().filter(|error| *error == 0)?;
        for _ in 0..fields.int()?.max(0) {
            self.known.push((fields.short()?, fields.short()?, fields.short()?));
        }
        Some(())
    }

    fn log_in(&mut self, config: &ClientConfig) -> Option<()> {
        let mechanism = config.get("sasl.mechanisms")?;
        let (user, password) = (config.get("sasl.username")?, config.get("sasl.password").unwrap_or_default());
        let answer = self.ask(SASL_HANDSHAKE, 1, false, &Body::default().text(mechanism))?;
        Fields(&answer).short().filter(|error| *error == 0)?;
        let hash = match mechanism {
            "PLAIN" => return self.authenticate(&format!("\0{user}\0{password}")).map(drop),
            "SCRAM-SHA-256" => Hash::Sha256,
            "SCRAM-SHA-512" => Hash::Sha512,
            _ => return None,
        };
        let scram = Scram::new(hash, user, password, uuid::Uuid::new_v4().simple().to_string());
        let challenge = self.authenticate(&scram.first())?;
        let (last, expected) = scram.last(&challenge)?;
        (self.authenticate(&last)? == expected).then_some(())
    }

    fn authenticate(&mut self, message: &str) -> Option<String> {
        let answer = self.ask(SASL_AUTHENTICATE, 0, false, &Body::default().bytes(message.as_bytes()))?;
        let mut fields = Fields(&answer);
        fields.short().filter(|error| *error == 0)?;
        fields.text()?;
        String::from_utf8(fields.bytes()?.to_vec()).ok()
    }
}

fn encrypted(config: &ClientConfig, host: &str) -> Option<ClientConnection> {
    let path = |key: &str| config.get(key).map(Path::new);
    let identity = path("ssl.certificate.location")
        .zip(path("ssl.key.location"))
        .map(|(certificate, key)| Identity { certificate, key });
    let tls = tls_config(host, path("ssl.ca.location"), identity).ok()?;
    ClientConnection::new(Arc::new(tls), ServerName::try_from(host.to_string()).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use std::net::TcpListener;

    use rstest::rstest;
    use sluice_standin::broker::{Broker, Setup};

    use super::*;

    fn soon() -> Instant {
        Instant::now() + Duration::from_secs(5)
    }

    fn config(mechanism: &str, password: &str) -> ClientConfig {
        let mut config = ClientConfig::new();
        config.set("security.protocol", "sasl_plaintext").set("sasl.mechanisms", mechanism);
        config.set("sasl.username", "sluice").set("sasl.password", password);
        config
    }

    #[rstest]
    fn a_login_is_proven_on_both_sides(#[values("PLAIN", "SCRAM-SHA-256", "SCRAM-SHA-512")] mechanism: &str) {
        let login = Some(("sluice".to_string(), "gate-7".to_string()));
        let broker = Broker::start(Setup { login, ..Setup::default() }).unwrap();
        let open = |config: &ClientConfig| Session::open(config, "127.0.0.1", broker.address().port(), soon());
        let session = open(&config(mechanism, "gate-7")).unwrap();
        assert!(session.knows(API_VERSIONS, 0) && !session.knows(API_VERSIONS, 99));
        assert!(open(&config(mechanism, "gate-8")).is_none());
        assert!(open(&config("GSSAPI", "gate-7")).is_none());
    }

    /// A broker that says nothing, and one whose answer never ends.
    #[rstest]
    #[case(&[])]
    #[case(&[0x7f, 0xff, 0xff, 0xff, 0, 0, 0, 1])]
    #[case(&[0, 0, 0, 200, 0, 0, 0, 1])]
    fn a_broker_that_does_not_answer_is_given_up(#[case] answer: &'static [u8]) {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let broker = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            stream.write_all(answer).unwrap();
            // Until the other side has gone.
            let _ = stream.read_to_end(&mut Vec::new());
        });
        let until = Instant::now() + Duration::from_millis(300);
        assert!(Session::open(&ClientConfig::new(), "127.0.0.1", port, until).is_none());
        broker.join().unwrap();
    }
}
