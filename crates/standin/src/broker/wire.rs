//! Requests and answers on one connection: a length, a header, a message.

use std::io::{self, Read as _, Write as _};
use std::net::TcpStream;

use bytes::{Buf as _, Bytes, BytesMut};
use kafka_protocol::messages::{ApiKey, RequestHeader, ResponseHeader};
use kafka_protocol::protocol::{Decodable as _, Encodable as _};

use super::login::Login;
use super::{Shared, answer, shapes};

/// A longer request ends the connection.
const LONGEST: usize = 256 << 20;

/// One client.
pub(super) struct Session {
    /// Whether it has shown who it is, where that is asked for.
    pub known: bool,
    /// The login that has begun.
    pub login: Option<Login>,
}

/// Serves one client until it leaves.
pub(super) fn serve(mut stream: TcpStream, shared: &Shared) {
    let _ = stream.set_nodelay(true);
    let Some(born) = shared.faults().admit() else { return };
    let mut session = Session { known: shared.setup.login.is_none(), login: None };
    while let Ok(Some(request)) = read(&mut stream) {
        shared.wait_out_silence();
        let answer = match respond(request, shared, &mut session) {
            Ok(Some(answer)) => answer,
            Ok(None) => continue,
            Err(_) => return,
        };
        // Whatever was done is done; the client may never hear of it.
        let Some(times) = shared.faults().answers(born) else { return };
        for _ in 0..times {
            if stream.write_all(&answer).is_err() {
                return;
            }
        }
    }
}

fn read(stream: &mut TcpStream) -> io::Result<Option<Bytes>> {
    let mut length = [0; 4];
    match stream.read_exact(&mut length) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        result => result?,
    }
    let length = usize::try_from(i32::from_be_bytes(length)).ok().filter(|n| *n <= LONGEST);
    let length = length.ok_or_else(|| io::Error::from(io::ErrorKind::InvalidData))?;
    let mut bytes = vec![0; length];
    stream.read_exact(&mut bytes)?;
    Ok(Some(bytes.into()))
}

fn invalid(_: impl std::fmt::Debug) -> io::Error {
    io::ErrorKind::InvalidData.into()
}

/// The answer to a request; None where none is wanted.
pub(super) fn respond(mut request: Bytes, shared: &Shared, session: &mut Session) -> io::Result<Option<BytesMut>> {
    if request.len() < 8 {
        return Err(invalid(()));
    }
    let (key, version) = ((&request[0..2]).get_i16(), (&request[2..4]).get_i16());
    let correlation = (&request[4..8]).get_i32();
    let key = ApiKey::try_from(key).map_err(invalid)?;
    let mut body = BytesMut::new();
    // Asked for a version that is not known, the oldest answer says which are.
    let is_known = answer::VERSIONS.iter().any(|(k, min, max)| *k == key && (*min..=*max).contains(&version));
    if !is_known {
        if key != ApiKey::ApiVersions {
            return Err(invalid(()));
        }
        answer::versions(0, 35, &mut body).map_err(invalid)?;
        return Ok(Some(frame(&header(correlation, 0)?, &body)));
    }
    RequestHeader::decode(&mut request, key.request_header_version(version)).map_err(invalid)?;
    if !session.known && !matches!(key, ApiKey::ApiVersions | ApiKey::SaslHandshake | ApiKey::SaslAuthenticate) {
        return Err(invalid(()));
    }
    shapes::length(key, version, &request).ok_or_else(|| invalid(()))?;
    if !answer::answer(key, version, request, shared, session, &mut body).map_err(invalid)? {
        return Ok(None);
    }
    Ok(Some(frame(&header(correlation, key.response_header_version(version))?, &body)))
}

fn header(correlation: i32, version: i16) -> io::Result<BytesMut> {
    let mut bytes = BytesMut::new();
    ResponseHeader::default().with_correlation_id(correlation).encode(&mut bytes, version).map_err(invalid)?;
    Ok(bytes)
}

fn frame(header: &[u8], body: &[u8]) -> BytesMut {
    let length = i32::try_from(header.len() + body.len()).unwrap_or(i32::MAX);
    let mut framed = BytesMut::with_capacity(4 + header.len() + body.len());
    framed.extend_from_slice(&length.to_be_bytes());
    framed.extend_from_slice(header);
    framed.extend_from_slice(body);
    framed
}
