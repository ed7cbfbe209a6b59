//! A pipeline with every name bound and every type known: what runs.

mod changed;
mod each;
mod joined;
mod known;
mod landed;
mod listed;
mod made;
mod meeting;
mod overlap;
pub mod path;
mod referenced;
mod resolve;
pub mod transform;
mod unfolded;

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use crate::columns::OutputColumn;
use crate::config::{ConnectionConfig, Options};
use crate::context::Context;
use crate::contract::Contract;
use crate::expr::secrets::ExpressionSecret;
use crate::failure::Outcome;
use crate::flow::Unfold;
use crate::formats::Format;
use crate::kinds::{
    ChangeSupport, Computed, Fit, Intake, IntakeKind, IntakeView, Landing, LandingKind, MirrorKey, Registry, Settings,
};
use crate::secret::SecretStore;
use crate::state::StatePlan;
use crate::throttle::{ReadRate, Throttles};

pub use each::{new_tables, write_out};
pub use known::{ArrivalChoice, LedgerName, LedgerNameKind, UNKNOWN};
pub use meeting::Meeting;
pub use overlap::check_overlaps;
pub use path::{BatchFolders, Groups, PathTemplate};
pub use resolve::{FEED, load, resolve};
pub use transform::{Transform, Transformed};

/// When a batch is full.
#[derive(Clone, Copy, Debug)]
pub struct BatchLimits {
    /// Events.
    pub rows: u64,
    /// Bytes as read.
    pub bytes: u64,
    /// Time since it was opened.
    pub every: Duration,
    /// Whether a transaction of the source that alone reaches a limit may be split.
    pub may_split: bool,
}

/// How many rejects stop the run: both must be passed in one batch.
#[derive(Clone, Copy, Debug)]
pub struct RejectLimit {
    /// The share of the batch's events.
    pub share: f64,
    /// The least number.
    pub least: u64,
}

impl RejectLimit {
    /// Whether a batch has too many.
    pub fn is_passed(&self, rejected: u64, read: u64) -> bool {
        rejected >= self.least && rejected as f64 > self.share * read as f64
    }
}

/// A pipeline that can run.
pub struct Plan {
    /// Its name.
    pub pipeline: String,
    /// What it is for.
    pub about: Option<String>,
    /// When a batch is full.
    pub batch: BatchLimits,
    /// How many rejects stop the run.
    pub rejects: RejectLimit,
    /// How much it reads in a second.
    pub rate: ReadRate,
    /// How many threads of a lane decode and transform; None for as many as the machine has cores.
    pub cores: Option<usize>,
    /// The events; one that is made comes after the one it is made of.
    pub events: Vec<EventPlan>,
    /// Where events arrive.
    pub arrivals: Vec<ArrivalPlan>,
    /// The landings of all events.
    pub landings: Vec<LandingPlan>,
    /// The secrets that its expressions use.
    pub secrets: Vec<Arc<ExpressionSecret>>,
    /// The files that this was read from, for sealing.
    pub texts: SealedTexts,
}

impl Plan {
    /// Reads the secrets that its expressions use. To be called before events go through it.
    ///
    /// # Errors
    /// Where one cannot be read.
    pub fn read_secrets(&self, store: &dyn SecretStore) -> Outcome<()> {
        self.secrets.iter().try_for_each(|secret| secret.read(store))
    }

    /// Takes change feeds apart, so that each event has an arrival of its own: for looking, not for running.
    pub fn split_feeds(&mut self) {
        let arrivals = std::mem::take(&mut self.arrivals);
        let apart = |arrival: ArrivalPlan| -> Vec<ArrivalPlan> {
            if !arrival.kind.is_feed() {
                return vec![arrival];
            }
            let label = |event: usize| format!("{}.feed", self.events[event].name);
            arrival.events().map(|event| ArrivalPlan { label: label(event), ..arrival.only(event) }).collect()
        };
        self.arrivals = arrivals.into_iter().flat_map(apart).collect();
    }

    /// The events that are made by stations which remember, by their places, with what makes them.
    pub fn remembering(&self) -> impl Iterator<Item = (usize, &StatePlan)> {
        let makes = self.events.iter().flat_map(|e| &e.makes).filter(|m| m.side == 0);
        makes.filter_map(|m| Some((m.event, m.state.as_ref()?)))
    }

    /// Whether rows of an event go through a station that remembers on some of their ways.
    pub fn feeds_state(&self, event: usize) -> bool {
        self.events[event].makes.iter().any(|m| m.state.is_some() || self.feeds_state(m.event))
    }

    /// The events that stations which remember make, and all that is made of those, by their places.
    pub fn remembered_events(&self) -> BTreeSet<usize> {
        self.events_below(&self.remembering().map(|(event, _)| event).collect::<Vec<_>>())
    }

    /// Events with all that is made of them, by their places.
    pub fn events_below(&self, events: &[usize]) -> BTreeSet<usize> {
        let mut found = BTreeSet::new();
        let mut open = events.to_vec();
        while let Some(event) = open.pop() {
            if found.insert(event) {
                open.extend(self.events[event].makes.iter().map(|making| making.event));
            }
        }
        found
    }

    /// The landings that rows reach only through stations which remember, by their places.
    pub fn remembered_landings(&self) -> BTreeSet<usize> {
        let events = self.remembered_events();
        (0..self.landings.len()).filter(|place| events.contains(&self.landings[*place].event)).collect()
    }

    /// The landings to which one event can bring several rows, since a list of it is unfolded, by their places.
    pub fn unfolded_landings(&self) -> BTreeSet<usize> {
        let makes = self.events.iter().flat_map(|e| &e.makes).filter(|m| m.unfold.is_some());
        let events = self.events_below(&makes.map(|m| m.event).collect::<Vec<_>>());
        (0..self.landings.len()).filter(|place| events.contains(&self.landings[*place].event)).collect()
    }

    /// The landings that rows of an event can reach: its own and those of all that is made of it, by their places.
    pub fn landings_of(&self, event: usize) -> Vec<usize> {
        let mut events = vec![event];
        let mut at = 0;
        while at < events.len() {
            for making in &self.events[events[at]].makes {
                // Two ways may lead to one event: those of the sides of a join.
                if !events.contains(&making.event) {
                    events.push(making.event);
                }
            }
            at += 1;
        }
        events.iter().flat_map(|e| self.events[*e].landings.iter().copied()).collect()
    }
}

/// The texts that a batch is sealed with: finishing it later reads these, not the files as they are then.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct SealedTexts {
    /// `sluice.toml`. It holds references to secrets, never secrets.
    pub project: String,
    /// The pipeline file.
    pub pipeline: String,
}

impl SealedTexts {
    /// SHA-256 of both texts, as hexadecimal digits.
    pub fn digest(&self) -> String {
        use sha2::{Digest as _, Sha256};
        let mut hash = Sha256::new();
        hash.update((self.project.len() as u64).to_le_bytes());
        hash.update(&self.project);
        hash.update(&self.pipeline);
        hash.finalize().iter().map(|b| format!("{b:02x}")).collect()
    }
}

/// One event.
pub struct EventPlan {
    /// Its name.
    pub name: String,
    /// Its contract, where it arrives.
    pub contract: Option<Contract>,
    /// Its columns: the fields, then those of [`crate::context`] where it arrives as messages.
    pub columns: Vec<OutputColumn>,
    /// Its columns of [`crate::context`].
    pub context: Context,
    /// The column with the event time.
    pub time: Option<usize>,
    /// The time column for stations that remember: the event time, or else the broker's time. None without such stations, or
    /// without a time.
    pub clock: Option<usize>,
    /// The columns that tell one event from every other; empty where none are named.
    pub key: Vec<usize>,
    /// The events made of it.
    pub makes: Vec<Making>,
    /// Its landings, by their place in the plan.
    pub landings: Vec<usize>,
}

impl EventPlan {
    /// The columns without those of the context.
    pub fn fields(&self) -> &[OutputColumn] {
        &self.columns[..self.columns.len() - self.context.columns.len()]
    }
}

/// How an event is made of another.
pub struct Making {
    /// The list whose elements become rows before the transform.
    pub unfold: Option<Unfold>,
    /// The event that is made, by its place in the plan.
    pub event: usize,
    /// The transform of each row. Without `state` it gives the rows of the event, with `state` the input of the station.
    pub transform: Transform,
    /// What the station does with the rows, where it remembers.
    pub state: Option<StatePlan>,
    /// Of a join, the side that the rows come from; else 0.
    pub side: usize,
}

impl Making {
    /// Whether the rows are looked up for those of another event.
    pub fn is_looked_up(&self) -> bool {
        self.side > 0 && matches!(self.state, Some(StatePlan::Reference(_)))
    }
}

/// One place where an event arrives.
pub struct ArrivalPlan {
    /// The event, by its place in the plan.
    pub event: usize,
    /// Its name in the ledger: the event's name and its number there, `passage.0`.
    pub label: String,
    /// The same with the pipeline before it.
    pub place: String,
    /// The kind that reads it.
    pub kind: Arc<dyn IntakeKind>,
    /// The connection.
    pub connection: ConnectionConfig,
    /// The checked keys.
    pub options: Options,
    /// How many lanes its partitions are spread over.
    pub lanes: u32,
    /// Further events that arrive by the same reading, with their checked keys: tables of one change feed.
    pub others: Vec<(usize, Options)>,
    /// For each event of a change feed, and for that of a list, what is read of it.
    pub reads: Vec<FeedReads>,
}

/// What is read of an event that arrives from a change feed.
#[derive(Clone)]
pub struct FeedReads {
    /// Its contract.
    pub contract: Option<Arc<Contract>>,
    /// What is computed from several of its columns.
    pub computed: Vec<Computed>,
    /// By which columns its mirrors identify rows.
    pub mirror_keys: Vec<MirrorKey>,
}

/// One landing.
pub struct LandingPlan {
    /// The event, by its place in the plan.
    pub event: usize,
    /// Its name in the ledger: the event's name and its own, `passage.archive`.
    pub label: String,
    /// Its own name.
    pub name: String,
    /// The kind that writes it.
    pub kind: Arc<dyn LandingKind>,
    /// The connection.
    pub connection: ConnectionConfig,
    /// The checked keys.
    pub options: Options,
    /// What becomes of the event's rows.
    pub transform: Transform,
    /// The folder of each row.
    pub path: Option<PathTemplate>,
}

/// Where a project lives and how its secrets are read.
#[derive(Clone)]
pub struct Surroundings {
    /// The project's folder.
    pub root: std::path::PathBuf,
    /// The folder for what is only Sluice's.
    pub work: std::path::PathBuf,
    /// Where secrets are read.
    pub secrets: Arc<dyn SecretStore>,
    /// The kinds.
    pub registry: Registry,
    /// Asks who works for long to leave.
    pub stop: Arc<crate::run::Stop>,
    /// The limits of connections, which all pipelines of the process share.
    pub throttles: Arc<Throttles>,
}

impl Surroundings {
    /// What an intake or landing is opened with.
    pub fn settings(&self, connection: &ConnectionConfig, options: &Options) -> Settings {
        Settings {
            root: self.root.clone(),
            work: self.work.clone(),
            connection: connection.clone(),
            options: options.clone(),
            secrets: Arc::clone(&self.secrets),
            label: String::new(),
            contract: None,
            computed: Vec::new(),
            mirror_keys: Vec::new(),
            stop: Arc::clone(&self.stop),
        }
    }
}

impl ArrivalPlan {
    /// Opens the intake for a run.
    ///
    /// # Errors
    /// Where it cannot be reached.
    pub fn open(&self, around: &Surroundings) -> Outcome<Box<dyn Intake>> {
        self.kind.open(&self.all_settings(around))
    }

    /// Opens the intake for looking.
    ///
    /// # Errors
    /// Where it cannot be reached.
    pub fn view(&self, around: &Surroundings) -> Outcome<Box<dyn IntakeView>> {
        self.kind.view(&self.all_settings(around))
    }

    /// The events that arrive, in the order of their numbers in a change feed.
    pub fn events(&self) -> impl Iterator<Item = usize> {
        std::iter::once(self.event).chain(self.others.iter().map(|(event, _)| *event))
    }

    /// Whether it is a list, which is read whole again and again.
    pub fn is_list(&self) -> bool {
        self.kind.is_list(&self.options)
    }

    /// What the intake is opened with for each of the events.
    pub fn all_settings(&self, around: &Surroundings) -> Vec<Settings> {
        let others = self.others.iter().map(|(_, options)| options);
        let all = std::iter::once(&self.options).chain(others);
        let one = |(number, options)| {
            let reads: Option<&FeedReads> = self.reads.get(number);
            Settings {
                label: self.place.clone(),
                contract: reads.and_then(|r| r.contract.clone()),
                computed: reads.map_or_else(Vec::new, |r| r.computed.clone()),
                mirror_keys: reads.map_or_else(Vec::new, |r| r.mirror_keys.clone()),
                ..around.settings(&self.connection, options)
            }
        };
        all.enumerate().map(one).collect()
    }

    /// The arrival as it is for one event alone, to look at.
    #[must_use]
    pub fn only(&self, event: usize) -> Self {
        let number = self.events().position(|e| e == event).unwrap_or(0);
        let options = self.others.iter().find(|(e, _)| *e == event).map_or(&self.options, |(_, o)| o);
        Self {
            event,
            label: self.label.clone(),
            place: self.place.clone(),
            kind: Arc::clone(&self.kind),
            connection: self.connection.clone(),
            options: options.clone(),
            lanes: self.lanes,
            others: Vec::new(),
            reads: self.reads.get(number).cloned().into_iter().collect(),
        }
    }

    /// What the intake is opened with.
    pub fn settings(&self, around: &Surroundings) -> Settings {
        let fallback = || around.settings(&self.connection, &self.options);
        self.all_settings(around).into_iter().next().unwrap_or_else(fallback)
    }

    /// The format of its events.
    ///
    /// # Errors
    /// Never for a resolved plan.
    pub fn format(&self) -> Outcome<Arc<dyn Format>> {
        crate::formats::format(&self.options)
            .ok_or_else(|| crate::failure::Failure::internal(format!("no format for {}", self.label)))
    }
}

impl LandingPlan {
    /// Whether it would not equal its source without a row that cannot land.
    pub fn stops_at_refused(&self) -> bool {
        self.kind.stops_at_refused(&self.options)
    }

    /// What it does with changes.
    pub fn takes(&self) -> ChangeSupport {
        self.kind.takes(&self.options)
    }

    /// The columns that land.
    pub fn columns(&self) -> &[OutputColumn] {
        &self.transform.columns
    }

    /// What its store says of the rows that it takes.
    ///
    /// # Errors
    /// Where it cannot be reached.
    pub fn fit(&self, around: &Surroundings) -> Outcome<Option<Arc<dyn Fit>>> {
        self.kind.fit(&around.settings(&self.connection, &self.options), self.columns())
    }

    /// Opens the landing.
    ///
    /// # Errors
    /// Where it cannot be reached.
    pub fn open(&self, around: &Surroundings, pipeline: &str) -> Outcome<Box<dyn Landing>> {
        let label = format!("{pipeline}.{}", self.label);
        let settings = Settings { label: label.clone(), ..around.settings(&self.connection, &self.options) };
        self.kind.open(&settings, &label, self.columns())
    }
}
