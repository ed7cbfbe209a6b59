//! From a checked pipeline file to a plan: binds every name and types every expression.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use super::overlap::check_overlaps;
use super::{ArrivalPlan, BatchLimits, EventPlan, FeedReads, Plan, RejectLimit, SealedTexts};
use crate::columns::OutputColumn;
use crate::config::{ArrivalConfig, EventConfig, ExtraFields, Options, PipelineConfig, ProjectConfig};
use crate::context::{CHANGE_COLUMNS, COLUMNS, Context, FILE_COLUMNS, MIXED_COLUMNS, PREFIX, plain};
use crate::contract::{Contract, ContractField, EXTRA_COLUMN, parse_fields};
use crate::formats;
use crate::kinds::Registry;
use crate::problem::{Problem, Problems, SourceText};
use crate::types::SqlType;

/// Reads and resolves one pipeline. The plan runs only if no problem is an error.
pub fn load(
    project: &Arc<SourceText>,
    pipeline: &Arc<SourceText>,
    registry: &Registry,
    problems: &mut Problems,
) -> Plan {
    let project_config = ProjectConfig::read(project, registry, problems);
    let config = PipelineConfig::read(pipeline, &project_config, registry, problems);
    let texts = SealedTexts { project: project.text.clone(), pipeline: pipeline.text.clone() };
    resolve(&config, texts, problems)
}

/// Binds a pipeline. What is wrong is added to `problems`; the plan runs only if none is an error.
pub fn resolve(config: &PipelineConfig, texts: SealedTexts, problems: &mut Problems) -> Plan {
    let mut resolver = Resolver { config, problems, plan: empty(config, texts), columns: HashMap::new() };
    resolver.events();
    resolver.check_lists();
    check_overlaps(&[(config, &resolver.plan)], resolver.problems);
    resolver.plan.secrets = config.functions.used_secrets();
    resolver.plan
}

fn empty(config: &PipelineConfig, texts: SealedTexts) -> Plan {
    Plan {
        pipeline: config.name.clone(),
        about: config.about.clone(),
        batch: BatchLimits {
            rows: config.batch_rows,
            bytes: config.batch_bytes,
            every: config.batch_every,
            may_split: config.batch_may_split,
        },
        rejects: RejectLimit { share: config.reject_share, least: config.reject_least },
        rate: config.rate,
        cores: config.cores,
        events: Vec::new(),
        arrivals: Vec::new(),
        landings: Vec::new(),
        secrets: Vec::new(),
        texts,
    }
}

/// The column beside those of a landing that says that its rows are changes of a feed.
pub const FEED: &str = "@feed";

/// What rows of changes land with where no columns are named.
pub(super) const OF_CHANGES: &[&str] =
    &["origin.change", "origin.position", "origin.within", "origin.time", "origin.absent"];

pub(super) struct Resolver<'a> {
    pub(super) config: &'a PipelineConfig,
    pub(super) problems: &'a mut Problems,
    pub(super) plan: Plan,
    /// Events that are resolved, by name: their place in the plan.
    columns: HashMap<String, usize>,
}

/// The way from an event over those that it is made of, back to where it has been: the circle that this leads into, from its first
/// event on. Empty where it ends.
fn circle_of<'c>(event: &'c EventConfig, waiting: &[&'c EventConfig]) -> Vec<&'c str> {
    let mut way: Vec<&str> = Vec::new();
    let mut next = Some(event);
    while let Some(one) = next {
        if let Some(place) = way.iter().position(|name| *name == one.name) {
            return way.split_off(place);
        }
        way.push(&one.name);
        let parents = one.made.iter().flat_map(|made| made.parents());
        next = parents.filter_map(|parent| waiting.iter().find(|other| other.name == parent.value)).next().copied();
    }
    Vec::new()
}

impl Resolver<'_> {
    fn events(&mut self) {
        if self.config.events.is_empty() && self.config.groups.is_empty() {
            self.problems.add(
                Problem::error("key.missing", "a pipeline needs an event", self.config.name_place.clone())
                    .with_help("write [event.NAME] with fields, arrives and lands"),
            );
        }
        let mut waiting: Vec<&EventConfig> = self.config.events.iter().collect();
        for event in &waiting {
            self.check_origin(event);
            self.check_use(event);
        }
        // An event that is made comes after the one it is made of, wherever it stands in the file.
        while !waiting.is_empty() {
            let before = waiting.len();
            waiting.retain(|event| !self.event(event));
            if waiting.len() == before {
                break;
            }
        }
        let mut told: BTreeSet<&str> = BTreeSet::new();
        for event in &waiting {
            let Some(made) = &event.made else { continue };
            let circle = circle_of(event, &waiting);
            // Events below a circle have nothing wrong themselves.
            let is_new = circle.first() == Some(&event.name.as_str()) && !told.contains(event.name.as_str());
            if is_new {
                let message = format!("`{}` is made of itself: {} of {0}", event.name, circle.join(" of "));
                self.problems.add(
                    Problem::error("event.source", message, made.of.place.clone())
                        .with_label("leads back here")
                        .with_help("one event of the circle must arrive"),
                );
                told.extend(circle);
            }
        }
    }

    fn check_origin(&mut self, event: &EventConfig) {
        let place = event.place.clone();
        let name = &event.name;
        match (&event.made, event.arrivals.is_empty()) {
            (None, true) => self.problems.add(
                Problem::error("event.source", format!("`{name}` has no origin"), place)
                    .with_help(format!("write [event.{name}.arrives], or made = {{ of = \"…\" }}")),
            ),
            (Some(_), false) => self.problems.add(
                Problem::error("event.source", format!("`{name}` arrives and is made as well"), place)
                    .with_help("give one of the two an event of its own"),
            ),
            (None, false) if event.fields.is_none() => self.problems.add(
                Problem::error("key.missing", format!("event `{name}` arrives and needs the key `fields`"), place)
                    .with_help("its contract, as SQL column definitions: fields = \"id text not null, …\""),
            ),
            (Some(made), true) => {
                let known = || self.config.events.iter().map(|e| e.name.as_str());
                for parent in made.parents().filter(|parent| !known().any(|e| e == parent.value)) {
                    let message = format!("there is no event `{}`", parent.value);
                    let problem = Problem::error("name.unknown", message, parent.place.clone());
                    let problem = problem.with_label("binds to nothing").with_nearest(&parent.value, "events", known());
                    self.problems.add(problem);
                }
            }
            _ => {}
        }
    }

    fn check_use(&mut self, event: &EventConfig) {
        let feeds = |e: &EventConfig| e.made.as_ref().is_some_and(|m| m.parents().any(|p| p.value == event.name));
        if event.landings.is_empty() && !self.config.events.iter().any(feeds) {
            self.problems.add(
                Problem::error("event.unused", format!("`{}` lands nowhere", event.name), event.place.clone())
                    .with_label("read for nothing")
                    .with_help(format!("write [event.{}.lands.NAME] with at = \"CONNECTION\"", event.name)),
            );
        }
    }

    /// Resolves one event; false where it must wait for another.
    fn event(&mut self, event: &EventConfig) -> bool {
        let parent = match &event.made {
            Some(made) => {
                let parents: Option<Vec<usize>> =
                    made.parents().map(|parent| self.columns.get(&parent.value).copied()).collect();
                match parents {
                    Some(parents) => Some((parents, made)),
                    None => return false,
                }
            }
            None => None,
        };
        let index = self.plan.events.len();
        let mut context = Context::default();
        let (contract, columns) = match parent {
            Some((parents, made)) => (None, self.makings(event, made, &parents, index)),
            None => {
                let (mut contract, mut columns) = self.contract(event);
                context = self.context(event);
                columns.extend(context.output_columns());
                if context.is_of_changes() {
                    // A delete may tell the key alone, a truncate tells nothing.
                    columns.iter_mut().for_each(|c| c.nullable = true);
                    contract.iter_mut().for_each(|c| c.may_lack = true);
                }
                (contract, columns)
            }
        };
        let time = self.time(event, &columns).or_else(|| self.inherited_time(event, index));
        let key = self.key(event, &columns);
        self.columns.insert(event.name.clone(), index);
        self.plan.events.push(EventPlan {
            name: event.name.clone(),
            contract,
            columns,
            context,
            time,
            clock: None,
            key,
            makes: Vec::new(),
            landings: Vec::new(),
        });
        self.arrivals(event, index);
        for landing in &event.landings {
            self.landing(event, index, landing);
        }
        self.read_context(index, time.into_iter());
        if let Some((parent, making)) = self.made_here(index) {
            self.check_changes(event, parent, making);
        }
        true
    }

    /// Notes which columns of the context are read.
    pub(super) fn read_context(&mut self, event: usize, columns: impl Iterator<Item = usize>) {
        let event = &mut self.plan.events[event];
        let first = event.fields().len();
        for column in columns {
            if let Some(used) = column.checked_sub(first).and_then(|i| event.context.used.get_mut(i)) {
                *used = true;
            }
        }
    }

    /// The columns of the origin of an event.
    fn context(&mut self, event: &EventConfig) -> Context {
        let kinds = || event.arrivals.iter().filter_map(|a| a.kind.as_ref());
        if kinds().any(|k| k.is_feed()) {
            if event.arrivals.len() > 1 {
                let message = format!("`{}` arrives from a change feed, and from elsewhere as well", event.name);
                self.problems.add(
                    Problem::error("event.source", message, event.place.clone())
                        .with_help("changes have an order of their own; give each place an event of its own"),
                );
            }
            return Context::new(CHANGE_COLUMNS);
        }
        let of_messages = kinds().filter(|k| k.has_messages()).count();
        match of_messages {
            0 => Context::new(FILE_COLUMNS),
            n if n == kinds().count() => Context::new(COLUMNS),
            _ => Context::new(MIXED_COLUMNS),
        }
    }

    fn contract(&mut self, event: &EventConfig) -> (Option<Contract>, Vec<OutputColumn>) {
        let Some(text) = &event.fields else { return (None, Vec::new()) };
        let fields = parse_fields(text, self.problems);
        if fields.is_empty() && !self.problems.has_errors() {
            self.problems.add(
                Problem::error("key.missing", format!("the contract of `{}` names no field", event.name), text.whole())
                    .with_help("write at least one: id text not null"),
            );
        }
        for field in fields.iter().filter(|f| f.name.to_lowercase().starts_with(PREFIX)) {
            let message = format!("`{}` is the name of a column of the origin", field.name);
            self.problems.add(Problem::error("name.taken", message, field.place.clone()).with_help(format!(
                "name the field otherwise: {} text from '…'",
                plain(&field.name).replace('.', "_")
            )));
        }
        let mut columns: Vec<OutputColumn> = fields.iter().map(ContractField::column).collect();
        if event.extra == ExtraFields::Keep {
            if let Some(field) = fields.iter().find(|f| f.name == EXTRA_COLUMN) {
                self.problems.add(
                    Problem::error(
                        "name.taken",
                        "with extra = \"keep\" the column `extra` is already there",
                        field.place.clone(),
                    )
                    .with_help("name the field otherwise: more text from 'extra'"),
                );
            }
            columns.push(OutputColumn { name: EXTRA_COLUMN.into(), ty: SqlType::Json, nullable: true, limit: None });
        }
        (Some(Contract { fields, extra: event.extra, may_lack: false }), columns)
    }

    fn time(&mut self, event: &EventConfig, columns: &[OutputColumn]) -> Option<usize> {
        let time = event.time.as_ref()?;
        let Some(index) = columns.iter().position(|c| c.name == time.value) else {
            self.problems.add(
                Problem::error("name.unknown", format!("there is no field `{}`", time.value), time.place.clone())
                    .with_label("binds to nothing")
                    .with_nearest(&time.value, "fields", columns.iter().map(|c| c.name.as_str())),
            );
            return None;
        };
        if !matches!(columns[index].ty, SqlType::Timestamptz | SqlType::Date) {
            self.problems.add(
                Problem::error(
                    "type.mismatch",
                    format!("the event time must be a timestamptz, `{}` is {}", time.value, columns[index].ty),
                    time.place.clone(),
                )
                .with_help("name another field, or change its type"),
            );
        }
        Some(index)
    }

    fn key(&mut self, event: &EventConfig, columns: &[OutputColumn]) -> Vec<usize> {
        let mut key = Vec::new();
        for name in &event.key.value {
            match columns.iter().position(|c| c.name == *name) {
                Some(index) => key.push(index),
                None => self.problems.add(
                    Problem::error("name.unknown", format!("there is no field `{name}`"), event.key.place.clone())
                        .with_label("binds to nothing")
                        .with_nearest(name, "fields", columns.iter().map(|c| c.name.as_str())),
                ),
            }
        }
        key
    }

    fn arrivals(&mut self, event: &EventConfig, index: usize) {
        for (number, arrival) in event.arrivals.iter().enumerate() {
            self.format(arrival);
            self.headless(&arrival.options, index);
            let (Some(kind), Some(connection)) = (&arrival.kind, &arrival.connection) else { continue };
            let mut label = format!("{}.{number}", event.name);
            let contract = self.plan.events[index].contract.clone().map(Arc::new);
            let reads = FeedReads { contract, computed: Vec::new(), mirror_keys: Vec::new() };
            if kind.is_feed() {
                // The tables of a connection arrive by one reading, whichever event stands first.
                label = format!("{}.feed", connection.name);
                if let Some(feed) = self.plan.arrivals.iter_mut().find(|a| a.label == label) {
                    feed.others.push((index, arrival.options.clone()));
                    feed.reads.push(reads);
                    continue;
                }
            }
            self.plan.arrivals.push(ArrivalPlan {
                event: index,
                place: format!("{}.{label}", self.config.name),
                label,
                kind: Arc::clone(kind),
                connection: connection.clone(),
                options: arrival.options.clone(),
                lanes: match kind.is_feed() {
                    // A log has one order.
                    true => 1,
                    false => u32::try_from(arrival.options.integer("lanes")).unwrap_or(1).max(1),
                },
                others: Vec::new(),
                reads: if kind.is_feed() || kind.is_list(&arrival.options) { vec![reads] } else { Vec::new() },
            });
        }
    }

    /// Not every kind has every format.
    fn format(&mut self, arrival: &ArrivalConfig) {
        let (Some(kind), Some(format)) = (&arrival.kind, arrival.options.located_text("format")) else { return };
        if !kind.formats().contains(&format.value.as_str()) {
            let message = format!("events that arrive from `{}` cannot be {}", kind.name(), format.value);
            self.problems.add(
                Problem::error("value.type", message, format.place)
                    .with_help(format!("it can be {}", kind.formats().join(" or "))),
            );
            return;
        }
        formats::check(&arrival.options, self.problems);
        let opened = formats::format(&arrival.options).filter(|_| kind.has_messages());
        if let Some((message, help)) = opened.and_then(|opened| opened.fault_in_messages()) {
            self.problems.add(Problem::error("value.type", message, format.place).with_help(help));
        }
    }

    /// Where no header row names the columns, their numbers are their names.
    fn headless(&mut self, options: &Options, event: usize) {
        let Some(format) = formats::format(options) else { return };
        let fields = self.plan.events[event].contract.as_ref().map_or(&[][..], |c| &c.fields);
        for (i, field) in fields.iter().enumerate() {
            if format.takes_path(&field.path) {
                continue;
            }
            if let Some(names) = format.field_names() {
                let path = field.path.join(".");
                self.problems.add(
                    Problem::error("name.unknown", format!("a line has no field `{path}`"), field.place.clone())
                        .with_label("binds to nothing")
                        .with_nearest(&path, "fields of a line", names.iter().map(String::as_str)),
                );
            } else {
                self.problems.add(
                    Problem::error(
                        "name.unknown",
                        format!("without a header row there is no column `{}`", field.path.join(".")),
                        field.place.clone(),
                    )
                    .with_label("binds to nothing")
                    .with_help(format!(
                        "columns are named 1, 2, … then: {} {} from '{}'",
                        field.name,
                        field.ty,
                        i + 1
                    )),
                );
            }
        }
    }
}
