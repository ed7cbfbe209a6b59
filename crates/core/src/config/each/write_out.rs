//! Writes events out from groups of tables.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

use super::{EachConfig, Template, quoted};
use crate::config::pipeline::EventConfig;
use crate::kinds::TableShape;
use crate::names;
use crate::problem::{Moved, Place, Problem, Problems, SourceText};

/// Writes events out from groups of tables, behind the text of the file.
pub struct WriteOut<'a> {
    source: &'a Arc<SourceText>,
    text: String,
    moved: Vec<Moved>,
    /// By the name of the event, the table that has it.
    taken: HashMap<String, String>,
}

impl<'a> WriteOut<'a> {
    /// Begins with a file and the events that it names itself.
    pub fn new(source: &'a Arc<SourceText>, events: &[EventConfig]) -> Self {
        let taken = events.iter().map(|e| (e.name.clone(), format!("[event.{}]", e.name))).collect();
        Self { source, text: head(&source.text), moved: Vec::new(), taken }
    }

    /// Whether a text was written out from this very file.
    pub fn is_from(text: &str, source: &SourceText) -> bool {
        text.starts_with(&head(&source.text))
    }

    /// Adds an event for each table of a group.
    pub fn group(&mut self, group: &EachConfig, tables: &[TableShape], problems: &mut Problems) {
        for template in group.lands.iter().filter(|_| tables.len() > 1) {
            let Some(line) = template.mixes_keys() else { continue };
            let message =
                format!("the {} tables of each.{} would be kept in one and the same", tables.len(), group.name);
            problems.add(
                Problem::error("landing.overlap", message, Place::new(self.source, line.span.clone()))
                    .with_label("the same for all")
                    .with_help("table = \"{table}\" gives each its own; so does leaving the key out"),
            );
        }
        for table in tables {
            let full = format!("{}.{}", table.schema, table.name);
            if let Some(line) = group.lands.iter().find_map(|template| template.lacks_key(table)) {
                let message = format!("{full} has no primary key, so that its rows cannot be found again");
                problems
                    .add(Problem::error("key.missing", message, Place::new(self.source, line.span.clone())).with_help(
                    format!(
                        "except = \"{full}\" leaves it out; an [event.NAME] that reads it can land it in another mode"
                    ),
                ));
                continue;
            }
            let plain = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' };
            let event: String = fill(&group.event.value, table, |t| t.to_string()).chars().map(plain).collect();
            // A name begins with a letter, and a table need not.
            let event = match event.starts_with(|c: char| c.is_ascii_alphabetic()) {
                true => event,
                false => format!("t{}{event}", if event.starts_with('_') { "" } else { "_" }),
            };
            if !names::is_valid(&event) {
                let message = format!("the table {full} would give an event `{event}`, which is not a valid name");
                problems.add(
                    Problem::error("name.form", message, group.event.place.clone())
                        .with_help("event = \"t_{table}\" puts letters before it, 63 at most"),
                );
                continue;
            }
            if let Some(other) = self.taken.insert(event.clone(), full.clone()) {
                let message = format!("{other} and the table {full} would both be the event `{event}`");
                problems.add(
                    Problem::error("name.taken", message, group.event.place.clone())
                        .with_help("event = \"{schema}_{table}\" keeps them apart"),
                );
                continue;
            }
            self.event(group, table, &event);
        }
    }

    fn event(&mut self, group: &EachConfig, table: &TableShape, event: &str) {
        let full = format!("{}.{}", table.schema, table.name);
        let of: Arc<str> = full.as_str().into();
        let here = &group.place.span;
        self.line(&of, here, &format!("\n# each.{}\n[event.{event}]", group.name));
        if !table.key.is_empty() {
            let key: Vec<String> = table.key.iter().map(|k| quoted(k)).collect();
            self.line(&of, here, &format!("key = [{}]", key.join(", ")));
        }
        let fields: Vec<String> = table.columns.iter().map(|c| c.definition(&table.key)).collect();
        self.line(&of, here, &format!("fields = {}", quoted(&fields.join(", "))));
        self.line(&of, here, &format!("[event.{event}.arrives]\ntable = {}", quoted(&full)));
        // In texts of the template the names stand between quotes already.
        let inner = |name: &str| {
            let quoted = quoted(name);
            quoted[1..quoted.len() - 1].to_string()
        };
        for line in &group.arrives {
            self.line(&of, &line.span, &fill(&line.text, table, inner));
        }
        for Template { name, place, lines } in &group.lands {
            self.line(&of, &place.span, &format!("[event.{event}.lands.{name}]"));
            for line in lines {
                self.line(&of, &line.span, &fill(&line.text, table, inner));
            }
        }
    }

    /// Writes a line, or some, that come from one place.
    fn line(&mut self, of: &Arc<str>, from: &Range<usize>, text: &str) {
        let begin = self.text.len();
        self.text.push_str(text);
        self.text.push('\n');
        self.moved.push(Moved { to: begin..self.text.len(), from: from.clone(), of: Arc::clone(of) });
    }

    /// The text that runs.
    pub fn finish(self) -> Arc<SourceText> {
        SourceText::written_out(Arc::clone(self.source), self.text, self.moved)
    }
}

/// The text of a file with what parts it from the events behind it.
fn head(text: &str) -> String {
    format!("{text}\n# written out from the tables of the source\n")
}

fn fill(template: &str, table: &TableShape, spell: impl Fn(&str) -> String) -> String {
    template.replace("{table}", &spell(&table.name)).replace("{schema}", &spell(&table.schema))
}
