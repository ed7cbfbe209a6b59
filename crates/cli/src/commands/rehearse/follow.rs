//! Watches the project's files: at each save it checks again and shows the new result on the same events.

use std::collections::BTreeMap;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

use sluice_core::failure::Outcome;
use sluice_core::rehearse::compare::{EventResult, Key, compare, outcome};
use sluice_core::run::Stop;
use sluice_core::units::{show_count, show_duration};

use super::sampled::Sampled;
use super::{EVENTS, expected, landing, show};
use crate::args::{Arguments, Events, RehearseArgs};
use crate::exit::Exit;
use crate::output::table::screen_width;
use crate::output::{self, problems, style};
use crate::project::{Project, TableSource};

/// How often the files are looked at.
const PAUSE: Duration = Duration::from_millis(50);

/// How long a saved file must have stayed as it is.
const SETTLED: Duration = Duration::from_millis(30);

/// What stays from one save to the next.
#[derive(Default)]
struct FollowState {
    sampled: Option<Sampled>,
    /// The last good outcome, and how it was shown.
    last: Option<(BTreeMap<Key, EventResult>, String)>,
}

pub(super) fn follow(arguments: &Arguments, args: &RehearseArgs, stop: &Stop) -> Outcome<Exit> {
    let mut state = FollowState::default();
    let mut seen = None;
    while !stop.is_settling() {
        let mut project = Project::need(arguments.project.as_deref());
        let mut now = project.as_ref().ok().map(|p| stamps(&p.root));
        if seen.is_none() || now != seen {
            // Some editors empty a file before they write it: wait until it stays as it is.
            while seen.is_some() && !stop.is_settling() {
                stop.wait(SETTLED);
                project = Project::need(arguments.project.as_deref());
                let again = project.as_ref().ok().map(|p| stamps(&p.root));
                if again == now {
                    break;
                }
                now = again;
            }
            seen = now;
            let started = Instant::now();
            // What cannot be read at this moment may be half saved: it is shown, and looked at again.
            let text = match project.and_then(|project| turn(&project.asking(TableSource::Now), args, &mut state, stop))
            {
                Ok(text) => text,
                Err(failure) => broken(&state, &failure.message, failure.help.as_deref()),
            };
            if stop.is_settling() {
                break;
            }
            draw(&text, &head(args, started.elapsed()));
        }
        stop.wait(PAUSE);
    }
    Ok(Exit::Fine)
}

/// When each file of the project was last saved, and how long it is.
fn stamps(root: &Path) -> Vec<(PathBuf, Option<SystemTime>, u64)> {
    let mut files = vec![root.join(crate::project::PROJECT_FILE)];
    let entries = std::fs::read_dir(root.join("pipelines")).into_iter().flatten().flatten();
    files.extend(entries.map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "toml")));
    files.sort();
    let stamp = |path: PathBuf| {
        let data = std::fs::metadata(&path).ok();
        let changed = data.as_ref().and_then(|d| d.modified().ok());
        (path, changed, data.map_or(0, |d| d.len()))
    };
    files.into_iter().map(stamp).collect()
}

/// Checks and rehearses once; gives what is to be shown.
fn turn(project: &Project, args: &RehearseArgs, state: &mut FollowState, stop: &Stop) -> Outcome<String> {
    let pipeline = project.pipeline(&args.pipeline)?.for_looking();
    let mut found = project.problems.clone();
    found.extend(pipeline.problems.clone());
    let has_errors = found.has_errors();
    let mut text = String::new();
    let found = found.into_sorted();
    if !found.is_empty() {
        text.push_str(&format!("{}\n", problems::render(&found, screen_width().min(120))));
    }
    if has_errors {
        return Ok(with_last(state, text));
    }
    let plan = &pipeline.plan;
    let only = landing(plan, args)?;
    if state.sampled.as_ref().is_none_or(|s| !s.serves(plan)) {
        state.sampled = Some(match &args.events {
            Some(Events::Kept(file)) => Sampled::kept(plan, expected::read(file)?)?,
            Some(Events::Count(count)) => Sampled::take(project, plan, &args.into(), *count, stop)?,
            None => Sampled::take(project, plan, &args.into(), EVENTS, stop)?,
        });
        state.last = None;
    }
    let Some(sampled) = &state.sampled else { return Ok(text) };
    plan.read_secrets(project.surroundings().secrets.as_ref())?;
    let rehearsal = sampled.rehearse(plan)?;
    let became = outcome(plan, &rehearsal);
    let differences = state.last.as_ref().map_or_else(Vec::new, |(last, _)| compare(last, &became));
    if state.last.is_some() {
        text.push_str(&changes(&differences));
    }
    text.push_str(&show::as_text(args, plan, &rehearsal, sampled, only, &show::Marks::of(&differences)));
    let unmarked = show::as_text(args, plan, &rehearsal, sampled, only, &show::Marks::default());
    state.last = Some((became, unmarked));
    Ok(text)
}

/// What changed since the last good result, in one line for each station.
fn changes(differences: &[sluice_core::rehearse::compare::ExpectedDifference]) -> String {
    if differences.is_empty() {
        return format!("{}\n\n", style::dim("nothing changed in what lands"));
    }
    let mut counts: BTreeMap<(&str, &str), u64> = BTreeMap::new();
    for d in differences {
        let what = d.column.as_deref().unwrap_or("what lands at all");
        *counts.entry((&d.key.station, what)).or_default() += 1;
    }
    let parts: Vec<String> =
        counts.iter().map(|((station, what), n)| format!("{station}: {what} in {}", show_count(*n))).collect();
    format!("{} {}\n\n", style::marked("changed"), parts.join("; "))
}

fn broken(state: &FollowState, message: &str, help: Option<&str>) -> String {
    let mut text = format!("{} {message}\n", style::bad("✗"));
    if let Some(help) = help {
        text.push_str(&format!("  {} {help}\n", style::dim("→")));
    }
    text.push('\n');
    with_last(state, text)
}

fn with_last(state: &FollowState, mut text: String) -> String {
    if let Some((_, last)) = &state.last {
        text.push_str(&format!("{}\n\n{last}", style::dim("the last good result:")));
    }
    text
}

fn head(args: &RehearseArgs, took: Duration) -> String {
    let time = output::times::second(output::times::now());
    let text = format!(
        "pipelines of {}, looked at {} UTC in {}; save a file to see it again, Ctrl-C ends",
        args.pipeline,
        &time[11..],
        show_duration(took),
    );
    format!("{}\n\n", style::dim(&text))
}

/// On a terminal the screen is used again and again; elsewhere one result follows the other.
fn draw(text: &str, head: &str) {
    if !std::io::stdout().is_terminal() {
        output::print(&format!("{head}{text}\n"));
        return;
    }
    let height = terminal_size::terminal_size().map_or(50, |(_, h)| usize::from(h.0));
    let all = format!("{head}{text}");
    let lines: Vec<&str> = all.lines().collect();
    output::clear();
    let mut out = String::new();
    if lines.len() < height {
        out.push_str(&all);
    } else {
        let fit = height.saturating_sub(2);
        out.push_str(&lines[..fit].join("\n"));
        out.push_str(&format!(
            "\n{}\n",
            style::dim(&format!("… {} more lines; a larger window shows them", lines.len() - fit))
        ));
    }
    output::print(&out);
}
