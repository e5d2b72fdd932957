//! Reading a TOML document by its keys, collecting every mistake on the way instead of stopping at the first.

use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::At;
use super::keys::{self, State};
use crate::mistake::{Code, Mistake, nearest};

/// Bytes of the file.
pub(super) type Span = Range<usize>;

/// One table of the document, with the path of its keys in [`keys::KEYS`] and where it is named.
#[derive(Clone)]
pub(super) struct TableAt<'a> {
    table: &'a DeTable<'a>,
    path: &'static str,
    span: Span,
}

/// A list of texts, with the place of each and of the whole.
pub(super) type Texts = At<Vec<At<String>>>;

/// Collects mistakes.
#[derive(Default)]
pub(super) struct Reader {
    pub(super) mistakes: Vec<Mistake>,
}

impl<'a> TableAt<'a> {
    pub(super) fn span(&self) -> Span {
        self.span.clone()
    }

    /// Names and values, with the spans of the names, in the order of the file.
    pub(super) fn entries(&self) -> impl Iterator<Item = (&'a str, Span, &'a DeValue<'a>, Span)> + use<'a> {
        let mut entries: Vec<_> = self.table.iter().collect();
        entries.sort_by_key(|(name, _)| name.span().start);
        entries.into_iter().map(|(name, value)| (name.as_ref().as_ref(), name.span(), value.as_ref(), value.span()))
    }

    fn get(&self, name: &str) -> Option<(Span, &'a DeValue<'a>, Span)> {
        let (key, value) = self.table.get_key_value(name)?;
        Some((key.span(), value.as_ref(), value.span()))
    }

    /// Where a key stands, if it does.
    pub(super) fn key_span(&self, name: &str) -> Option<Span> {
        self.get(name).map(|(span, _, _)| span)
    }
}

impl Reader {
    pub(super) fn push(&mut self, mistake: Mistake) {
        self.mistakes.push(mistake);
    }

    /// Begins a table whose keys are those of `path`: refuses unknown ones and those not carried out yet, and names
    /// those that are missing.
    pub(super) fn table<'a>(&mut self, table: &'a DeTable<'a>, path: &'static str, span: Span) -> TableAt<'a> {
        let known: Vec<_> = keys::children(path).collect();
        let free = known.iter().any(|(name, _)| *name == "*");
        let shown = if path.is_empty() { "a spec".to_owned() } else { format!("[{path}]").replace("[]]", "]") };
        let this = TableAt { table, path, span };
        for (name, name_span, _, _) in this.entries() {
            match known.iter().find(|(known, _)| *known == name) {
                Some((_, key)) if key.state == State::Later => {
                    self.not_yet(&format!("`{name}`"), key.meaning, name_span)
                }
                Some(_) => {}
                None if free => {}
                None => {
                    let usable = known.iter().filter(|(_, key)| key.state != State::Later).map(|(name, _)| *name);
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

    /// Says that something is planned, but not there.
    pub(super) fn not_yet(&mut self, what: &str, meaning: &str, span: Span) {
        let message = format!("{what} ({meaning}) is not carried out yet");
        self.push(Mistake::new(Code::NOT_YET, span, message, "leave it out until a later version of Cavrith does it"));
    }

    fn wrong_type(&mut self, name: &str, wanted: &str, value: &DeValue<'_>, span: Span) {
        let have = match value {
            DeValue::String(_) => "a text",
            DeValue::Integer(_) => "a whole number",
            DeValue::Float(_) => "a number",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        let message = format!("`{name}` is {have}, and has to be {wanted}");
        let remedy = match (value, wanted) {
            (DeValue::Integer(_) | DeValue::Float(_) | DeValue::Boolean(_), "a text") => "put it in quotes".to_owned(),
            (DeValue::String(_), "a list of texts") => "put it in square brackets".to_owned(),
            (DeValue::String(_), "a whole number" | "true or false") => "leave the quotes out".to_owned(),
            _ => format!("write {wanted}"),
        };
        self.push(Mistake::new(Code::WRONG_TYPE, span, message, remedy));
    }

    /// A text under a key, if the key is there.
    pub(super) fn text(&mut self, table: &TableAt<'_>, name: &str) -> Option<At<String>> {
        let (_, value, span) = table.get(name)?;
        self.text_of(name, value, span)
    }

    /// A value that has to be a text.
    pub(super) fn text_of(&mut self, name: &str, value: &DeValue<'_>, span: Span) -> Option<At<String>> {
        match value {
            DeValue::String(text) => Some(At { value: text.clone().into_owned(), span }),
            _ => {
                self.wrong_type(name, "a text", value, span);
                None
            }
        }
    }

    /// A whole number under a key, if the key is there.
    pub(super) fn number(&mut self, table: &TableAt<'_>, name: &str) -> Option<At<i64>> {
        let (_, value, span) = table.get(name)?;
        if let DeValue::Integer(digits) = value {
            // Out of range for 64 bits is out of range for every key; the callers' ranges say so.
            let value = i64::from_str_radix(digits.as_str(), digits.radix()).unwrap_or(i64::MAX);
            return Some(At { value, span });
        }
        self.wrong_type(name, "a whole number", value, span);
        None
    }

    /// `true` or `false` under a key, `false` when the key is not there.
    pub(super) fn flag(&mut self, table: &TableAt<'_>, name: &str) -> bool {
        match table.get(name) {
            Some((_, DeValue::Boolean(value), _)) => *value,
            Some((_, value, span)) => {
                self.wrong_type(name, "true or false", value, span);
                false
            }
            None => false,
        }
    }

    /// A list of texts under a key.
    pub(super) fn texts(&mut self, table: &TableAt<'_>, name: &str) -> Option<Texts> {
        let (_, value, span) = table.get(name)?;
        let DeValue::Array(items) = value else {
            self.wrong_type(name, "a list of texts", value, span);
            return None;
        };
        let texts = items.iter().filter_map(|item| self.text_of(name, item.as_ref(), item.span())).collect();
        Some(At { value: texts, span })
    }

    /// A table under a key, begun with [`Self::table`] as `path`.
    pub(super) fn subtable<'a>(&mut self, table: &TableAt<'a>, name: &str, path: &'static str) -> Option<TableAt<'a>> {
        let (key_span, value, span) = table.get(name)?;
        match value {
            DeValue::Table(inner) => Some(self.table(inner, path, key_span)),
            _ => {
                self.wrong_type(name, "a table", value, span);
                None
            }
        }
    }

    /// The tables of a list under a key, each begun as `path`.
    pub(super) fn subtables<'a>(&mut self, table: &TableAt<'a>, name: &str, path: &'static str) -> Vec<TableAt<'a>> {
        let Some((key_span, value, span)) = table.get(name) else {
            return Vec::new();
        };
        let DeValue::Array(items) = value else {
            self.wrong_type(name, "a list of tables", value, span.clone());
            if let DeValue::Table(_) = value
                && let Some(last) = self.mistakes.last_mut()
            {
                last.remedy = format!("write [[{name}]] with two brackets");
                last.places[0].span = key_span;
            }
            return Vec::new();
        };
        let mut tables = Vec::new();
        for item in items {
            match item.as_ref() {
                DeValue::Table(inner) => tables.push(self.table(inner, path, item.span())),
                other => self.wrong_type(name, "a list of tables", other, item.span()),
            }
        }
        tables
    }

    /// A table value, begun as `path`, or a text: the two shapes of a toolchain.
    pub(super) fn text_or_table<'a>(
        &mut self,
        name: (&str, Span),
        value: (&'a DeValue<'a>, Span),
        path: &'static str,
    ) -> Option<Result<At<String>, TableAt<'a>>> {
        match value.0 {
            DeValue::String(text) => Some(Ok(At { value: text.clone().into_owned(), span: value.1 })),
            DeValue::Table(inner) => Some(Err(self.table(inner, path, name.1))),
            other => {
                self.wrong_type(name.0, "a text or a table", other, value.1);
                None
            }
        }
    }

    /// A text or a list of texts under a key: the two shapes of a command.
    pub(super) fn text_or_texts(&mut self, table: &TableAt<'_>, name: &str) -> Option<Result<At<String>, Texts>> {
        let (_, value, span) = table.get(name)?;
        match value {
            DeValue::String(text) => Some(Ok(At { value: text.clone().into_owned(), span })),
            DeValue::Array(_) => self.texts(table, name).map(Err),
            other => {
                self.wrong_type(name, "a text or a list of texts", other, span);
                None
            }
        }
    }
}

impl std::fmt::Debug for TableAt<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "[{}]", self.path)
    }
}
