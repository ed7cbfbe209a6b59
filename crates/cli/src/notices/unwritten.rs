//! Notices that the ledger could not take, since its disk is full, say: they are sent from memory, and written as soon as it can be.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_connect::ledgers::sqlite::notices::{NoticeRecord, WaitingMessage};
use sluice_core::failure::Outcome;
use sluice_core::notice::Phase;

/// A message to one recipient.
#[derive(Clone, Copy, Debug, Default)]
struct Tries {
    count: u32,
    try_at: i64,
    sent_at: Option<i64>,
}

/// One notice with its messages.
#[derive(Clone, Debug)]
struct Unwritten {
    notice: NoticeRecord,
    messages: BTreeMap<(String, &'static str), Tries>,
}

/// All of them. Senders have it as well.
#[derive(Clone, Debug, Default)]
pub(super) struct UnwrittenNotices(Arc<Mutex<Vec<Unwritten>>>);

/// A notice that was written: the number that it had in memory, and the one in the ledger; None where it is over.
pub(super) type Written = (i64, Option<i64>);

impl UnwrittenNotices {
    /// Takes a notice that has begun; gives a number for it, which is negative.
    pub(super) fn begin(&self, notice: NoticeRecord, to: &[String]) -> i64 {
        let mut all = self.lock();
        let id = all.iter().map(|one| one.notice.id).min().unwrap_or(0) - 1;
        let messages = to.iter().map(|name| ((name.clone(), Phase::Begins.word()), Tries::default())).collect();
        all.push(Unwritten { notice: NoticeRecord { id, ..notice }, messages });
        id
    }

    /// One of them is over.
    pub(super) fn end(&self, id: i64, at: i64, message: &str) {
        for one in self.lock().iter_mut().filter(|one| one.notice.id == id) {
            (one.notice.over_at, one.notice.over) = (Some(at), Some(message.to_string()));
            let names: Vec<String> = one.messages.keys().map(|(name, _)| name.clone()).collect();
            one.messages.extend(names.into_iter().map(|name| ((name, Phase::Over.word()), Tries::default())));
        }
    }

    /// Writes what can be written, in order.
    pub(super) fn write(&self, ledger: &SqliteLedger) -> Vec<Written> {
        let mut written = Vec::new();
        loop {
            // Nothing is sent meanwhile: what is written next has all that was sent.
            let mut all = self.lock();
            let Some(first) = all.first() else { return written };
            match first.write(ledger) {
                Ok(id) => written.push((first.notice.id, id)),
                Err(_) => return written,
            }
            all.remove(0);
        }
    }

    /// The oldest message that has not arrived at a recipient, if its time has come.
    pub(super) fn next(&self, recipient: &str, now: i64) -> Option<WaitingMessage> {
        let all = self.lock();
        for one in all.iter() {
            for phase in [Phase::Begins, Phase::Over] {
                let tries = one.messages.get(&(recipient.to_string(), phase.word()));
                let Some(tries) = tries.filter(|tries| tries.sent_at.is_none()) else { continue };
                // What follows waits for it.
                let message =
                    WaitingMessage { notice: one.notice.clone(), phase, tries: tries.count, try_at: tries.try_at };
                return Some(message).filter(|message| message.try_at <= now);
            }
        }
        None
    }

    /// Notes how a try went: when it arrived, or when it is tried again.
    pub(super) fn tried(&self, id: i64, phase: Phase, recipient: &str, went: Result<i64, i64>) {
        for one in self.lock().iter_mut().filter(|one| one.notice.id == id) {
            if let Some(tries) = one.messages.get_mut(&(recipient.to_string(), phase.word())) {
                tries.count += 1;
                match went {
                    Ok(at) => tries.sent_at = Some(at),
                    Err(again) => tries.try_at = again,
                }
            }
        }
    }

    fn lock(&self) -> MutexGuard<'_, Vec<Unwritten>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Unwritten {
    /// Gives its number in the ledger; None where it is over.
    fn write(&self, ledger: &SqliteLedger) -> Outcome<Option<i64>> {
        let notice = &self.notice;
        let names: Vec<String> = self
            .messages
            .keys()
            .filter(|(_, phase)| *phase == Phase::Begins.word())
            .map(|(name, _)| name.clone())
            .collect();
        let key = (notice.rule.as_str(), notice.pipeline.as_str(), notice.subject.as_str());
        let texts = (notice.message.as_str(), notice.help.as_str());
        // Where an earlier try got so far, it is open already.
        let id = match ledger.begin_notice(key, notice.began_at, texts, &names)? {
            Some(id) => id,
            None => {
                let open = ledger.open_notices()?;
                let is_it = |known: &&NoticeRecord| {
                    (known.rule.as_str(), known.pipeline.as_str(), known.subject.as_str()) == key
                };
                let Some(known) = open.iter().find(is_it) else { return Ok(None) };
                known.id
            }
        };
        if let (Some(at), Some(over)) = (notice.over_at, &notice.over) {
            ledger.end_notice(id, at, over)?;
        }
        for ((name, word), tries) in &self.messages {
            if let Some(at) = tries.sent_at {
                let phase = if *word == Phase::Over.word() { Phase::Over } else { Phase::Begins };
                ledger.message_sent(id, phase, name, at)?;
            }
        }
        Ok(notice.over_at.is_none().then_some(id))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn notice() -> NoticeRecord {
        NoticeRecord {
            id: 0,
            rule: "stops".into(),
            pipeline: "tolls".into(),
            subject: String::new(),
            began_at: 10,
            message: "tolls stopped".into(),
            help: String::new(),
            over_at: None,
            over: None,
            messages: Vec::new(),
        }
    }

    #[test]
    fn what_was_sent_from_memory_is_not_sent_again() {
        let folder = tempfile::tempdir().unwrap();
        let ledger = SqliteLedger::open(&folder.path().join("ledger.db")).unwrap();
        let all = UnwrittenNotices::default();
        let id = all.begin(notice(), &["desk".to_string(), "bell".to_string()]);
        assert!(id < 0);
        assert_eq!(all.next("desk", 10).unwrap().phase, Phase::Begins);
        all.tried(id, Phase::Begins, "desk", Ok(11));
        all.tried(id, Phase::Begins, "bell", Err(99));
        assert!(all.next("desk", 12).is_none() && all.next("bell", 12).is_none());
        assert_eq!(all.next("bell", 99).unwrap().tries, 1);
        all.end(id, 20, "tolls runs again");
        assert_eq!(all.next("desk", 20).unwrap().phase, Phase::Over);
        // The begin is still on its way to the bell.
        assert_eq!(all.next("bell", 99).unwrap().phase, Phase::Begins);
        assert_eq!(all.write(&ledger), [(id, None)]);
        assert!(all.next("desk", 100).is_none());
        assert_eq!(ledger.next_message("desk").unwrap().unwrap().phase, Phase::Over);
        assert_eq!(ledger.next_message("bell").unwrap().unwrap().phase, Phase::Begins);
        assert_eq!(ledger.notices(5).unwrap()[0].over.as_deref(), Some("tolls runs again"));
    }

    #[test]
    fn one_that_is_open_keeps_its_place_in_the_ledger() {
        let folder = tempfile::tempdir().unwrap();
        let ledger = SqliteLedger::open(&folder.path().join("ledger.db")).unwrap();
        let all = UnwrittenNotices::default();
        let (first, second) =
            (all.begin(notice(), &[]), all.begin(NoticeRecord { pipeline: "permits".into(), ..notice() }, &[]));
        assert_ne!(first, second);
        let written = all.write(&ledger);
        assert_eq!(written.len(), 2);
        assert_eq!(ledger.open_notices().unwrap().len(), 2);
        assert_eq!(written[0], (first, Some(ledger.open_notices().unwrap()[0].id)));
        assert!(all.write(&ledger).is_empty());
    }
}
