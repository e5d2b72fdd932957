//! The table `[toolchains]`.

use std::collections::BTreeMap;

use super::base::package_wish;
use super::document::Value;
use super::parse::{read_origin, read_version};
use super::reader::{Reader, TableAt};
use super::{At, Provenance, Run, Wanted, rules};
use crate::mistake::{Code, Mistake};
use crate::path::RootPath;

/// Keys that mean something only for some provenances.
const ONLY: [(&str, &[&str]); 12] = [
    ("depot", &["depot"]),
    ("also", &["depot"]),
    ("parts", &["depot", "base"]),
    ("packages", &["base"]),
    ("probe", &["base", "archive"]),
    ("answer", &["base", "archive"]),
    ("path", &["archive"]),
    ("url", &["archive"]),
    ("sha256", &["archive"]),
    ("strip", &["archive"]),
    ("place", &["archive"]),
    ("programs", &["archive"]),
];

pub(super) fn read(reader: &mut Reader<'_>, top: &TableAt<'_>) -> BTreeMap<String, At<Wanted>> {
    let mut toolchains = BTreeMap::new();
    let Some(table) = reader.subtable(top, "toolchains", "toolchains") else {
        return toolchains;
    };
    for entry in table.entries() {
        let span = entry.name_span.clone();
        rules::plain_name(reader, "toolchain", &entry.name, &span);
        let wanted = match reader.text_or_table(entry, "toolchains.*") {
            Some(Ok(version)) => read_version(reader, version).map(|version| Wanted {
                from: Provenance::Depot(None),
                version,
                also: Vec::new(),
                parts: None,
                probe: None,
                answer: None,
            }),
            Some(Err(inner)) => wanted(reader, &entry.name, &inner),
            None => None,
        };
        if let Some(value) = wanted {
            toolchains.insert(entry.name.clone(), At { value, span });
        }
    }
    toolchains
}

fn wanted(reader: &mut Reader<'_>, name: &str, table: &TableAt<'_>) -> Option<Wanted> {
    let version = reader.text(table, "version").and_then(|text| read_version(reader, text));
    let from = reader.text(table, "from");
    if let Some(from) = from.as_ref().filter(|from| !["depot", "base", "archive"].contains(&from.value.as_str())) {
        let meant = match from.value.as_str() {
            "apt" | "debian" | "system" | "packages" | "dpkg" => Some("base"),
            "url" | "tar" | "tarball" | "file" | "web" | "download" | "path" => Some("archive"),
            _ => None,
        };
        match meant {
            Some(meant) => {
                let message = format!("a toolchain does not come from {:?}", from.value);
                let remedy = match meant {
                    "base" => "write from = \"base\", for packages of the base",
                    _ => "write from = \"archive\", for an archive from a path or url",
                };
                reader.push(Mistake::new(Code::NOT_ALLOWED, from.span.clone(), message, remedy));
            }
            None => rules::one_of(reader, "from", from, &["depot", "base", "archive"]),
        }
        // What else is there depends on it.
        return None;
    }
    let from = from.map_or("depot".to_owned(), |from| from.value);
    for (key, meant) in ONLY.iter().filter(|(_, meant)| !meant.contains(&from.as_str())) {
        if let Some(span) = table.key_span(key) {
            let message = format!("`{key}` means nothing for a toolchain from {}", article(&from));
            let remedy = format!("leave it out, or write from = \"{}\"", meant[0]);
            reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, remedy));
        }
    }
    let also = reader.texts(table, "also").map(|also| also.value).unwrap_or_default();
    let also: Vec<_> = also.into_iter().filter_map(|text| read_version(reader, text)).collect();
    let probe = command(reader, table);
    let answer = reader.text(table, "answer").map(|answer| answer.value);
    let mut parts = None;
    let from = match from.as_str() {
        "base" => {
            let packages = reader.texts(table, "packages");
            if packages.as_ref().is_none_or(|packages| packages.value.is_empty()) {
                let message = format!("it is not said which packages of the base `{name}` is made of");
                let remedy = "add packages = [\"…\"]; the first one's version is the toolchain's";
                reader.push(Mistake::new(Code::MISSING_KEY, table.span(), message, remedy));
            }
            let packages = packages.map(|packages| packages.value).unwrap_or_default();
            let parts = lists(reader, table);
            packages.iter().chain(parts.values().flatten()).for_each(|package| package_wish(reader, package));
            Provenance::Base { packages, parts }
        }
        "archive" => {
            let origin = read_origin(reader, table, "the toolchain's archive");
            let sha256 = reader.text(table, "sha256").and_then(|text| rules::sha256(reader, text));
            let strip = reader.number(table, "strip").map_or(0, |strip| rules::strip(reader, strip));
            let place = reader.text(table, "place").and_then(|place| rules::inside_path(reader, "place", place));
            let usual = || RootPath::from_absolute(&format!("/opt/{name}/{}", version.as_ref()?.value)).ok();
            let programs = reader.texts(table, "programs").map(|programs| programs.value);
            let programs = programs.map(|programs| programs.into_iter().map(|program| program.value).collect());
            let programs: Vec<String> = programs.unwrap_or_else(|| vec!["bin".to_owned()]);
            let place = place.map(|place| place.value).or_else(usual);
            Provenance::Archive { origin: origin?, sha256, strip, place: place?, programs }
        }
        _ => {
            let depot = reader.text(table, "depot");
            parts = reader.texts(table, "parts").map(|parts| parts.value);
            Provenance::Depot(depot)
        }
    };
    let version = version?;
    for (position, again) in also.iter().enumerate() {
        let mut earlier = std::iter::once(&version).chain(&also[..position]);
        if let Some(first) = earlier.find(|first| first.value == again.value) {
            let message = format!("the version {} is asked for twice", again.value);
            let mistake = Mistake::new(Code::VERSION_TWICE, again.span.clone(), message, "leave one of them out");
            reader.push(mistake.noting("again here").against(first.span.clone(), "first here"));
        }
    }
    Some(Wanted { from, version, also, parts, probe, answer })
}

fn article(from: &str) -> &'static str {
    match from {
        "base" => "the base",
        "archive" => "an archive",
        _ => "a depot",
    }
}

/// The probe: a list is a program and its arguments, and a text is the same with blanks between, since no shell may be
/// there.
fn command(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Run> {
    let entry = table.entries().find(|entry| entry.name == "probe")?;
    let words: Vec<String> = match &entry.node.value {
        Value::Text(text) => text.split_whitespace().map(str::to_owned).collect(),
        _ => reader.texts(table, "probe")?.value.into_iter().map(|word| word.value).collect(),
    };
    if words.is_empty() {
        let message = "`probe` runs nothing";
        let remedy = "write the command that tells the version, like \"quill --version\"";
        reader.push(Mistake::new(Code::EMPTY_COMMAND, entry.node.span.clone(), message, remedy));
        return None;
    }
    Some(Run::Program(words))
}

/// `parts` as a table of lists.
fn lists(reader: &mut Reader<'_>, table: &TableAt<'_>) -> BTreeMap<String, Vec<At<String>>> {
    let Some(entry) = table.entries().find(|entry| entry.name == "parts") else { return BTreeMap::new() };
    let Value::Table(inner) = &entry.node.value else {
        let message = "`parts` of a toolchain from the base has to be a table of lists of packages";
        let remedy = "write parts = { formatter = [\"rustfmt\"] }";
        reader.push(Mistake::new(Code::WRONG_TYPE, entry.node.span.clone(), message, remedy));
        return BTreeMap::new();
    };
    let inner = reader.table(inner, "toolchains.*.parts", entry.name_span.clone());
    let mut parts = BTreeMap::new();
    for part in inner.entries() {
        rules::plain_name(reader, "part", &part.name, &part.name_span);
        if let Some(packages) = reader.texts(&inner, &part.name) {
            parts.insert(part.name.clone(), packages.value);
        }
    }
    parts
}
