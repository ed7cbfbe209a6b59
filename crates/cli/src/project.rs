//! Finds and reads the project at hand.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::config::{PipelineConfig, ProjectConfig, each};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Registry;
use sluice_core::ledger::Ledger as _;
use sluice_core::names;
use sluice_core::plan::{self, LedgerName, Plan, SealedTexts, Surroundings};
use sluice_core::problem::{Place, Problem, Problems, SourceText};
use sluice_core::run::Stop;
use sluice_core::throttle::Throttles;

use crate::output::{self, style};
use crate::secrets::ProjectSecrets;
use crate::written;

/// The project's file.
pub(crate) const PROJECT_FILE: &str = "sluice.toml";

/// Where the tables of `[each.NAME]` are known from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TableSource {
    /// What the last run wrote out, where the file has not changed since; else the source.
    Seldom,
    /// The source.
    Now,
    /// What the last run wrote out, or nothing.
    Never,
}

/// A project that was found.
pub(crate) struct Project {
    /// Its folder.
    pub root: PathBuf,
    /// Its file.
    pub source: Arc<SourceText>,
    /// What the file says.
    pub config: ProjectConfig,
    /// All kinds.
    pub registry: Registry,
    /// What is wrong in the project's own file.
    pub problems: Problems,
    /// Whether sources are asked for their tables.
    pub asks: TableSource,
    /// Asks whatever works in this project to leave.
    pub stop: Arc<Stop>,
    /// The limits of connections, which all pipelines of this process share.
    pub throttles: Arc<Throttles>,
}

/// A pipeline file that was read.
pub(crate) struct LoadedPipeline {
    /// What the file says.
    pub config: PipelineConfig,
    /// The plan; it runs only if no problem is an error.
    pub plan: Plan,
    /// What is wrong in this file.
    pub problems: Problems,
    /// Why its tables are not known.
    pub unknown: Option<Failure>,
    /// Why it is not certain under which names the ledger knows its arrivals.
    pub uncertain: Option<Failure>,
}

impl LoadedPipeline {
    /// The same for looking: every event of a change feed by itself.
    pub(crate) fn for_looking(mut self) -> Self {
        self.plan.split_feeds();
        self
    }
}

impl Project {
    /// Finds the project from `start` upwards, or exactly at `start` where it was named.
    pub(crate) fn find(named: Option<&Path>) -> Outcome<Option<Self>> {
        let here = std::env::current_dir()
            .map_err(|e| Failure::unreachable(format!("the current folder cannot be read: {e}")))?;
        let root = match named {
            Some(folder) => Some(here.join(folder)).filter(|f| f.join(PROJECT_FILE).is_file()),
            None => here.ancestors().find(|f| f.join(PROJECT_FILE).is_file()).map(Path::to_path_buf),
        };
        root.map(Self::read).transpose()
    }

    /// Finds the project, or says how to make one.
    pub(crate) fn need(named: Option<&Path>) -> Outcome<Self> {
        let found = Self::find(named)?;
        for folder in found.iter().flat_map(|project| sluice_core::private::tighten(&project.root)) {
            let text =
                format!("other users of this machine could read {folder}/, which holds events; closed to them now");
            output::note(&format!("{} {text}\n", style::warn("!")));
        }
        found.ok_or_else(|| {
            let place = named.map_or_else(|| "here or above".to_string(), |n| format!("in {}", n.display()));
            Failure::new(FailureKind::Configuration, format!("there is no {PROJECT_FILE} {place}"))
                .with_help("make a project with `sluice init`, or see one at work with `sluice demo`")
        })
    }

    fn read(root: PathBuf) -> Outcome<Self> {
        let source = read_source(&root, &root.join(PROJECT_FILE))?;
        let registry = sluice_connect::registry();
        let mut problems = Problems::new();
        let config = ProjectConfig::read(&source, &registry, &mut problems);
        Ok(Self {
            root,
            source,
            config,
            registry,
            problems,
            asks: TableSource::Seldom,
            stop: Arc::default(),
            throttles: Arc::default(),
        })
    }

    /// The same, with sources asked for their tables in another way.
    pub(crate) fn asking(self, asks: TableSource) -> Self {
        Self { asks, ..self }
    }

    /// The same project with another text of its file, which is not written.
    pub(crate) fn with_text(&self, text: &str) -> Self {
        let source = SourceText::new(PROJECT_FILE, text);
        let mut problems = Problems::new();
        let config = ProjectConfig::read(&source, &self.registry, &mut problems);
        Self {
            root: self.root.clone(),
            source,
            config,
            registry: self.registry.clone(),
            problems,
            asks: self.asks,
            stop: Arc::clone(&self.stop),
            throttles: Arc::clone(&self.throttles),
        }
    }

    /// The same project, under limits that other runs of this process share.
    pub(crate) fn under(&self, throttles: &Arc<Throttles>) -> Self {
        Self {
            root: self.root.clone(),
            source: Arc::clone(&self.source),
            config: self.config.clone(),
            registry: self.registry.clone(),
            problems: self.problems.clone(),
            asks: self.asks,
            stop: Arc::clone(&self.stop),
            throttles: Arc::clone(throttles),
        }
    }

    /// What pipelines need from around them.
    pub(crate) fn surroundings(&self) -> Surroundings {
        Surroundings {
            root: self.root.clone(),
            work: self.root.join(".sluice"),
            secrets: Arc::new(ProjectSecrets { root: self.root.clone() }),
            registry: self.registry.clone(),
            stop: Arc::clone(&self.stop),
            throttles: Arc::clone(&self.throttles),
        }
    }

    /// The path of the ledger where it is a file.
    pub(crate) fn ledger_path(&self) -> PathBuf {
        self.root.join(&self.config.ledger)
    }

    /// The pipeline files, by name.
    pub(crate) fn pipeline_files(&self) -> Outcome<Vec<PathBuf>> {
        let folder = self.root.join("pipelines");
        let entries = match std::fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(Failure::io("list the folder", &folder, &error)),
        };
        let mut files: Vec<PathBuf> = entries
            .filter_map(|e| e.ok().map(|e| e.path()))
            .filter(|p| p.extension().is_some_and(|e| e == "toml") && p.is_file())
            .collect();
        files.sort();
        Ok(files)
    }

    /// Reads all pipelines; mistakes between them are noted with the later one.
    pub(crate) fn pipelines(&self) -> Outcome<Vec<LoadedPipeline>> {
        let mut loaded: Vec<LoadedPipeline> = Vec::new();
        for path in self.pipeline_files()? {
            let source = read_source(&self.root, &path)?;
            let mut pipeline = self.load(&source);
            if let Some(twin) =
                loaded.iter().find(|p| p.config.name == pipeline.config.name && !p.config.name.is_empty())
            {
                pipeline.problems.add(twice(&pipeline.config, &twin.config));
            }
            loaded.push(pipeline);
        }
        self.recognise(&mut loaded);
        let mut between = Problems::new();
        let pairs: Vec<_> = loaded.iter().map(|p| (&p.config, &p.plan)).collect();
        plan::check_overlaps(&pairs, &mut between);
        for problem in between.into_sorted() {
            let name = problem.place.as_ref().map(|p| p.source.name.clone()).unwrap_or_default();
            if let Some(pipeline) = loaded.iter_mut().find(|p| p.config.source.name == name) {
                pipeline.problems.add(problem);
            }
        }
        Ok(loaded)
    }

    /// Gives arrivals and landings the names under which the ledger knows them. A ledger that cannot be read says so
    /// where it is used.
    fn recognise(&self, pipelines: &mut [LoadedPipeline]) {
        let Ok(Some(ledger)) = SqliteLedger::open_existing(&self.ledger_path()) else { return };
        let Ok(all) = ledger.all_known() else { return };
        let names: Vec<String> = pipelines.iter().map(|p| p.config.name.clone()).collect();
        let (present, gone): (Vec<_>, Vec<_>) = all.into_iter().partition(|(name, _)| names.contains(name));
        for pipeline in pipelines {
            let own = present.iter().filter(|(name, _)| *name == pipeline.config.name);
            let known: Vec<LedgerName> = own.map(|(_, known)| known.clone()).collect();
            pipeline.uncertain = match known.is_empty() {
                true => pipeline.plan.refuse_renamed(&gone).err(),
                false => pipeline.plan.recognise(&known).err(),
            };
        }
    }

    /// Reads one pipeline file by itself.
    pub(crate) fn load(&self, source: &Arc<SourceText>) -> LoadedPipeline {
        let mut problems = Problems::new();
        let mut config = PipelineConfig::read(source, &self.config, &self.registry, &mut problems);
        let mut unknown = None;
        self.read_files(&mut config, &mut problems);
        each::refuse_following(&config.events, &mut problems);
        if !config.groups.is_empty() && !problems.has_errors() {
            let mut found = Problems::new();
            match written::out(self, &config, &mut found) {
                Ok(Some(text)) => {
                    // Warnings of the file itself are found again in what was written out.
                    problems = found;
                    config = PipelineConfig::read(&text, &self.config, &self.registry, &mut problems);
                    self.read_files(&mut config, &mut problems);
                }
                Ok(None) => problems.add(written::not_asked(&config)),
                Err(failure) => {
                    problems.add(written::unknown(&config, &failure));
                    unknown = Some(failure);
                }
            }
        }
        let texts = SealedTexts { project: self.source.text.clone(), pipeline: config.source.text.clone() };
        let plan = plan::resolve(&config, texts, &mut problems);
        LoadedPipeline { config, plan, problems, unknown, uncertain: None }
    }

    /// Reads the files that arrivals and landings name, such as schemas.
    fn read_files(&self, config: &mut PipelineConfig, problems: &mut Problems) {
        let read = |path: &str| std::fs::read(self.root.join(path)).map_err(|error| error.to_string());
        for event in &mut config.events {
            event.arrivals.iter_mut().for_each(|arrival| arrival.options.read_files(&read, problems));
            event.landings.iter_mut().for_each(|landing| landing.options.read_files(&read, problems));
        }
    }

    /// The pipeline of a name, among all.
    pub(crate) fn pipeline(&self, name: &str) -> Outcome<LoadedPipeline> {
        take(&mut self.pipelines()?, name)
    }

    /// The pipelines of some names, each once and in this order; all of them where none is named.
    ///
    /// # Errors
    /// Where one of the names is that of no pipeline, or there is none at all.
    pub(crate) fn chosen(&self, names: &[String]) -> Outcome<Vec<LoadedPipeline>> {
        let mut all = self.pipelines()?;
        if names.is_empty() {
            // One without a name cannot be run, and its file has an error that says so.
            let (named, nameless): (Vec<_>, Vec<_>) = all.into_iter().partition(|p| !p.config.name.is_empty());
            return match (named.is_empty(), nameless.into_iter().next()) {
                (true, None) => Err(Failure::new(FailureKind::Configuration, "there is no pipeline yet")
                    .with_help("make one of real events: sluice draft PIPELINE FILE")),
                (_, Some(broken)) => Err(Failure::new(
                    FailureKind::Configuration,
                    format!("{} has no pipeline name", broken.config.source.name),
                )
                .with_help("see what is wrong in it: sluice check")),
                (false, None) => Ok(named),
            };
        }
        let mut found: Vec<LoadedPipeline> = Vec::new();
        for name in names {
            if found.iter().all(|known| known.config.name != *name) {
                found.push(take(&mut all, name)?);
            }
        }
        Ok(found)
    }
}

fn take(all: &mut Vec<LoadedPipeline>, name: &str) -> Outcome<LoadedPipeline> {
    match all.iter().position(|p| p.config.name == name) {
        Some(index) => Ok(all.swap_remove(index)),
        None => Err(no_pipeline(name, all.iter().map(|p| p.config.name.as_str()))),
    }
}

/// A failure for a name that no pipeline has.
pub(crate) fn no_pipeline<'a>(name: &str, known: impl Iterator<Item = &'a str>) -> Failure {
    let failure = Failure::new(FailureKind::Configuration, format!("there is no pipeline `{name}`"));
    match names::remedy(name, "pipelines", known) {
        Some(help) => failure.with_help(help),
        None => failure.with_help("make one of real events: sluice draft PIPELINE FILE"),
    }
}

fn twice(second: &PipelineConfig, first: &PipelineConfig) -> Problem {
    Problem::error(
        "name.taken",
        format!("{} is a pipeline `{}` already", first.source.name, first.name),
        Place { source: Arc::clone(&second.source), span: second.name_place.span.clone() },
    )
    .with_label("the second one")
    .with_help("give one of them another name")
}

fn read_source(root: &Path, path: &Path) -> Outcome<Arc<SourceText>> {
    let name = path.strip_prefix(root).unwrap_or(path).display().to_string();
    let bytes = std::fs::read(path).map_err(|e| Failure::io("read", path, &e))?;
    let text = String::from_utf8(bytes).map_err(|e| {
        let line = e.as_bytes()[..e.utf8_error().valid_up_to()].iter().filter(|b| **b == b'\n').count() + 1;
        Failure::new(FailureKind::Configuration, format!("{name} is not UTF-8, in line {line}"))
            .with_help("save the file as UTF-8")
    })?;
    // Some editors begin a file with a byte order mark.
    let text = text.strip_prefix('\u{feff}').map(str::to_string).unwrap_or(text);
    Ok(SourceText::new(name, text))
}
