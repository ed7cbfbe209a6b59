//! What real events look like: which fields there are, of which types, how full they are and how many distinct values
//! they have.
//!
//! A [`Profile`] is filled event by event, then [`Profile::guesses`] says what a contract for such events would be.

mod events;
mod field;
mod guess;
mod times;

use std::collections::HashMap;

use crate::config::ExtraFields;
use crate::contract::{Contract, ContractField};
use crate::limit::Limit;
use crate::problem::{Place, SourceText};
use crate::types::SqlType;
use crate::values::bytes::BytesSpelling;
use crate::values::time::TimeFormat;

pub use crate::distinct::Distinct;
pub use field::{FieldProfile, NULL_WORDS, Seen};
pub use guess::{FieldGuess, Guess, guess, is_plain};

/// The fields of objects that are followed at most; an object with more names is a map rather than a record.
const MOST_FIELDS: usize = 1000;

/// One field with those inside it.
#[derive(Clone, Debug, Default)]
pub struct ProfileNode {
    /// Its name within its object.
    pub name: String,
    /// What was seen.
    pub profile: FieldProfile,
    /// The fields of the objects that it holds, in the order of their first coming.
    pub children: Vec<ProfileNode>,
    places: HashMap<String, usize>,
    /// The place of the child that came last: the next is most often the one after it.
    last: usize,
}

impl ProfileNode {
    /// The child of a name, made where it is new. None where there are too many already.
    pub(crate) fn child(&mut self, name: &str) -> Option<&mut ProfileNode> {
        let next = self.last + 1;
        let index = match self.children.get(next) {
            Some(child) if child.name == name => next,
            _ => match self.places.get(name) {
                Some(index) => *index,
                None if self.children.len() >= MOST_FIELDS => return None,
                None => {
                    self.children.push(ProfileNode { name: name.to_string(), ..ProfileNode::default() });
                    self.places.insert(name.to_string(), self.children.len() - 1);
                    self.children.len() - 1
                }
            },
        };
        self.last = index;
        self.children.get_mut(index)
    }
}

/// A record that is not an event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Broken {
    /// Its number in the sample, from 1.
    pub number: u64,
    /// What is wrong.
    pub message: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// What was seen in some events.
#[derive(Clone, Debug, Default)]
pub struct Profile {
    /// Good events.
    pub events: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Records that are none, the first few of them.
    pub broken: Vec<Broken>,
    /// How many those are.
    pub broken_count: u64,
    /// The root, whose children are the fields.
    pub root: ProfileNode,
    /// What else is to be known, once each.
    pub notes: std::collections::BTreeSet<String>,
    /// Whether values have types of their own, as in JSON; in CSV all are texts.
    pub typed: bool,
    /// The fields whose types the source itself declares.
    pub declared: Vec<DeclaredField>,
}

/// A field whose type the source declares.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeclaredField {
    /// Where it stands in the event.
    pub path: Vec<String>,
    /// The type of contracts that takes its values.
    pub ty: SqlType,
    /// The narrower type, where bytes, times and UUIDs are declared as such.
    pub limit: Option<Limit>,
    /// How they are spelled, where the type does not say it.
    pub format: Option<&'static str>,
    /// Whether they may be null.
    pub nullable: bool,
    /// Whether it is a map: its values are one field, whatever their keys.
    pub is_map: bool,
}

impl DeclaredField {
    /// The fields of a schema, those within others too.
    pub fn all(schema: &arrow_schema::Schema) -> Vec<Self> {
        let mut found = Vec::new();
        Self::add(schema.fields(), &mut Vec::new(), &mut found);
        found
    }

    fn add(fields: &arrow_schema::Fields, above: &mut Vec<String>, found: &mut Vec<Self>) {
        for field in fields {
            above.push(field.name().clone());
            let (ty, format) = SqlType::of_arrow(field);
            let is_map = matches!(field.data_type(), arrow_schema::DataType::Map(..));
            let (path, limit, nullable) = (above.clone(), Limit::of_arrow(field), field.is_nullable());
            found.push(Self { path, ty, limit, format, nullable, is_map });
            if let arrow_schema::DataType::Struct(inner) = field.data_type() {
                Self::add(inner, above, found);
            }
            above.pop();
        }
    }

    /// What a contract says of the field.
    fn settle(&self, guess: &mut Guess) {
        guess.ty = self.ty;
        guess.limit = self.limit;
        guess.format = self.format.map(Into::into);
        guess.not_null |= !self.nullable && self.path.len() == 1;
        guess.misfits = 0;
        guess.notes.clear();
    }
}

impl Profile {
    /// The fields that a contract would name, each with its guess, in the order of their first coming.
    pub fn guesses(&self) -> Vec<FieldGuess> {
        let mut found = Vec::new();
        for child in &self.root.children {
            self.flatten(child, &mut Vec::new(), &mut found);
        }
        guess::name_all(&mut found);
        for field in &mut found {
            let declared = self.declared.iter().find(|d| d.path == field.path);
            if let Some(declared) = declared {
                declared.settle(&mut field.guess);
            }
        }
        found
    }

    /// A contract for such events that rejects as little as can be: every field may be null.
    pub fn contract(&self) -> Contract {
        let place = Place::new(&SourceText::new("", ""), 0..0);
        let field = |g: FieldGuess| ContractField {
            ty: if g.guess.misfits > 0 { SqlType::Text } else { g.guess.ty },
            format: g.guess.format.as_deref().and_then(|f| TimeFormat::parse(f).ok()),
            name: g.name,
            limit: None,
            spelling: BytesSpelling::default(),
            not_null: false,
            path: g.path,
            place: place.clone(),
        };
        Contract {
            fields: self.guesses().into_iter().map(field).collect(),
            extra: ExtraFields::Ignore,
            may_lack: false,
        }
    }

    /// Takes on the fields that a header row names, although no event has come yet.
    pub fn name_fields(&mut self, names: &[String]) {
        for name in names {
            self.root.child(name);
        }
    }

    /// Takes on the fields that the source declares, although no event has come yet.
    pub fn name_declared(&mut self) {
        for declared in &self.declared {
            // What holds others is known by them.
            let is_within =
                |d: &&DeclaredField| d.path.len() > declared.path.len() && d.path.starts_with(&declared.path);
            if self.declared.iter().any(|d| is_within(&d)) {
                continue;
            }
            let mut node = &mut self.root;
            for (depth, name) in declared.path.iter().enumerate() {
                let Some(child) = node.child(name) else { break };
                if depth + 1 < declared.path.len() {
                    // As an object of which nothing more is known.
                    child.profile.values = child.profile.values.max(1);
                    child.profile.objects = child.profile.values;
                }
                node = child;
            }
        }
    }

    /// The spellings of null that were seen.
    pub fn null_words(&self) -> Vec<&'static str> {
        self.guesses().iter().flat_map(|g| g.guess.null_words.clone()).collect()
    }

    fn flatten(&self, node: &ProfileNode, path: &mut Vec<String>, found: &mut Vec<FieldGuess>) {
        /// More names in one object than this are keys of a map.
        const RECORD: usize = 100;
        path.push(node.name.clone());
        let profile = &node.profile;
        let is_map = self.declared.iter().any(|d| d.is_map && d.path == *path);
        let only_objects = profile.objects > 0 && profile.objects == profile.values && !is_map;
        if only_objects && (1..=RECORD).contains(&node.children.len()) && path.len() < 8 {
            for child in &node.children {
                self.flatten(child, path, found);
            }
        } else {
            found.push(FieldGuess::new(path.clone(), profile.clone(), self.events, self.typed));
        }
        path.pop();
    }
}

#[cfg(test)]
mod tests;
