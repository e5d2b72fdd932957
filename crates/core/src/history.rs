//! What moved from one revision of a workspace to the next: in its pins, and in its spec.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::digest::SpecDigest;
use crate::listing::Listing;
use crate::lock::Lock;
use crate::path::RootPath;
use crate::seal::Seal;
use crate::spec::document::{Node, Table, Value};
use crate::tree::Kind;

/// Letters of a value that are shown; more says nothing more.
const LONGEST: usize = 60;

/// One thing that is not what it was.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Moved {
    /// What: a pin or a key.
    pub what: String,
    /// What it was; nothing when it is new.
    pub from: Option<String>,
    /// What it is; nothing when it is gone.
    pub to: Option<String>,
}

/// Pins by what they pin.
pub type Pins = BTreeMap<String, String>;

/// The pins that moved, those of every variant.
pub fn of_locks(before: Option<&Lock>, after: Option<&Lock>) -> Vec<Moved> {
    differing(&before.map(pins).unwrap_or_default(), &after.map(pins).unwrap_or_default())
}

/// What a lock pins, for every variant.
pub fn pins(lock: &Lock) -> Pins {
    let mut all = BTreeMap::new();
    for name in lock.variant_names() {
        let Some(own) = lock.of_variant(name) else { continue };
        for (what, pinned) in pins_in_words(&own) {
            // What is the same in the default variant is said once.
            if all.get(&what) != Some(&pinned) {
                let what = if name == lock.variant { what } else { format!("{what} (in {name})") };
                all.insert(what, pinned);
            }
        }
    }
    all
}

/// What steps fetched, which locking itself does not move.
pub fn records(lock: &Lock) -> Pins {
    let words = |pin: &crate::lock::RecordPin| format!("{} ({} requests)", &pin.sha256.to_string()[..16], pin.requests);
    lock.all_records().map(|pin| (format!("record of {:?}", pin.step), words(pin))).collect()
}

/// What is not the same in two.
pub fn differing(before: &Pins, after: &Pins) -> Vec<Moved> {
    let names: BTreeSet<_> = before.keys().chain(after.keys()).collect();
    let differ = names.into_iter().filter(|name| before.get(*name) != after.get(*name));
    differ
        .map(|name| Moved { what: name.clone(), from: before.get(name).cloned(), to: after.get(name).cloned() })
        .collect()
}

/// Every pin of one variant: what it pins, and to what.
fn pins_in_words(lock: &Lock) -> Pins {
    let mut pins = BTreeMap::new();
    for pin in &lock.packages {
        pins.insert(format!("package {}", pin.name), pin.version.clone());
    }
    for (name, package) in lock.debian.iter().flat_map(|pin| pin.files()) {
        pins.insert(format!("package {name}"), package.version.clone());
    }
    if let Some(pin) = &lock.oci {
        pins.insert(format!("image {}", pin.origin), pin.manifest.to_string()[..16].to_owned());
    }
    if let Some(pin) = &lock.archive {
        pins.insert(format!("archive {}", pin.origin()), pin.sha256.to_string()[..16].to_owned());
    }
    for pin in &lock.toolchains {
        let beside = if pin.also { format!(" {} (beside)", pin.version) } else { String::new() };
        let parts: Vec<_> = pin.parts.iter().map(|part| part.name.as_str()).collect();
        let parts = if parts.is_empty() { String::new() } else { format!(" with {}", parts.join(", ")) };
        pins.insert(format!("toolchain {}{beside}", pin.name), format!("{}{parts}", pin.version));
    }
    for pin in &lock.downloads {
        pins.insert(format!("download {}", pin.name), pin.sha256.to_string()[..16].to_owned());
    }
    for pin in &lock.files {
        pins.insert(format!("files of {:?}", pin.step), format!("{} ({} files)", pin.tree.spoken(), pin.files));
    }
    for pin in &lock.extensions {
        pins.insert(format!("extension {}", pin.id), pin.version.to_string());
    }
    pins
}

/// The keys of a spec that moved. Of a list, what came and what went; of a list of tables, by their names.
pub fn of_specs(before: &Table, after: &Table) -> Vec<Moved> {
    let (mut old, mut new) = (BTreeMap::new(), BTreeMap::new());
    flatten(before, "", &mut old);
    flatten(after, "", &mut new);
    let names: BTreeSet<_> = old.keys().chain(new.keys()).collect();
    let mut moved = Vec::new();
    for name in names.into_iter().filter(|name| old.get(*name) != new.get(*name)) {
        let (from, to) = match (old.get(name), new.get(name)) {
            (Some(Flat::Set(before)), Some(Flat::Set(after))) => {
                let only = |one: &BTreeSet<String>, other: &BTreeSet<String>| {
                    let these: Vec<_> = one.difference(other).cloned().collect();
                    (!these.is_empty()).then(|| short(&these.join(", ")))
                };
                let (gone, come) = (only(before, after), only(after, before));
                if gone.is_none() && come.is_none() {
                    (Some("one order".to_owned()), Some("another order".to_owned()))
                } else {
                    (gone, come)
                }
            }
            (before, after) => (before.map(Flat::words), after.map(Flat::words)),
        };
        moved.push(Moved { what: name.clone(), from, to });
    }
    gathered(moved)
}

/// A value without what is in it.
#[derive(Debug, Clone, PartialEq)]
enum Flat {
    /// A value, as it is written.
    One(String),
    /// A list of texts.
    Set(BTreeSet<String>),
}

impl Flat {
    fn words(&self) -> String {
        match self {
            Self::One(text) => short(text),
            Self::Set(texts) => short(&texts.iter().cloned().collect::<Vec<_>>().join(", ")),
        }
    }
}

/// A text in one line, cut where it is long.
fn short(text: &str) -> String {
    let line = text.trim().lines().next().unwrap_or_default();
    let cut: String = line.chars().take(LONGEST).collect();
    let more = text.trim().lines().count() > 1 || cut.len() < line.len();
    crate::path::shown(cut.as_bytes()) + if more { " …" } else { "" }
}

fn flatten(table: &Table, path: &str, flat: &mut BTreeMap<String, Flat>) {
    for entry in &table.entries {
        let key = if path.is_empty() { entry.name.clone() } else { format!("{path}.{}", entry.name) };
        flatten_node(&entry.node, &key, flat);
    }
}

fn flatten_node(node: &Node, key: &str, flat: &mut BTreeMap<String, Flat>) {
    match &node.value {
        Value::Table(table) => flatten(table, key, flat),
        Value::List(items) if !items.is_empty() && items.iter().all(|item| matches!(item.value, Value::Table(_))) => {
            for (number, item) in items.iter().enumerate() {
                let Value::Table(table) = &item.value else { continue };
                let name = table.get("name").and_then(|entry| match &entry.node.value {
                    Value::Text(name) => Some(format!("{key} {name:?}")),
                    _ => None,
                });
                flatten(table, &name.unwrap_or_else(|| format!("{key}[{}]", number + 1)), flat);
            }
        }
        Value::List(items) => {
            let texts = items.iter().map(|item| match &item.value {
                Value::Text(text) => text.clone(),
                other => other.as_json().to_string(),
            });
            // The words of a command mean something in their order alone.
            let is_command = ["run", "command"].iter().any(|name| key == *name || key.ends_with(&format!(".{name}")));
            let value = match is_command {
                true => Flat::One(texts.collect::<Vec<_>>().join(" ")),
                false => Flat::Set(texts.collect()),
            };
            flat.insert(key.to_owned(), value);
        }
        Value::Text(text) => drop(flat.insert(key.to_owned(), Flat::One(text.clone()))),
        other => drop(flat.insert(key.to_owned(), Flat::One(other.as_json().to_string()))),
    }
}

/// Says what came or went whole once: a step, a service, not each of its keys.
fn gathered(moved: Vec<Moved>) -> Vec<Moved> {
    // A group is what stands before the last dot outside of quotation marks.
    let group = |what: &str| -> Option<String> {
        let mut quoted = false;
        let dots = what.char_indices().filter(|(_, letter)| {
            quoted ^= *letter == '"';
            *letter == '.' && !quoted
        });
        dots.last().map(|(at, _)| what[..at].to_owned()).filter(|group| group.contains(['"', '.']))
    };
    let mut whole: Vec<Moved> = Vec::new();
    let mut at = 0;
    while at < moved.len() {
        let own = group(&moved[at].what);
        let same = moved[at..].iter().take_while(|one| own.is_some() && group(&one.what) == own).count().max(1);
        let of_group = &moved[at..at + same];
        let all_new = of_group.iter().all(|one| one.from.is_none());
        let all_gone = of_group.iter().all(|one| one.to.is_none());
        match own.filter(|_| same > 1 && (all_new || all_gone)) {
            Some(what) => {
                let words = |one: &Moved| one.to.clone().or_else(|| one.from.clone()).unwrap_or_default();
                let name = |one: &Moved| one.what[what.len() + 1..].to_owned();
                let text: Vec<_> = of_group
                    .iter()
                    .filter(|one| name(one) != "name")
                    .map(|one| format!("{} {}", name(one), words(one)))
                    .collect();
                let text = Some(short(&text.join(", ")));
                let (from, to) = if all_new { (None, text) } else { (text, None) };
                whole.push(Moved { what, from, to });
            }
            None => whole.extend_from_slice(of_group),
        }
        at += same;
    }
    whole
}

/// A file of a sealed image as its listing has it, in words; nothing when the image has none there.
pub fn file_in_words(listing: &Listing, seal: &Seal, path: &RootPath) -> Option<String> {
    for layer in seal.layers.iter().rev() {
        let Some(tree) = listing.layer(&layer.name) else { continue };
        let hides = |above: &RootPath| {
            let kind = tree.get(above).map(|entry| &entry.kind);
            matches!(kind, Some(Kind::Whiteout | Kind::Directory { opaque: true }))
        };
        if let Some(entry) = tree.get(path) {
            let what = match &entry.kind {
                Kind::Whiteout => return None,
                Kind::File { size, content, .. } => {
                    format!("{} {}", &content.to_string()[..12], crate::verdict::size(*size))
                }
                Kind::Symlink { target } => format!("→ {}", crate::path::shown(target)),
                other => other.word().to_owned(),
            };
            return Some(format!(
                "{what}, mode {:04o}, owner {}, from {}",
                entry.meta.mode, entry.meta.uid, layer.name
            ));
        }
        if path.ancestors().iter().any(hides) {
            return None;
        }
    }
    None
}

/// What makes two revisions the same workspace: what the spec means, and what is pinned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Environment {
    /// The meaning of the spec.
    pub spec: SpecDigest,
    /// The pins, as the lock has them, without its seals.
    pub pins: String,
}

impl Environment {
    /// That of a spec and its lock.
    pub fn new(spec: SpecDigest, lock: &Lock) -> Self {
        let mut bare = lock.clone();
        for name in lock.variant_names() {
            bare.set_seal(name, None);
        }
        Self { spec, pins: bare.to_text() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::spec::document;

    fn told(before: &str, after: &str) -> Vec<String> {
        let table = |text: &str| document::read(text, 0).0;
        let words = |one: Moved| {
            format!("{}: {} → {}", one.what, one.from.as_deref().unwrap_or("-"), one.to.as_deref().unwrap_or("-"))
        };
        of_specs(&table(before), &table(after)).into_iter().map(words).collect()
    }

    #[test]
    fn what_moved_in_a_spec_is_named_by_what_it_is_called_and_not_by_where_it_stands() {
        let before = "[env]\nPORT = \"1\"\n[base]\npackages = [\"git\", \"curl\"]\n\
                      [[steps]]\nname = \"one\"\nrun = \"a\\nb\"\n[[steps]]\nname = \"two\"\nrun = \"c\"\n";
        let after = "[env]\nPORT = \"2\"\n[base]\npackages = [\"git\", \"vim\"]\n\
                     [[steps]]\nname = \"new.one\"\nat = \"build\"\nrun = \"z\"\n\
                     [[steps]]\nname = \"two\"\nrun = \"c\"\n[[steps]]\nname = \"one\"\nrun = \"a\\nc\"\n";
        assert_eq!(
            told(before, after),
            [
                "base.packages: curl → vim",
                "env.PORT: 1 → 2",
                "steps \"new.one\": - → at build, run z",
                "steps \"one\".run: a … → a …",
            ]
        );
        assert!(told(before, before).is_empty());
        assert_eq!(told("a = [\"x\", \"y\"]", "a = [\"y\", \"x\"]"), Vec::<String>::new());
        assert_eq!(told("[services.db]\nrun = \"x\"\nuser = \"y\"\n", ""), ["services.db: run x, user y → -"]);
    }
}
