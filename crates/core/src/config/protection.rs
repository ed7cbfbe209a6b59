//! Passwords are not sent to another host without encryption, unless the connection says so.

use std::net::IpAddr;

use crate::config::ConnectionConfig;
use crate::failure::{Failure, FailureKind, Outcome};
use crate::problem::Problem;

/// The code of the problem.
const CODE: &str = "secret.unencrypted";

/// Whether an address `HOST`, `HOST:PORT` or `[HOST]:PORT` is on this machine.
fn is_loopback(address: &str) -> bool {
    let bare = address.trim_matches(['[', ']']);
    let host = match address.rsplit_once(':') {
        Some((host, port)) if bare.parse::<IpAddr>().is_err() && port.parse::<u16>().is_ok() => host,
        _ => address,
    };
    let host = host.trim_matches(['[', ']']);
    host.eq_ignore_ascii_case("localhost") || host.parse::<IpAddr>().is_ok_and(|ip| ip.to_canonical().is_loopback())
}

/// The first host to which a connection would send a password without encryption.
fn exposed(connection: &ConnectionConfig) -> Option<&str> {
    let options = &connection.options;
    if !options.knows("password") || !options.knows("tls") || !options.is_set("password") || options.flag("tls") {
        return None;
    }
    let target = connection.target.trim_start_matches('/');
    let addresses = target.split(['/', '?']).next().unwrap_or_default();
    addresses.split(',').map(str::trim).find(|address| !address.is_empty() && !is_loopback(address))
}

/// The host to which a connection would send the password of its schema registry without encryption.
fn exposed_registry(connection: &ConnectionConfig) -> Option<String> {
    let options = &connection.options;
    if !options.knows("registry_password") || !options.is_set("registry_password") {
        return None;
    }
    let url = options.text("registry")?;
    let address = url.strip_prefix("http://")?.split('/').next()?.to_string();
    (!is_loopback(&address)).then_some(address)
}

/// What to do about the password of a registry.
const REGISTRY_REMEDY: &str = "write registry = \"https://…\" in its [connection]";

const REMEDY: &str = "write `tls = true` in its [connection], or `tls = false` to send the password without encryption";

/// Refuses a connection that would send its password unencrypted while nothing in the project accepts that.
///
/// # Errors
/// Where the connection has a password and no `tls`, and its host is not this machine.
pub fn refuse_unencrypted_password(connection: &ConnectionConfig) -> Outcome<()> {
    if let Some(host) = exposed_registry(connection) {
        let message =
            format!("connection `{}` would send its registry_password to {host} without encryption", connection.name);
        return Err(Failure::new(FailureKind::Configuration, message).with_help(REGISTRY_REMEDY));
    }
    match exposed(connection) {
        Some(host) if !connection.options.is_set("tls") => {
            let message =
                format!("connection `{}` would send its password to {host} without encryption", connection.name);
            Err(Failure::new(FailureKind::Configuration, message).with_help(REMEDY))
        }
        _ => Ok(()),
    }
}

/// The problem of a connection that sends its password unencrypted: an error, or a warning where `tls = false` accepts
/// that.
pub(super) fn problem(connection: &ConnectionConfig) -> Option<Problem> {
    let place = |key| connection.options.place_of(key);
    if let Some(host) = exposed_registry(connection) {
        let message = format!("the registry_password would be sent to {host} without encryption");
        return Some(Problem::error(CODE, message, place("registry_password")).with_help(REGISTRY_REMEDY));
    }
    let host = exposed(connection)?;
    if connection.options.is_set("tls") {
        let message = format!("`tls = false` sends the password to {host} without encryption");
        return Some(Problem::warning(CODE, message, place("tls")).with_help("with `tls = true` it is encrypted"));
    }
    let message = format!("the password would be sent to {host} without encryption");
    Some(Problem::error(CODE, message, place("password")).with_help(REMEDY))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("localhost", true)]
    #[case("LOCALHOST:5432", true)]
    #[case("127.0.0.1:1", true)]
    #[case("127.9.9.9", true)]
    #[case("[::1]:5432", true)]
    #[case("::1", true)]
    #[case("[::ffff:127.0.0.1]:9", true)]
    #[case("lock-db.tarrow.example", false)]
    #[case("localhost.tarrow.example:5432", false)]
    #[case("10.0.0.7:5432", false)]
    #[case("[fe80::1]:5432", false)]
    #[case("127.0.0.1.tarrow.example", false)]
    fn loopback(#[case] address: &str, #[case] expected: bool) {
        assert_eq!(is_loopback(address), expected);
    }
}
