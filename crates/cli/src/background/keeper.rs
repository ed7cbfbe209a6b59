//! The background process itself.

use std::os::unix::net::{UnixListener, UnixStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::run::RunLimit;
use sluice_core::threads;

use super::place::{Lock, Place, Process};
use super::talk::{Answer, Refusal, Request, be_patient, read_line, write_line};
use crate::args::{Arguments, KeepArgs};
use crate::crew::one::{refuse_mistakes, refuse_uncertain};
use crate::crew::{Crew, Loaded};
use crate::exit::Exit;
use crate::notices::Watcher;
use crate::output::times;
use crate::project::{Project, TableSource};
use crate::{log, signals, watch};

/// Conversations at a time; more wait.
const TALKS: usize = 32;

/// Runs pipelines until all have ended. Called in a process of its own.
pub(crate) fn keep(arguments: &Arguments, args: &KeepArgs) -> Outcome<Exit> {
    // Away from the terminal: what ends that does not end this. It fails where that is so already.
    let _ = rustix::process::setsid();
    let project = Project::need(arguments.project.as_deref())?;
    let log = Place::of(&project.root).log();
    let crew = Crew::new(RunLimit::default(), true, false);
    let mut serving = Serving::lock(project, &crew)?;
    log::start_file(&args.log, &log)?;
    signals::call_on_signals(move || crew.settle_all());
    tracing::info!(process = std::process::id(), version = env!("CARGO_PKG_VERSION"), "background process started");
    serving.listen()?;
    serving.until_over(IDLE);
    tracing::info!(process = std::process::id(), "background process ended: no pipeline is left");
    Ok(Exit::Fine)
}

/// The process of a project that commands find.
pub(crate) struct Serving {
    keeper: Arc<Keeper>,
    place: Place,
    _lock: Lock,
    watch: Option<watch::Prepared>,
    notices: Option<Watcher>,
}

impl Serving {
    /// Becomes that process.
    ///
    /// # Errors
    /// Where another one is it, or the token of what it serves cannot be read.
    pub(crate) fn lock(project: Project, crew: &Arc<Crew>) -> Outcome<Self> {
        let place = Place::of(&project.root);
        place.make()?;
        let lock = place.lock()?;
        let watch = watch::Prepared::of(&project)?;
        let own =
            Process { process: std::process::id(), since: times::now(), program: env!("CARGO_PKG_VERSION").into() };
        let keeper =
            Keeper { project, crew: Arc::clone(crew), own, ends: Mutex::new(false), asked: AtomicBool::new(false) };
        Ok(Self { keeper: Arc::new(keeper), place, _lock: lock, watch, notices: None })
    }

    /// Answers commands from now on.
    ///
    /// # Errors
    /// Where the socket cannot be made.
    pub(crate) fn listen(&mut self) -> Outcome<()> {
        if let Some(watch) = self.watch.take() {
            watch.serve(&self.keeper.crew);
        }
        self.notices = Some(Watcher::start(&self.keeper.project, &self.keeper.crew));
        let listener = self.place.listen()?;
        let keeper = Arc::clone(&self.keeper);
        threads::spawn("commands", move || keeper.listen(&listener));
        Ok(())
    }

    /// Returns once nothing runs any more, and nothing will. Where nobody says what to run, that is after `idle`.
    pub(crate) fn until_over(self, idle: Duration) {
        self.keeper.until_over(idle);
        if let Some(notices) = self.notices {
            notices.finish();
        }
        self.place.close();
    }
}

struct Keeper {
    project: Project,
    crew: Arc<Crew>,
    own: Process,
    /// Whether nothing is started any more.
    ends: Mutex<bool>,
    /// Whether it has been told what to run.
    asked: AtomicBool,
}

/// How long the process lives without having been told what to run.
const IDLE: Duration = Duration::from_secs(20);

impl Keeper {
    fn until_over(&self, idle: Duration) {
        let began = Instant::now();
        loop {
            self.crew.wait(None);
            let mut ends = self.ends.lock().unwrap_or_else(PoisonError::into_inner);
            let waits = !self.asked.load(Ordering::SeqCst) && began.elapsed() < idle;
            if !waits && self.crew.wait(Some(Duration::ZERO)) {
                *ends = true;
                return;
            }
            drop(ends);
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    fn listen(self: &Arc<Self>, listener: &UnixListener) {
        let talks = Arc::new(Mutex::new(0_usize));
        for stream in listener.incoming() {
            let Ok(stream) = stream else {
                // Out of file numbers, say: others will be free again.
                std::thread::sleep(Duration::from_millis(100));
                continue;
            };
            while *talks.lock().unwrap_or_else(PoisonError::into_inner) >= TALKS {
                std::thread::sleep(Duration::from_millis(10));
            }
            *talks.lock().unwrap_or_else(PoisonError::into_inner) += 1;
            let (keeper, talks) = (Arc::clone(self), Arc::clone(&talks));
            threads::spawn("command", move || {
                keeper.answer(&stream);
                *talks.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
            });
        }
    }

    fn answer(&self, stream: &UnixStream) {
        let asked = be_patient(stream).and_then(|()| read_line::<Request>(stream));
        let texts = match &asked {
            Ok(Request::Texts { pipeline }) => self.crew.texts(pipeline),
            _ => None,
        };
        let done = match asked {
            Ok(request) => self.act(&request),
            Err(error) => Err(Failure::new(FailureKind::Configuration, format!("this was not understood: {error}"))),
        };
        let (refused, ends) = match done {
            Ok(ends) => (None, ends),
            Err(failure) => (Some(Refusal::from(failure)), false),
        };
        let pipelines = self.crew.reports();
        let answer = Answer { process: self.own.clone(), pipelines, texts, refused, ends };
        // Who asked may have left.
        let _ = write_line(stream, &answer);
    }

    /// Does what is asked; true where it is too late for it.
    fn act(&self, request: &Request) -> Outcome<bool> {
        match request {
            Request::Report | Request::Texts { .. } => Ok(false),
            Request::Start { pipelines } => self.start(pipelines),
            Request::Stop { pipelines } => {
                self.settle(pipelines);
                Ok(false)
            }
            Request::Renew { pipeline, texts } => self.renew(pipeline, texts).map(|()| false),
        }
    }

    /// The project as it is now.
    fn read_again(&self) -> Outcome<Project> {
        Ok(Project::need(Some(&self.project.root))?.asking(TableSource::Now))
    }

    fn start(&self, names: &[String]) -> Outcome<bool> {
        let project = self.read_again()?;
        let chosen = project.chosen(names)?;
        let ends = self.ends.lock().unwrap_or_else(PoisonError::into_inner);
        if *ends {
            return Ok(true);
        }
        for pipeline in chosen {
            let name = pipeline.config.name.clone();
            match self.crew.start(Loaded { project: project.under(&project.throttles), pipeline }) {
                Ok(()) => tracing::info!(pipeline = %name, "started"),
                // It is there, as was asked for.
                Err(failure) if failure.kind == FailureKind::InUse => {}
                Err(failure) => return Err(failure),
            }
        }
        self.asked.store(true, Ordering::SeqCst);
        Ok(false)
    }

    fn settle(&self, names: &[String]) {
        self.asked.store(true, Ordering::SeqCst);
        if names.is_empty() {
            self.crew.settle_all();
        }
        for name in names {
            if self.crew.settle(name) {
                tracing::info!(pipeline = %name, "asked to stop");
            }
        }
    }

    fn renew(&self, name: &str, texts: &str) -> Outcome<()> {
        let project = self.read_again()?;
        let pipeline = project.pipeline(name)?;
        if pipeline.plan.texts.digest() != texts {
            return Err(Failure::new(
                FailureKind::Configuration,
                format!("the files of {name} changed after they were checked; nothing was renewed"),
            )
            .with_help(format!("sluice renew {name}")));
        }
        refuse_mistakes(&project, &pipeline)?;
        refuse_uncertain(&pipeline)?;
        self.crew.renew(Loaded { project, pipeline })
    }
}
