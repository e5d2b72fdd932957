//! Reading a TOML document by its keys, collecting every mistake on the way instead of stopping at the first.

use super::At;
use super::document::{Entry, Node, Sources, Table, Value};
use super::keys::{self, Shape, State};
use super::{habits, rules};
use crate::mistake::{Code, Mistake, nearest};

pub(super) use super::document::Span;

/// One table of the document, with the path of its keys in [`keys::KEYS`] and where it is named.
#[derive(Clone)]
pub(super) struct TableAt<'a> {
    table: &'a Table,
    path: &'static str,
    span: Span,
}

/// A list of texts, with the place of each and of the whole.
pub(super) type Texts = At<Vec<At<String>>>;

/// A key that is there, but not where or as it should be.
#[derive(Debug, Clone)]
pub(super) struct Elsewhere {
    table: &'static str,
    key: &'static str,
    /// The table that it would be missing in, where that is one of several.
    at: Option<Span>,
}

/// Mistakes after which unknown keys are only named.
const GUESSED: usize = 1000;

/// Collects mistakes.
pub(super) struct Reader<'s> {
    pub(super) sources: &'s Sources,
    pub(super) mistakes: Vec<Mistake>,
    /// Keys that are there under another name or in another table: nobody need hear that they are missing.
    pub(super) elsewhere: Vec<Elsewhere>,
}

impl<'a> TableAt<'a> {
    pub(super) fn span(&self) -> Span {
        self.span.clone()
    }

    /// What is in it, in the order of the file.
    pub(super) fn entries(&self) -> impl Iterator<Item = &'a Entry> + use<'a> {
        self.table.entries.iter()
    }

    fn get(&self, name: &str) -> Option<&'a Entry> {
        self.table.get(name)
    }

    /// What stands under a key.
    pub(super) fn value(&self, name: &str) -> Option<&'a Value> {
        self.get(name).map(|entry| &entry.node.value)
    }

    /// Where a command stands: what is written for it, or its key where that is of several lines.
    pub(super) fn command_span(&self, name: &str) -> Option<Span> {
        let entry = self.get(name)?;
        let is_long = matches!(&entry.node.value, Value::Text(text) if text.contains('\n'));
        Some(if is_long { entry.name_span.clone() } else { entry.node.span.clone() })
    }

    /// Where a key stands, if it does.
    pub(super) fn key_span(&self, name: &str) -> Option<Span> {
        self.get(name).map(|entry| entry.name_span.clone())
    }
}

impl Reader<'_> {
    pub(super) fn push(&mut self, mistake: Mistake) {
        self.mistakes.push(mistake);
    }

    /// Begins a table whose keys are those of `path`: refuses unknown ones and those not run yet, and names
    /// those that are missing.
    pub(super) fn table<'a>(&mut self, table: &'a Table, path: &'static str, span: Span) -> TableAt<'a> {
        let known: Vec<_> = keys::children(path).collect();
        let free = known.iter().any(|(name, _)| *name == "*");
        let this = TableAt { table, path, span };
        let shown = self.named(&this);
        for entry in this.entries() {
            let (name, name_span) = (entry.name.as_str(), entry.name_span.clone());
            match known.iter().find(|(known, _)| *known == name) {
                Some(_) => {}
                None if free => {}
                // Whoever has so many has put something else here, and needs no guess for each.
                None if self.mistakes.len() > GUESSED => {
                    let message = format!("{shown} has no key `{name}`");
                    self.push(Mistake::new(Code::UNKNOWN_KEY, name_span, message, "leave it out"));
                }
                None => {
                    let usable = known.iter().map(|(name, _)| *name);
                    let near = || nearest(name, known.iter().map(|(name, _)| *name));
                    let (message, remedy) = if let Some(habit) = habits::name(path, name, &entry.node) {
                        if let Some(key) = habit.key {
                            self.elsewhere.push(Elsewhere { table: path, key, at: Some(this.span()) });
                        }
                        (format!("{shown} has no key `{name}`"), habit.remedy)
                    } else if let Some(table) = habits::belongs(path, name).filter(|_| near().is_none()) {
                        let key =
                            keys::children(table).find(|(known, _)| *known == name).map_or("", |(known, _)| known);
                        self.elsewhere.push(Elsewhere { table, key, at: None });
                        let is_table = matches!(entry.node.value, Value::Table(_));
                        let place = match table {
                            "" => "at the top of the file".to_owned(),
                            table => format!("into {}", self::shown(table)),
                        };
                        let message = format!("`{name}` stands in {shown}, and belongs {place}");
                        (message, misplaced(table, name, is_table))
                    } else {
                        let remedy = match near() {
                            Some(meant) => format!("write `{meant}`, or leave the line out"),
                            None => {
                                format!("leave it out; the keys here are {}", usable.collect::<Vec<_>>().join(", "))
                            }
                        };
                        (format!("{shown} has no key `{name}`"), remedy)
                    };
                    self.push(Mistake::new(Code::UNKNOWN_KEY, name_span, message, remedy));
                }
            }
        }
        for (name, key) in known {
            if key.state == State::Needed && this.table.get(name).is_none() {
                let message = format!("{shown} lacks the key `{name}`");
                let remedy = match (key.values, key.shape) {
                    ([first, ..], _) => format!("add {name} = \"{first}\": {}", key.meaning),
                    ([], Shape::Table) if key.path == "base" => {
                        format!("add [base] with debian = \"trixie\" and packages = [\"…\"]: {}", key.meaning)
                    }
                    ([], Shape::Table) => format!("add [{}]: {}", key.path, key.meaning),
                    ([], Shape::Number) if key.path == "spec" => "write spec = 1 as the first line".to_owned(),
                    ([], Shape::Number) => format!("add {name} = …: {}", key.meaning),
                    ([], Shape::Text | Shape::TextOrTexts) => format!("add {name} = \"…\": {}", key.meaning),
                    _ => format!("add it: {}", key.meaning),
                };
                self.push(Mistake::new(Code::MISSING_KEY, this.span.clone(), message, remedy));
            }
        }
        this
    }

    /// A table as its heading is written, by the name that stands there where any may.
    fn named(&self, table: &TableAt<'_>) -> String {
        let shown = shown(table.path);
        let written = self.sources.locate(table.span.start).and_then(|(source, at)| {
            source.text.get(at..at + table.span.len()).filter(|name| !name.is_empty() && name.len() <= 64)
        });
        match written.filter(|name| !name.contains(['[', ']', '{', '\n', '=', ' '])) {
            Some(name) if shown.matches('*').count() == 1 => {
                shown.replace('*', name.rsplit('.').next().unwrap_or(name))
            }
            _ => shown,
        }
    }

    /// Takes back that a key is missing that stands in another table, which is said of it there.
    pub(super) fn settle(&mut self) {
        for Elsewhere { table, key, at } in std::mem::take(&mut self.elsewhere) {
            let message = format!("{} lacks the key `{key}`", shown(table));
            let is_action = table == "steps[]" && ["run", "write", "copy"].contains(&key);
            self.mistakes.retain(|mistake| {
                // Of one certain table, it may have been said in other words.
                let ends = format!("lacks the key `{key}`");
                let is_of_it = match shown(table).split_once('*') {
                    Some((before, _)) => mistake.message.starts_with(before) && mistake.message.ends_with(&ends),
                    None => mistake.message == message,
                };
                let is_missing = mistake.code == Code::MISSING_KEY
                    && (is_of_it || (at.is_some() && mistake.message.ends_with(&ends)));
                let is_idle = is_action && mistake.code == Code::STEP_ACTION;
                let is_here =
                    at.as_ref().is_none_or(|at| mistake.places.first().is_some_and(|place| place.span == *at));
                !((is_missing || is_idle) && is_here)
            });
        }
    }

    fn wrong_type(&mut self, path: &str, name: &str, wanted: &str, node: &Node) {
        let have = match &node.value {
            Value::Text(_) => "a text",
            Value::Integer(_) => "a whole number",
            Value::Float(_) => "a number",
            Value::Flag(_) => "true or false",
            Value::Date(_) => "a date",
            Value::List(_) => "a list",
            Value::Table(_) => "a table",
        };
        let message = format!("`{name}` is {have}, and has to be {wanted}");
        let remedy = habits::shape(path, name, node).unwrap_or_else(|| {
            let example = keys::find(path).map(|key| key.example).filter(|example| !example.is_empty());
            match example {
                Some(example) => format!("write {wanted}, as in\n    {}", example.replace('\n', "\n    ")),
                None => format!("write {wanted}"),
            }
        });
        self.push(Mistake::new(Code::WRONG_TYPE, node.span.clone(), message, remedy));
    }

    /// A text under a key, if the key is there.
    pub(super) fn text(&mut self, table: &TableAt<'_>, name: &str) -> Option<At<String>> {
        self.text_of(&below(table, name), name, &table.get(name)?.node)
    }

    /// A value that has to be a text.
    pub(super) fn text_of(&mut self, path: &str, name: &str, node: &Node) -> Option<At<String>> {
        match &node.value {
            Value::Text(text) => Some(At { value: text.clone(), span: node.span.clone() }),
            _ => {
                self.wrong_type(path, name, "a text", node);
                None
            }
        }
    }

    /// A path outside under a key. One that an included file names is relative to that file.
    pub(super) fn outside(&mut self, table: &TableAt<'_>, name: &str) -> Option<At<String>> {
        let text = self.text(table, name)?;
        if rules::unfilled(&text.value).is_some() {
            let message = format!("`{name}` is {:?}, and no shell fills that in", text.value);
            let remedy = "write a path relative to the spec, which leads to the same place on every member's machine";
            self.push(Mistake::new(Code::LEADS_OUT, text.span, message, remedy));
            return None;
        }
        let value = match self.sources.locate(text.span.start) {
            Some((source, _)) => beside(&source.path, &text.value),
            None => text.value,
        };
        Some(At { value, span: text.span })
    }

    /// A whole number under a key, if the key is there.
    pub(super) fn number(&mut self, table: &TableAt<'_>, name: &str) -> Option<At<i64>> {
        let node = &table.get(name)?.node;
        if let Value::Integer(value) = node.value {
            return Some(At { value, span: node.span.clone() });
        }
        self.wrong_type(&below(table, name), name, "a whole number", node);
        None
    }

    /// `true` or `false` under a key, `false` when the key is not there.
    pub(super) fn flag(&mut self, table: &TableAt<'_>, name: &str) -> bool {
        match table.get(name).map(|entry| &entry.node) {
            Some(Node { value: Value::Flag(value), .. }) => *value,
            Some(node) => {
                self.wrong_type(&below(table, name), name, "true or false", node);
                false
            }
            None => false,
        }
    }

    /// A list of texts under a key.
    pub(super) fn texts(&mut self, table: &TableAt<'_>, name: &str) -> Option<Texts> {
        let node = &table.get(name)?.node;
        let Value::List(items) = &node.value else {
            self.wrong_type(&below(table, name), name, "a list of texts", node);
            return None;
        };
        let texts = items.iter().filter_map(|item| self.text_of("", name, item)).collect();
        Some(At { value: texts, span: node.span.clone() })
    }

    /// A table under a key, started as `path`.
    pub(super) fn subtable<'a>(&mut self, table: &TableAt<'a>, name: &str, path: &'static str) -> Option<TableAt<'a>> {
        let entry = table.get(name)?;
        self.table_of(entry, path)
    }

    /// A value that has to be a table, started as `path`.
    pub(super) fn table_of<'a>(&mut self, entry: &'a Entry, path: &'static str) -> Option<TableAt<'a>> {
        match &entry.node.value {
            Value::Table(inner) => Some(self.table(inner, path, entry.name_span.clone())),
            _ => {
                self.wrong_type(path, &entry.name, "a table", &entry.node);
                None
            }
        }
    }

    /// The tables of a list under a key, each started as `path`.
    pub(super) fn subtables<'a>(&mut self, table: &TableAt<'a>, name: &str, path: &'static str) -> Vec<TableAt<'a>> {
        let Some(entry) = table.get(name) else {
            return Vec::new();
        };
        let Value::List(items) = &entry.node.value else {
            self.wrong_type(&below(table, name), name, "a list of tables", &entry.node);
            if let (Value::Table(_), Some(last)) = (&entry.node.value, self.mistakes.last_mut()) {
                last.places[0].span = entry.name_span.clone();
            }
            return Vec::new();
        };
        let mut tables = Vec::new();
        for item in items {
            match &item.value {
                Value::Table(inner) => tables.push(self.table(inner, path, item.span.clone())),
                _ if tables.is_empty() => {
                    // The whole list is of another shape, which is said once.
                    self.wrong_type(&below(table, name), name, "a list of tables", &entry.node);
                    return Vec::new();
                }
                _ => self.wrong_type("", name, "a table", item),
            }
        }
        tables
    }

    /// A table value, started as `path`, or a text: the two shapes of a toolchain.
    pub(super) fn text_or_table<'a>(
        &mut self,
        entry: &'a Entry,
        path: &'static str,
    ) -> Option<Result<At<String>, TableAt<'a>>> {
        match &entry.node.value {
            Value::Text(text) => Some(Ok(At { value: text.clone(), span: entry.node.span.clone() })),
            Value::Table(inner) => Some(Err(self.table(inner, path, entry.name_span.clone()))),
            _ => {
                self.wrong_type(path, &entry.name, "a text or a table", &entry.node);
                None
            }
        }
    }

    /// A text or a list of texts under a key: the two shapes of a command.
    pub(super) fn text_or_texts(&mut self, table: &TableAt<'_>, name: &str) -> Option<Result<At<String>, Texts>> {
        let node = &table.get(name)?.node;
        match &node.value {
            Value::Text(text) => Some(Ok(At { value: text.clone(), span: node.span.clone() })),
            Value::List(_) => self.texts(table, name).map(Err),
            _ => {
                self.wrong_type(&below(table, name), name, "a text or a list of texts", node);
                None
            }
        }
    }
}

/// The path of a key in a table.
fn below(table: &TableAt<'_>, name: &str) -> String {
    if table.path.is_empty() { name.to_owned() } else { format!("{}.{name}", table.path) }
}

/// A table by its path, as its heading is written.
fn shown(path: &str) -> String {
    match path.strip_suffix("[]") {
        _ if path.is_empty() => "a spec".to_owned(),
        Some(list) => format!("[[{list}]]"),
        None => format!("[{}]", path.replace("[]", "")),
    }
}

/// Where to move a key that stands in another table.
fn misplaced(table: &str, name: &str, is_table: bool) -> String {
    match (table, is_table) {
        ("", true) => format!("write [{name}] for it, a table of its own"),
        ("", false) => "move it above the first [table]".to_owned(),
        (table, _) => format!("move it below [{table}]"),
    }
}

/// `path` as it is meant in the file `file`: from that file's directory.
pub(super) fn beside(file: &str, path: &str) -> String {
    match file.rsplit_once('/') {
        Some((directory, _)) if !path.starts_with('/') => format!("{directory}/{path}"),
        _ => path.to_owned(),
    }
}

impl std::fmt::Debug for TableAt<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "[{}]", self.path)
    }
}
