//! `sluice rejects`: which events were rejected, and why? Try them again.

mod retry;
mod unfinished;

use std::collections::{BTreeMap, VecDeque};
use std::fs::File;
use std::io::{BufRead as _, BufReader};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use serde_json::json;
use sluice_connect::landings::files::rejects_folder;
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::batch::LaneId;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::printable;
use sluice_core::reject::{REASONS, Reason};
use sluice_core::run::retry::{OpenRejects, RejectRecord, Rejected};
use sluice_core::units::{show_count, show_many};

use crate::args::{Arguments, OutputKind, RejectsArgs};
use crate::exit::Exit;
use crate::output::table::{Align, Table, cut, screen_width};
use crate::output::{self, style};
use crate::project::Project;

/// One line of a reject file.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct RejectLine {
    event: String,
    lane: String,
    batch: u64,
    station: String,
    reason: String,
    #[serde(default)]
    field: Option<String>,
    message: String,
    partition: String,
    position: u64,
    length: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    bytes: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    base64: Option<String>,
}

/// Groups with their counts, and the newest rejects.
#[derive(Default)]
struct Found {
    total: u64,
    groups: BTreeMap<(String, String, String), u64>,
    newest: VecDeque<RejectLine>,
    /// Rejects that were tried again since.
    tried: u64,
}

pub(crate) fn rejects(arguments: &Arguments, args: &RejectsArgs) -> Outcome<Exit> {
    if args.raw && arguments.output == OutputKind::Json {
        return Err(output::one_document("--raw"));
    }
    let project = Project::need(arguments.project.as_deref())?;
    let pipeline = project.pipeline(&args.pipeline)?;
    let name = pipeline.config.name.clone();
    if let Some(reason) = &args.only
        && !REASONS.iter().any(|(word, _)| word == reason)
    {
        let known = REASONS.iter().map(|(word, _)| *word);
        let failure = Failure::new(FailureKind::Configuration, format!("there is no reason `{reason}`"));
        return Err(match sluice_core::names::remedy(reason, "reasons", known) {
            Some(help) => failure.with_help(help),
            None => failure,
        });
    }
    if args.unfinished {
        return unfinished::reject(arguments, args, &project, &pipeline);
    }
    let record = match SqliteLedger::open_existing(&project.ledger_path())? {
        Some(ledger) if !args.all => RejectRecord::read(&ledger, &name)?,
        _ => RejectRecord::default(),
    };
    let mut standing = record.standing();
    let mut found = Found::default();
    // The newest reject of an event counts; an older one of another landing is the same event.
    for file in files(&rejects_folder(&project.root, &name))? {
        read(&file, args, &mut standing, &mut found)?;
    }
    if args.retry {
        let rejects: Vec<RejectLine> = found.newest.into_iter().collect();
        return retry::retry(arguments, args, &project, &pipeline, &rejects);
    }
    if args.raw {
        return Ok(Exit::Fine);
    }
    match arguments.output {
        OutputKind::Json => as_json(&name, &found),
        OutputKind::Text => as_text(&name, &found, args),
    }
    Ok(Exit::Fine)
}

/// The reject files, oldest first.
fn files(folder: &Path) -> Outcome<Vec<PathBuf>> {
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(Failure::io("list the folder", folder, &error)),
    };
    let mut files: Vec<(std::time::SystemTime, PathBuf)> = Vec::new();
    for entry in entries.flatten() {
        let path = entry.path();
        if path.extension().is_some_and(|e| e == "jsonl") {
            let written = entry.metadata().and_then(|m| m.modified()).unwrap_or(std::time::UNIX_EPOCH);
            files.push((written, path));
        }
    }
    files.sort();
    Ok(files.into_iter().map(|(_, path)| path).collect())
}

fn read(path: &Path, args: &RejectsArgs, standing: &mut OpenRejects<'_>, found: &mut Found) -> Outcome<()> {
    let file = File::open(path).map_err(|e| Failure::io("read", path, &e))?;
    for (number, line) in BufReader::new(file).lines().enumerate() {
        let line = line.map_err(|e| Failure::io("read", path, &e))?;
        let reject: RejectLine = serde_json::from_str(&line).map_err(|e| {
            Failure::findings(format!("{}:{}: this is not a reject: {e}", path.display(), number + 1))
                .with_help("the file was edited; restore it, or move it away")
        })?;
        if args.batch.is_some_and(|b| b != reject.batch) || args.only.as_ref().is_some_and(|r| *r != reject.reason) {
            continue;
        }
        let rejected = reject.rejected();
        if standing.is_over(&rejected) {
            found.tried += 1;
            continue;
        }
        if args.retry {
            // What is open for several landings is read for all of them.
            found.newest.push_back(reject);
            continue;
        }
        if standing.is_counted(&rejected) {
            continue;
        }
        if args.raw {
            write_raw(&reject);
            continue;
        }
        found.total += 1;
        let key = (reject.reason.clone(), reject.station.clone(), reject.field.clone().unwrap_or_default());
        *found.groups.entry(key).or_default() += 1;
        found.newest.push_back(reject);
        if found.newest.len() > args.show {
            found.newest.pop_front();
        }
    }
    Ok(())
}

impl RejectLine {
    /// What the ledger may know of it.
    fn rejected(&self) -> Rejected {
        Rejected {
            lane: LaneId::named(self.lane.as_str()),
            batch: self.batch,
            station: self.station.clone(),
            partition: self.partition.as_str().into(),
            position: self.position,
            length: self.length,
        }
    }

    /// The event's bytes as they were.
    fn bytes(&self) -> Vec<u8> {
        use base64::Engine as _;
        match (&self.bytes, &self.base64) {
            (Some(text), _) => text.clone().into_bytes(),
            (None, Some(text)) => base64::engine::general_purpose::STANDARD.decode(text).unwrap_or_default(),
            (None, None) => Vec::new(),
        }
    }
}

fn write_raw(reject: &RejectLine) {
    let mut line = reject.bytes();
    line.push(b'\n');
    let _ = output::raw(&line);
}

fn as_text(name: &str, found: &Found, args: &RejectsArgs) {
    if found.total == 0 {
        let tried = match found.tried {
            0 => String::new(),
            n => format!("; {} tried again since: --all shows them", show_many(n, "reject")),
        };
        output::print(&format!("{}: no rejects{tried}\n", style::bold(name)));
        return;
    }
    let mut out = format!("{}: {}\n\n", style::bold(name), show_many(found.total, "reject"));
    let mut groups: Vec<_> = found.groups.iter().collect();
    groups.sort_by_key(|(_, count)| std::cmp::Reverse(**count));
    let mut table = Table::new(&[
        ("count", Align::Right),
        ("reason", Align::Left),
        ("field", Align::Left),
        ("station", Align::Left),
        ("meaning", Align::Left),
    ]);
    for ((reason, station, field), count) in groups {
        let meaning = REASONS.iter().find(|(word, _)| word == reason).map_or("", |(_, meaning)| *meaning);
        table.row(vec![show_count(*count), style::warn(reason), field.clone(), station.clone(), style::dim(meaning)]);
    }
    out.push_str(&table.render(screen_width()));
    if args.show > 0 {
        out.push_str(&format!("\nthe newest {}:\n", found.newest.len()));
    }
    for reject in &found.newest {
        out.push_str(&one(reject));
    }
    out.push_str(&format!(
        "\n  {}  {}\n",
        style::command(&format!("sluice rejects {name} --raw")),
        style::dim("their bytes as they were"),
    ));
    if found.groups.keys().all(|(reason, ..)| reason == Reason::LATE.word()) {
        let text = "raise `late` to take such events from now on; these came too late to be counted or paired";
        out.push_str(&format!("  {}\n", style::dim(text)));
    } else {
        out.push_str(&format!(
            "  {}  {}\n",
            style::command(&format!("sluice rejects {name} --retry")),
            style::dim("after the cause is fixed"),
        ));
    }
    if found.tried > 0 {
        out.push_str(&format!(
            "  {}\n",
            style::dim(&format!("{} tried again since: --all", show_many(found.tried, "more reject")))
        ));
    }
    output::print(&out);
}

fn one(reject: &RejectLine) -> String {
    let what = match &reject.field {
        Some(field) => format!("{field}: {}", printable::line(&reject.message)),
        None => printable::line(&reject.message).into_owned(),
    };
    // Bytes that are not UTF-8 show as �; --raw and --output json give them exactly.
    let bytes = cut(&String::from_utf8_lossy(&reject.bytes()), 3 * screen_width());
    format!(
        "\n  {} {} {} {}\n  {} {what}\n  {bytes}\n",
        style::bold(&printable::line(&reject.partition)),
        style::dim("at"),
        reject.position,
        style::dim(&format!("({} bytes, batch {})", reject.length, reject.batch)),
        style::warn(&reject.reason),
    )
}

fn as_json(name: &str, found: &Found) {
    let groups: Vec<_> = found
        .groups
        .iter()
        .map(|((reason, station, field), count)| {
            json!({ "reason": reason, "station": station, "field": (!field.is_empty()).then_some(field), "count": count })
        })
        .collect();
    output::json(
        "rejects",
        json!({
            "pipeline": name, "total": found.total, "tried_again": found.tried, "groups": groups, "newest": found.newest,
        }),
    );
}
