//! From the text of a spec to a [`Spec`], with every mistake that the text alone shows.

use std::collections::{BTreeMap, HashSet};

use super::document::{Table, Value};
use super::gather::{Gathered, gather};
use super::reader::{Reader, TableAt};
use super::variants::Documents;
use super::{
    At, Base, Depot, Download, Folder, Network, Origin, Port, Protocol, Side, Spec, Target, Workspace, base, between,
    editor, host, image, machine, personal, rules, secret, services, steps, team, toolchains, variables, variants,
};
use crate::digest::SpecDigest;
use crate::mistake::{Code, Mistake, Weight};
use crate::oci::Reference;
use crate::path::RootPath;
use crate::synced::Rules;
use crate::version::Version;

/// What came of reading a spec.
#[derive(Debug, Default)]
pub struct Parsed {
    /// Each variant as far as it could be read, for looking further for mistakes; [`Self::sound`] gives one to work
    /// with.
    pub drafts: BTreeMap<String, Spec>,
    /// The variant that is meant when none is named.
    pub default: String,
    /// The document of each variant.
    pub tables: BTreeMap<String, Table>,
    /// Every mistake found, in the order of the file.
    pub mistakes: Vec<Mistake>,
}

impl Parsed {
    /// The default variant as far as it could be read.
    pub fn draft(&self) -> Option<&Spec> {
        self.drafts.get(&self.default)
    }

    /// The default variant, when there is no mistake in any.
    pub fn sound(mut self) -> Option<Spec> {
        let sound = self.mistakes.iter().all(|mistake| mistake.weight == Weight::Warning);
        self.drafts.remove(&self.default).filter(|_| sound)
    }
}

/// Reads the text of a spec that includes nothing.
pub fn parse(text: &str) -> Parsed {
    let nothing = &mut |_: &str| Err("there are no other files here".to_owned());
    parse_gathered(&gather(super::FILE_NAME, text, nothing))
}

/// Reads a spec that was joined from its files.
pub fn parse_gathered(gathered: &Gathered) -> Parsed {
    let mut reader = Reader { sources: &gathered.sources, mistakes: gathered.mistakes.clone(), elsewhere: Vec::new() };
    // A broken document lacks what stands in its broken lines; only what is there can be judged.
    let broken = !reader.mistakes.is_empty();
    let Documents { default, tables } = variants::documents(&mut reader, &gathered.table);
    if gathered.table.entries.is_empty() && reader.mistakes.is_empty() {
        let remedy = "write at least\n    spec = 1\n\n    [workspace]\n    name = \"…\"\n\n    [base]\n    debian   = \"trixie\"\n    packages = [\"git\"]\nor remove the file, and cavrith init writes one from what the project's files tell";
        let mistake = Mistake::new(Code::MISSING_KEY, 0..0, "there is nothing in this spec", remedy);
        return Parsed { default, mistakes: vec![mistake], ..Parsed::default() };
    }
    let mut drafts = BTreeMap::new();
    // The default variant first: what is wrong in all of them is said of that one.
    let order = std::iter::once(&default).chain(tables.keys().filter(|name| **name != default));
    for (name, table) in order.filter_map(|name| Some((name, tables.get(name)?))) {
        let mut own = Reader { sources: &gathered.sources, mistakes: Vec::new(), elsewhere: Vec::new() };
        let draft = read_variant(&mut own, table, name, *name == default);
        if broken {
            own.mistakes.retain(|mistake| mistake.code != Code::MISSING_KEY && mistake.code != Code::BASE_ORIGIN);
        }
        let key = |mistake: &Mistake| {
            let places = mistake.places.iter().map(|place| (place.span.start, place.span.end));
            (mistake.code, places.collect::<Vec<_>>())
        };
        // What is wrong in several variants is said once.
        let known: HashSet<_> = reader.mistakes.iter().map(key).collect();
        for mut mistake in own.mistakes {
            if !known.contains(&key(&mistake)) {
                if *name != default {
                    mistake.message = format!("in the variant `{name}`: {}", mistake.message);
                }
                reader.push(mistake);
            }
        }
        drafts.extend(draft.map(|draft| (name.clone(), draft)));
    }
    secret::check(&mut reader, &drafts);
    variants::connect(&mut reader, &mut drafts);
    let mut mistakes = reader.mistakes;
    mistakes.sort_by_key(|mistake| mistake.places.first().map_or(0, |place| place.span.start));
    mistakes.dedup();
    Parsed { drafts, default, tables, mistakes }
}

/// Reads the document of one variant.
fn read_variant(reader: &mut Reader<'_>, table: &Table, variant: &str, is_default: bool) -> Option<Spec> {
    let top = reader.table(table, "", 0..0);
    let mut meaning = table.as_json();
    // Where layers are shared, and who signs for them, says nothing of what they are.
    if let Some(table) = meaning.as_object_mut() {
        table.retain(|name, _| name != "cache" && name != "team");
    }
    let digest = SpecDigest::from_bytes(*blake3::hash(meaning.to_string().as_bytes()).as_bytes());
    let draft = read(reader, &top, digest);
    reader.settle();
    let mut draft = draft?;
    (draft.variant, draft.is_default) = (variant.to_owned(), is_default);
    between::check(&draft, &mut reader.mistakes);
    Some(draft)
}

fn read(reader: &mut Reader<'_>, top: &TableAt<'_>, digest: SpecDigest) -> Option<Spec> {
    if let Some(version) = reader.number(top, "spec")
        && version.value != 1
    {
        let message = format!("this spec is of version {}, and this Cavrith reads version 1", version.value);
        reader.push(Mistake::new(Code::NOT_ALLOWED, version.span, message, "write spec = 1, or use a newer Cavrith"));
    }
    let workspace = reader.subtable(top, "workspace", "workspace").and_then(|table| read_workspace(reader, &table));
    let depots = read_depots(reader, top);
    let base = reader.subtable(top, "base", "base").and_then(|table| base::read(reader, &table));
    let toolchains = toolchains::read(reader, top);
    let env = read_env(reader, top, "env");
    let env = variables::fill_in(&env, &BTreeMap::new(), &mut reader.mistakes);
    let mut folders = read_folders(reader, top);
    let ports = read_ports(reader, top);
    let downloads = read_downloads(reader, top);
    let services = services::read(reader, top, &env);
    let (steps, start_steps) = steps::read(reader, top, &env, &services);
    services::order(reader, &services, &start_steps);
    let (secrets, named_by_secrets) = secret::read(reader, top, (&services, &start_steps));
    let names = services::read_names(reader, top);
    let limits = services::read_limits(reader, top);
    let cache = reader.subtable(top, "cache", "cache").and_then(|table| read_cache(reader, &table));
    let editor = reader.subtable(top, "editor", "editor").map(|table| editor::read(reader, &table));
    let personal = reader.subtable(top, "personal", "personal").map(|table| personal::read(reader, &table));
    let machine = reader.subtable(top, "machine", "machine");
    let has_machine = machine.is_some();
    let machine = machine.and_then(|table| machine::read(reader, &table, base.as_ref()));
    if let Some((workspace, _)) = &workspace
        && workspace.target == Target::Machine
        && !has_machine
    {
        let message = "`target = \"machine\"` needs to know with which kernel and how much memory";
        let remedy = "add the table [machine]; what it leaves out has its usual value";
        reader.push(Mistake::new(Code::NOT_ALLOWED, workspace.name.span.clone(), message, remedy));
    }
    let team = reader.subtable(top, "team", "team").map(|table| team::read(reader, &table));
    // What could be included is joined already; a list that is left is reported for what else is in it.
    reader.texts(top, "include");
    let image = reader.subtable(top, "image", "image").map(|table| image::read(reader, &table)).unwrap_or_default();
    let (workspace, has_project) = workspace?;
    for folder in folders.iter().filter(|folder| has_project && folder.inside.value == workspace.project.value) {
        // The folder itself, or one that it lies in.
        let is_project = folder
            .outside()
            .is_some_and(|outside| outside.value.split('/').all(|part| matches!(part, "" | "." | "..")));
        if !is_project {
            let message = format!("the folder lies at {}, where the project itself lies", folder.inside.value);
            let remedy =
                "give the folder another place, or the project with [workspace] project = \"/home/crew/project\"";
            let mistake = Mistake::new(Code::FOLDERS_MEET, folder.inside.span.clone(), message, remedy);
            reader.push(mistake.noting("this one").against(workspace.project.span.clone(), "the project's place"));
        }
    }
    if has_project && !folders.iter().any(|folder| folder.inside.value == workspace.project.value) {
        let side = Side::Live(At { value: ".".to_owned(), span: workspace.project.span.clone() });
        folders.insert(0, Folder { side, inside: workspace.project.clone(), except: Vec::new() });
    }
    // A base that could not be read is reported already; an empty one stands for it while the rest is examined.
    let nothing = At { value: String::new(), span: 0..0 };
    let base = base.unwrap_or(Base::Packages { depot: nothing, packages: Vec::new() });
    Some(Spec {
        workspace,
        depots,
        base,
        toolchains,
        env,
        folders,
        ports,
        downloads,
        steps,
        start_steps,
        services,
        secrets,
        named_by_secrets,
        names,
        limits,
        cache,
        team,
        editor,
        personal: personal.unwrap_or_default(),
        machine,
        image,
        variant: variants::MAIN.to_owned(),
        is_default: true,
        sources: BTreeMap::new(),
        digest,
    })
}

fn read_cache(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<At<String>> {
    let registry = reader.text(table, "registry")?;
    if let Err(why) = Reference::parse(&format!("{}:x", registry.value)) {
        let message = format!("{:?} does not name a place in a registry: {why}", registry.value);
        let remedy = "write the registry and a name, like registry.example/brindle/timetable";
        reader.push(Mistake::new(Code::BAD_REFERENCE, registry.span, message, remedy));
        return None;
    }
    Some(registry)
}

/// The table, and whether the project's folder appears inside.
fn read_workspace(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<(Workspace, bool)> {
    let name = reader.text(table, "name");
    if let Some(name) = &name {
        rules::host_name(reader, "workspace", name);
    }
    // A name that is missing or no text is reported already.
    let name = name.unwrap_or_else(|| At { value: String::new(), span: table.span() });
    let about = reader.text(table, "about").map(|about| about.value);
    let account = reader.text(table, "account").unwrap_or(At { value: "crew".to_owned(), span: table.span() });
    rules::account_name(reader, &account);
    let project = reader.text(table, "project");
    let has_project = project.as_ref().is_none_or(|project| !project.value.is_empty());
    let project = project.filter(|_| has_project);
    let project = project.and_then(|project| rules::inside_path(reader, "project", project));
    let otherwise =
        if has_project { variants::DEFAULT_PROJECT.to_owned() } else { crate::account::home(&account.value) };
    let project =
        project.or_else(|| RootPath::from_absolute(&otherwise).ok().map(|value| At { value, span: table.span() }));
    let network = match reader.text(table, "network") {
        Some(network) if network.value == "none" => Network::None,
        Some(network) => {
            rules::one_of(reader, "network", &network, &["out", "none"]);
            Network::Out
        }
        None => Network::Out,
    };
    let target = match reader.text(table, "target") {
        Some(target) if target.value == "machine" => Target::Machine,
        Some(target) => {
            rules::one_of(reader, "target", &target, &["namespaces", "machine"]);
            Target::Namespaces
        }
        None => Target::Namespaces,
    };
    let path = reader.texts(table, "path").map_or_else(Vec::new, |texts| texts.value);
    let path = path.into_iter().filter_map(|text| rules::inside_path(reader, "path", text)).collect();
    let host = reader.subtable(table, "host", "workspace.host").map(|table| host::read(reader, &table));
    let host = host.unwrap_or_default();
    let fresh_home = match reader.text(table, "home") {
        Some(home) => {
            rules::one_of(reader, "home", &home, &["kept", "fresh"]);
            home.value == "fresh"
        }
        None => false,
    };
    Some((Workspace { name, about, account, project: project?, network, target, path, host, fresh_home }, has_project))
}

fn read_depots(reader: &mut Reader<'_>, top: &TableAt<'_>) -> BTreeMap<String, At<Depot>> {
    let mut depots = BTreeMap::new();
    let Some(table) = reader.subtable(top, "depots", "depots") else {
        return depots;
    };
    for entry in table.entries() {
        let span = entry.name_span.clone();
        rules::plain_name(reader, "depot", &entry.name, &span);
        if let Value::Table(inner) = &entry.node.value {
            let inner = reader.table(inner, "depots.*", span.clone());
            if let Some(origin) = read_origin(reader, &inner, "the depot") {
                depots.insert(entry.name.clone(), At { value: Depot { origin }, span });
            }
        } else {
            let message = format!("the depot `{}` has to be a table", entry.name);
            let remedy = "write { path = \"…\" } or { url = \"…\" }";
            reader.push(Mistake::new(Code::WRONG_TYPE, entry.node.span.clone(), message, remedy));
        }
    }
    depots
}

/// `path` or `url`.
pub(super) fn read_origin(reader: &mut Reader<'_>, table: &TableAt<'_>, what: &str) -> Option<Origin> {
    let path = reader.outside(table, "path");
    let url = reader.text(table, "url").and_then(|url| rules::url(reader, url));
    match (table.key_span("path"), table.key_span("url")) {
        (Some(_), None) => path.map(Origin::Path),
        (None, Some(_)) => url.map(Origin::Url),
        (Some(_), Some(_)) => {
            rules::only_one_of(reader, table, "path", "url");
            None
        }
        (None, None) => {
            let message = format!("{what} has no path and no url");
            reader.push(Mistake::new(Code::ONE_OF, table.span(), message, "add path or url"));
            None
        }
    }
}

pub(super) fn read_version(reader: &mut Reader<'_>, text: At<String>) -> Option<At<Version>> {
    if let Some((why, plain)) = odd_version(&text.value) {
        let remedy = match plain {
            "" => "write a number, or its beginning: \"2.4\", \"2\"".to_owned(),
            plain => format!("write \"{plain}\"; the beginning of a version stands for all that begin so"),
        };
        reader.push(Mistake::new(Code::BAD_VERSION, text.span, format!("{:?} {why}", text.value), remedy));
        return None;
    }
    match Version::new(&text.value) {
        Ok(value) => Some(At { value, span: text.span }),
        Err(bad) => {
            let remedy = "write the version or its beginning, like \"2.4\", without operators";
            reader.push(Mistake::new(Code::BAD_VERSION, text.span, bad.to_string(), remedy));
            None
        }
    }
}

/// Why a version is none here, and what is meant by it: a wildcard, a `v` before it, an operator, a word.
fn odd_version(text: &str) -> Option<(&'static str, &str)> {
    let begins_with_digit = |text: &str| text.starts_with(|letter: char| letter.is_ascii_digit());
    let plain = text.trim_start_matches(['^', '~', '>', '<', '=', ' ', 'v', 'V']);
    let beginning = plain.split(['.']).take_while(|part| !matches!(*part, "x" | "X" | "*")).map(str::len);
    let beginning = plain.get(..beginning.map(|length| length + 1).sum::<usize>().saturating_sub(1)).unwrap_or(plain);
    if matches!(text, "latest" | "stable" | "lts" | "newest" | "current" | "*" | "x") {
        return Some(("is no version that could be held on to", ""));
    }
    if text.starts_with(['^', '~', '>', '<', '=']) {
        return Some(("has an operator, and a version here has none", beginning));
    }
    if let Some(rest) = text.strip_prefix(['v', 'V'])
        && begins_with_digit(rest)
    {
        return Some(("begins with a letter", beginning));
    }
    (beginning.len() < plain.len() && begins_with_digit(plain)).then_some(("has a wildcard", beginning))
}

/// The variables of a table's `env`; `path` is that of `env` among the keys.
pub(super) fn read_env(
    reader: &mut Reader<'_>,
    table: &TableAt<'_>,
    path: &'static str,
) -> BTreeMap<String, At<String>> {
    let mut env = BTreeMap::new();
    let Some(table) = reader.subtable(table, "env", path) else {
        return env;
    };
    for entry in table.entries() {
        if let Some(value) = reader.text_of("", &entry.name, &entry.node) {
            rules::variable(reader, &entry.name, &entry.name_span, &value);
            env.insert(entry.name.clone(), value);
        }
    }
    env
}

fn read_folders(reader: &mut Reader<'_>, top: &TableAt<'_>) -> Vec<Folder> {
    let mut folders = Vec::new();
    for table in reader.subtables(top, "folders", "folders[]") {
        let side = read_side(reader, &table);
        let inside = reader.text(&table, "inside").and_then(|inside| rules::inside_path(reader, "inside", inside));
        let except = reader.texts(&table, "except").map(|except| except.value).unwrap_or_default();
        let except = except.into_iter().filter_map(|path| rules::except_path(reader, path)).collect();
        if let (Some(side), Some(inside)) = (side, inside) {
            folders.push(Folder { side, inside, except });
        }
    }
    folders
}

fn read_side(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Side> {
    let mode = reader.text(table, "mode");
    let is_mode = |name: &str| mode.as_ref().is_some_and(|mode| mode.value == name);
    let (kept, synced) = (is_mode("kept"), is_mode("synced"));
    if let Some(mode) = &mode {
        rules::one_of(reader, "mode", mode, &["live", "synced", "kept"]);
    }
    let (outside, name, owner) =
        (reader.outside(table, "outside"), reader.text(table, "name"), reader.text(table, "owner"));
    let ignore = reader.texts(table, "ignore").map(|ignore| ignore.value).unwrap_or_default();
    let foreign: &[&str] = match (kept, synced) {
        (true, _) => &["outside", "except", "ignore"],
        (_, true) => &["name", "owner"],
        _ => &["name", "owner", "ignore"],
    };
    for key in foreign {
        if let Some(span) = table.key_span(key) {
            let is = if kept {
                "kept"
            } else if synced {
                "synced"
            } else {
                "live"
            };
            let other = if kept {
                "live"
            } else if *key == "ignore" {
                "synced"
            } else {
                "kept"
            };
            let message = format!("`{key}` means nothing for a {is} folder");
            let remedy = format!("leave it out, or write mode = \"{other}\"");
            reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, remedy));
        }
    }
    let mut lacks = |key: &str, what: &str| {
        let message = format!("the folder lacks the key `{key}`");
        reader.push(Mistake::new(Code::MISSING_KEY, table.span(), message, format!("add it: {what}")));
    };
    if !kept {
        if table.key_span("outside").is_none() {
            lacks("outside", "the folder on the member's disk, or write mode = \"kept\" and a name");
        }
        if !synced {
            return outside.map(Side::Live);
        }
        for pattern in &ignore {
            if let Err(error) = Rules::new(Vec::new(), std::slice::from_ref(&pattern.value)) {
                let remedy = "write it as in gitignore(5): *.o, /out/, docs/**/draft";
                reader.push(Mistake::new(Code::NOT_ALLOWED, pattern.span.clone(), error.to_string(), remedy));
            }
        }
        return outside.map(|outside| Side::Synced { outside, ignore });
    }
    if table.key_span("name").is_none() {
        lacks("name", "the name that cavrith folder takes");
    }
    let name = name?;
    rules::plain_name(reader, "kept folder", &name.value, &name.span);
    Some(Side::Kept { name, owner })
}

fn read_downloads(reader: &mut Reader<'_>, top: &TableAt<'_>) -> Vec<Download> {
    let mut downloads = Vec::new();
    for table in reader.subtables(top, "downloads", "downloads[]") {
        let name = reader.text(&table, "name");
        if let Some(name) = &name {
            rules::plain_name(reader, "download", &name.value, &name.span);
        }
        let url = reader.text(&table, "url").and_then(|url| rules::url(reader, url));
        let inside = reader.text(&table, "inside").and_then(|inside| rules::inside_path(reader, "inside", inside));
        let sha256 = reader.text(&table, "sha256").and_then(|text| rules::sha256(reader, text));
        let unpack = reader.flag(&table, "unpack");
        let strip = reader.number(&table, "strip").map_or(0, |strip| rules::strip(reader, strip));
        let mode = reader.text(&table, "mode").map_or(0o644, |mode| rules::mode(reader, &mode));
        for (key, wanted) in [("strip", true), ("mode", false)] {
            if let Some(span) = table.key_span(key).filter(|_| unpack != wanted) {
                let what = if unpack { "an archive that is unpacked" } else { "a file that is not unpacked" };
                let message = format!("`{key}` means nothing for {what}");
                let remedy = if unpack { "leave it out" } else { "add unpack = true, or leave it out" };
                reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, remedy));
            }
        }
        if let (Some(name), Some(url), Some(inside)) = (name, url, inside) {
            downloads.push(Download { name, url, inside, sha256, unpack, strip, mode });
        }
    }
    downloads
}

fn read_ports(reader: &mut Reader<'_>, top: &TableAt<'_>) -> Vec<Port> {
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
        let count = reader.number(&table, "count");
        let protocol = match reader.text(&table, "protocol") {
            Some(protocol) if protocol.value == "udp" => Protocol::Udp,
            Some(protocol) => {
                rules::one_of(reader, "protocol", &protocol, &["tcp", "udp"]);
                Protocol::Tcp
            }
            None => Protocol::Tcp,
        };
        let bind = reader.text(&table, "bind").and_then(|bind| rules::address(reader, bind));
        let open = reader.flag(&table, "open");
        if let (Some(name), Some(inside), Some(outside)) = (name, inside, outside) {
            let first = inside.value.max(outside.value);
            let count = count.map_or(1, |count| rules::port_count(reader, &count, first));
            ports.push(Port { name, inside, outside, exact, count, protocol, bind, open });
        }
    }
    ports
}
