//! Sessions with MariaDB and MySQL: names and texts in their SQL, the login, and what their errors mean.

use std::time::Duration;

use mysql_async::{Conn, Error, Opts, OptsBuilder, SslOpts};
use sluice_core::failure::{Failure, FailureKind};

use super::{PATIENCE, Server, StoreError, StoreResult, trusted, wait};

/// A name in backquotes.
pub(crate) fn quote(name: &str) -> String {
    format!("`{}`", name.replace('`', "``"))
}

/// A text in single quotes. Sessions set NO_BACKSLASH_ESCAPES, so that a backslash means itself.
pub(crate) fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// Connects and logs in.
pub(crate) fn connect(server: &Server) -> StoreResult<Conn> {
    let mut options = OptsBuilder::default()
        .ip_or_hostname(server.host.clone())
        .tcp_port(server.port)
        .user(Some(server.user.clone().unwrap_or_else(|| "sluice".into())))
        .pass(server.password.clone())
        .db_name(Some(server.database.clone()))
        .prefer_socket(false)
        .tcp_keepalive(Some(Duration::from_secs(15)));
    if server.tls {
        // Only what the connection names, or else the system, is trusted: not the list that the library brings along.
        let roots = trusted(server).map_err(StoreError::Failed)?;
        let roots = roots.into_iter().map(|root| root.as_ref().to_vec().into()).collect();
        options = options.ssl_opts(Some(SslOpts::default().with_root_certs(roots).with_disable_built_in_roots(true)));
    }
    let shown = server.shown();
    wait(async {
        match tokio::time::timeout(PATIENCE, Conn::new(Opts::from(options))).await {
            Ok(connected) => connected.map_err(|e| judge(&shown, &e)),
            Err(_) => Err(StoreError::Away(format!("{shown} does not answer"))),
        }
    })
}

/// What an error means, by the numbers of the server's manual.
pub(crate) fn judge(shown: &str, error: &Error) -> StoreError {
    let Error::Server(said) = error else {
        return StoreError::Away(format!("{shown} does not answer: {error}"));
    };
    let message = said.message.clone();
    match (said.code, said.state.get(..2).unwrap_or_default()) {
        (1205 | 1213 | 1040 | 1053 | 1927 | 3024 | 1969 | 1159 | 1161, _) => {
            StoreError::Away(format!("{shown} does not take it now: {message}"))
        }
        (1044 | 1045 | 1049 | 1698, _) => StoreError::Failed(
            Failure::new(FailureKind::Unreachable, format!("{shown} rejected the login: {message}"))
                .with_help("look at user, password and database of the [connection] in sluice.toml"),
        ),
        (1054 | 1146 | 1142 | 1143 | 1136 | 1356, _) => StoreError::Changed(message),
        (1264 | 1265 | 1292 | 1364 | 1366 | 1406 | 4025 | 3819 | 1644 | 4161, _) | (_, "22" | "23" | "45") => {
            StoreError::Refused { row: row_of(&message), column: column_of(&message), message }
        }
        (code, _) => StoreError::Failed(Failure::unreachable(format!("{shown}: {message} ({code})"))),
    }
}

/// The row that a message names, from 0: `Data too long for column 'note' at row 3`.
fn row_of(message: &str) -> Option<usize> {
    let rest = message.rsplit_once(" at row ")?.1;
    rest.parse::<usize>().ok()?.checked_sub(1)
}

fn column_of(message: &str) -> Option<String> {
    let name = message.split_once("olumn '").or_else(|| message.split_once("olumn `"))?.1;
    let name = name.split(['\'', '`']).next()?;
    Some(name.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Data too long for column 'note' at row 3", Some(2), Some("note"))]
    #[case("Column 'lock_id' cannot be null", None, Some("lock_id"))]
    #[case("CONSTRAINT `draught` failed for `tarrow`.`passage`", None, None)]
    fn the_place_of_an_error_is_read(#[case] message: &str, #[case] row: Option<usize>, #[case] column: Option<&str>) {
        assert_eq!(row_of(message), row);
        assert_eq!(column_of(message).as_deref(), column);
    }
}
