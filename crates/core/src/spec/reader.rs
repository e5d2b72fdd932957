//! Reading a TOML document by its keys, collecting every mistake on the way instead of stopping at the first.

use super::At;
use super::document::{Entry, Node, Sources, Table, Value};
use super::keys::{self, State};
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

/// Collects mistakes.
pub(super) struct Reader<'s> {
    pub(super) sources: &'s Sources,
    pub(super) mistakes: Vec<Mistake>,
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
        let shown = if path.is_empty() { "a spec".to_owned() } else { format!("[{path}]").replace("[]]", "]") };
        let this = TableAt { table, path, span };
        for entry in this.entries() {
            let (name, name_span) = (entry.name.as_str(), entry.name_span.clone());
            match known.iter().find(|(known, _)| *known == name) {
                Some(_) => {}
                None if free => {}
                None => {
                    let usable = known.iter().map(|(name, _)| *name);
                    let remedy = match nearest(name, known.iter().map(|(name, _)| *name)) {
                        Some(meant) => format!("write `{meant}`, or leave the line out"),
                        None => format!("leave it out; the keys here are {}", usable.collect::<Vec<_>>().join(", ")),
                    };
                    let message = format!("{shown} has no key `{name}`");
                    self.push(Mistake::new(Code::UNKNOWN_KEY, name_span, message, remedy));
                }
            }
        }
        for (name, key) in known {
            if key.state == State::Needed && this.table.get(name).is_none() {
                let message = format!("{shown} lacks the key `{name}`");
                let remedy = format!("add it: {}", key.meaning);
                self.push(Mistake::new(Code::MISSING_KEY, this.span.clone(), message, remedy));
            }
        }
        this
    }

    fn wrong_type(&mut self, name: &str, wanted: &str, node: &Node) {
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
        let remedy = match (&node.value, wanted) {
            (Value::Integer(_) | Value::Float(_) | Value::Flag(_), "a text") => "put it in quotes".to_owned(),
            (Value::Text(_), "a list of texts") => "put it in square brackets".to_owned(),
            (Value::Text(_), "a whole number" | "true or false") => "leave the quotes out".to_owned(),
            _ => format!("write {wanted}"),
        };
        self.push(Mistake::new(Code::WRONG_TYPE, node.span.clone(), message, remedy));
    }

    /// A text under a key, if the key is there.
    pub(super) fn text(&mut self, table: &TableAt<'_>, name: &str) -> Option<At<String>> {
        self.text_of(name, &table.get(name)?.node)
    }

    /// A value that has to be a text.
    pub(super) fn text_of(&mut self, name: &str, node: &Node) -> Option<At<String>> {
        match &node.value {
            Value::Text(text) => Some(At { value: text.clone(), span: node.span.clone() }),
            _ => {
                self.wrong_type(name, "a text", node);
                None
            }
        }
    }

    /// A path outside under a key. One that an included file names is relative to that file.
    pub(super) fn outside(&mut self, table: &TableAt<'_>, name: &str) -> Option<At<String>> {
        let text = self.text(table, name)?;
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
        self.wrong_type(name, "a whole number", node);
        None
    }

    /// `true` or `false` under a key, `false` when the key is not there.
    pub(super) fn flag(&mut self, table: &TableAt<'_>, name: &str) -> bool {
        match table.get(name).map(|entry| &entry.node) {
            Some(Node { value: Value::Flag(value), .. }) => *value,
            Some(node) => {
                self.wrong_type(name, "true or false", node);
                false
            }
            None => false,
        }
    }

    /// A list of texts under a key.
    pub(super) fn texts(&mut self, table: &TableAt<'_>, name: &str) -> Option<Texts> {
        let node = &table.get(name)?.node;
        let Value::List(items) = &node.value else {
            self.wrong_type(name, "a list of texts", node);
            return None;
        };
        let texts = items.iter().filter_map(|item| self.text_of(name, item)).collect();
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
                self.wrong_type(&entry.name, "a table", &entry.node);
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
            self.wrong_type(name, "a list of tables", &entry.node);
            if let Value::Table(_) = entry.node.value
                && let Some(last) = self.mistakes.last_mut()
            {
                last.remedy = format!("write [[{name}]] with two brackets");
                last.places[0].span = entry.name_span.clone();
            }
            return Vec::new();
        };
        let mut tables = Vec::new();
        for item in items {
            match &item.value {
                Value::Table(inner) => tables.push(self.table(inner, path, item.span.clone())),
                _ => self.wrong_type(name, "a list of tables", item),
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
                self.wrong_type(&entry.name, "a text or a table", &entry.node);
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
                self.wrong_type(name, "a text or a list of texts", node);
                None
            }
        }
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
