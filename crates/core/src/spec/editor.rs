//! The table `[editor]`.

use std::collections::BTreeMap;

use serde_json::Value as Json;

use super::document::{Node, Value};
use super::reader::{Reader, TableAt};
use super::{Editor, Launch, parse, rules};
use crate::mistake::{Code, Mistake};

pub(super) fn read(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Editor {
    let profile = reader.text(table, "profile");
    let mut extensions = BTreeMap::new();
    if let Some(wanted) = reader.subtable(table, "extensions", "editor.extensions") {
        for entry in wanted.entries() {
            rules::extension_id(reader, &entry.name, &entry.name_span);
            let version = reader.text_of("", &entry.name, &entry.node);
            if let Some(version) = version.and_then(|text| parse::read_version(reader, text)) {
                extensions.insert(entry.name.clone(), version);
            }
        }
    }
    let mut settings = serde_json::Map::new();
    if let Some(wanted) = reader.subtable(table, "settings", "editor.settings") {
        for entry in wanted.entries() {
            if let Some(value) = json(reader, &entry.node) {
                settings.insert(entry.name.clone(), value);
            }
        }
    }
    let mut launch = BTreeMap::new();
    if let Some(programs) = reader.subtable(table, "launch", "editor.launch") {
        for entry in programs.entries() {
            rules::plain_name(reader, "program to launch", &entry.name, &entry.name_span);
            let program = reader.table_of(entry, "editor.launch.*").and_then(|table| read_launch(reader, &table));
            if let Some(program) = program {
                launch.insert(entry.name.clone(), program);
            }
        }
    }
    Editor { span: table.span(), profile, extensions, settings, launch }
}

fn read_launch(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Launch> {
    let program = reader.text(table, "program");
    let arguments = reader.texts(table, "arguments").map(|arguments| arguments.value).unwrap_or_default();
    let directory = reader.text(table, "directory").and_then(|path| rules::inside_path(reader, "directory", path));
    let build = reader.text(table, "build").map(|build| build.value);
    let env = parse::read_env(reader, table, "editor.launch.*.env");
    let debugger = reader.text(table, "debugger").map(|debugger| debugger.value);
    let attach = reader.flag(table, "attach");
    Some(Launch {
        program: program?.value,
        arguments: arguments.into_iter().map(|argument| argument.value).collect(),
        build,
        directory: directory.map(|directory| directory.value),
        env: env.into_iter().map(|(name, value)| (name, value.value)).collect(),
        debugger,
        attach,
    })
}

/// A setting as JSON.
fn json(reader: &mut Reader<'_>, node: &Node) -> Option<Json> {
    Some(match &node.value {
        Value::List(items) => Json::Array(items.iter().filter_map(|item| json(reader, item)).collect()),
        Value::Table(table) => {
            let entries = table.entries.iter();
            Json::Object(entries.filter_map(|entry| Some((entry.name.clone(), json(reader, &entry.node)?))).collect())
        }
        Value::Date(_) => {
            let message = "a setting cannot be a date: editors' settings files have none";
            reader.push(Mistake::new(Code::WRONG_TYPE, node.span.clone(), message, "put it in quotes"));
            return None;
        }
        value => value.as_json(),
    })
}
