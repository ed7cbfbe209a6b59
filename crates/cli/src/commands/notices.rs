//! `sluice notices`: what people have been told, and a test message.

use std::time::Duration;

use serde_json::{Value, json};
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_connect::ledgers::sqlite::notices::{MessageRecord, NoticeRecord};
use sluice_connect::recipients;
use sluice_core::config::notice::{Channel, NoticeRule, Recipient};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::notice::{Message, Phase};
use sluice_core::printable;
use sluice_core::units::show_duration;

use crate::args::{Arguments, NoticesArgs, OutputKind};
use crate::exit::Exit;
use crate::notices::{chosen_recipients, unknown_pipelines};
use crate::output::problems;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style, times};
use crate::project::Project;
use crate::secrets::ProjectSecrets;

pub(crate) fn notices(arguments: &Arguments, args: &NoticesArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let mut found = project.problems.clone();
    let names: Vec<String> = project.pipelines()?.into_iter().map(|pipeline| pipeline.config.name).collect();
    unknown_pipelines(&project, &names).into_iter().for_each(|problem| found.add(problem));
    if found.has_errors() {
        problems::show_errors(found);
        return Err(Failure::new(FailureKind::Configuration, "sluice.toml has errors")
            .with_help("fix the underlined text; `sluice check` checks it again"));
    }
    match &args.test {
        Some(names) => test(arguments, &project, names),
        None => list(arguments, &project, args.show),
    }
}

/// One recipient, and why it did not get the test.
struct Tested {
    recipient: Recipient,
    error: Option<String>,
}

fn test(arguments: &Arguments, project: &Project, names: &[String]) -> Outcome<Exit> {
    let chosen = chosen_recipients(project, names)?;
    if chosen.is_empty() {
        return Err(Failure::new(FailureKind::Configuration, "there is no recipient")
            .with_help("declare one in sluice.toml: [recipient.desk] with file = \"notices.jsonl\", for example"));
    }
    let now = times::now();
    let id = format!("test-{now}");
    let text = "this is a test of notices: no pipeline is affected";
    let message = Message::new(
        (&id, &project.config.name, "test", ""),
        Phase::Begins,
        (text, "sent by: sluice notices --test"),
        (now, now),
    );
    let secrets = ProjectSecrets { root: project.root.clone() };
    let mut tested = Vec::new();
    for recipient in chosen {
        let error = recipients::send(&recipient, &message, &project.root, &secrets).err();
        let one = Tested { recipient, error };
        if arguments.output == OutputKind::Text {
            output::print(&one.as_text());
        }
        tested.push(one);
    }
    if arguments.output == OutputKind::Json {
        let one = |one: &Tested| json!({ "recipient": one.recipient.name, "arrived": one.error.is_none(), "error": one.error });
        output::json("notices-test", json!({ "recipients": tested.iter().map(one).collect::<Vec<_>>() }));
    }
    Ok(if tested.iter().all(|one| one.error.is_none()) { Exit::Fine } else { Exit::Unreachable })
}

impl Tested {
    fn as_text(&self) -> String {
        let name = style::bold(&self.recipient.name);
        let way = way(&self.recipient.channel);
        match &self.error {
            None => format!("{} {name}: sent ({way})\n", style::good("✓")),
            Some(error) => format!("{} {name}: not sent ({way}): {error}\n", style::bad("✗")),
        }
    }
}

fn way(channel: &Channel) -> String {
    match channel {
        Channel::Command(command) => format!("command {}", command.first().map(String::as_str).unwrap_or_default()),
        Channel::File(path) => format!("file {path}"),
        Channel::Post { url, .. } => format!("POST {url}"),
        Channel::Mail(mail) => format!("mail to {}", mail.to.join(", ")),
    }
}

fn list(arguments: &Arguments, project: &Project, show: u64) -> Outcome<Exit> {
    let ledger = SqliteLedger::open_existing(&project.ledger_path())?;
    let found = ledger.map_or_else(|| Ok(Vec::new()), |ledger| ledger.notices(show))?;
    match arguments.output {
        OutputKind::Json => output::json("notices", as_json(project, &found)),
        OutputKind::Text => output::print(&as_text(project, &found)),
    }
    Ok(Exit::Fine)
}

fn as_json(project: &Project, found: &[NoticeRecord]) -> Value {
    let rule = |rule: &NoticeRule| json!({ "notice": rule.name, "begins_when": rule.condition.in_words(), "pipelines": rule.pipelines, "to": rule.to });
    let recipient = |one: &Recipient| json!({ "recipient": one.name, "by": way(&one.channel) });
    json!({
        "rules": project.config.notices.iter().map(rule).collect::<Vec<_>>(),
        "recipients": project.config.recipients.iter().map(recipient).collect::<Vec<_>>(),
        "notices": found,
    })
}

fn as_text(project: &Project, found: &[NoticeRecord]) -> String {
    let rules = &project.config.notices;
    let mut out = String::new();
    if rules.is_empty() {
        out.push_str("no rules yet: add one to sluice.toml, for example\n\n");
        out.push_str(&style::dim(
            "  [recipient.desk]\n  file = \"notices.jsonl\"\n\n  [notice.stops]\n  stopped = true\n  to = \"desk\"\n",
        ));
    } else {
        let mut table = Table::new(&[
            ("notice", Align::Left),
            ("begins when", Align::Left),
            ("pipelines", Align::Left),
            ("to", Align::Left),
            ("now", Align::Left),
        ]);
        for rule in rules {
            let open = found.iter().filter(|notice| notice.rule == rule.name && notice.over_at.is_none()).count();
            table.row(vec![
                rule.name.clone(),
                rule.condition.in_words(),
                if rule.pipelines.is_empty() { style::dim("all") } else { rule.pipelines.join(", ") },
                if rule.to.is_empty() { style::dim("nobody") } else { rule.to.join(", ") },
                if open > 0 { style::bad(&format!("{open} open")) } else { style::good("quiet") },
            ]);
        }
        out.push_str(&table.render(screen_width()));
    }
    if found.is_empty() {
        out.push_str(&style::dim("\nno notice so far\n"));
    }
    for notice in found {
        out.push_str(&format!("\n{}", one(project, notice)));
    }
    out
}

/// One notice with its messages.
pub(crate) fn one(project: &Project, notice: &NoticeRecord) -> String {
    let message = printable::line(&notice.message);
    let mut out = format!(
        "{} {} {}\n    {message}\n",
        if notice.over_at.is_none() { style::bad("●") } else { style::dim("○") },
        style::bold(&notice.rule),
        style::dim(&format!("{} ({})", times::second(notice.began_at), times::ago(notice.began_at))),
    );
    match (&notice.over, notice.over_at) {
        (Some(over), Some(at)) => {
            let took = Duration::from_micros(u64::try_from(at - notice.began_at).unwrap_or(0));
            out.push_str(&format!("    over after {}: {}\n", show_duration(took), printable::line(over)));
        }
        _ if !notice.help.is_empty() => out.push_str(&format!("    {}\n", style::dim(&printable::line(&notice.help)))),
        _ => {}
    }
    for message in &notice.messages {
        out.push_str(&format!("    {}\n", sent(project, message)));
    }
    out
}

/// Whether a message has arrived.
fn sent(project: &Project, message: &MessageRecord) -> String {
    let what = match message.phase {
        Phase::Begins => "begin",
        Phase::Over => "end",
    };
    let name = &message.recipient;
    match (message.sent_at, &message.error) {
        (Some(at), _) => style::dim(&format!("{what} sent to {name} {}", times::second(at))),
        (None, _) if project.config.recipients.iter().all(|known| known.name != *name) => {
            style::warn(&format!("{what} not sent to {name}: there is no such recipient any more"))
        }
        (None, Some(error)) => style::warn(&format!(
            "{what} not sent to {name} after {}: {}",
            sluice_core::units::show_many(u64::from(message.tries), "try"),
            printable::line(error)
        )),
        (None, None) => style::warn(&format!("{what} waits to be sent to {name}")),
    }
}
