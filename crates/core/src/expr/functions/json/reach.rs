//! Ways into JSON: names one after the other, or a SQL/JSON path (SQL:2016, 9.39), walked over the text.

use std::borrow::Cow;

use super::look::{elements, first, member, members, type_of};
use super::predicate::Predicate;
use super::{Arguments, Prepared};

/// A way into JSON.
#[derive(Debug)]
pub(crate) struct Path {
    /// The steps from the value.
    pub(super) steps: Vec<Step>,
}

/// A step of a path.
#[derive(Debug)]
pub(super) enum Step {
    /// A name or a place, whichever the value has: of `#>`.
    Either(String),
    /// `.name`
    Member(String),
    /// `.*`
    Members,
    /// `[0]`, `[1 to last]`, `[0, 2]`
    Places(Vec<(Place, Place)>),
    /// `[*]`
    Elements,
    /// `? (condition)`
    Filter(Predicate),
    /// `.size()`
    Size,
    /// `.type()`
    Type,
}

/// A place in a list.
#[derive(Clone, Copy, Debug)]
pub(super) enum Place {
    /// From the first one, which is 0.
    Start(usize),
    /// So many before the last one.
    End(usize),
}

impl Place {
    fn of(self, length: usize) -> Option<usize> {
        match self {
            Self::Start(place) => Some(place),
            Self::End(before) => length.checked_sub(before + 1),
        }
    }
}

/// A value: a part of the text, or one that was made.
pub(super) type Value<'j> = Cow<'j, [u8]>;

/// The path of a call.
pub(super) fn of<'a>(a: &Arguments<'a>) -> &'a Path {
    match a.prepared {
        Prepared::Path(path) => path,
        other => unreachable!("bind prepares paths, not {other:?}"),
    }
}

impl Path {
    pub(super) fn of_names(names: Vec<String>) -> Self {
        Self { steps: names.into_iter().map(Step::Either).collect() }
    }

    /// The names of a way of names.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.steps.iter().filter_map(|step| match step {
            Step::Either(name) => Some(name.as_str()),
            _ => None,
        })
    }

    /// The values to which the path leads.
    pub(super) fn values<'j>(&self, json: &'j str) -> Vec<Value<'j>> {
        walk(&self.steps, vec![Cow::Borrowed(json.trim().as_bytes())], json)
    }
}

/// Follows steps from some values; `root` is what `$` means in conditions.
pub(super) fn walk<'j>(steps: &[Step], from: Vec<Value<'j>>, root: &'j str) -> Vec<Value<'j>> {
    steps.iter().fold(from, |values, step| {
        let mut next = Vec::new();
        for value in values {
            step.follow(value, root, &mut next);
        }
        next
    })
}

impl Step {
    fn follow<'j>(&self, value: Value<'j>, root: &'j str, out: &mut Vec<Value<'j>>) {
        let is_list = first(&value) == Some(b'[');
        match self {
            // Lax paths look into the elements of a list on their own.
            Self::Member(_) | Self::Members | Self::Filter(_) if is_list => {
                for element in list(&value) {
                    self.follow_one(element, root, out);
                }
            }
            _ => self.follow_one(value, root, out),
        }
    }

    fn follow_one<'j>(&self, value: Value<'j>, root: &'j str, out: &mut Vec<Value<'j>>) {
        match self {
            Self::Either(name) => out.extend(part(&value, |v| super::look::step(v, name))),
            Self::Member(name) => out.extend(part(&value, |v| member(v, name))),
            Self::Members => {
                let mut found = Vec::new();
                members(&value, |_, value| found.push(value.to_vec()));
                out.extend(found.into_iter().map(Cow::Owned));
            }
            Self::Elements => match first(&value) {
                Some(b'[') => out.extend(list(&value)),
                // Lax paths take what is not a list for a list of one.
                _ => out.push(value),
            },
            Self::Places(places) => {
                let all = match first(&value) {
                    Some(b'[') => list(&value),
                    _ => vec![value],
                };
                for (from, to) in places {
                    if let (Some(from), Some(to)) = (from.of(all.len()), to.of(all.len())) {
                        out.extend((from..=to.min(all.len().saturating_sub(1))).filter_map(|i| all.get(i).cloned()));
                    }
                }
            }
            Self::Filter(predicate) => {
                if predicate.holds(&value, root) == Some(true) {
                    out.push(value);
                }
            }
            Self::Size => {
                let length = if first(&value) == Some(b'[') { list(&value).len() } else { 1 };
                out.push(Cow::Owned(length.to_string().into_bytes()));
            }
            Self::Type => out.push(Cow::Owned(format!("\"{}\"", type_of(&value)).into_bytes())),
        }
    }
}

/// A part of a value, borrowed where the value is.
fn part<'j>(value: &Value<'j>, find: impl for<'v> Fn(&'v [u8]) -> Option<&'v [u8]>) -> Option<Value<'j>> {
    match value {
        Cow::Borrowed(value) => find(value).map(Cow::Borrowed),
        Cow::Owned(value) => find(value).map(|found| Cow::Owned(found.to_vec())),
    }
}

/// The elements of a list.
fn list<'j>(value: &Value<'j>) -> Vec<Value<'j>> {
    let mut found = Vec::new();
    match value {
        Cow::Borrowed(value) => {
            elements(value, |element| found.push(Cow::Borrowed(element)));
        }
        Cow::Owned(value) => {
            elements(value, |element| found.push(Cow::Owned(element.to_vec())));
        }
    }
    found
}
