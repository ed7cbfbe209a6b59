//! Schemas of Protobuf: files of the language, or sets of descriptors that a compiler wrote.

use std::collections::HashSet;
use std::fmt;

use prost_reflect::{DescriptorPool, FileDescriptor, Kind, MessageDescriptor};
use protox::Compiler;
use protox::file::{ChainFileResolver, File, FileResolver, GoogleFileResolver};

use crate::guard::guarded;
use crate::limit::Limit;
use crate::profile::DeclaredField;
use crate::types::SqlType;

/// How deep brackets of a file may stand within each other: a reader of them goes down with each.
const DEPTH: u32 = 100;

/// Fields of a message and of all within it that a draft names.
const MOST_DECLARED: usize = 2_000;

/// A schema: what messages there are.
#[derive(Clone)]
pub struct Schema {
    pool: DescriptorPool,
    /// The files that were given and that no other imports.
    given: Vec<String>,
}

impl fmt::Debug for Schema {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Schema").field("given", &self.given).finish_non_exhaustive()
    }
}

/// Files that import each other by name. One is found by the end of its path, since its name depends on the folder that
/// imports begin at.
struct Given {
    files: Vec<(String, String)>,
}

impl FileResolver for Given {
    fn open_file(&self, name: &str) -> Result<File, protox::Error> {
        match self.files.iter().find(|(path, _)| is_named(path, name)) {
            Some((_, text)) => File::from_source(name, text),
            None => Err(protox::Error::file_not_found(name)),
        }
    }
}

impl Schema {
    /// Reads files, each with its path: texts of the language, or one set of descriptors.
    ///
    /// # Errors
    /// Says in words what is wrong.
    pub fn new(files: &[(String, Vec<u8>)]) -> Result<Self, String> {
        match files {
            [(path, bytes)] if !is_source(path, bytes) => Self::of_descriptors(path, bytes),
            _ => {
                let text = |(path, bytes): &(String, Vec<u8>)| match std::str::from_utf8(bytes) {
                    Ok(text) if is_source(path, bytes) => Ok((path.clone(), text.to_string())),
                    _ => Err(format!("{path} is a set of descriptors, which stands by itself, or no schema at all")),
                };
                Self::of_sources(files.iter().map(text).collect::<Result<_, _>>()?)
            }
        }
    }

    /// Reads texts of the language, each with its path.
    ///
    /// # Errors
    /// Says in words what is wrong.
    pub fn of_sources(files: Vec<(String, String)>) -> Result<Self, String> {
        for (path, text) in &files {
            if depth(text) > DEPTH {
                return Err(format!("{path}: its brackets stand too deep within each other"));
            }
        }
        guarded(|| {
            let mut imported = HashSet::new();
            for (path, text) in &files {
                let file = File::from_source(path, text).map_err(|e| shown(&e))?;
                imported.extend(file.file_descriptor_proto().dependency.iter().cloned());
            }
            let is_imported = |path: &str| imported.iter().any(|name| is_named(path, name));
            let mut given: Vec<String> =
                files.iter().map(|(path, _)| path.clone()).filter(|path| !is_imported(path)).collect();
            if given.is_empty() {
                given.extend(files.first().map(|(path, _)| path.clone()));
            }
            let mut resolver = ChainFileResolver::new();
            resolver.add(GoogleFileResolver::new());
            resolver.add(Given { files });
            let mut compiler = Compiler::with_file_resolver(resolver);
            for name in &given {
                compiler.open_file(name).map_err(|e| shown(&e))?;
            }
            Ok(Self { pool: compiler.descriptor_pool(), given })
        })?
    }

    fn of_descriptors(path: &str, bytes: &[u8]) -> Result<Self, String> {
        let pool = guarded(|| DescriptorPool::decode(bytes))?.map_err(|e| format!("{path}: {e}"))?;
        let files: Vec<FileDescriptor> = pool.files().collect();
        let imported: HashSet<String> =
            files.iter().flat_map(FileDescriptor::dependencies).map(|file| file.name().to_string()).collect();
        let given = files.iter().map(|file| file.name().to_string()).filter(|name| !imported.contains(name)).collect();
        match files.is_empty() {
            true => Err(format!("{path} describes nothing")),
            false => Ok(Self { pool, given }),
        }
    }

    /// The set of descriptors of all its files.
    pub fn descriptors(&self) -> Vec<u8> {
        self.pool.encode_to_vec()
    }

    /// The messages that a topic could hold, by their full names.
    pub fn messages(&self) -> Vec<String> {
        let files = self.given.iter().filter_map(|name| self.pool.get_file_by_name(name));
        files.flat_map(|file| file.messages().map(|m| m.full_name().to_string()).collect::<Vec<_>>()).collect()
    }

    /// The message of a name; of none, the only one that no other holds.
    ///
    /// # Errors
    /// Says in words why there is none, and names those that there are.
    pub(super) fn message(&self, name: Option<&str>) -> Result<MessageDescriptor, String> {
        let all = self.messages();
        let list = || all.iter().take(20).cloned().collect::<Vec<_>>().join(", ");
        if let Some(name) = name {
            let found = self.pool.get_message_by_name(name);
            return found.ok_or_else(|| match crate::names::nearest(name, all.iter().map(String::as_str)) {
                Some(near) => format!("there is no message {name}; did you mean {near}?"),
                None => format!("there is no message {name}, but {}", list()),
            });
        }
        let held: HashSet<String> = all
            .iter()
            .filter_map(|name| self.pool.get_message_by_name(name))
            .flat_map(|message| {
                let own = message.full_name().to_string();
                let held = message.fields().filter_map(|field| match field.kind() {
                    Kind::Message(inner) if inner.full_name() != own => Some(inner),
                    _ => None,
                });
                // Of a map, what its values are.
                let values = held.map(|inner| match inner.is_map_entry() {
                    true => inner.map_entry_value_field().kind().as_message().cloned().unwrap_or(inner),
                    false => inner,
                });
                values.map(|inner| inner.full_name().to_string()).collect::<Vec<_>>()
            })
            .collect();
        let mut free = all.iter().filter(|name| !held.contains(*name));
        match (free.next(), free.next()) {
            (Some(only), None) => self.message(Some(only)),
            _ if all.is_empty() => Err("it declares no message".into()),
            _ => Err(format!("it declares several messages: {}", list())),
        }
    }

    /// The message at a place: of the first file, by its indexes from the outermost in.
    pub(super) fn message_at(&self, indexes: &[usize]) -> Option<MessageDescriptor> {
        let file = self.pool.get_file_by_name(self.given.first()?)?;
        let (first, inner) = indexes.split_first()?;
        let outer = file.messages().nth(*first)?;
        inner.iter().try_fold(outer, |message, index| message.child_messages().nth(*index))
    }
}

/// Whether a path is that of a file which is imported by a name.
fn is_named(path: &str, name: &str) -> bool {
    path.strip_suffix(name).is_some_and(|before| before.is_empty() || before.ends_with('/'))
}

/// What is wrong with a file, in one line.
fn shown(error: &protox::Error) -> String {
    let text = error.to_string();
    match error.file() {
        Some(file) if !text.contains(file) => format!("{file}: {text}"),
        _ => text,
    }
}

/// Whether a file is text of the language, by its name and its bytes.
fn is_source(path: &str, bytes: &[u8]) -> bool {
    path.ends_with(".proto") && std::str::from_utf8(bytes).is_ok()
}

/// How deep brackets stand within each other, those in texts and comments too.
fn depth(text: &str) -> u32 {
    let (mut now, mut most) = (0_u32, 0);
    for byte in text.bytes() {
        match byte {
            b'{' | b'[' | b'(' | b'<' => now += 1,
            b'}' | b']' | b')' | b'>' => now = now.saturating_sub(1),
            _ => {}
        }
        most = most.max(now);
    }
    most
}

/// The fields of a message, those within others too.
pub(super) fn declared(message: &MessageDescriptor) -> Vec<DeclaredField> {
    let mut found = Vec::new();
    add_declared(message, &mut Vec::new(), &mut vec![message.full_name().to_string()], &mut found);
    found
}

fn add_declared(
    message: &MessageDescriptor,
    above: &mut Vec<String>,
    holders: &mut Vec<String>,
    found: &mut Vec<DeclaredField>,
) {
    for field in message.fields() {
        if found.len() >= MOST_DECLARED {
            return;
        }
        above.push(field.name().to_string());
        let is_many = field.is_list() || field.is_map();
        let ty = if is_many { SqlType::Json } else { type_of(&field.kind()) };
        let nullable = field.supports_presence() && !field.is_required();
        let limit = match field.is_list() {
            // Bytes in lists, and lists of messages, are JSON.
            true => Some(type_of(&field.kind())).filter(|_| !is_bytes(&field.kind())).and_then(Limit::list_of),
            false => (!field.is_map() && is_bytes(&field.kind())).then_some(Limit::Bytea),
        };
        found.push(DeclaredField { path: above.clone(), ty, limit, format: None, nullable, is_map: field.is_map() });
        // A message that holds its own kind is one value.
        if let (Kind::Message(inner), SqlType::Json, false) = (field.kind(), ty, is_many)
            && super::shapes::is_plain(&inner)
            && !holders.iter().any(|name| name == inner.full_name())
        {
            holders.push(inner.full_name().to_string());
            add_declared(&inner, above, holders, found);
            holders.pop();
        }
        above.pop();
    }
}

/// Whether values of a kind are bytes, in a wrapper or without.
fn is_bytes(kind: &Kind) -> bool {
    match kind {
        Kind::Bytes => true,
        Kind::Message(message) => super::shapes::wrapped(message).is_some_and(|inner| is_bytes(&inner)),
        _ => false,
    }
}

/// The type of contracts that takes the values of a kind.
fn type_of(kind: &Kind) -> SqlType {
    match kind {
        Kind::Int32 | Kind::Sint32 | Kind::Sfixed32 => SqlType::Integer,
        Kind::Int64 | Kind::Sint64 | Kind::Sfixed64 | Kind::Uint32 | Kind::Fixed32 => SqlType::Bigint,
        Kind::Uint64 | Kind::Fixed64 => SqlType::Decimal { precision: 20, scale: 0 },
        Kind::Double | Kind::Float => SqlType::Double,
        Kind::Bool => SqlType::Boolean,
        Kind::String | Kind::Bytes | Kind::Enum(_) => SqlType::Text,
        Kind::Message(message) => match message.full_name() {
            "google.protobuf.Timestamp" => SqlType::Timestamptz,
            "google.protobuf.Duration" => SqlType::Text,
            _ => super::shapes::wrapped(message).map_or(SqlType::Json, |inner| type_of(&inner)),
        },
    }
}

/// The names of the files that a file of the language imports; none of what is none.
pub fn imports(path: &str, bytes: &[u8]) -> Vec<String> {
    let text = std::str::from_utf8(bytes).ok().filter(|text| is_source(path, bytes) && depth(text) <= DEPTH);
    let file = text.and_then(|text| guarded(|| File::from_source(path, text).ok()).ok().flatten());
    file.map_or_else(Vec::new, |file| file.file_descriptor_proto().dependency.clone())
}
