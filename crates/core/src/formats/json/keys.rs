//! Finds a key's field. Records of one source nearly always carry the same keys in the same order, so the key at each
//! place is first compared with the key that stood there before.

use rustc_hash::FxHashMap;

/// What a key of an object leads to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Target {
    /// No field of the contract.
    Extra,
    /// A field of the contract.
    Field(usize),
    /// An object that holds fields.
    Object(usize),
    /// Both: the value is a field, and holds others.
    Both(usize, usize),
}

/// The keys of one object that lead to fields, and the keys last seen at each place.
#[derive(Debug, Default)]
pub(super) struct Keys {
    targets: FxHashMap<Box<[u8]>, Target>,
    seen: Vec<(Box<[u8]>, Target)>,
}

impl Keys {
    /// The target that a key leads to at present.
    pub(super) fn get(&self, key: &[u8]) -> Target {
        self.targets.get(key).copied().unwrap_or(Target::Extra)
    }

    /// Makes a key lead to a target.
    pub(super) fn set(&mut self, key: &[u8], target: Target) {
        self.targets.insert(key.into(), target);
    }

    /// The target of the key at a place of its object.
    #[inline]
    pub(super) fn find(&mut self, place: usize, key: &[u8]) -> Target {
        if let Some((seen, target)) = self.seen.get(place)
            && **seen == *key
        {
            return *target;
        }
        self.find_by_name(place, key)
    }

    #[cold]
    fn find_by_name(&mut self, place: usize, key: &[u8]) -> Target {
        const REMEMBERED: usize = 1024;
        let target = self.get(key);
        if place < self.seen.len() {
            self.seen[place] = (key.into(), target);
        } else if place == self.seen.len() && place < REMEMBERED {
            self.seen.push((key.into(), target));
        }
        target
    }
}

/// Makes the path of a field lead to it, through the objects that hold it; the first object is the record.
pub(super) fn add_path(objects: &mut Vec<Keys>, path: &[String], field: usize) {
    let mut object = 0;
    for (depth, name) in path.iter().enumerate() {
        let known = objects[object].get(name.as_bytes());
        if depth + 1 == path.len() {
            let target = match known {
                Target::Object(inner) => Target::Both(field, inner),
                _ => Target::Field(field),
            };
            objects[object].set(name.as_bytes(), target);
            return;
        }
        let inner = match known {
            Target::Object(inner) | Target::Both(_, inner) => inner,
            _ => {
                objects.push(Keys::default());
                objects.len() - 1
            }
        };
        let target = match known {
            Target::Field(field) | Target::Both(field, _) => Target::Both(field, inner),
            _ => Target::Object(inner),
        };
        objects[object].set(name.as_bytes(), target);
        object = inner;
    }
}

/// What stands before the names of each object's fields, by the paths that were added: `cargo.` for those of `cargo`.
pub(super) fn prefixes<'p>(objects: &[Keys], paths: impl Iterator<Item = &'p [String]>) -> Vec<String> {
    let mut found = vec![String::new(); objects.len()];
    for path in paths {
        let (mut object, mut prefix) = (0, String::new());
        for name in path {
            let (Target::Object(inner) | Target::Both(_, inner)) = objects[object].get(name.as_bytes()) else { break };
            prefix.push_str(name);
            prefix.push('.');
            object = inner;
            found[object].clone_from(&prefix);
        }
    }
    found
}
