//! An event of the log that has a statement. Source: "Query Event" in the documentation of the binary log.

use super::bytes::Bytes;
use super::words::Modes;

/// A statement in the log.
pub(super) struct Query {
    pub text: String,
    /// Where names without a database stand.
    pub database: String,
    pub modes: Modes,
}

impl Query {
    /// None where the event is broken off.
    pub(super) fn read(body: &[u8]) -> Option<Self> {
        let schema = usize::from(*body.get(8)?);
        let vars = usize::from(u16::from_le_bytes([*body.get(11)?, *body.get(12)?]));
        let database = String::from_utf8_lossy(body.get(13 + vars..13 + vars + schema)?).into_owned();
        let text = String::from_utf8_lossy(body.get(13 + vars + schema + 1..)?).into_owned();
        // Flags come first, then the modes.
        let mut vars = Bytes(body.get(13..13 + vars)?);
        let mut modes = Modes::default();
        while let Some(code) = vars.byte() {
            match code {
                0 => drop(vars.take(4)),
                1 => modes = Modes::of(vars.le(8)?),
                _ => break,
            }
        }
        Some(Self { text, database, modes })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_statement_comes_with_its_database_and_modes() {
        let mut body = vec![0; 8];
        // The database has six bytes, the settings of the session 14.
        body.extend([6, 0, 0, 14, 0]);
        body.extend([0, 0, 0, 0, 0, 1, 4, 0, 0, 0, 0, 0, 0, 0]);
        body.extend(b"office\0truncate \"t\"");
        let said = Query::read(&body).unwrap();
        assert_eq!((said.text.as_str(), said.database.as_str()), ("truncate \"t\"", "office"));
        assert!(said.modes.ansi_quotes && !said.modes.plain_backslash);
        assert!(Query::read(&body[..20]).is_none());
    }
}
