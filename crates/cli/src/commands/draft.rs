//! `sluice draft`: a pipeline file drafted from real events.

use std::collections::{HashMap, HashSet};
use std::io::Write as _;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};
use serde_json::json;
use sluice_core::config::ConnectionConfig;
use sluice_core::draft::{self, Draft, DraftedWindow};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::names;
use sluice_core::plan;
use sluice_core::problem::SourceText;
use sluice_core::profile::{FieldGuess, Profile};
use sluice_core::run::Stop;
use sluice_core::sample::{Sample, Window};
use sluice_core::types::SqlType;
use sluice_core::units::{parse_duration, show_count, show_many};

use crate::args::{Arguments, DraftArgs, OutputKind};
use crate::exit::Exit;
use crate::output::{self, problems, style};
use crate::place::{self, Place};
use crate::project::{PROJECT_FILE, Project};
use crate::sampling::{self, SampleChoice, Source};
use crate::schemas::{NamedSchema, with_schema};
use crate::signals;

/// Where the new pipeline reads and lands, and what must be added to sluice.toml for it.
struct Ends {
    at: String,
    pattern: String,
    is_topic: bool,
    pattern_note: String,
    into: String,
    /// Whether that is a database.
    into_table: bool,
    added: Vec<(String, String)>,
}

pub(crate) fn draft(arguments: &Arguments, args: &DraftArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    refuse_names(&project, args)?;
    let named = NamedSchema { file: args.schema.as_deref(), message: args.message.as_deref() };
    let place = with_schema(Some(&project), place::find(Some(&project), &args.place)?, named)?;
    let ends = ends(&project, args, &place)?;
    let mut source = open(&place, args.events)?;
    let stop = Arc::new(Stop::new());
    signals::end_on_signals(&stop);
    let sample = source.sample(args.events, Window::default(), &stop)?;
    if stop.is_settling() {
        return Ok(Exit::Interrupted);
    }
    let found = source.profile(&sample);
    if found.events == 0 && (found.broken_count > 0 || found.root.children.is_empty()) {
        let reason = found.broken.first().map_or("there is none yet".to_string(), |b| b.message.clone());
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("{} has no event to draft from: {reason}", source.label),
        )
        .with_help(match reason.contains("UTF-8") {
            _ if ends.is_topic && args.schema.is_none() => {
                "look at it with `sluice peek`; messages of Avro and of Protobuf are read with their schema: --schema FILE"
            }
            true => "save it as UTF-8, for instance: iconv -f ISO-8859-1 -t UTF-8",
            false => "look at it with `sluice peek`; a draft needs one good event at least",
        }));
    }
    let guesses = found.guesses();
    refuse_window(args, &guesses)?;
    let text = write(args, &ends, &source, &sample, &found, &guesses);
    let project_text = with_connections(&project.source.text, &ends.added);
    prove(&project, args, &project_text, &text)?;
    if args.print {
        output::print(&text);
        return Ok(Exit::Fine);
    }
    let file = save(&project, args, &ends, &project_text, &text)?;
    report(arguments, args, &ends, &file, &found, &guesses);
    Ok(Exit::Fine)
}

fn refuse_names(project: &Project, args: &DraftArgs) -> Outcome<()> {
    for (what, name) in [("pipeline", Some(&args.pipeline)), ("event", args.event.as_ref())] {
        if let Some(name) = name.filter(|n| !names::is_valid(n)) {
            return Err(Failure::new(FailureKind::Configuration, format!("`{name}` cannot be the name of a {what}"))
                .with_help("a name starts with a letter and holds letters, digits, - and _, 63 at most"));
        }
    }
    if project.problems.has_errors() {
        problems::show_errors(project.problems.clone());
        return Err(Failure::new(FailureKind::Configuration, format!("{PROJECT_FILE} has mistakes"))
            .with_help("fix the underlined text first"));
    }
    let file = project.root.join(file_name(args));
    let taken = project.pipelines()?.iter().any(|p| p.config.name == args.pipeline) || file.exists();
    if taken && !args.print {
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("there is a pipeline `{}` already; nothing was changed", args.pipeline),
        )
        .with_help("give another name, or look at the draft alone with --print"));
    }
    Ok(())
}

fn file_name(args: &DraftArgs) -> String {
    format!("pipelines/{}.toml", args.pipeline)
}

fn open(place: &Place, events: u64) -> Outcome<Source> {
    match place {
        Place::File(path) if path.is_dir() => Err(Failure::internal("a folder is a connection with a pattern")),
        Place::File(path) => sampling::open_file(path),
        Place::Files(settings) => sampling::open_files(settings, events, SampleChoice::First),
        Place::Stdin => Err(Failure::new(FailureKind::Configuration, "a pipeline cannot read standard input again")
            .with_help("save it into a file first, then draft from the file")),
        Place::Arrival(..) | Place::Landing(..) => {
            Err(Failure::new(FailureKind::Configuration, "a draft is made from a file or CONNECTION:PATTERN")
                .with_help("name the files themselves"))
        }
    }
}

fn is_topic(place: &Place) -> bool {
    matches!(place, Place::Files(settings) if settings.connection.scheme == "kafka")
}

/// Finds the connections, or makes such as are missing.
fn ends(project: &Project, args: &DraftArgs, place: &Place) -> Outcome<Ends> {
    let mut added = Vec::new();
    let (at, pattern, pattern_note) = match place {
        Place::Files(settings) if is_topic(place) => {
            (settings.connection.name.clone(), settings.options.texts("topic").join(","), String::new())
        }
        Place::Files(settings) => {
            (settings.connection.name.clone(), settings.options.text("match").unwrap_or_default(), String::new())
        }
        Place::File(path) => of_file(project, args, path, &mut added)?,
        _ => open(place, 0).map(|_| Default::default())?,
    };
    let takes_tables = |scheme: &str| {
        project.registry.landing(scheme).is_some_and(|kind| kind.options().iter().any(|o| o.key == "table"))
    };
    let lands = |c: &&ConnectionConfig| c.scheme == "file" || takes_tables(&c.scheme);
    let connections = || project.config.connections.iter().filter(lands);
    let into = match &args.land_in {
        Some(name) => match connections().find(|c| c.name == *name) {
            Some(c) => c.name.clone(),
            None => {
                let failure =
                    Failure::new(FailureKind::Configuration, format!("there is no connection `{name}` to land in"));
                return Err(match names::remedy(name, "connections", connections().map(|c| c.name.as_str())) {
                    Some(help) => failure.with_help(help),
                    None => failure,
                });
            }
        },
        None => match connections().find(|c| c.name == "archive").or_else(|| connections().find(|c| c.name != at)) {
            Some(c) => c.name.clone(),
            None => {
                added.push(("archive".to_string(), "file:archive".to_string()));
                "archive".to_string()
            }
        },
    };
    let into_table = project.config.connection(&into).is_some_and(|c| takes_tables(&c.scheme));
    Ok(Ends { at, pattern, is_topic: is_topic(place), pattern_note, into, into_table, added })
}

/// The connection whose folder holds a file, and the file below it; a new connection where none does.
fn of_file(
    project: &Project,
    args: &DraftArgs,
    path: &Path,
    added: &mut Vec<(String, String)>,
) -> Outcome<(String, String, String)> {
    let full = path.canonicalize().map_err(|e| Failure::io("look at", path, &e))?;
    if full.is_dir() {
        return Err(Failure::new(FailureKind::Configuration, format!("{} is a folder", path.display()))
            .with_help("name one of its files, or CONNECTION:PATTERN such as inbox:*.jsonl"));
    }
    let mut best: Option<(usize, String, PathBuf)> = None;
    for connection in project.config.connections.iter().filter(|c| c.scheme == "file") {
        let folder = project.root.join(&connection.target);
        let Ok(folder) = folder.canonicalize() else { continue };
        let Ok(below) = full.strip_prefix(&folder) else { continue };
        let depth = folder.components().count();
        // Hidden folders and what lies in them are never read.
        let hidden = below.components().any(|c| c.as_os_str().to_string_lossy().starts_with('.'));
        if !hidden && best.as_ref().is_none_or(|(d, _, _)| depth > *d) {
            best = Some((depth, connection.name.clone(), below.to_path_buf()));
        }
    }
    let folder = full.parent().unwrap_or(Path::new("/"));
    let (at, below) = match best {
        Some((_, name, below)) => (name, below),
        None => {
            let name = free_name(project, folder, &args.pipeline);
            added.push((name.clone(), format!("file:{}", place::from_root(project, folder))));
            (name, PathBuf::from(full.file_name().unwrap_or_default()))
        }
    };
    let below = below.to_string_lossy().into_owned();
    Ok((at, glob::Pattern::escape(&below), siblings(folder, &full, &below)))
}

/// A remark on the other files that the pattern could take.
fn siblings(folder: &Path, file: &Path, below: &str) -> String {
    let Some(extension) = file.extension() else { return String::new() };
    let alike = std::fs::read_dir(folder).map_or(0, |entries| {
        entries.flatten().filter(|e| e.path().extension() == Some(extension) && e.path().is_file()).count()
    });
    if alike < 2 {
        return String::new();
    }
    let above = below.rsplit_once('/').map_or(String::new(), |(folders, _)| format!("{folders}/"));
    let pattern = format!("{above}*.{}", extension.to_string_lossy());
    format!("\"{pattern}\" takes all {} of the folder", show_many(alike as u64, "file"))
}

/// A folder as a project file names it: below the project, or from the root.
fn free_name(project: &Project, folder: &Path, pipeline: &str) -> String {
    let last = folder.components().next_back().filter(|c| matches!(c, Component::Normal(_)));
    let base = last.map(|c| c.as_os_str().to_string_lossy().into_owned()).filter(|n| names::is_valid(n));
    let base = base.unwrap_or_else(|| format!("{pipeline}-files"));
    let taken = |name: &str| project.config.connection(name).is_some() || name == "archive";
    let mut name = base.clone();
    let mut number = 2;
    while taken(&name) {
        name = format!("{base}-{number}");
        number += 1;
    }
    name
}

fn write(
    args: &DraftArgs,
    ends: &Ends,
    source: &Source,
    sample: &Sample,
    found: &Profile,
    guesses: &[FieldGuess],
) -> String {
    let format = source.format().fitted(found);
    let event = args.event.clone().unwrap_or_else(|| singular(&args.pipeline));
    let day = sluice_core::values::time::show_timestamp(output::times::now());
    draft::write(&Draft {
        pipeline: &args.pipeline,
        event: &event,
        origin: &source.label,
        day: &day[..10],
        at: &ends.at,
        is_declared: !found.declared.is_empty(),
        pattern: &ends.pattern,
        is_topic: ends.is_topic,
        pattern_note: &ends.pattern_note,
        format: format.as_ref(),
        into: &ends.into,
        into_table: ends.into_table,
        more: sample.more,
        events: found.events,
        broken: found.broken_count,
        fields: guesses,
        key: key(source, sample, found, guesses),
        window: args
            .window
            .as_deref()
            .map(|length| DraftedWindow { length, behind: behind(source, sample, found, guesses) }),
    })
}

/// How far an event comes behind newer ones of its partition at most, in microseconds.
fn behind(source: &Source, sample: &Sample, found: &Profile, guesses: &[FieldGuess]) -> i64 {
    let place = draft::event_time(guesses).and_then(|time| guesses.iter().position(|g| g.name == time.name));
    let Some(place) = place else { return 0 };
    let mut contract = found.contract();
    contract.fields = vec![contract.fields.swap_remove(place)];
    let mut decoder = source.format().decoder(&contract);
    let (mut newest, mut most) = (HashMap::new(), 0);
    for chunk in &sample.chunks {
        let rows = decoder.decode(chunk).rows.batch;
        let newest = newest.entry(Arc::clone(&chunk.partition)).or_insert(i64::MIN);
        for time in times_of(rows.column(0)).into_iter().flatten() {
            *newest = time.max(*newest);
            most = most.max(newest.saturating_sub(time));
        }
    }
    most
}

fn times_of(column: &ArrayRef) -> Vec<Option<i64>> {
    const DAY: i64 = 86_400_000_000;
    match column.as_primitive_opt::<TimestampMicrosecondType>() {
        Some(times) => times.iter().collect(),
        None => {
            let days = column.as_primitive_opt::<Date32Type>();
            days.map_or_else(Vec::new, |days| days.iter().map(|day| day.map(|day| i64::from(day) * DAY)).collect())
        }
    }
}

/// A window is at least as long.
const SHORTEST: std::time::Duration = std::time::Duration::from_millis(1);

/// A window needs a length, and to know when events happened.
fn refuse_window(args: &DraftArgs, guesses: &[FieldGuess]) -> Outcome<()> {
    let Some(length) = &args.window else { return Ok(()) };
    if parse_duration(length).map_or(true, |length| length < SHORTEST) {
        return Err(Failure::new(FailureKind::Configuration, format!("`{length}` is no length of a window"))
            .with_help("write a number and a unit: 30s, 5m, 1h, 1d"));
    }
    if draft::event_time(guesses).is_none() {
        return Err(Failure::new(
            FailureKind::Configuration,
            "no field says when an event happened, and a window goes by that",
        )
        .with_help("leave --window out, give the field of the time its type in the file, and add the window there"));
    }
    Ok(())
}

fn singular(name: &str) -> String {
    match name.strip_suffix('s') {
        Some(one) if one.len() > 2 && !one.ends_with('s') => one.to_string(),
        _ => name.to_string(),
    }
}

/// The first field, by name one that numbers things, whose values are all distinct.
fn key<'g>(source: &Source, sample: &Sample, found: &Profile, guesses: &'g [FieldGuess]) -> Option<&'g FieldGuess> {
    let could = |g: &&FieldGuess| {
        let ty = matches!(g.guess.ty, SqlType::Text | SqlType::Integer | SqlType::Bigint);
        ty && g.guess.not_null
            && g.guess.misfits == 0
            && g.profile.distinct_values() as f64 >= 0.95 * found.events as f64
    };
    let named = |g: &&FieldGuess| {
        g.name.to_lowercase().split('_').any(|w| draft::NUMBERS_THINGS.contains(&w)) || g.name.ends_with("Id")
    };
    let mut candidates: Vec<&FieldGuess> = guesses.iter().filter(could).collect();
    candidates.sort_by_key(|g| !named(g));
    // The estimate is near but not exact: the first few are counted.
    candidates.into_iter().take(3).find(|g| found.events > 1 && is_unique(source, sample, found, guesses, g))
}

fn is_unique(source: &Source, sample: &Sample, found: &Profile, guesses: &[FieldGuess], one: &FieldGuess) -> bool {
    let mut contract = found.contract();
    let Some(place) = guesses.iter().position(|g| g.name == one.name) else { return false };
    contract.fields = vec![contract.fields.swap_remove(place)];
    let mut decoder = source.format().decoder(&contract);
    let mut seen = HashSet::new();
    sample.chunks.iter().all(|chunk| {
        let rows = decoder.decode(chunk).rows.batch;
        (0..rows.num_rows()).all(|row| output::rows::value_text(&rows, 0, row).is_none_or(|v| seen.insert(v)))
    })
}

/// `sluice.toml` with more connections at its end.
fn with_connections(text: &str, added: &[(String, String)]) -> String {
    let mut out = text.to_string();
    for (name, url) in added {
        if !out.ends_with('\n') {
            out.push('\n');
        }
        let url = url.replace('\\', "\\\\").replace('"', "\\\"");
        out.push_str(&format!("\n[connection.{name}]\nurl = \"{url}\"\n"));
    }
    out
}

/// A draft must pass the check that it is handed over to, beside the pipelines that are there.
fn prove(project: &Project, args: &DraftArgs, project_text: &str, text: &str) -> Outcome<()> {
    let with = project.with_text(project_text);
    let drafted = with.load(&SourceText::new(file_name(args), text));
    let mut found = with.problems.clone();
    found.extend(drafted.problems.clone());
    if found.has_errors() {
        problems::show_errors(found);
        return Err(Failure::internal("the draft does not pass its own check; nothing was written")
            .with_help("please report it with the names of the fields"));
    }
    let others = project.pipelines()?;
    let pairs: Vec<_> = others.iter().chain([&drafted]).map(|p| (&p.config, &p.plan)).collect();
    plan::check_overlaps(&pairs, &mut found);
    if found.has_errors() {
        problems::show_errors(found);
        return Err(Failure::new(
            FailureKind::Configuration,
            "another pipeline lands there already; nothing was written",
        )
        .with_help("give the new pipeline another name, or name another connection with --land-in"));
    }
    Ok(())
}

fn save(project: &Project, args: &DraftArgs, ends: &Ends, project_text: &str, text: &str) -> Outcome<PathBuf> {
    let folder = project.root.join("pipelines");
    std::fs::create_dir_all(&folder).map_err(|e| Failure::io("make the folder", &folder, &e))?;
    let path = project.root.join(file_name(args));
    let mut file = std::fs::File::options()
        .write(true)
        .create_new(true)
        .open(&path)
        .map_err(|e| Failure::io("make", &path, &e))?;
    file.write_all(text.as_bytes()).map_err(|e| Failure::io("write", &path, &e))?;
    if !ends.added.is_empty() {
        let path = project.root.join(PROJECT_FILE);
        // What stands in the file stays: only its end is written.
        let more = &project_text[project.source.text.len()..];
        std::fs::File::options()
            .append(true)
            .open(&path)
            .and_then(|mut f| f.write_all(more.as_bytes()))
            .map_err(|e| Failure::io("write", &path, &e))?;
    }
    Ok(path)
}

fn report(arguments: &Arguments, args: &DraftArgs, ends: &Ends, file: &Path, found: &Profile, guesses: &[FieldGuess]) {
    let doubts: Vec<(String, &String)> = guesses
        .iter()
        .filter(|g| g.profile.values > 0)
        .flat_map(|g| g.guess.notes.iter().map(|n| (g.spelled_path(), n)))
        .collect();
    if arguments.output == OutputKind::Json {
        let doubts: Vec<_> = doubts.iter().map(|(path, note)| json!({ "path": path, "note": note })).collect();
        let added: Vec<_> = ends.added.iter().map(|(name, url)| json!({ "name": name, "url": url })).collect();
        output::json(
            "draft",
            json!({
                "pipeline": args.pipeline, "file": file, "events": found.events, "broken": found.broken_count,
                "fields": guesses.len(), "added_connections": added, "notes": doubts,
            }),
        );
        return;
    }
    let mut out = format!(
        "{} drafted from {}: {}\n",
        style::bold(&file_name(args)),
        match found.events {
            0 if !found.declared.is_empty() => "the schema".to_string(),
            0 => "the header row".to_string(),
            events => show_many(events, "event"),
        },
        show_many(guesses.len() as u64, "field"),
    );
    for (name, url) in &ends.added {
        out.push_str(&format!("  added to {PROJECT_FILE}: [connection.{name}] url = \"{url}\"\n"));
    }
    for (path, note) in doubts.iter().take(12) {
        out.push_str(&format!(" {} {path}: {note}\n", style::warn("!")));
    }
    if doubts.len() > 12 {
        out.push_str(&format!("   … {} more, as comments in the file\n", show_count(doubts.len() as u64 - 12)));
    }
    let name = &args.pipeline;
    out.push_str(&format!(
        "\nnext:\n  {}  {}\n  {}  {}\n",
        style::command(&format!("sluice rehearse {name} --follow     ")),
        style::dim("the rows that would land, again at each save of the file"),
        style::command(&format!("sluice run {name} --until-caught-up")),
        style::dim("move it"),
    ));
    output::print(&out);
}
