//! Notices, and which of their messages have reached whom.

use rusqlite::{Connection, OptionalExtension as _, Row, TransactionBehavior, params};
use serde::Serialize;
use sluice_core::failure::Outcome;
use sluice_core::notice::Phase;

use super::SqliteLedger;

type Sql<T> = rusqlite::Result<T>;

/// A notice as the ledger has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct NoticeRecord {
    /// Its number, from 1.
    pub id: i64,
    /// The name of its rule.
    #[serde(rename = "notice")]
    pub rule: String,
    /// The pipeline.
    pub pipeline: String,
    /// What of the pipeline, where there can be several; else empty.
    pub subject: String,
    /// When it began, in microseconds since 1970.
    pub began_at: i64,
    /// What happened.
    pub message: String,
    /// What to do.
    pub help: String,
    /// When it was over.
    pub over_at: Option<i64>,
    /// How it was over.
    pub over: Option<String>,
    /// Its messages.
    pub messages: Vec<MessageRecord>,
}

/// One message to one recipient.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MessageRecord {
    /// The recipient's name.
    pub recipient: String,
    /// Which of the two it is.
    pub phase: Phase,
    /// How often it was tried.
    pub tries: u32,
    /// Why the last try failed.
    pub error: Option<String>,
    /// When it arrived, in microseconds since 1970.
    pub sent_at: Option<i64>,
}

/// A message that has not arrived yet, with its notice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WaitingMessage {
    /// The notice, without its messages.
    pub notice: NoticeRecord,
    /// Which of the two messages.
    pub phase: Phase,
    /// How often it was tried.
    pub tries: u32,
    /// When it is tried next, in microseconds since 1970.
    pub try_at: i64,
}

impl SqliteLedger {
    /// Notes that something has begun; gives its number. None where it is open already.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn begin_notice(
        &self,
        (rule, pipeline, subject): (&str, &str, &str),
        at: i64,
        (message, help): (&str, &str),
        to: &[String],
    ) -> Outcome<Option<i64>> {
        begin(&mut self.connection(), (rule, pipeline, subject), at, (message, help), to)
            .map_err(|e| self.failed("note a notice", &e))
    }

    /// Notes that it is over. Those who were told of its begin are told. False where it was over already.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn end_notice(&self, id: i64, at: i64, message: &str) -> Outcome<bool> {
        end(&mut self.connection(), id, at, message).map_err(|e| self.failed("note a notice", &e))
    }

    /// Those that are open.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn open_notices(&self) -> Outcome<Vec<NoticeRecord>> {
        list(&self.reader(), "where over_at is null order by id", 0).map_err(|e| self.failed("be read", &e))
    }

    /// Those that are open, and the newest of the others; the newest first. Each with its messages.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn notices(&self, last: u64) -> Outcome<Vec<NoticeRecord>> {
        let reader = self.reader();
        let tail = "where over_at is null
                      or id in (select id from notice where over_at is not null order by id desc limit ?1)
                    order by id desc";
        let mut found = list(&reader, tail, last).map_err(|e| self.failed("be read", &e))?;
        for notice in &mut found {
            notice.messages = messages(&reader, notice.id).map_err(|e| self.failed("be read", &e))?;
        }
        Ok(found)
    }

    /// The oldest message that has not arrived at a recipient: its messages arrive in order.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn next_message(&self, recipient: &str) -> Outcome<Option<WaitingMessage>> {
        next(&self.reader(), recipient).map_err(|e| self.failed("be read", &e))
    }

    /// Notes that a message has arrived.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn message_sent(&self, id: i64, phase: Phase, recipient: &str, at: i64) -> Outcome<()> {
        let sql = "update notice_message set sent_at = ?4, tries = tries + 1, error = null
                   where notice = ?1 and phase = ?2 and recipient = ?3";
        let done = self.connection().execute(sql, params![id, phase.word(), recipient, at]);
        done.map(|_| ()).map_err(|e| self.failed("note a message", &e))
    }

    /// Notes that a message did not arrive, and when it is tried again.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn message_failed(&self, id: i64, phase: Phase, recipient: &str, error: &str, again: i64) -> Outcome<()> {
        let sql = "update notice_message set tries = tries + 1, error = ?4, try_at = ?5
                   where notice = ?1 and phase = ?2 and recipient = ?3";
        let done = self.connection().execute(sql, params![id, phase.word(), recipient, error, again]);
        done.map(|_| ()).map_err(|e| self.failed("note a message", &e))
    }
}

fn begin(
    connection: &mut Connection,
    (rule, pipeline, subject): (&str, &str, &str),
    at: i64,
    (message, help): (&str, &str),
    to: &[String],
) -> Sql<Option<i64>> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let sql = "insert into notice (rule, pipeline, subject, began_at, message, help) values (?1, ?2, ?3, ?4, ?5, ?6)
               on conflict do nothing returning id";
    let made =
        transaction.query_row(sql, params![rule, pipeline, subject, at, message, help], |r| r.get(0)).optional()?;
    if let Some(id) = made {
        add_messages(&transaction, id, Phase::Begins, at, to)?;
    }
    transaction.commit()?;
    Ok(made)
}

fn end(connection: &mut Connection, id: i64, at: i64, message: &str) -> Sql<bool> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let sql = "update notice set over_at = ?2, over = ?3 where id = ?1 and over_at is null";
    let ended = transaction.execute(sql, params![id, at, message])? > 0;
    if ended {
        let to: Vec<String> = messages(&transaction, id)?.into_iter().map(|message| message.recipient).collect();
        add_messages(&transaction, id, Phase::Over, at, &to)?;
    }
    transaction.commit()?;
    Ok(ended)
}

fn add_messages(connection: &Connection, id: i64, phase: Phase, at: i64, to: &[String]) -> Sql<()> {
    let sql = "insert into notice_message (notice, phase, recipient, try_at) values (?1, ?2, ?3, ?4)
               on conflict do nothing";
    for recipient in to {
        connection.execute(sql, params![id, phase.word(), recipient, at])?;
    }
    Ok(())
}

const COLUMNS: &str = "id, rule, pipeline, subject, began_at, message, help, over_at, over";

fn notice(row: &Row<'_>) -> Sql<NoticeRecord> {
    Ok(NoticeRecord {
        id: row.get(0)?,
        rule: row.get(1)?,
        pipeline: row.get(2)?,
        subject: row.get(3)?,
        began_at: row.get(4)?,
        message: row.get(5)?,
        help: row.get(6)?,
        over_at: row.get(7)?,
        over: row.get(8)?,
        messages: Vec::new(),
    })
}

fn list(connection: &Connection, tail: &str, last: u64) -> Sql<Vec<NoticeRecord>> {
    let mut statement = connection.prepare(&format!("select {COLUMNS} from notice {tail}"))?;
    let given = params![last];
    let rows = statement.query_map(&given[..statement.parameter_count()], notice)?;
    rows.collect()
}

fn messages(connection: &Connection, id: i64) -> Sql<Vec<MessageRecord>> {
    let sql = "select recipient, phase, tries, error, sent_at from notice_message where notice = ?1
               order by phase, recipient";
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map([id], |r| {
        Ok(MessageRecord {
            recipient: r.get(0)?,
            phase: phase(&r.get::<_, String>(1)?),
            tries: r.get(2)?,
            error: r.get(3)?,
            sent_at: r.get(4)?,
        })
    })?;
    rows.collect()
}

fn next(connection: &Connection, recipient: &str) -> Sql<Option<WaitingMessage>> {
    let sql = format!(
        "select {COLUMNS}, m.phase, m.tries, m.try_at from notice_message m join notice on id = m.notice
         where m.recipient = ?1 and m.sent_at is null order by m.notice, m.phase limit 1"
    );
    let one = |r: &Row<'_>| {
        let (word, tries, try_at) = (r.get::<_, String>(9)?, r.get(10)?, r.get(11)?);
        Ok(WaitingMessage { notice: notice(r)?, phase: phase(&word), tries, try_at })
    };
    connection.query_row(&sql, [recipient], one).optional()
}

fn phase(word: &str) -> Phase {
    if word == Phase::Over.word() { Phase::Over } else { Phase::Begins }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ledger() -> (tempfile::TempDir, SqliteLedger) {
        let folder = tempfile::tempdir().unwrap();
        let ledger = SqliteLedger::open(&folder.path().join("ledger.db")).unwrap();
        (folder, ledger)
    }

    fn to(names: &[&str]) -> Vec<String> {
        names.iter().map(|name| (*name).to_string()).collect()
    }

    #[test]
    fn a_notice_begins_once_and_is_over_once() {
        let (_folder, ledger) = ledger();
        let begin = |pipeline: &str, at| {
            ledger.begin_notice(("late", pipeline, ""), at, ("it is behind", "look"), &to(&["desk", "log"])).unwrap()
        };
        let first = begin("tolls", 10).unwrap();
        assert_eq!(begin("tolls", 11), None);
        let other = begin("permits", 12).unwrap();
        assert_ne!(first, other);
        assert_eq!(ledger.open_notices().unwrap().len(), 2);
        assert!(ledger.end_notice(first, 20, "it has caught up").unwrap());
        assert!(!ledger.end_notice(first, 21, "again").unwrap());
        // The next one is another.
        let third = begin("tolls", 30).unwrap();
        assert_ne!(first, third);
        let all = ledger.notices(10).unwrap();
        assert_eq!(all.iter().map(|n| n.id).collect::<Vec<_>>(), [third, other, first]);
        assert_eq!(all[2].over.as_deref(), Some("it has caught up"));
        assert_eq!(all[2].messages.len(), 4);
        // Open ones are listed however many are asked for.
        assert_eq!(ledger.notices(0).unwrap().len(), 2);
    }

    #[test]
    fn messages_reach_each_recipient_in_order() {
        let (_folder, ledger) = ledger();
        let id = ledger.begin_notice(("late", "tolls", ""), 10, ("m", "h"), &to(&["desk", "log"])).unwrap().unwrap();
        ledger.end_notice(id, 20, "over").unwrap();
        let next = |recipient: &str| ledger.next_message(recipient).unwrap().map(|m| (m.phase, m.tries, m.try_at));
        assert_eq!(next("desk"), Some((Phase::Begins, 0, 10)));
        ledger.message_failed(id, Phase::Begins, "desk", "no route", 99).unwrap();
        // What follows waits for it.
        assert_eq!(next("desk"), Some((Phase::Begins, 1, 99)));
        assert_eq!(next("log"), Some((Phase::Begins, 0, 10)));
        ledger.message_sent(id, Phase::Begins, "desk", 100).unwrap();
        assert_eq!(next("desk"), Some((Phase::Over, 0, 20)));
        ledger.message_sent(id, Phase::Over, "desk", 101).unwrap();
        assert_eq!((next("desk"), next("nobody")), (None, None));
        assert!(next("log").is_some());
        let sent = &ledger.notices(1).unwrap()[0].messages;
        assert_eq!(sent[0].sent_at, Some(100));
        assert_eq!((sent[0].tries, sent[0].error.clone()), (2, None));
    }

    #[test]
    fn a_notice_that_nobody_is_told_of_is_kept() {
        let (_folder, ledger) = ledger();
        let id = ledger.begin_notice(("late", "tolls", ""), 10, ("m", "h"), &[]).unwrap().unwrap();
        ledger.end_notice(id, 11, "over").unwrap();
        assert!(ledger.notices(5).unwrap()[0].messages.is_empty());
    }
}
