//! Messages on their way to recipients: in order for each, tried again until they have arrived.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_connect::ledgers::sqlite::notices::WaitingMessage;
use sluice_connect::recipients;
use sluice_core::config::notice::Recipient;
use sluice_core::failure::Outcome;
use sluice_core::ledger::Ledger as _;
use sluice_core::notice::{Message, Phase};
use sluice_core::threads;

use super::rules::Rules;
use crate::output::times;
use crate::secrets::ProjectSecrets;

/// The longest pause between two tries, in seconds.
const LONGEST: u64 = 300;

/// Sends to all recipients, at most one message at a time to each.
pub(super) struct Senders {
    root: PathBuf,
    ledger: Arc<SqliteLedger>,
    busy: BTreeMap<String, Arc<AtomicBool>>,
}

impl Senders {
    pub(super) fn new(root: PathBuf, ledger: Arc<SqliteLedger>) -> Self {
        Self { root, ledger, busy: BTreeMap::new() }
    }

    /// Begins to send what is due, to those who are not being sent something.
    pub(super) fn send_due(&mut self, rules: &Rules, now: i64) -> Outcome<()> {
        for recipient in &rules.recipients {
            let busy = Arc::clone(self.busy.entry(recipient.name.clone()).or_default());
            if busy.load(Ordering::SeqCst) || self.due(recipient, now)?.is_none() {
                continue;
            }
            busy.store(true, Ordering::SeqCst);
            let (root, ledger, project) = (self.root.clone(), Arc::clone(&self.ledger), rules.project.clone());
            let recipient = recipient.clone();
            threads::spawn("recipient", move || {
                if let Err(failure) = send_all(&recipient, &project, root, &ledger) {
                    tracing::error!(recipient = %recipient.name, reason = %failure.message, "cannot send notices; retrying");
                }
                busy.store(false, Ordering::SeqCst);
            });
        }
        Ok(())
    }

    fn due(&self, recipient: &Recipient, now: i64) -> Outcome<Option<WaitingMessage>> {
        Ok(self.ledger.next_message(&recipient.name)?.filter(|message| message.try_at <= now))
    }

    /// Waits until each message has been tried once, or for so long.
    pub(super) fn wait(&mut self, rules: &Rules, until: Instant) -> Outcome<()> {
        while Instant::now() < until {
            self.send_due(rules, times::now())?;
            let is_busy = self.busy.values().any(|busy| busy.load(Ordering::SeqCst));
            let mut waits = false;
            for recipient in &rules.recipients {
                waits |= self.due(recipient, times::now())?.is_some_and(|message| message.tries == 0);
            }
            if !is_busy && !waits {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }
}

/// Sends what is due, one after the other, until one does not arrive.
fn send_all(recipient: &Recipient, project: &str, root: PathBuf, ledger: &SqliteLedger) -> Outcome<()> {
    let secrets = ProjectSecrets { root: root.clone() };
    while let Some(waiting) = ledger.next_message(&recipient.name)?.filter(|waiting| waiting.try_at <= times::now()) {
        let message = message(&waiting, project, ledger.id());
        let (id, name) = (waiting.notice.id, &recipient.name);
        match recipients::send(recipient, &message, &root, &secrets) {
            Ok(()) => ledger.message_sent(id, waiting.phase, name, times::now())?,
            Err(reason) => {
                let pause = pause(waiting.tries);
                tracing::warn!(recipient = %name, notice = %waiting.notice.rule, %reason, "a notice did not arrive; retry in {pause} s");
                let again = times::now().saturating_add(i64::try_from(pause * 1_000_000).unwrap_or(i64::MAX));
                return ledger.message_failed(id, waiting.phase, name, &reason, again);
            }
        }
    }
    Ok(())
}

/// Seconds until the next try after so many.
fn pause(tries: u32) -> u64 {
    1_u64.checked_shl(tries).unwrap_or(LONGEST).min(LONGEST)
}

/// A message as it is sent.
fn message(waiting: &WaitingMessage, project: &str, ledger: &str) -> Message {
    let notice = &waiting.notice;
    let id = format!("{ledger}-{}-{}", notice.id, waiting.phase.word());
    let (text, help, at) = match waiting.phase {
        Phase::Begins => (notice.message.as_str(), notice.help.as_str(), notice.began_at),
        Phase::Over => (notice.over.as_deref().unwrap_or_default(), "", notice.over_at.unwrap_or(notice.began_at)),
    };
    let names = (id.as_str(), project, notice.rule.as_str(), notice.pipeline.as_str());
    Message::new(names, waiting.phase, (text, help), (at, notice.began_at))
}

#[cfg(test)]
mod tests {
    use super::pause;

    #[test]
    fn pauses_grow_up_to_five_minutes() {
        assert_eq!([0, 1, 2, 8, 9, 63, 64, u32::MAX].map(pause), [1, 2, 4, 256, 300, 300, 300, 300]);
    }
}
