//! The texts that make up a spec, read as TOML, and joined.
//!
//! A spec may take over entries of other files (`include`). All texts lie one after the other in one range of byte
//! offsets, so that a span names a place whichever file it is in, and a mistake may point into two files.

use std::collections::HashMap;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::broken::{self, Found};
use super::keys;
use crate::mistake::{Code, Mistake};

/// Bytes of a [`Sources`].
pub type Span = Range<usize>;

/// Bytes that a spec, or a file that it includes, may have.
pub const LONGEST: usize = 4 << 20;

/// One text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// Its path as people write it, relative to the project.
    pub path: String,
    /// The text.
    pub text: String,
    /// Offset of its first byte among all texts.
    pub start: usize,
}

/// Texts by their place in one range of offsets.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sources {
    files: Vec<Source>,
}

impl Sources {
    /// Adds a text, and says where it begins.
    pub fn add(&mut self, path: impl Into<String>, text: impl Into<String>) -> usize {
        // One byte between two texts, so that the end of one is not the beginning of the next.
        let start = self.files.last().map_or(0, |last| last.start + last.text.len() + 1);
        self.files.push(Source { path: path.into(), text: text.into(), start });
        start
    }

    /// All texts, in their order.
    pub fn files(&self) -> &[Source] {
        &self.files
    }

    /// The text in which an offset lies, and the offset in it.
    pub fn locate(&self, offset: usize) -> Option<(&Source, usize)> {
        let file = self.files.iter().rev().find(|file| file.start <= offset)?;
        Some((file, (offset - file.start).min(file.text.len())))
    }

    /// `path:line` of an offset.
    pub fn place(&self, offset: usize) -> String {
        self.locate(offset).map_or_else(String::new, |(file, local)| {
            format!("{}:{}", file.path, crate::mistake::line_and_column(&file.text, local).0)
        })
    }
}

/// A value and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    /// Where it stands in the text.
    pub span: Span,
    /// The value itself.
    pub value: Value,
}

/// A value of a document.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// A text.
    Text(String),
    /// A whole number; what 64 bits cannot hold is the largest.
    Integer(i64),
    /// A number.
    Float(f64),
    /// `true` or `false`.
    Flag(bool),
    /// A date, as it is written.
    Date(String),
    /// A list.
    List(Vec<Node>),
    /// A table.
    Table(Table),
}

/// A table, in the order of its file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Table {
    /// Its entries.
    pub entries: Vec<Entry>,
}

/// One entry of a table.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// Its name.
    pub name: String,
    /// Where the name stands.
    pub name_span: Span,
    /// Its value.
    pub node: Node,
}

impl Table {
    /// The entry of this name.
    pub fn get(&self, name: &str) -> Option<&Entry> {
        self.entries.iter().find(|entry| entry.name == name)
    }

    /// Leaves out what begins at such places.
    fn leave_out(&mut self, is_bad: &dyn Fn(&Span) -> bool) {
        // Where a table begins is no place of its own: it may be before a broken line that belongs to another one.
        let begins = |entry: &Entry| !matches!(entry.node.value, Value::Table(_)) && is_bad(&entry.node.span);
        self.entries.retain(|entry| !is_bad(&entry.name_span) && !begins(entry));
        for entry in &mut self.entries {
            match &mut entry.node.value {
                Value::Table(inner) => inner.leave_out(is_bad),
                Value::List(items) => {
                    for item in items {
                        if let Value::Table(inner) = &mut item.value {
                            inner.leave_out(is_bad);
                        }
                    }
                }
                _ => {}
            }
        }
    }

    /// The table as JSON, with sorted keys; what the digest of a spec is made of.
    pub fn as_json(&self) -> serde_json::Value {
        serde_json::Value::Object(
            self.entries.iter().map(|entry| (entry.name.clone(), entry.node.value.as_json())).collect(),
        )
    }
}

impl Value {
    /// The value as JSON. A date is the text that it is written as.
    pub fn as_json(&self) -> serde_json::Value {
        match self {
            Self::Text(text) | Self::Date(text) => text.clone().into(),
            Self::Integer(number) => (*number).into(),
            Self::Float(number) => (*number).into(),
            Self::Flag(flag) => (*flag).into(),
            Self::List(items) => items.iter().map(|item| item.value.as_json()).collect(),
            Self::Table(table) => table.as_json(),
        }
    }
}

/// Reads one text, with every place where it is no TOML. What stands in broken lines is left out.
pub fn read(text: &str, start: usize) -> (Table, Vec<Mistake>) {
    if text.len() > LONGEST {
        let message = format!("the file is longer than {} MiB, which no spec is", LONGEST >> 20);
        let remedy = "take out what does not belong into a spec";
        return (Table::default(), vec![Mistake::new(Code::NOT_TOML, start..start, message, remedy)]);
    }
    let (document, errors) = DeTable::parse_recoverable(text);
    let found: Vec<_> = errors
        .into_iter()
        .map(|error| Found { span: error.span().unwrap_or(0..0), words: error.message().trim().to_owned() })
        .collect();
    if found.is_empty() {
        return (table(document.as_ref(), start), Vec::new());
    }
    let (mut mistakes, broken) = broken::explain(text, &found);
    for place in mistakes.iter_mut().flat_map(|mistake| &mut mistake.places) {
        place.span = moved(place.span.clone(), start);
    }
    let mut read = table(document.as_ref(), start);
    let lies_in_broken = |span: &Span| {
        let local = span.start.saturating_sub(start).min(text.len());
        let line = text.as_bytes()[..local].iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        broken.contains(&line)
    };
    read.leave_out(&lies_in_broken);
    (read, mistakes)
}

fn moved(span: Span, start: usize) -> Span {
    span.start + start..span.end + start
}

fn table(table: &DeTable<'_>, start: usize) -> Table {
    let mut entries: Vec<_> = table
        .iter()
        .map(|(name, value)| Entry {
            name: name.as_ref().to_string(),
            name_span: moved(name.span(), start),
            node: node(value.as_ref(), value.span(), start),
        })
        .collect();
    entries.sort_by_key(|entry| entry.name_span.start);
    Table { entries }
}

fn node(value: &DeValue<'_>, span: Span, start: usize) -> Node {
    let value = match value {
        DeValue::String(text) => Value::Text(text.to_string()),
        DeValue::Integer(digits) => {
            // Out of range for 64 bits is out of range for every key; the keys' own ranges say so.
            Value::Integer(i64::from_str_radix(digits.as_str(), digits.radix()).unwrap_or(i64::MAX))
        }
        DeValue::Float(digits) => Value::Float(digits.as_str().parse().unwrap_or(f64::NAN)),
        DeValue::Boolean(flag) => Value::Flag(*flag),
        DeValue::Datetime(date) => Value::Date(date.to_string()),
        DeValue::Array(items) => {
            Value::List(items.iter().map(|item| node(item.as_ref(), item.span(), start)).collect())
        }
        DeValue::Table(inner) => Value::Table(table(inner, start)),
    };
    Node { span: moved(span, start), value }
}

/// Lays `own` over `taken`, which is what an included file says. `own` wins:
///
/// * a table is joined with the table of the same name, key by key, but for those that stand for one thing (`base`, one
///   depot, one toolchain, one service, one variant), which are taken whole;
/// * a list of tables keeps the included entries, in their order, and adds its own after them; one whose name (of a
///   folder, its `inside`) is there already replaces that one in its place;
/// * everything else is replaced.
pub fn join(taken: Table, own: Table) -> Table {
    join_at(taken, own, "")
}

fn join_at(mut taken: Table, own: Table, path: &str) -> Table {
    let mut places: HashMap<String, usize> =
        taken.entries.iter().enumerate().rev().map(|(place, entry)| (entry.name.clone(), place)).collect();
    for entry in own.entries {
        let below = if path.is_empty() { entry.name.clone() } else { format!("{path}.{}", entry.name) };
        let Some(there) = places.get(&entry.name).and_then(|place| taken.entries.get_mut(*place)) else {
            places.insert(entry.name.clone(), taken.entries.len());
            taken.entries.push(entry);
            continue;
        };
        let known = keys::find(&below);
        let whole = known.is_none_or(|key| key.whole);
        let joined = match (std::mem::replace(&mut there.node.value, Value::Flag(false)), entry.node.value) {
            (Value::Table(before), Value::Table(after)) if !whole => Value::Table(join_at(before, after, &below)),
            (Value::List(before), Value::List(after)) if !whole => Value::List(join_lists(before, after, &below)),
            (_, after) => after,
        };
        *there =
            Entry { name: entry.name, name_span: entry.name_span, node: Node { span: entry.node.span, value: joined } };
    }
    taken
}

/// The name of an entry of the list `list`; of a folder, where it appears.
pub(super) fn item_name<'a>(item: &'a Node, list: &str) -> Option<&'a str> {
    let Value::Table(table) = &item.value else { return None };
    match &table.get(if list == "folders" { "inside" } else { "name" })?.node.value {
        Value::Text(name) => Some(name),
        _ => None,
    }
}

fn join_lists(mut taken: Vec<Node>, own: Vec<Node>, list: &str) -> Vec<Node> {
    let name_of = |node: &Node| item_name(node, list).map(str::to_owned);
    // Only what was included is replaced; a name that stands twice in one file is a mistake that the rules tell.
    let replaceable = taken.len();
    for node in own {
        let name = name_of(&node);
        let there = taken[..replaceable].iter_mut().find(|before| name.is_some() && name_of(before) == name);
        match there {
            Some(before) => *before = node,
            None => taken.push(node),
        }
    }
    taken
}

/// One line of a joined spec: a key's path, its value as TOML, and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// The key's path: `env.SITE_PORT`, `steps[0].name`.
    pub key: String,
    /// Its value, as TOML.
    pub value: String,
    /// The value as JSON.
    pub json: serde_json::Value,
    /// Where the value stands.
    pub span: Span,
}

/// Every value of a document, by its key's full path.
pub fn lines(table: &Table) -> Vec<Line> {
    let mut lines = Vec::new();
    list_table(table, "", &mut lines);
    lines
}

fn list_table(table: &Table, path: &str, lines: &mut Vec<Line>) {
    for entry in &table.entries {
        let name = shown_name(&entry.name);
        let key = if path.is_empty() { name } else { format!("{path}.{name}") };
        list_node(&entry.node, key, lines);
    }
}

fn list_node(node: &Node, key: String, lines: &mut Vec<Line>) {
    match &node.value {
        Value::Table(table) if !table.entries.is_empty() => list_table(table, &key, lines),
        Value::List(items) if items.iter().any(|item| matches!(item.value, Value::Table(_))) => {
            for (number, item) in items.iter().enumerate() {
                list_node(item, format!("{key}[{number}]"), lines);
            }
        }
        value => {
            lines.push(Line { key, value: shown(value), json: value.as_json(), span: node.span.clone() });
        }
    }
}

fn shown_name(name: &str) -> String {
    let bare = |letter: char| letter.is_ascii_alphanumeric() || letter == '-' || letter == '_';
    if !name.is_empty() && name.chars().all(bare) { name.to_owned() } else { shown_text(name) }
}

fn shown_text(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// A value as TOML writes it; a table is not.
pub(super) fn shown(value: &Value) -> String {
    match value {
        Value::Text(text) => shown_text(text),
        Value::Integer(number) => number.to_string(),
        Value::Float(number) => toml::Value::Float(*number).to_string(),
        Value::Flag(flag) => flag.to_string(),
        Value::Date(date) => date.clone(),
        Value::List(items) => {
            format!("[{}]", items.iter().map(|item| shown(&item.value)).collect::<Vec<_>>().join(", "))
        }
        Value::Table(_) => "{}".to_owned(),
    }
}
