//! Pipelines with groups of tables, written out: asked from their sources, or as the last run found them.

use std::path::PathBuf;
use std::sync::Arc;

use sluice_core::config::PipelineConfig;
use sluice_core::config::each::WriteOut;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::plan;
use sluice_core::private;
use sluice_core::problem::{Problem, Problems, SourceText};

use crate::project::{Project, TableSource};

/// The text that a pipeline runs under; None where it is not known and nobody may be asked.
pub(crate) fn out(
    project: &Project,
    config: &PipelineConfig,
    problems: &mut Problems,
) -> Outcome<Option<Arc<SourceText>>> {
    let known = || {
        let text = std::fs::read_to_string(file(project, config)).ok()?;
        WriteOut::is_from(&text, &config.source).then(|| SourceText::new(config.source.name.clone(), text))
    };
    match project.asks {
        TableSource::Never => Ok(known()),
        TableSource::Seldom if let Some(known) = known() => Ok(Some(known)),
        TableSource::Seldom | TableSource::Now => plan::write_out(config, &project.surroundings(), problems).map(Some),
    }
}

/// Keeps what a run has found for commands that only look.
pub(crate) fn keep(project: &Project, config: &PipelineConfig) -> Outcome<()> {
    let file = file(project, config);
    let folder = file.parent().unwrap_or(&project.root);
    private::make_folders(folder)?;
    let beside = file.with_extension(format!("{}.tmp", std::process::id()));
    private::write(&beside, &config.source.text)?;
    std::fs::rename(&beside, &file).map_err(|e| Failure::io("rename", &beside, &e))
}

/// The problem of tables that could not be asked for.
pub(crate) fn unknown(config: &PipelineConfig, failure: &Failure) -> Problem {
    let place = config.groups.first().map_or_else(|| config.name_place.clone(), |g| g.place.clone());
    let problem =
        Problem::error("place.missing", failure.message.clone(), place).with_label("its tables are not known");
    match &failure.help {
        Some(help) => problem.with_help(help),
        None => problem,
    }
}

/// What is said where nobody may be asked.
pub(crate) fn not_asked(config: &PipelineConfig) -> Problem {
    let place = config.groups.first().map_or_else(|| config.name_place.clone(), |g| g.place.clone());
    Problem::warning("place.missing", "its tables are at the source, which was not contacted", place)
        .with_label("nothing of it is checked")
        .with_help("leave --offline out")
}

fn file(project: &Project, config: &PipelineConfig) -> PathBuf {
    let name = config.source.name.rsplit(['/', '\\']).next().unwrap_or_default();
    project.root.join(".sluice").join("written").join(name)
}
