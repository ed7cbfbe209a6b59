//! A connection for streaming replication. Source of the protocol: the chapters "Frontend/Backend Protocol" and
//! "Streaming Replication Protocol" of PostgreSQL's manual. Messages of ordinary sessions are parsed by
//! postgres-protocol; those of replication are read here.

use std::io;

use bytes::{Buf as _, BufMut as _, Bytes, BytesMut};
use fallible_iterator::FallibleIterator as _;
use postgres_protocol::authentication::md5_hash;
use postgres_protocol::authentication::sasl::{ChannelBinding, SCRAM_SHA_256, ScramSha256};
use postgres_protocol::message::backend::{ErrorFields, Message};
use postgres_protocol::message::frontend;
use rustls::pki_types::ServerName;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::TcpStream;

use crate::databases::{PATIENCE, Server, client_config, in_time};

/// What is asked of the socket at a time.
const READ: usize = 256 << 10;

/// Bytes of a message at most: the server allocates no more for one (`MaxAllocSize`).
const LONGEST: usize = 1 << 30;

trait Socket: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Socket for T {}

/// An open connection.
pub(super) struct Wire {
    socket: Box<dyn Socket>,
    input: BytesMut,
    output: BytesMut,
    shown: String,
    /// The server's version, its first number; 0 until it has said so.
    version: u32,
    answer_within: Duration,
}

/// What streams.
#[derive(Debug)]
pub(super) enum WireMessage {
    /// Part of the log, decoded by the server's plugin.
    Data(Bytes),
    /// The server is there.
    Alive {
        /// Where the log ends, as far as the server has decoded it.
        end: u64,
        /// Whether it wants to hear from us at once.
        asks: bool,
    },
}

/// The protocols of the plugin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Protocol {
    /// Version 1: every transaction comes once it is committed.
    WholeTableState,
    /// Version 2: a large one comes in parts before.
    Streamed,
}

/// What the server said instead of streaming.
#[derive(Debug, Clone)]
pub(super) struct ServerReply {
    /// The five characters of the error.
    pub code: String,
    /// In words.
    pub message: String,
}

/// What went wrong.
#[derive(Debug)]
pub(super) enum WireError {
    /// The connection ended, or never came.
    Away(String),
    /// The server refuses.
    Answer(ServerReply),
}

impl From<io::Error> for WireError {
    fn from(error: io::Error) -> Self {
        Self::Away(error.to_string())
    }
}

type WireResult<T> = Result<T, WireError>;

impl Wire {
    /// Connects and logs in.
    pub(super) async fn connect(server: &Server) -> WireResult<Self> {
        let timeout = tokio::time::timeout(PATIENCE, Self::open(server)).await;
        timeout.unwrap_or_else(|_| Err(WireError::Away("no server answers".into())))
    }

    async fn open(server: &Server) -> WireResult<Self> {
        let tcp = TcpStream::connect((server.host.as_str(), server.port)).await?;
        tcp.set_nodelay(true)?;
        let socket: Box<dyn Socket> = if server.tls { encrypt(tcp, server).await? } else { Box::new(tcp) };
        let mut wire = Self {
            socket,
            input: BytesMut::new(),
            output: BytesMut::new(),
            shown: server.shown(),
            version: 0,
            answer_within: server.answer_within,
        };
        let user = server.user.as_deref().unwrap_or("sluice");
        // Values are spelled the same who asks for them.
        let options =
            "-c datestyle=ISO -c intervalstyle=postgres -c extra_float_digits=3 -c bytea_output=hex -c timezone=UTC";
        let parameters = [
            ("user", user),
            ("database", server.database.as_str()),
            ("replication", "database"),
            ("client_encoding", "UTF8"),
            ("application_name", "sluice"),
            ("options", options),
        ];
        frontend::startup_message(parameters, &mut wire.output)?;
        wire.flush().await?;
        wire.log_in(user, server.password.as_deref().unwrap_or("")).await?;
        Ok(wire)
    }

    pub(super) async fn log_in(&mut self, user: &str, password: &str) -> WireResult<()> {
        let mut scram: Option<ScramSha256> = None;
        let mut proven = false;
        loop {
            match self.message().await? {
                // Whoever asked for SCRAM has proven that it knows the password as well (RFC 5802, section 5).
                Message::AuthenticationOk if scram.is_some() && !proven => {
                    return Err(WireError::Away("the server did not prove that it knows the password".into()));
                }
                Message::AuthenticationOk => break,
                Message::AuthenticationCleartextPassword => {
                    frontend::password_message(password.as_bytes(), &mut self.output)?;
                }
                Message::AuthenticationMd5Password(body) => {
                    let hash = md5_hash(user.as_bytes(), password.as_bytes(), body.salt());
                    frontend::password_message(hash.as_bytes(), &mut self.output)?;
                }
                Message::AuthenticationSasl(body) => {
                    if !body.mechanisms().any(|m| Ok(m == SCRAM_SHA_256))? {
                        return Err(WireError::Away("the server asks for an unsupported login method".into()));
                    }
                    let begun = ScramSha256::new(password.as_bytes(), ChannelBinding::unsupported());
                    frontend::sasl_initial_response(SCRAM_SHA_256, begun.message(), &mut self.output)?;
                    scram = Some(begun);
                }
                Message::AuthenticationSaslContinue(body) => {
                    let Some(scram) = &mut scram else { return Err(unexpected()) };
                    scram.update(body.data())?;
                    frontend::sasl_response(scram.message(), &mut self.output)?;
                }
                Message::AuthenticationSaslFinal(body) => {
                    scram.as_mut().ok_or_else(unexpected)?.finish(body.data())?;
                    proven = true;
                }
                _ => return Err(unexpected()),
            }
            self.flush().await?;
        }
        while !matches!(self.message().await?, Message::ReadyForQuery(_)) {}
        Ok(())
    }

    /// Asks one thing; gives the rows as text.
    pub(super) async fn ask(&mut self, sql: &str) -> WireResult<Vec<Vec<Option<String>>>> {
        frontend::query(sql, &mut self.output)?;
        self.flush().await?;
        let mut rows = Vec::new();
        let mut refused = None;
        loop {
            match self.message().await {
                Ok(Message::DataRow(row)) => {
                    let buffer = row.buffer();
                    let text = |range: Option<std::ops::Range<usize>>| {
                        range.map(|r| String::from_utf8_lossy(&buffer[r]).into_owned())
                    };
                    rows.push(row.ranges().map(|range| Ok(text(range))).collect()?);
                }
                Ok(Message::ReadyForQuery(_)) => break,
                Ok(_) => {}
                // The server says when it is ready again.
                Err(WireError::Answer(said)) => refused = Some(said),
                Err(away) => return Err(away),
            }
        }
        refused.map_or(Ok(rows), |said| Err(WireError::Answer(said)))
    }

    /// Begins to stream.
    pub(super) async fn start(&mut self, sql: &str) -> WireResult<()> {
        frontend::query(sql, &mut self.output)?;
        self.flush().await?;
        loop {
            self.fill_frame().await?;
            // CopyBothResponse, which ordinary sessions never see.
            if self.input[0] == b'W' {
                self.frame();
                return Ok(());
            }
            self.message().await?;
        }
    }

    /// The next part of the log that has been received already.
    pub(super) fn next_data(&mut self) -> Option<Bytes> {
        const HEAD: usize = 5;
        let length = usize::try_from(self.input.get(1..HEAD).map(|mut bytes| bytes.get_u32())?).ok()?;
        if length < HEAD || self.input.len() <= length || self.input[0] != b'd' || self.input.get(HEAD) != Some(&b'w') {
            return None;
        }
        let mut body = self.frame();
        (body.len() >= 25).then(|| {
            body.advance(1 + 8 * 3);
            body
        })
    }

    /// The next of what streams.
    pub(super) async fn next(&mut self) -> WireResult<WireMessage> {
        loop {
            self.fill_frame().await?;
            if self.input[0] != b'd' {
                match self.message().await? {
                    Message::CopyDone | Message::CommandComplete(_) | Message::ReadyForQuery(_) => {
                        return Err(WireError::Away("the server ended the stream".into()));
                    }
                    _ => continue,
                }
            }
            let mut body = self.frame();
            match body.first() {
                Some(b'w') if body.len() >= 25 => {
                    body.advance(1 + 8 * 3);
                    return Ok(WireMessage::Data(body));
                }
                Some(b'k') if body.len() >= 18 => {
                    body.advance(1);
                    let end = body.get_u64();
                    body.advance(8);
                    return Ok(WireMessage::Alive { end, asks: body.get_u8() == 1 });
                }
                _ => return Err(unexpected()),
            }
        }
    }

    /// Reports to the server what has settled. Only that can be forgotten there.
    pub(super) async fn confirm(&mut self, settled: u64, asks: bool) -> WireResult<()> {
        const BODY: u32 = 1 + 8 * 4 + 1;
        let since_2000 = chrono::Utc::now().timestamp_micros() - super::MICROS;
        self.output.put_u8(b'd');
        self.output.put_u32(4 + BODY);
        self.output.put_u8(b'r');
        for _ in 0..3 {
            self.output.put_u64(settled);
        }
        self.output.put_i64(since_2000);
        self.output.put_u8(u8::from(asks));
        self.flush().await
    }

    /// Waits until a whole frame is there.
    async fn fill_frame(&mut self) -> WireResult<()> {
        loop {
            if self.input.len() >= 5 {
                let length = usize::try_from((&self.input[1..5]).get_u32()).unwrap_or(usize::MAX);
                if !(4..=LONGEST).contains(&length) {
                    return Err(WireError::Away(format!("the server sent a message of {length} bytes")));
                }
                if self.input.len() > length {
                    return Ok(());
                }
                // Room grows with what arrives, not with what was announced.
                self.input.reserve((length + 1 - self.input.len()).min(self.input.len().max(READ)));
            }
            if self.input.capacity() - self.input.len() < READ / 4 {
                self.input.reserve(READ);
            }
            if self.socket.read_buf(&mut self.input).await? == 0 {
                return Err(WireError::Away("the connection was closed".into()));
            }
        }
    }

    /// Takes the body of the frame that is there.
    fn frame(&mut self) -> Bytes {
        let length = usize::try_from((&self.input[1..5]).get_u32()).unwrap_or(usize::MAX);
        let mut frame = self.input.split_to(length + 1).freeze();
        frame.advance(5);
        frame
    }

    /// The next message of an ordinary session; an error of the server is an error here.
    async fn message(&mut self) -> WireResult<Message> {
        loop {
            self.fill_frame().await?;
            match Message::parse(&mut self.input)? {
                Some(Message::ErrorResponse(body)) => return Err(WireError::Answer(said(body.fields())?)),
                Some(Message::NoticeResponse(_)) => {}
                Some(Message::ParameterStatus(body)) => {
                    if body.name()? == "server_version" {
                        let digits: String = body.value()?.chars().take_while(char::is_ascii_digit).collect();
                        self.version = digits.parse().unwrap_or(0);
                    }
                }
                Some(message) => return Ok(message),
                None => return Err(unexpected()),
            }
        }
    }

    async fn flush(&mut self) -> WireResult<()> {
        self.socket.write_all(&self.output).await?;
        self.output.clear();
        Ok(self.socket.flush().await?)
    }

    /// The newest protocol of the plugin that the server speaks and we do: since version 14 it sends large transactions
    /// before they are committed.
    pub(super) fn protocol(&self) -> Protocol {
        if self.version >= 14 { Protocol::Streamed } else { Protocol::WholeTableState }
    }

    /// Which server it is.
    pub(super) fn shown(&self) -> &str {
        &self.shown
    }
}

#[cfg(test)]
impl Wire {
    /// A connection on which a server has sent some bytes and then left.
    pub(super) fn of_bytes(bytes: Vec<u8>) -> Self {
        let socket = tokio::io::join(std::io::Cursor::new(bytes), tokio::io::sink());
        Self {
            socket: Box::new(socket),
            input: BytesMut::new(),
            output: BytesMut::new(),
            shown: "office".into(),
            version: 0,
            answer_within: PATIENCE,
        }
    }

    /// What is allocated for its input, in bytes.
    pub(super) fn capacity(&self) -> usize {
        self.input.capacity()
    }
}

async fn encrypt(mut tcp: TcpStream, server: &Server) -> WireResult<Box<dyn Socket>> {
    let mut request = BytesMut::new();
    frontend::ssl_request(&mut request);
    tcp.write_all(&request).await?;
    if tcp.read_u8().await? != b'S' {
        return Err(WireError::Away("the server does not encrypt".into()));
    }
    let config = client_config(server).map_err(|f| WireError::Away(f.message))?;
    let name = ServerName::try_from(server.host.clone()).map_err(|e| WireError::Away(e.to_string()))?;
    Ok(Box::new(tokio_rustls::TlsConnector::from(Arc::new(config)).connect(name, tcp).await?))
}

fn said(mut fields: ErrorFields<'_>) -> io::Result<ServerReply> {
    let mut said = ServerReply { code: String::new(), message: String::new() };
    while let Some(field) = fields.next()? {
        let value = String::from_utf8_lossy(field.value_bytes()).into_owned();
        match field.type_() {
            b'C' => said.code = value,
            b'M' => said.message = value,
            _ => {}
        }
    }
    Ok(said)
}

fn unexpected() -> WireError {
    WireError::Away("the server said something that was not expected".into())
}

/// The failure of an error, for somebody who is not streaming.
pub(super) fn failed(shown: &str, error: WireError) -> Failure {
    match error {
        WireError::Away(what) => Failure::away(format!("{shown} does not answer: {what}")),
        WireError::Answer(said) => match said.code.as_str() {
            "28000" | "28P01" | "3D000" | "42501" => {
                Failure::new(FailureKind::Unreachable, format!("{shown} rejected the login: {}", said.message))
                    .with_help(
                        "look at user, password and database of the [connection]; reading its log needs the attribute \
                     REPLICATION: alter role NAME replication",
                    )
            }
            // Too many connections, shutting down, starting up.
            code if code.starts_with("53") || code.starts_with("57") => {
                Failure::away(format!("{shown}: {}", said.message))
            }
            _ => Failure::unreachable(format!("{shown}: {} ({})", said.message, said.code)),
        },
    }
}

/// Asks and maps what goes wrong.
pub(super) async fn ask(wire: &mut Wire, sql: &str) -> Outcome<Vec<Vec<Option<String>>>> {
    let shown = wire.shown().to_string();
    let within = wire.answer_within;
    let late = |why: String| Failure::away(format!("{shown} {why}"));
    in_time(within, wire.ask(sql), |e| failed(&shown, e), late).await
}
