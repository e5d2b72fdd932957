//! Variants: several specs from one document.
//!
//! A variant's document is the main part without what its `without` names, with its own entries laid over it as those
//! of an including file are, and without the entries that are for other variants only. It is then read like any other,
//! so that whatever reads a spec knows nothing of variants.

use std::collections::{BTreeMap, BTreeSet};

use super::document::{self, Entry, Node, Table, Value};
use super::reader::Reader;
use super::{Action, Spec, base, rules};
use crate::mistake::{Code, Mistake, nearest};

/// The name of the main part as a variant.
pub const MAIN: &str = "main";

/// Where the project's folder appears when nothing is said of it.
pub(super) const DEFAULT_PROJECT: &str = "/code";

/// Keys that are the same in all variants.
pub(super) const COMMON: [&str; 6] = ["spec", "include", "depots", "variants", "cache", "team"];

/// The documents of all variants.
pub(super) struct Documents {
    /// The variant that is meant when none is named.
    pub(super) default: String,
    /// Each variant's document.
    pub(super) tables: BTreeMap<String, Table>,
}

/// Takes a document apart. Mistakes in how variants are written go to `reader`.
pub(super) fn documents(reader: &mut Reader<'_>, whole: &Table) -> Documents {
    let mut main = whole.clone();
    let declared = take(&mut main, "variants");
    let own = declared.map(|entry| read_variants(reader, entry)).unwrap_or_default();
    let default = read_default(reader, &mut main, &own);
    let names: BTreeSet<String> = own.keys().cloned().chain((default == MAIN).then(|| MAIN.to_owned())).collect();
    let mut tables = BTreeMap::new();
    for name in &names {
        let mut table = main.clone();
        if let Some(own) = own.get(name) {
            own.without.iter().for_each(|path| leave_out(reader, &mut table, path));
            table = lay_over(table, own.table.clone());
        }
        keep_own(reader, &mut table, name, &names);
        tables.insert(name.clone(), table);
    }
    Documents { default, tables }
}

struct Own {
    table: Table,
    without: Vec<Node>,
}

fn take(table: &mut Table, name: &str) -> Option<Entry> {
    let position = table.entries.iter().position(|entry| entry.name == name)?;
    Some(table.entries.remove(position))
}

fn read_variants(reader: &mut Reader<'_>, entry: Entry) -> BTreeMap<String, Own> {
    let mut read = BTreeMap::new();
    let Value::Table(table) = entry.node.value else {
        let remedy = "write [variants.release] and beneath it what differs there";
        reader.push(Mistake::new(Code::WRONG_TYPE, entry.node.span, "`variants` has to be a table", remedy));
        return read;
    };
    for Entry { name, name_span, node } in table.entries {
        rules::plain_name(reader, "variant", &name, &name_span);
        if name == MAIN {
            let remedy = "choose another name, or write what it has without [variants.main] before it";
            let message = "`main` is the name of the spec's main part";
            reader.push(Mistake::new(Code::NOT_ALLOWED, name_span.clone(), message, remedy));
        }
        let Value::Table(mut table) = node.value else {
            let message = format!("the variant `{name}` has to be a table");
            let remedy = "write what differs there: { without = [\"toolchains\"] }";
            reader.push(Mistake::new(Code::WRONG_TYPE, node.span, message, remedy));
            continue;
        };
        for common in COMMON {
            if let Some(entry) = take(&mut table, common) {
                let message = format!("`{common}` is the same in all variants");
                let remedy = format!("write it outside of [variants.{name}]");
                reader.push(Mistake::new(Code::NOT_ALLOWED, entry.name_span, message, remedy));
            }
        }
        let workspace = table.entries.iter_mut().find(|entry| entry.name == "workspace");
        if let Some(Value::Table(workspace)) = workspace.map(|entry| &mut entry.node.value)
            && let Some(entry) = take(workspace, "variant")
        {
            let message = "a variant cannot say which one is meant when none is named";
            let remedy = "write it under [workspace] of the main part";
            reader.push(Mistake::new(Code::NOT_ALLOWED, entry.name_span, message, remedy));
        }
        let without = match take(&mut table, "without") {
            None => Vec::new(),
            Some(entry) => match entry.node.value {
                Value::List(items) => items,
                _ => {
                    let remedy = "put it in square brackets: without = [\"editor\", \"services.site\"]";
                    let message = "`without` has to be a list of texts";
                    reader.push(Mistake::new(Code::WRONG_TYPE, entry.node.span, message, remedy));
                    Vec::new()
                }
            },
        };
        read.insert(name, Own { table, without });
    }
    read
}

/// The variant that is meant when none is named.
fn read_default(reader: &mut Reader<'_>, main: &mut Table, own: &BTreeMap<String, Own>) -> String {
    let workspace = main.entries.iter_mut().find(|entry| entry.name == "workspace");
    let Some(Entry { node: Node { value: Value::Table(workspace), .. }, .. }) = workspace else {
        return MAIN.to_owned();
    };
    match take(workspace, "variant").map(|entry| entry.node) {
        None => MAIN.to_owned(),
        Some(Node { value: Value::Text(name), .. }) if name == MAIN || own.contains_key(&name) => name,
        Some(Node { value: Value::Text(name), span }) => {
            unknown(reader, &name, span, &own.keys().cloned().collect());
            MAIN.to_owned()
        }
        Some(node) => {
            let remedy = "write a variant's name in quotes";
            reader.push(Mistake::new(Code::WRONG_TYPE, node.span, "`variant` has to be a text", remedy));
            MAIN.to_owned()
        }
    }
}

pub(super) fn unknown(reader: &mut Reader<'_>, name: &str, span: document::Span, known: &BTreeSet<String>) {
    let remedy = match nearest(name, known.iter().map(String::as_str)) {
        Some(meant) => format!("write {meant:?}"),
        None if known.is_empty() => format!("declare it: [variants.{name}]"),
        None => {
            let known: Vec<_> = known.iter().map(String::as_str).collect();
            format!("the variants are {}; or declare it: [variants.{name}]", known.join(", "))
        }
    };
    reader.push(Mistake::new(Code::UNKNOWN_VARIANT, span, format!("there is no variant `{name}`"), remedy));
}

/// Takes out what one entry of `without` names.
fn leave_out(reader: &mut Reader<'_>, table: &mut Table, path: &Node) {
    let Value::Text(name) = &path.value else {
        let message = "`without` has to be a list of texts";
        return reader.push(Mistake::new(Code::WRONG_TYPE, path.span.clone(), message, "put it in quotes"));
    };
    let removed = remove(table, name);
    // The project's own folder is there without being named, and has to go by its place all the same.
    if name.strip_prefix("folders.") == Some(&project_place(table)) {
        return without_project(table, path.span.clone());
    }
    if !removed {
        let mut known = Vec::new();
        names_in(table, "", &mut known);
        let remedy = match nearest(name, known.iter().map(String::as_str)) {
            Some(meant) => format!("write {meant:?}, or leave it out"),
            None => {
                "name a table, or an entry of one: \"editor\", \"services.site\", \"steps.frame the site\"".to_owned()
            }
        };
        let message = format!("`without` names {name:?}, which the spec's main part does not have");
        reader.push(Mistake::new(Code::UNKNOWN_KEY, path.span.clone(), message, remedy));
    }
}

/// Where the project's folder appears inside.
fn project_place(table: &Table) -> String {
    let workspace = table.get("workspace").map(|entry| &entry.node.value);
    match workspace {
        Some(Value::Table(workspace)) => match workspace.get("project").map(|entry| &entry.node.value) {
            Some(Value::Text(place)) => place.clone(),
            _ => DEFAULT_PROJECT.to_owned(),
        },
        _ => DEFAULT_PROJECT.to_owned(),
    }
}

/// Lets the project's folder appear nowhere.
fn without_project(table: &mut Table, span: document::Span) {
    let workspace = table.entries.iter_mut().find(|entry| entry.name == "workspace");
    let Some(Value::Table(workspace)) = workspace.map(|entry| &mut entry.node.value) else { return };
    take(workspace, "project");
    let node = Node { span: span.clone(), value: Value::Text(String::new()) };
    workspace.entries.push(Entry { name: "project".to_owned(), name_span: span, node });
}

/// Removes the entry of this path; an entry of a list goes by its name, a folder by where it appears.
fn remove(table: &mut Table, path: &str) -> bool {
    if take(table, path).is_some() {
        return true;
    }
    for (at, _) in path.match_indices('.') {
        let (name, rest) = (&path[..at], &path[at + 1..]);
        let removed = match table.entries.iter_mut().find(|entry| entry.name == name).map(|entry| &mut entry.node.value)
        {
            Some(Value::Table(inner)) => remove(inner, rest),
            Some(Value::List(items)) => {
                let before = items.len();
                items.retain(|item| document::item_name(item, name) != Some(rest));
                items.len() < before
            }
            _ => false,
        };
        if removed {
            return true;
        }
    }
    false
}

/// What `without` may name, two levels deep.
fn names_in(table: &Table, above: &str, names: &mut Vec<String>) {
    for entry in &table.entries {
        let path = if above.is_empty() { entry.name.clone() } else { format!("{above}.{}", entry.name) };
        match &entry.node.value {
            Value::Table(inner) if above.is_empty() => names_in(inner, &path, names),
            Value::List(items) if above.is_empty() => {
                names.extend(
                    items
                        .iter()
                        .filter_map(|item| document::item_name(item, &path))
                        .map(|name| format!("{path}.{name}")),
                );
            }
            _ => {}
        }
        names.push(path);
    }
}

/// Lays a variant's own entries over the main part. A base that names no origin is the main part's with other values.
fn lay_over(main: Table, mut own: Table) -> Table {
    let has_base = |table: &Table| match table.get("base").map(|entry| &entry.node.value) {
        Some(Value::Table(base)) => Some(base.clone()),
        _ => None,
    };
    if let (Some(theirs), Some(ours)) = (has_base(&main), has_base(&own))
        && !base::ORIGINS.iter().any(|origin| ours.get(origin).is_some())
        && let Some(entry) = own.entries.iter_mut().find(|entry| entry.name == "base")
    {
        let mut joined = theirs;
        for entry in ours.entries {
            take(&mut joined, &entry.name);
            joined.entries.push(entry);
        }
        entry.node.value = Value::Table(joined);
    }
    document::join(main, own)
}

/// Takes out the entries that are for other variants, and from those that stay, for which they are.
fn keep_own(reader: &mut Reader<'_>, table: &mut Table, variant: &str, known: &BTreeSet<String>) {
    for name in ["steps", "folders", "ports"] {
        let Some(entry) = table.entries.iter_mut().find(|entry| entry.name == name) else { continue };
        if let Value::List(items) = &mut entry.node.value {
            items.retain_mut(|item| is_of(reader, item, variant, known));
        }
    }
    if let Some(entry) = table.entries.iter_mut().find(|entry| entry.name == "services")
        && let Value::Table(services) = &mut entry.node.value
    {
        services.entries.retain_mut(|service| is_of(reader, &mut service.node, variant, known));
    }
}

fn is_of(reader: &mut Reader<'_>, node: &mut Node, variant: &str, known: &BTreeSet<String>) -> bool {
    let Value::Table(table) = &mut node.value else { return true };
    let Some(entry) = take(table, "variants") else { return true };
    let Value::List(items) = entry.node.value else {
        let message = "`variants` has to be a list of texts";
        reader.push(Mistake::new(Code::WRONG_TYPE, entry.node.span, message, "put it in square brackets"));
        return true;
    };
    let mut is_of = false;
    for item in items {
        match item.value {
            Value::Text(name) if known.contains(&name) => is_of |= name == variant,
            Value::Text(name) => unknown(reader, &name, item.span, known),
            _ => {
                let message = "`variants` has to be a list of texts";
                reader.push(Mistake::new(Code::WRONG_TYPE, item.span, message, "put it in quotes"));
            }
        }
    }
    is_of
}

/// Gives every spec those of the variants that it takes something from, and finds circles among them.
pub(super) fn connect(reader: &mut Reader<'_>, specs: &mut BTreeMap<String, Spec>) {
    let known: BTreeSet<String> = specs.keys().cloned().collect();
    let mut waiting: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (name, spec) in &*specs {
        let mut sources = BTreeSet::new();
        for step in &spec.steps {
            let Action::Take(taken) = &step.action else { continue };
            let source = &taken.variant;
            if source.value == *name {
                let message = format!("the step {:?} takes from its own variant", step.name.value);
                let remedy = "name another variant, or give the step variants = [\"…\"]";
                reader.push(Mistake::new(Code::VARIANT_CYCLE, source.span.clone(), message, remedy));
            } else if known.contains(&source.value) {
                sources.insert(source.value.clone());
            } else {
                unknown(reader, &source.value, source.span.clone(), &known);
            }
        }
        waiting.insert(name.clone(), sources);
    }
    while let Some(name) = waiting
        .iter()
        .find(|(_, sources)| sources.iter().all(|one| !waiting.contains_key(one)))
        .map(|(name, _)| name.clone())
    {
        let sources = waiting.remove(&name).unwrap_or_default();
        let sources: BTreeMap<_, _> =
            sources.into_iter().filter_map(|source| Some((source.clone(), specs.get(&source)?.clone()))).collect();
        if let Some(spec) = specs.get_mut(&name)
            && !sources.is_empty()
        {
            // What it takes is part of what it means.
            let mut meaning = blake3::Hasher::new();
            meaning.update(spec.digest.as_bytes());
            for source in sources.values() {
                meaning.update(source.digest.as_bytes());
            }
            spec.digest = crate::digest::SpecDigest::from_bytes(*meaning.finalize().as_bytes());
            spec.sources = sources;
        }
    }
    if let Some((name, spec)) = waiting.keys().find_map(|name| Some((name, specs.get(name)?))) {
        let taken = spec.steps.iter().find_map(|step| match &step.action {
            Action::Take(taken) if waiting.contains_key(&taken.variant.value) => Some(&taken.variant),
            _ => None,
        });
        if let Some(taken) = taken {
            let message = format!("the variants `{name}` and `{}` take from each other", taken.value);
            let remedy = "let one of them make what it needs itself";
            reader.push(Mistake::new(Code::VARIANT_CYCLE, taken.span.clone(), message, remedy));
        }
    }
}
