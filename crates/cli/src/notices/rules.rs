//! The rules as sluice.toml has them now.

use std::path::PathBuf;
use std::time::SystemTime;

use sluice_core::config::notice::{NoticeRule, Recipient};

use crate::crew::MemberReport;
use crate::project::{LoadedPipeline, PROJECT_FILE, Project, TableSource};

/// Rules and recipients. A file that is edited is read again; one with errors leaves them as they are.
pub(super) struct Rules {
    pub(super) root: PathBuf,
    pub(super) project: String,
    /// The ledger's place, as written.
    pub(super) ledger: String,
    pub(super) notices: Vec<NoticeRule>,
    pub(super) recipients: Vec<Recipient>,
    /// For their contracts.
    pub(super) pipelines: Vec<LoadedPipeline>,
    /// What was read last: the file's time and length, and the texts that pipelines run under.
    known: Option<(Stamp, Vec<String>)>,
}

type Stamp = Option<(SystemTime, u64)>;

impl Rules {
    pub(super) fn new(root: PathBuf) -> Self {
        Self {
            root,
            project: String::new(),
            ledger: String::new(),
            notices: Vec::new(),
            recipients: Vec::new(),
            pipelines: Vec::new(),
            known: None,
        }
    }

    /// Reads sluice.toml where it has changed.
    pub(super) fn read_again(&mut self, reports: &[MemberReport]) {
        let data = std::fs::metadata(self.root.join(PROJECT_FILE)).ok();
        let stamp = data.and_then(|data| Some((data.modified().ok()?, data.len())));
        let texts: Vec<String> = reports.iter().map(|report| report.texts.clone()).collect();
        let now = Some((stamp, texts));
        if self.known == now {
            return;
        }
        self.known = now;
        // Half an edited file is read again when it is whole.
        let Ok(project) = Project::need(Some(&self.root)) else { return };
        if project.problems.has_errors() {
            tracing::warn!("sluice.toml has errors; notices stay as they were: sluice check");
            return;
        }
        let project = project.asking(TableSource::Never);
        self.pipelines = match project.config.notices.is_empty() {
            true => Vec::new(),
            false => project.pipelines().unwrap_or_default(),
        };
        self.project.clone_from(&project.config.name);
        self.ledger.clone_from(&project.config.ledger);
        self.notices = project.config.notices;
        self.recipients = project.config.recipients;
    }
}
