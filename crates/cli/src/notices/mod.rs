//! Notices of running pipelines: conditions are looked at every second, and whoever is named is told when one begins and when it is
//! over. What is open, and who has been told, stands in the ledger. Nothing here ever holds up a pipeline.

mod memory;
mod rules;
mod sender;
mod sources;
mod unwritten;

use std::collections::BTreeMap;
use std::sync::{Arc, Weak};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use sluice_connect::ledgers;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_connect::ledgers::sqlite::notices::NoticeRecord;
use sluice_connect::recipients;
use sluice_core::config::notice::{Condition, NoticeRule};
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::notice::{Verdict, judge};
use sluice_core::run::Stop;
use sluice_core::threads;

use self::memory::Memory;
use self::rules::Rules;
use self::sender::Senders;
use self::sources::Sources;
use self::unwritten::UnwrittenNotices;
use crate::crew::{Crew, MemberReport};
use crate::output::times;
use crate::project::Project;

/// How often conditions are looked at.
const LOOK: Duration = Duration::from_secs(1);

/// So many changed fields of a pipeline are told of at a time: whoever writes events can make up names without end.
const FIELDS: usize = 20;

/// How long the end of the process waits for messages that have not been tried yet.
const LAST: Duration = Duration::from_secs(5);

/// Looks at pipelines until it is told to finish.
pub(crate) struct Watcher {
    stop: Arc<Stop>,
    thread: JoinHandle<()>,
}

impl Watcher {
    /// Looks at the pipelines of a crew from now on.
    pub(crate) fn start(project: &Project, crew: &Arc<Crew>) -> Self {
        let stop = Arc::new(Stop::new());
        let (root, crew, until) = (project.root.clone(), Arc::downgrade(crew), Arc::clone(&stop));
        let thread = threads::spawn("notices", move || {
            let mut rules = Rules::new(root);
            let mut work: Option<Work> = None;
            let mut last_problem: Option<String> = None;
            loop {
                let ends = until.is_settling();
                if let Err(failure) = look(&mut rules, &mut work, &crew, &until, ends)
                    && last_problem.as_ref() != Some(&failure.message)
                {
                    tracing::error!(reason = %failure.message, "notices cannot be kept; retrying");
                    last_problem = Some(failure.message);
                }
                if ends {
                    return recipients::end();
                }
                until.wait(LOOK);
            }
        });
        Self { stop, thread }
    }

    /// Looks once more, and gives messages a last chance to be sent. Those that are left are sent by the next process.
    pub(crate) fn finish(self) {
        self.stop.settle();
        let _ = self.thread.join();
    }
}

/// What is needed once there is a rule.
struct Work {
    ledger: Arc<SqliteLedger>,
    /// Open notices, by rule, pipeline and subject.
    open: BTreeMap<Key, i64>,
    /// Those of them that the ledger could not take.
    unwritten: UnwrittenNotices,
    memory: Memory,
    sources: Arc<Sources>,
    senders: Senders,
}

/// Rule, pipeline and subject.
type Key = (String, String, String);

fn look(rules: &mut Rules, work: &mut Option<Work>, crew: &Weak<Crew>, stop: &Arc<Stop>, ends: bool) -> Outcome<()> {
    let Some(crew) = crew.upgrade() else { return Ok(()) };
    let reports = crew.reports();
    drop(crew);
    rules.read_again(&reports);
    if rules.notices.is_empty() && work.is_none() {
        return Ok(());
    }
    let work = match work {
        Some(work) => work,
        None => work.insert(Work::open(rules, stop)?),
    };
    let now = times::now();
    let is_open = |name: &str| work.open.keys().any(|(_, pipeline, _)| pipeline == name);
    let within = rules.notices.iter().filter_map(|rule| match rule.condition {
        Condition::Rejects(_, within) => Some(within),
        _ => None,
    });
    let within = within.max().unwrap_or_default();
    work.memory.note(&reports, &is_open, &work.ledger, (within, now))?;
    work.judge_all(rules, &reports, now)?;
    work.senders.send_due(rules, now)?;
    if ends {
        work.senders.wait(rules, Instant::now() + LAST)?;
    }
    Ok(())
}

impl Work {
    fn open(rules: &Rules, stop: &Arc<Stop>) -> Outcome<Self> {
        let ledger = Arc::new(ledgers::open_file(&rules.root, &rules.ledger)?);
        let key = |notice: NoticeRecord| ((notice.rule, notice.pipeline, notice.subject), notice.id);
        let open = ledger.open_notices()?.into_iter().map(key).collect();
        let sources = Sources::start(rules.root.clone(), stop);
        let unwritten = UnwrittenNotices::default();
        let senders = Senders::new(rules.root.clone(), Arc::clone(&ledger), unwritten.clone());
        Ok(Self { ledger, open, unwritten, memory: Memory::default(), sources, senders })
    }

    fn judge_all(&mut self, rules: &Rules, reports: &[MemberReport], now: i64) -> Outcome<()> {
        for (number, id) in self.unwritten.write(&self.ledger) {
            match id {
                Some(id) => self.open.values_mut().filter(|open| **open == number).for_each(|open| *open = id),
                None => self.open.retain(|_, open| *open != number),
            }
        }
        self.sources.want(rules, reports);
        for rule in &rules.notices {
            for report in reports.iter().filter(|report| rule.is_about(&report.pipeline)) {
                match rule.condition {
                    Condition::Schema => self.judge_fields(rules, rule, report, now)?,
                    _ => {
                        let mut seen = self.memory.observed(rule.condition, report, now);
                        self.sources.add_to(
                            &mut seen,
                            &report.pipeline,
                            self.memory.behind_since(&report.pipeline),
                            now,
                        );
                        self.judge(rule, &report.pipeline, "", &seen, now)?;
                    }
                }
            }
        }
        self.end_orphans(rules, now)
    }

    /// Fields that have changed are told one by one.
    fn judge_fields(&mut self, rules: &Rules, rule: &NoticeRule, report: &MemberReport, now: i64) -> Outcome<()> {
        let pipeline = &report.pipeline;
        let Some(drifts) = self.memory.drifts(pipeline, report, rules, &self.ledger, now)? else {
            return Ok(());
        };
        let open = self.open.keys().filter(|(r, p, _)| *r == rule.name && p == pipeline);
        let mut subjects: Vec<String> = open.map(|(_, _, subject)| subject.clone()).collect();
        let standing = subjects.iter().filter(|subject| drifts.contains_key(*subject)).count();
        let news = drifts.keys().filter(|subject| !subjects.contains(subject)).take(FIELDS.saturating_sub(standing));
        let news: Vec<String> = news.cloned().collect();
        subjects.extend(news);
        subjects.sort();
        subjects.dedup();
        for subject in subjects {
            let seen = sluice_core::notice::Observed {
                drift: Some(drifts.get(&subject).cloned()),
                ..sluice_core::notice::Observed::default()
            };
            self.judge(rule, pipeline, &subject, &seen, now)?;
        }
        Ok(())
    }

    fn judge(
        &mut self,
        rule: &NoticeRule,
        pipeline: &str,
        subject: &str,
        seen: &sluice_core::notice::Observed,
        now: i64,
    ) -> Outcome<()> {
        let key = (rule.name.clone(), pipeline.to_string(), subject.to_string());
        let open = self.open.get(&key).copied();
        match (judge(pipeline, &rule.condition, seen, open.is_some()), open) {
            (Verdict::Begins { message, help }, _) => {
                tracing::warn!(%pipeline, notice = %rule.name, "{message}");
                let at = (rule.name.as_str(), pipeline, subject);
                match self.ledger.begin_notice(at, now, (&message, &help), &rule.to) {
                    Ok(Some(id)) => {
                        reach("notice.noted");
                        self.open.insert(key, id);
                    }
                    Ok(None) => {}
                    // People are told all the same: a full disk is what they want to know of.
                    Err(failure) => {
                        tracing::error!(notice = %rule.name, reason = %failure.message, "sent without the ledger");
                        let record = begun(&key, now, (message, help));
                        let id = self.unwritten.begin(record, &rule.to);
                        self.open.insert(key, id);
                    }
                }
            }
            (Verdict::Over { message }, Some(id)) => {
                if id < 0 {
                    self.unwritten.end(id, now, &message);
                } else if let Err(failure) = self.ledger.end_notice(id, now, &message) {
                    tracing::error!(notice = %rule.name, reason = %failure.message, "the end of a notice waits");
                    return Ok(());
                }
                tracing::info!(%pipeline, notice = %rule.name, "over: {message}");
                self.open.remove(&key);
            }
            _ => {}
        }
        Ok(())
    }

    /// Nobody looks any more at what has no rule.
    fn end_orphans(&mut self, rules: &Rules, now: i64) -> Outcome<()> {
        let has_rule = |key: &Key| rules.notices.iter().any(|rule| rule.name == key.0 && rule.is_about(&key.1));
        let orphans: Vec<(Key, i64)> =
            self.open.iter().filter(|(key, _)| !has_rule(key)).map(|(key, id)| (key.clone(), *id)).collect();
        for (key, id) in orphans {
            let text = format!("{}: the rule was removed from sluice.toml", key.1);
            self.ledger.end_notice(id, now, &text)?;
            self.open.remove(&key);
        }
        Ok(())
    }
}

/// A notice that has begun, as a record.
fn begun((rule, pipeline, subject): &Key, at: i64, (message, help): (String, String)) -> NoticeRecord {
    NoticeRecord {
        id: 0,
        rule: rule.clone(),
        pipeline: pipeline.clone(),
        subject: subject.clone(),
        began_at: at,
        message,
        help,
        over_at: None,
        over: None,
        messages: Vec::new(),
    }
}

/// A rule that names a pipeline that is not there.
pub(crate) fn unknown_pipelines(project: &Project, known: &[String]) -> Vec<sluice_core::problem::Problem> {
    let one = |rule: &NoticeRule, name: &str| {
        let message = format!("there is no pipeline `{name}`");
        sluice_core::problem::Problem::error("name.unknown", message, rule.pipelines_place.clone()).with_nearest(
            name,
            "pipelines",
            known.iter().map(String::as_str),
        )
    };
    let rules = project.config.notices.iter();
    rules
        .flat_map(|rule| rule.pipelines.iter().filter(|name| !known.contains(name)).map(move |name| one(rule, name)))
        .collect()
}

/// A failure where recipients are named that are not there.
pub(crate) fn chosen_recipients(
    project: &Project,
    names: &[String],
) -> Outcome<Vec<sluice_core::config::notice::Recipient>> {
    let all = &project.config.recipients;
    if names.is_empty() {
        return Ok(all.clone());
    }
    let find = |name: &String| {
        all.iter().find(|recipient| recipient.name == *name).cloned().ok_or_else(|| {
            let failure = Failure::new(
                sluice_core::failure::FailureKind::Configuration,
                format!("there is no recipient `{name}`"),
            );
            let known = all.iter().map(|recipient| recipient.name.as_str());
            failure.with_help(
                sluice_core::names::remedy(name, "recipients", known)
                    .unwrap_or_else(|| "declare it in sluice.toml: [recipient.NAME]".into()),
            )
        })
    };
    names.iter().map(find).collect()
}
