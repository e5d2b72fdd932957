//! From the text of a spec to a [`Spec`], with every mistake that the text alone shows.

use std::collections::BTreeMap;

use serde_json::Value as Json;
use toml::de::{DeTable, DeValue};

use super::reader::{Reader, Span, TableAt};
use super::{At, Base, Depot, Editor, Folder, Port, Spec, Step, Wanted, Workspace, rules};
use crate::digest::SpecDigest;
use crate::mistake::{Code, Mistake, Weight};
use crate::path::RootPath;
use crate::version::Version;

/// What came of reading a spec.
#[derive(Debug)]
pub struct Parsed {
    /// The spec as far as it could be read, for looking further for mistakes; [`Self::sound`] gives one to work with.
    pub draft: Option<Spec>,
    /// Every mistake found, in the order of the file.
    pub mistakes: Vec<Mistake>,
}

impl Parsed {
    /// The spec, when there is no mistake in it.
    pub fn sound(self) -> Option<Spec> {
        let sound = self.mistakes.iter().all(|mistake| mistake.weight == Weight::Warning);
        self.draft.filter(|_| sound)
    }
}

/// Reads the text of a spec.
pub fn parse(text: &str) -> Parsed {
    let (document, errors) = DeTable::parse_recoverable(text);
    let mut reader = Reader::default();
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        let message = format!("this is no TOML: {}", error.message().trim());
        reader.push(Mistake::new(
            Code::NOT_TOML,
            span,
            message,
            "mend the line; texts stand in \"quotes\", tables in [brackets]",
        ));
    }
    // A broken document lacks what stands in its broken lines; only what is there can be judged.
    let broken = !reader.mistakes.is_empty();
    let top = reader.table(document.as_ref(), "", 0..0);
    let draft = read(&mut reader, &top, text);
    if broken {
        reader.mistakes.retain(|mistake| mistake.code != Code::MISSING_KEY && mistake.code != Code::BASE_ORIGIN);
    }
    if let Some(draft) = &draft {
        rules::check(draft, &mut reader.mistakes);
    }
    let mut mistakes = reader.mistakes;
    mistakes.sort_by_key(|mistake| mistake.places.first().map_or(0, |place| place.span.start));
    Parsed { draft, mistakes }
}

fn read(reader: &mut Reader, top: &TableAt<'_>, text: &str) -> Option<Spec> {
    if let Some(version) = reader.number(top, "spec")
        && version.value != 1
    {
        let message = format!("this spec is of version {}, and this Cavrith reads version 1", version.value);
        reader.push(Mistake::new(Code::NOT_ALLOWED, version.span, message, "write spec = 1, or use a newer Cavrith"));
    }
    let workspace = reader.subtable(top, "workspace", "workspace").and_then(|table| read_workspace(reader, &table));
    let depots = read_depots(reader, top);
    let base = reader.subtable(top, "base", "base").and_then(|table| read_base(reader, &table));
    let toolchains = read_toolchains(reader, top);
    let env = read_env(reader, top);
    let mut folders = read_folders(reader, top);
    let ports = read_ports(reader, top);
    let steps = read_steps(reader, top);
    let editor = reader.subtable(top, "editor", "editor").map(|table| read_editor(reader, &table));
    let workspace = workspace?;
    if !folders.iter().any(|folder| folder.inside.value == workspace.project.value) {
        let outside = At { value: ".".to_owned(), span: workspace.project.span.clone() };
        folders.insert(0, Folder { outside, inside: workspace.project.clone() });
    }
    let meaning: toml::Table = text.parse().ok()?;
    let meaning = serde_json::to_vec(&meaning).ok()?;
    let digest = SpecDigest::from_bytes(*blake3::hash(&meaning).as_bytes());
    // A base that could not be read is told already; an empty one stands for it while the rest is looked at.
    let nothing = At { value: String::new(), span: 0..0 };
    let base = base.unwrap_or(Base::Packages { depot: nothing, packages: Vec::new() });
    Some(Spec { workspace, depots, base, toolchains, env, folders, ports, steps, editor, digest })
}

fn read_workspace(reader: &mut Reader, table: &TableAt<'_>) -> Option<Workspace> {
    let name = reader.text(table, "name");
    if let Some(name) = &name {
        rules::host_name(reader, "workspace", name);
    }
    // A name that is missing or no text is told already.
    let name = name.unwrap_or_else(|| At { value: String::new(), span: table.span() });
    let about = reader.text(table, "about").map(|about| about.value);
    let account = reader.text(table, "account").unwrap_or(At { value: "crew".to_owned(), span: table.span() });
    rules::account_name(reader, &account);
    let project = reader.text(table, "project").and_then(|project| rules::inside_path(reader, "project", project));
    let project =
        project.or_else(|| RootPath::from_absolute("/code").ok().map(|value| At { value, span: table.span() }));
    Some(Workspace { name, about, account, project: project? })
}

fn read_depots(reader: &mut Reader, top: &TableAt<'_>) -> BTreeMap<String, At<Depot>> {
    let mut depots = BTreeMap::new();
    let Some(table) = reader.subtable(top, "depots", "depots") else {
        return depots;
    };
    for (name, span, value, value_span) in table.entries() {
        rules::plain_name(reader, "depot", name, &span);
        match value {
            DeValue::Table(inner) => {
                let inner = reader.table(inner, "depots.*", span.clone());
                if let Some(path) = reader.text(&inner, "path") {
                    depots.insert(name.to_owned(), At { value: Depot { path }, span });
                }
            }
            _ => {
                let message = format!("the depot `{name}` has to be a table");
                reader.push(Mistake::new(Code::WRONG_TYPE, value_span, message, "write { path = \"…\" }"));
            }
        }
    }
    depots
}

fn read_base(reader: &mut Reader, table: &TableAt<'_>) -> Option<Base> {
    let later = ["debian", "oci"].into_iter().any(|name| table.key_span(name).is_some());
    let depot = reader.text(table, "depot");
    let packages = reader.texts(table, "packages");
    let archive = reader.subtable(table, "archive", "base.archive");
    // A key that is there and could not be read is told already.
    let unread = [("depot", depot.is_none()), ("packages", packages.is_none()), ("archive", archive.is_none())];
    if unread.into_iter().any(|(name, unread)| unread && table.key_span(name).is_some()) {
        return None;
    }
    match (depot, packages, archive) {
        (Some(depot), Some(packages), None) => {
            if packages.value.is_empty() {
                let remedy = "name at least one package of the depot";
                reader.push(Mistake::new(Code::EMPTY, packages.span, "`packages` is empty", remedy));
            }
            Some(Base::Packages { depot, packages: packages.value })
        }
        (None, None, Some(archive)) => {
            let path = reader.text(&archive, "path");
            let sha256 = reader.text(&archive, "sha256").and_then(|text| rules::sha256(reader, text));
            let strip = reader.number(&archive, "strip").map_or(0, |strip| rules::strip(reader, strip));
            Some(Base::Archive { path: path?, sha256, strip })
        }
        (Some(depot), None, None) => {
            let message = "`base` names a depot, but no packages of it";
            reader.push(Mistake::new(Code::BASE_ORIGIN, depot.span, message, "add packages = [\"…\"]"));
            None
        }
        (None, Some(packages), None) => {
            let message = "`base` names packages, but not where they come from";
            reader.push(Mistake::new(Code::BASE_ORIGIN, packages.span, message, "add depot = \"…\""));
            None
        }
        (None, None, None) => {
            if !later {
                let message = "`base` has no origin";
                let remedy = "add depot and packages, or an archive";
                reader.push(Mistake::new(Code::BASE_ORIGIN, table.span(), message, remedy));
            }
            None
        }
        (depot, packages, Some(archive)) => {
            let other = depot.map(|depot| depot.span).or(packages.map(|packages| packages.span)).unwrap_or_default();
            let message = "`base` has two origins";
            let mistake = Mistake::new(Code::BASE_ORIGIN, archive.span(), message, "keep one of them");
            reader.push(mistake.noting("one is here").against(other, "the other one here"));
            None
        }
    }
}

fn read_toolchains(reader: &mut Reader, top: &TableAt<'_>) -> BTreeMap<String, At<Wanted>> {
    let mut toolchains = BTreeMap::new();
    let Some(table) = reader.subtable(top, "toolchains", "toolchains") else {
        return toolchains;
    };
    for (name, span, value, value_span) in table.entries() {
        rules::plain_name(reader, "toolchain", name, &span);
        let found = reader.text_or_table((name, span.clone()), (value, value_span), "toolchains.*");
        let (version, depot) = match found {
            Some(Ok(version)) => (Some(version), None),
            Some(Err(inner)) => (reader.text(&inner, "version"), reader.text(&inner, "depot")),
            None => (None, None),
        };
        if let Some(version) = version.and_then(|version| read_version(reader, version)) {
            toolchains.insert(name.to_owned(), At { value: Wanted { version, depot }, span });
        }
    }
    toolchains
}

fn read_version(reader: &mut Reader, text: At<String>) -> Option<At<Version>> {
    match Version::new(&text.value) {
        Ok(value) => Some(At { value, span: text.span }),
        Err(bad) => {
            let remedy = "write the version or its beginning, like \"2.4\", without operators";
            reader.push(Mistake::new(Code::BAD_VERSION, text.span, bad.to_string(), remedy));
            None
        }
    }
}

fn read_env(reader: &mut Reader, top: &TableAt<'_>) -> BTreeMap<String, At<String>> {
    let mut env = BTreeMap::new();
    let Some(table) = reader.subtable(top, "env", "env") else {
        return env;
    };
    for (name, span, value, value_span) in table.entries() {
        if let Some(value) = reader.text_of(name, value, value_span) {
            rules::variable(reader, name, &span, &value);
            env.insert(name.to_owned(), value);
        }
    }
    env
}

fn read_folders(reader: &mut Reader, top: &TableAt<'_>) -> Vec<Folder> {
    let mut folders = Vec::new();
    for table in reader.subtables(top, "folders", "folders[]") {
        let outside = reader.text(&table, "outside");
        let inside = reader.text(&table, "inside").and_then(|inside| rules::inside_path(reader, "inside", inside));
        if let (Some(outside), Some(inside)) = (outside, inside) {
            folders.push(Folder { outside, inside });
        }
    }
    folders
}

fn read_ports(reader: &mut Reader, top: &TableAt<'_>) -> Vec<Port> {
    let mut ports = Vec::new();
    for table in reader.subtables(top, "ports", "ports[]") {
        let name = reader.text(&table, "name");
        if let Some(name) = &name {
            rules::plain_name(reader, "port", &name.value, &name.span);
        }
        let inside = reader.number(&table, "inside").and_then(|number| rules::port(reader, "inside", number));
        let outside = match reader.number(&table, "outside") {
            None => inside.clone(),
            Some(number) => rules::port(reader, "outside", number),
        };
        let exact = reader.flag(&table, "exact");
        if let (Some(name), Some(inside), Some(outside)) = (name, inside, outside) {
            ports.push(Port { name, inside, outside, exact });
        }
    }
    ports
}

fn read_steps(reader: &mut Reader, top: &TableAt<'_>) -> Vec<Step> {
    let mut steps = Vec::new();
    for table in reader.subtables(top, "steps", "steps[]") {
        let name = reader.text(&table, "name");
        match reader.text(&table, "at") {
            Some(at) if at.value == "build" => {}
            Some(at) if matches!(at.value.as_str(), "first-start" | "start") => {
                reader.not_yet(
                    &format!("at = \"{}\"", at.value),
                    "a step that runs when the workspace starts",
                    at.span,
                );
            }
            Some(at) => rules::one_of(reader, "at", &at, &["build", "first-start", "start"]),
            None => {}
        }
        let run = match reader.text_or_texts(&table, "run") {
            None => None,
            Some(Ok(text)) => rules::shell_text(reader, text),
            Some(Err(list)) => rules::program(reader, list),
        };
        if let (Some(name), Some(run)) = (name, run) {
            steps.push(Step { name, run });
        }
    }
    steps
}

fn read_editor(reader: &mut Reader, table: &TableAt<'_>) -> Editor {
    let profile = reader.text(table, "profile");
    let mut extensions = BTreeMap::new();
    if let Some(wanted) = reader.subtable(table, "extensions", "editor.extensions") {
        for (id, span, value, value_span) in wanted.entries() {
            rules::extension_id(reader, id, &span);
            let version = reader.text_of(id, value, value_span).and_then(|text| read_version(reader, text));
            if let Some(version) = version {
                extensions.insert(id.to_owned(), version);
            }
        }
    }
    let mut settings = serde_json::Map::new();
    if let Some(wanted) = reader.subtable(table, "settings", "editor.settings") {
        for (name, _, value, span) in wanted.entries() {
            if let Some(value) = json(reader, value, &span) {
                settings.insert(name.to_owned(), value);
            }
        }
    }
    Editor { span: table.span(), profile, extensions, settings }
}

/// A setting as JSON.
fn json(reader: &mut Reader, value: &DeValue<'_>, span: &Span) -> Option<Json> {
    Some(match value {
        DeValue::String(text) => Json::String(text.clone().into_owned()),
        DeValue::Boolean(flag) => Json::Bool(*flag),
        DeValue::Integer(digits) => Json::from(i64::from_str_radix(digits.as_str(), digits.radix()).ok()?),
        DeValue::Float(digits) => Json::from(digits.as_str().parse::<f64>().ok()?),
        DeValue::Array(items) => {
            Json::Array(items.iter().filter_map(|item| json(reader, item.as_ref(), &item.span())).collect())
        }
        DeValue::Table(table) => {
            let entries = table.iter().filter_map(|(name, value)| {
                Some((name.as_ref().to_string(), json(reader, value.as_ref(), &value.span())?))
            });
            Json::Object(entries.collect())
        }
        DeValue::Datetime(_) => {
            let message = "a setting cannot be a date: editors' settings files have none";
            reader.push(Mistake::new(Code::WRONG_TYPE, span.clone(), message, "put it in quotes"));
            return None;
        }
    })
}
