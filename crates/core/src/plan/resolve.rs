//! From a checked pipeline file to a plan: binds every name and types every expression.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use super::overlap::check_overlaps;
use super::{
    ArrivalPlan, BatchLimits, EventPlan, FeedReads, LandingPlan, PathTemplate, Plan, RejectLimit, SealedTexts,
    Transform,
};
use crate::columns::OutputColumn;
use crate::config::{
    ArrivalConfig, EmbeddedText, EventConfig, ExtraFields, LandingConfig, OptionValue, Options, PipelineConfig,
    ProjectConfig,
};
use crate::context::{CHANGE, CHANGE_COLUMNS, COLUMNS, Context, FILE_COLUMNS, MIXED_COLUMNS, PREFIX, plain};
use crate::contract::{Contract, EXTRA_COLUMN, parse_fields};
use crate::expr::{ScopeColumn, SelectItem, bind_columns, bind_condition, bind_parts};
use crate::formats;
use crate::kinds::{ChangeSupport, Computed, MirrorKey, Registry};
use crate::problem::{Place, Problem, Problems, SourceText};
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
    check_overlaps(&[(config, &resolver.plan)], resolver.problems);
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
        events: Vec::new(),
        arrivals: Vec::new(),
        landings: Vec::new(),
        texts,
    }
}

/// The column beside those of a landing that says that its rows are changes of a feed.
pub const FEED: &str = "@feed";

/// What rows of changes land with where no columns are named.
const OF_CHANGES: &[&str] = &["origin.change", "origin.position", "origin.within", "origin.time", "origin.absent"];

pub(super) struct Resolver<'a> {
    pub(super) config: &'a PipelineConfig,
    pub(super) problems: &'a mut Problems,
    pub(super) plan: Plan,
    /// Events that are resolved, by name: their place in the plan.
    columns: HashMap<String, usize>,
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
        let unresolved: BTreeSet<&str> = waiting.iter().map(|event| event.name.as_str()).collect();
        for event in &waiting {
            let Some(made) = &event.made else { continue };
            if made.parents().any(|parent| unresolved.contains(parent.value.as_str())) {
                self.problems.add(
                    Problem::error(
                        "event.source",
                        format!("`{}` is made of itself", event.name),
                        made.of.place.clone(),
                    )
                    .with_label("leads back here")
                    .with_help("one event of the circle must arrive"),
                );
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
        let mut columns: Vec<OutputColumn> =
            fields.iter().map(|f| OutputColumn { name: f.name.clone(), ty: f.ty, nullable: !f.not_null }).collect();
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
            columns.push(OutputColumn { name: EXTRA_COLUMN.into(), ty: SqlType::Json, nullable: true });
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
                reads: if kind.is_feed() { vec![reads] } else { Vec::new() },
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
        } else if kind.has_messages() && formats::format(&arrival.options).is_some_and(|f| f.has_head()) {
            self.problems.add(
                Problem::error("value.type", "a message has no header row", format.place)
                    .with_help("write csv = { header = false }; fields then come from '1', from '2', …"),
            );
        }
    }

    /// Where no header row names the columns, their numbers are their names.
    fn headless(&mut self, options: &Options, event: usize) {
        let Some(format) = formats::format(options) else { return };
        let fields = self.plan.events[event].contract.as_ref().map_or(&[][..], |c| &c.fields);
        for (i, field) in fields.iter().enumerate() {
            if !format.takes_path(&field.path) {
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

    fn landing(&mut self, event: &EventConfig, index: usize, landing: &LandingConfig) {
        let input = self.plan.events[index].columns.clone();
        let (when, columns) = (landing.options.sql("when"), landing.options.sql("columns"));
        let beside = landing.kind.as_ref().map_or(&[][..], |k| k.expressions());
        let takes = landing.kind.as_ref().map_or(ChangeSupport::Rows, |k| k.takes(&landing.options));
        let options = keyed(landing, takes, &event.key.value);
        let beside: Vec<_> =
            beside.iter().filter_map(|(key, many)| Some((*key, *many, landing.options.sql(key)?))).collect();
        let transform = self.transform(when, columns, index, &beside, Some((takes, &landing.place)));
        let has_path = landing.kind.as_ref().is_some_and(|k| k.options().iter().any(|o| o.key == "path"));
        let path = match landing.options_template(has_path) {
            Some(text) => PathTemplate::bind(text, &transform.columns, &input, self.problems),
            None => None,
        };
        let most = landing.options.knows("max_folders").then(|| landing.options.integer("max_folders"));
        let most = most.and_then(|most| usize::try_from(most).ok()).unwrap_or(usize::MAX);
        let path = path.map(|path| path.with_most(most));
        if let Some(path) = &path {
            self.read_context(index, path.event_columns());
        }
        let (Some(kind), Some(connection)) = (&landing.kind, &landing.connection) else { return };
        if !self.problems.has_errors() {
            // Columns that do not bind are no ground to judge keys by.
            let found = kind.check_keys(&options, &transform.columns);
            found.into_iter().for_each(|problem| self.problems.add(problem));
        }
        self.note_computed(index, when, columns, &transform);
        if kind.takes(&options) == ChangeSupport::Mirror {
            self.note_mirror(index, &format!("{}.{}", event.name, landing.name), &options, &transform);
        }
        self.plan.events[index].landings.push(self.plan.landings.len());
        self.plan.landings.push(LandingPlan {
            event: index,
            label: format!("{}.{}", event.name, landing.name),
            name: landing.name.clone(),
            kind: Arc::clone(kind),
            connection: connection.clone(),
            options,
            transform,
            path,
        });
    }

    /// Notes expressions over several columns, and conditions, for the feed that the event arrives from.
    fn note_computed(
        &mut self,
        event: usize,
        when: Option<&EmbeddedText>,
        columns: Option<&EmbeddedText>,
        transform: &Transform,
    ) {
        let plan = &self.plan.events[event];
        let Some(contract) = plan.contract.as_ref().filter(|_| plan.context.is_of_changes()) else { return };
        let named = |place: usize| contract.fields.get(place).and_then(|f| f.path.first().cloned());
        let mut found = Vec::new();
        for (reads, text, is_condition) in transform.computed() {
            let Some(source) = (if is_condition { when } else { columns }) else { continue };
            let columns = reads.into_iter().filter_map(named);
            found.extend(columns.map(|column| Computed { column, text: text.clone(), place: source.whole() }));
        }
        if let Some(reads) = self.reads_of(event) {
            reads.computed.extend(found);
        }
    }

    /// Follows columns of an event that is made of another back to the event that arrives: which one it is, and which of
    /// its columns they are computed from.
    fn arrived(&self, event: usize, columns: BTreeSet<usize>) -> (usize, BTreeSet<usize>) {
        let made_of = |(parent, plan): (usize, &EventPlan)| {
            plan.makes.iter().find(|making| making.event == event).map(|making| (parent, making.transform.clone()))
        };
        let Some((parent, transform)) = self.plan.events.iter().enumerate().find_map(made_of) else {
            return (event, columns);
        };
        let mut read = BTreeSet::new();
        for place in columns {
            match transform.expression(place) {
                Some(expr) => expr.add_columns(&mut read),
                None => drop(read.insert(place)),
            }
        }
        self.arrived(parent, read)
    }

    /// What is read of an event that arrives from a change feed.
    fn reads_of(&mut self, event: usize) -> Option<&mut FeedReads> {
        self.plan.arrivals.iter_mut().find_map(|a| {
            let number = a.events().position(|e| e == event)?;
            a.reads.get_mut(number)
        })
    }

    /// Notes by which columns a mirror identifies rows, for the feed that the event arrives from.
    fn note_mirror(&mut self, event: usize, landing: &str, options: &Options, transform: &Transform) {
        let mut read = BTreeSet::new();
        for key in options.texts("key") {
            let Some(place) = transform.columns.iter().position(|c| c.name == key) else { continue };
            match transform.expression(place) {
                Some(expr) => expr.add_columns(&mut read),
                None => drop(read.insert(place)),
            }
        }
        let (event, read) = self.arrived(event, read);
        let plan = &self.plan.events[event];
        let Some(contract) = plan.contract.as_ref().filter(|_| plan.context.is_of_changes()) else { return };
        let named = |place: usize| contract.fields.get(place).and_then(|f| f.path.first().cloned());
        let columns = read.into_iter().filter_map(named).collect();
        let key = MirrorKey { landing: landing.into(), columns, place: options.place_of("key") };
        if let Some(reads) = self.reads_of(event) {
            reads.mirror_keys.push(key);
        }
    }

    fn deletes(&mut self, place: &Place) {
        self.problems.add(
            Problem::error("value.type", "rows of a change feed can be deleted", place.clone())
                .with_label("would keep deleted rows")
                .with_help("mode = \"mirror\" deletes them too; mode = \"changes\" adds each change"),
        );
    }

    /// Binds a condition and a select list over an event's columns. `beside` are further select lists, each with the
    /// key that it stands under, and whether it may have more than one item.
    pub(super) fn transform(
        &mut self,
        when: Option<&EmbeddedText>,
        columns: Option<&EmbeddedText>,
        event: usize,
        beside: &[(&str, bool, &EmbeddedText)],
        landing: Option<(ChangeSupport, &Place)>,
    ) -> Transform {
        let input = self.plan.events[event].columns.clone();
        let fields = self.plan.events[event].fields().len();
        let scope: Vec<ScopeColumn> =
            input.iter().map(|c| ScopeColumn { name: c.name.clone(), ty: c.ty, nullable: c.nullable }).collect();
        let when = when.and_then(|text| bind_condition(text, &scope, self.problems));
        let mut items = columns.map_or_else(Vec::new, |text| {
            // A star stands for the fields; columns of the origin have to be named.
            let items = bind_columns(text, &scope, fields, self.problems);
            if items.is_empty() && text.text.trim().is_empty() {
                self.problems.add(
                    Problem::error("key.missing", "`columns` names no column", text.whole())
                        .with_help("take the key out to land all fields as they are"),
                );
            }
            items
        });
        let is_feed = self.plan.events[event].context.is_of_changes();
        if columns.is_none() && (fields < input.len() || !beside.is_empty()) {
            items = input[..fields].iter().enumerate().map(|(i, c)| SelectItem::of_column(i, c)).collect();
            if is_feed && landing.is_some_and(|(takes, _)| takes == ChangeSupport::Rows) {
                // Rows of changes say what happened, and in which order.
                for i in (fields..input.len()).filter(|i| OF_CHANGES.contains(&input[*i].name.as_str())) {
                    let short = plain(&input[i].name);
                    let is_taken = input[..fields].iter().any(|f| f.name.eq_ignore_ascii_case(short));
                    let name = if is_taken { format!("origin_{short}") } else { short.to_string() };
                    items.push(SelectItem { name, ..SelectItem::of_column(i, &input[i]) });
                }
            }
        }
        if let Some(change) = input.iter().position(|c| is_feed && c.name == CHANGE) {
            let named = |name: &str| SelectItem { name: name.into(), ..SelectItem::of_column(change, &input[change]) };
            match landing {
                Some((ChangeSupport::Mirror | ChangeSupport::Changes, _)) => {
                    if beside.iter().all(|(key, ..)| *key != "change") {
                        items.push(named("@change"));
                    }
                    items.push(named(FEED));
                }
                Some((ChangeSupport::NoDeletes, place)) => self.deletes(place),
                _ => {}
            }
        }
        for (key, many, text) in beside {
            let parts = bind_parts(text, &scope, self.problems);
            if parts.len() > 1 && !many {
                self.problems.add(
                    Problem::error("value.type", format!("`{key}` is one expression"), parts[1].place.clone())
                        .with_help("join values with ||, as in lock_id || '/' || vessel_no"),
                );
            }
            for mut item in parts {
                item.name = if *many { format!("@{key}.{}", item.name) } else { format!("@{key}") };
                items.push(item);
            }
        }
        let transform = Transform::new(when, items, &input);
        self.read_context(event, transform.event_columns().into_iter());
        transform
    }
}

/// The keys of a landing. One that finds rows by their key does so by that of the event, unless it names its own.
fn keyed(landing: &LandingConfig, takes: ChangeSupport, key: &[String]) -> Options {
    let mut options = landing.options.clone();
    if matches!(takes, ChangeSupport::Mirror | ChangeSupport::NoDeletes) && !key.is_empty() && !options.is_set("key") {
        options.set("key", OptionValue::Texts(key.to_vec()), landing.place.clone());
    }
    options
}

impl LandingConfig {
    fn options_template(&self, has_path: bool) -> Option<&EmbeddedText> {
        if has_path { self.options.sql("path") } else { None }
    }
}
