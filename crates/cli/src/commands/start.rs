//! `sluice start`: runs pipelines in the background.

mod boot;

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::private;

use crate::args::{Arguments, OutputKind, StartArgs};
use crate::background::{self, Answer, Place, Request};
use crate::crew::one::refuse_mistakes;
use crate::crew::{Doing, MemberReport};
use crate::exit::Exit;
use crate::output::{self, style};
use crate::pipeline_state;
use crate::project::{LoadedPipeline, Project};

/// How long the new process may take until it answers.
const PATIENCE: Duration = Duration::from_secs(30);

/// How long is looked whether pipelines get on, before the answer.
const FIRST_LOOK: Duration = Duration::from_millis(1500);

pub(crate) fn start(arguments: &Arguments, args: &StartArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    if args.at_boot {
        return boot::at_boot(arguments, &project);
    }
    let chosen = project.chosen(&args.pipelines)?;
    // One with errors in its file keeps the others from nothing.
    let (good, broken): (Vec<_>, Vec<_>) = chosen.into_iter().partition(|pipeline| is_good(&project, pipeline));
    let mut failure = None;
    for pipeline in &broken {
        failure = refuse_mistakes(&project, pipeline).err().or(failure);
    }
    let names: Vec<String> = good.iter().map(|pipeline| pipeline.config.name.clone()).collect();
    if names.is_empty() {
        return Err(failure.unwrap_or_else(|| Failure::internal("no pipeline was chosen")));
    }
    let answer = ask_to_start(&project, args, &names)?;
    let reports = look(&project, &answer, &names);
    match arguments.output {
        OutputKind::Json => output::json(
            "start",
            json!({
                "process": answer.process.process,
                "log": Place::of(&project.root).log(),
                "pipelines": reports,
                "refused": broken.iter().map(|p| p.config.name.as_str()).collect::<Vec<_>>(),
            }),
        ),
        OutputKind::Text => show(&project, &answer, &reports),
    }
    match failure {
        Some(failure) => Err(failure),
        None => Ok(Exit::Fine),
    }
}

fn is_good(project: &Project, pipeline: &LoadedPipeline) -> bool {
    // Tables that could not be asked for may be there later.
    !project.problems.has_errors() && (!pipeline.problems.has_errors() || pipeline.unknown.is_some())
}

/// Asks the process that is there, or a new one.
fn ask_to_start(project: &Project, args: &StartArgs, names: &[String]) -> Outcome<Answer> {
    let request = Request::Start { pipelines: names.to_vec() };
    let began = Instant::now();
    let mut child: Option<Child> = None;
    loop {
        match background::ask(&project.root, &request) {
            Ok(Some(answer)) if !answer.ends => return Ok(answer),
            // The last one is about to leave.
            Ok(Some(_)) => {}
            Ok(None) if child.is_none() => child = Some(spawn(project, args)?),
            Ok(None) => {}
            // It has begun and does not listen yet.
            Err(failure) if failure.passing && began.elapsed() < PATIENCE => {}
            Err(failure) => return Err(failure),
        }
        if let Some(own) = &mut child
            && let Ok(Some(status)) = own.try_wait()
        {
            // Another command may have been faster: that process answers.
            if status.code() != Some(Exit::InUse.code().into()) {
                return Err(not_started(project, status));
            }
            child = None;
        }
        if began.elapsed() > PATIENCE {
            return Err(Failure::unreachable("the background process does not answer")
                .with_help(format!("see {}", Place::of(&project.root).log().display())));
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn not_started(project: &Project, status: std::process::ExitStatus) -> Failure {
    let said = std::fs::read_to_string(Place::of(&project.root).first_words()).unwrap_or_default();
    let said = said.trim();
    let reason = if said.is_empty() { format!("it ended with {status}") } else { said.to_string() };
    let kind = match status.code() {
        Some(code) if code == i32::from(Exit::Configuration.code()) => FailureKind::Configuration,
        _ => FailureKind::Unreachable,
    };
    Failure::new(kind, format!("the background process did not start: {reason}"))
}

fn spawn(project: &Project, args: &StartArgs) -> Outcome<Child> {
    let place = Place::of(&project.root);
    place.make()?;
    let program = std::env::current_exe()
        .map_err(|e| Failure::unreachable(format!("the path of this program cannot be found: {e}")))?;
    let words = private::create(&place.first_words())?;
    let mut command = Command::new(&program);
    command.arg("background").arg("--project").arg(&project.root);
    if let Some(form) = args.log.and_then(|form| clap::ValueEnum::to_possible_value(&form)) {
        command.args(["--log", form.get_name()]);
    }
    if let Some(level) = args.log_level.and_then(|level| clap::ValueEnum::to_possible_value(&level)) {
        command.args(["--log-level", level.get_name()]);
    }
    // The project's folder: the one where this is typed may be taken away meanwhile.
    command.current_dir(&project.root).stdin(Stdio::null()).stdout(Stdio::null()).stderr(words);
    command.spawn().map_err(|e| Failure::io("run", &program, &e))
}

/// Looks for a moment how they get on.
fn look(project: &Project, answer: &Answer, names: &[String]) -> Vec<MemberReport> {
    let began = Instant::now();
    let mut reports = answer.pipelines.clone();
    loop {
        reports.retain(|report| names.contains(&report.pipeline));
        let is_known = |report: &MemberReport| {
            !matches!(report.doing, Doing::Runs) || report.moved.read > 0 || report.moved.caught_up
        };
        if reports.iter().all(is_known) || began.elapsed() > FIRST_LOOK {
            return reports;
        }
        std::thread::sleep(Duration::from_millis(50));
        match background::find(&project.root) {
            Some(now) => reports = now.pipelines,
            None => return reports,
        }
    }
}

fn show(project: &Project, answer: &Answer, reports: &[MemberReport]) {
    let place = Place::of(&project.root).log();
    let log = place.strip_prefix(&project.root).unwrap_or(&place).display().to_string();
    let width = reports.iter().map(|report| report.pipeline.chars().count()).max().unwrap_or(0);
    let mut out = String::new();
    for report in reports {
        let name = style::bold(&format!("{:width$}", report.pipeline));
        out.push_str(&format!("{name}  {}\n", pipeline_state::doing(report)));
    }
    out.push_str(&format!(
        "\nrunning in process {}; log: {log}\n  {}  {}\n  {}  {}\n",
        answer.process.process,
        style::command("sluice status    "),
        style::dim("show their state and speed"),
        style::command("sluice stop --all"),
        style::dim("stop them after the current batch"),
    ));
    output::print(&out);
}
