//! Sessions with PostgreSQL: names and texts in its SQL, the login, and what its errors mean.

use std::time::Duration;

use sluice_core::failure::{Failure, FailureKind};
use tokio_postgres::error::SqlState;
use tokio_postgres::{Client, Config, Error, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::{PATIENCE, Server, StoreError, StoreResult, client_config, in_time, wait};

/// A name in double quotes.
pub(crate) fn quote(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text in single quotes; backslashes mean themselves under standard_conforming_strings.
pub(crate) fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\0', "").replace('\'', "''"))
}

/// Connects and logs in.
pub(crate) fn connect(server: &Server) -> StoreResult<Client> {
    let mut config = Config::new();
    config
        .host(&server.host)
        .port(server.port)
        .dbname(&server.database)
        .connect_timeout(PATIENCE)
        .keepalives_idle(Duration::from_secs(15))
        .tcp_user_timeout(Duration::from_secs(30));
    config.user(server.user.as_deref().unwrap_or("sluice"));
    if let Some(password) = &server.password {
        config.password(password);
    }
    let shown = server.shown();
    let opened = async {
        match server.tls {
            true => {
                config.ssl_mode(tokio_postgres::config::SslMode::Require);
                let tls = MakeRustlsConnect::new(client_config(server).map_err(StoreError::Failed)?);
                let (client, connection) = config.connect(tls).await.map_err(|e| judge(&shown, &e))?;
                tokio::spawn(connection);
                Ok(client)
            }
            false => {
                config.ssl_mode(tokio_postgres::config::SslMode::Disable);
                let (client, connection) = config.connect(NoTls).await.map_err(|e| judge(&shown, &e))?;
                tokio::spawn(connection);
                Ok(client)
            }
        }
    };
    // The client's own limit ends with the connection: a server that never answers the login is not among that.
    wait(in_time(PATIENCE, opened, |e| e, |why| StoreError::Away(format!("{shown} {why}"))))
}

/// What an error of the server, or on the way to it, means. The classes are those of the appendix on error codes in
/// PostgreSQL's manual.
pub(crate) fn judge(shown: &str, error: &Error) -> StoreError {
    let Some(said) = error.as_db_error() else {
        let mut message = error.to_string();
        let mut cause = std::error::Error::source(error);
        while let Some(inner) = cause {
            message = inner.to_string();
            cause = inner.source();
        }
        return StoreError::Away(format!("{shown} does not answer: {message}"));
    };
    let code = said.code();
    let message = match said.detail() {
        // The row itself is kept with the reject.
        Some(detail) if !detail.starts_with("Failing row") => format!("{}; {detail}", said.message()),
        _ => said.message().to_string(),
    };
    let class = &code.code()[..2];
    match class {
        // What was sent has not the form of its column: not a matter of one row.
        "22" if matches!(code.code(), "22P03" | "22P04") => StoreError::Changed(message),
        // Data, constraints, conditions of views, and what triggers raise.
        "22" | "23" | "44" | "P0" => StoreError::Refused {
            row: said.where_().and_then(line_of),
            column: said.column().map(str::to_string).or_else(|| said.where_().and_then(column_of)),
            message,
        },
        // Connection, transaction rolled back, resources, locks, the operator's intervention, the system.
        "08" | "40" | "53" | "55" | "57" | "58" => StoreError::Away(format!("{shown} does not take it now: {message}")),
        "25" if *code == SqlState::IDLE_IN_TRANSACTION_SESSION_TIMEOUT => {
            StoreError::Away(format!("{shown} ended a transaction: {message}"))
        }
        "42" if *code == SqlState::INSUFFICIENT_PRIVILEGE => StoreError::Changed(format!("{message}, says {shown}")),
        "42" | "3F" => StoreError::Changed(message),
        "28" | "3D" => StoreError::Failed(
            Failure::new(FailureKind::Unreachable, format!("{shown} rejected the login: {message}"))
                .with_help("look at user, password and database of the [connection] in sluice.toml"),
        ),
        _ => StoreError::Failed(Failure::unreachable(format!("{shown}: {message} ({})", code.code()))),
    }
}

/// The row that the context of an error names, from 0: `COPY passage, line 7, column draught`. The line of binary COPY
/// counts rows.
fn line_of(context: &str) -> Option<usize> {
    let rest = context.lines().find(|l| l.starts_with("COPY "))?.split(", line ").nth(1)?;
    let digits: String = rest.chars().take_while(char::is_ascii_digit).collect();
    digits.parse::<usize>().ok()?.checked_sub(1)
}

fn column_of(context: &str) -> Option<String> {
    let rest = context.lines().find(|l| l.starts_with("COPY "))?.split(", column ").nth(1)?;
    Some(rest.split(':').next()?.trim().to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("COPY passage, line 7, column draught_cm: \"x\"", Some(6), Some("draught_cm"))]
    #[case("COPY passage, line 1", Some(0), None)]
    #[case("PL/pgSQL function f() line 3 at RAISE\nCOPY passage, line 12", Some(11), None)]
    #[case("SQL statement \"select\"", None, None)]
    fn the_place_of_an_error_is_read(#[case] context: &str, #[case] row: Option<usize>, #[case] column: Option<&str>) {
        assert_eq!(line_of(context), row);
        assert_eq!(column_of(context).as_deref(), column);
    }
}
