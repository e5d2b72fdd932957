//! A project's first spec, from what its own files tell. Pure: what is seen comes in, a text goes out, with what in it
//! is a guess and what was seen and not taken over.

mod services;
mod wish;

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::sync::OnceLock;

use crate::debian::languages::{self, SUITES};
use crate::depot::Index;
use crate::version::Version;
pub use services::Kind as ServiceKind;
pub use wish::Wish;

/// What dependencies need of the archive.
const LIBRARIES: &str = include_str!("first_spec/libraries.toml");

/// Something that a project's files tell.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Sight {
    /// The file.
    pub file: String,
    /// What it tells.
    pub finding: Finding,
}

/// What a file tells.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Finding {
    /// A toolchain, and which version of it, when that is named.
    Toolchain {
        /// Its name.
        name: String,
        /// The version that is wanted.
        version: Option<Wish>,
    },
    /// Packages of the archive that a build tool or package manager comes in.
    Tool {
        /// What it is, for people.
        what: String,
        /// The packages.
        packages: Vec<String>,
    },
    /// A dependency that needs something of the archive.
    Library {
        /// The dependency.
        dependency: String,
        /// The packages.
        packages: Vec<String>,
    },
    /// A service that the project talks to.
    Service(ServiceKind),
    /// A variable that the project reads, with a value for trying things out.
    Variable {
        /// Its name.
        name: String,
        /// Its value.
        value: String,
    },
    /// How dependencies are installed.
    Install {
        /// The command.
        command: String,
        /// Files that it needs.
        files: Vec<String>,
        /// Directories of the project that it fills, which its account then owns; without any it fills the system's,
        /// as root.
        fills: Vec<String>,
    },
    /// A directory that programs make, and that has nothing to do with the member's own.
    Apart(String),
    /// How the project is started.
    Start(String),
    /// A port that it listens on.
    Port(u16),
    /// Something that a person has to take over.
    Left(String),
}

impl Finding {
    /// For people.
    pub fn words(&self) -> String {
        match self {
            Self::Toolchain { name, version: Some(version) } => format!("{name} {version}"),
            Self::Toolchain { name, version: None } => format!("{name}, in no particular version"),
            Self::Tool { what, packages } => format!("{what} ({})", packages.join(", ")),
            Self::Library { dependency, packages } => format!("{dependency} needs {}", packages.join(", ")),
            Self::Service(kind) => format!("{} is used", kind.words()),
            Self::Variable { name, .. } => format!("the variable {name}"),
            Self::Install { command, .. } => format!("dependencies come with {command}"),
            Self::Apart(dir) => format!("{dir} is made by programs"),
            Self::Start(command) => format!("it is started by {command}"),
            Self::Port(port) => format!("port {port}"),
            Self::Left(what) => format!("not taken over: {what}"),
        }
    }
}

/// The packages that a dependency of an index (`cargo`, `gem`, `npm`, `pypi`, `composer`, `c`, `hex`) needs.
pub fn library(index: &str, dependency: &str) -> Option<&'static [String]> {
    type Table = BTreeMap<String, BTreeMap<String, Vec<String>>>;
    static READ: OnceLock<Table> = OnceLock::new();
    let table = READ.get_or_init(|| toml::from_str(LIBRARIES).unwrap_or_default());
    Some(table.get(index)?.get(dependency)?.as_slice())
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstSpec {
    /// The spec's text.
    pub text: String,
    /// What is only a guess, in sentences.
    pub guessed: Vec<String>,
    /// What somebody has to decide, in sentences.
    pub open: Vec<String>,
}

/// Where the root comes from.
#[derive(Debug, Clone, Copy)]
pub enum Origin<'a> {
    /// A suite of the Debian archive, or the one that fits best.
    Suite(Option<&'a str>),
    /// A depot of this path that has packages.
    Depot(&'a str, &'a Index),
}

/// How far a suite has what the project's files ask for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fit {
    /// The suite.
    pub suite: &'static str,
    /// Each language that a version is asked of: its name, what is asked for, what the suite has, and whether that
    /// will do.
    pub languages: Vec<(String, String, String, bool)>,
}

impl Fit {
    /// Whether all of it will do.
    pub fn is_whole(&self) -> bool {
        self.languages.iter().all(|(.., is_met)| *is_met)
    }

    fn met(&self) -> usize {
        self.languages.iter().filter(|(.., is_met)| *is_met).count()
    }
}

/// All suites, the one that fits best first; of equals the newest.
pub fn fits(seen: &[Sight]) -> Vec<Fit> {
    let wanted: Vec<_> = seen
        .iter()
        .filter_map(|sight| match &sight.finding {
            Finding::Toolchain { name, version: Some(wish) } => Some((languages::find(name)?, name, wish)),
            _ => None,
        })
        .collect();
    let of = |suite: &'static str| {
        let languages = wanted.iter().filter_map(|(language, name, wish)| {
            let have = language.version_in(suite)?;
            Some(((*name).clone(), wish.to_string(), have.to_owned(), wish.is_met_by(have)))
        });
        Fit { suite, languages: languages.collect() }
    };
    let mut fits: Vec<_> = SUITES.into_iter().map(of).collect();
    // The order of equals stays: it is the order of preference.
    fits.sort_by_key(|fit| std::cmp::Reverse(fit.met()));
    fits
}

/// Writes a first spec. `depot` is one that toolchains may come from, with its path, whatever the root comes from.
pub fn write(name: &str, seen: &[Sight], origin: Origin<'_>, depot: Option<(&str, &Index)>) -> FirstSpec {
    let mut writer = Writer { seen, suite: "", out: String::new(), guessed: Vec::new(), open: Vec::new() };
    writer.head(name);
    match origin {
        Origin::Suite(wanted) => {
            writer.suite(wanted);
            writer.depots(depot);
            writer.debian(depot.map(|(_, index)| index));
        }
        Origin::Depot(path, index) => {
            writer.depots(Some((path, index)));
            writer.packages(index);
            writer.depot_toolchains(index);
        }
    }
    let has_packages = matches!(origin, Origin::Suite(_));
    writer.variables(has_packages);
    if has_packages {
        writer.installs();
        writer.services();
    }
    writer.folders();
    writer.started(has_packages);
    for sight in seen {
        if let Finding::Left(what) = &sight.finding {
            writer.open.push(format!("{what} ({})", sight.file));
        }
    }
    FirstSpec { text: writer.out, guessed: writer.guessed, open: writer.open }
}

struct Writer<'a> {
    seen: &'a [Sight],
    /// The suite of the base; empty when it is another one.
    suite: &'static str,
    out: String,
    guessed: Vec<String>,
    open: Vec<String>,
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn listed<T: AsRef<str>>(items: impl IntoIterator<Item = T>) -> String {
    items.into_iter().map(|item| quoted(item.as_ref())).collect::<Vec<_>>().join(", ")
}

impl<'a> Writer<'a> {
    fn line(&mut self, line: impl std::fmt::Display) {
        let _ = writeln!(self.out, "{line}");
    }

    fn toolchains(&self) -> Vec<(&'a str, Option<&'a Wish>, &'a str)> {
        let wanted = self.seen.iter().filter_map(|sight| match &sight.finding {
            Finding::Toolchain { name, version } => Some((name.as_str(), version.as_ref(), sight.file.as_str())),
            _ => None,
        });
        wanted.collect()
    }

    fn head(&mut self, name: &str) {
        self.line(format_args!(
            "# The workspace of {name}. `cavrith check` finds mistakes in it, `cavrith explain KEY` tells of each key."
        ));
        self.line("spec = 1\n\n[workspace]");
        self.line(format_args!("name    = {}", quoted(name)));
        self.line("# about   = \"one line for people\"");
        self.line("account = \"crew\"                 # the ordinary user inside");
        self.line("project = \"/code\"                # where this folder appears inside");
    }

    /// The suite that has most of what is wanted; of several, the newest.
    fn suite(&mut self, wanted: Option<&str>) {
        let known = wanted.and_then(|wanted| SUITES.iter().find(|suite| **suite == wanted));
        let best = fits(self.seen).first().map_or(SUITES[0], |fit| fit.suite);
        self.suite = known.copied().unwrap_or(best);
        if known.is_none() {
            self.guessed.push(format!("Debian's suite {} for the base", self.suite));
        }
    }

    fn depots(&mut self, depot: Option<(&str, &Index)>) {
        if let Some((path, _)) = depot {
            let key = if path.contains("://") { "url" } else { "path" };
            self.line(format_args!("\n[depots]\nours = {{ {key} = {} }}", quoted(path)));
        }
    }

    /// A base of the archive, and the toolchains.
    fn debian(&mut self, depot: Option<&Index>) {
        let mut packages: Vec<(String, Vec<String>)> = vec![("git".to_owned(), Vec::new())];
        for sight in self.seen {
            let (names, why) = match &sight.finding {
                Finding::Tool { packages, .. } => (packages, sight.file.clone()),
                Finding::Library { dependency, packages } => (packages, format!("{dependency}, {}", sight.file)),
                Finding::Service(kind) => (&kind.packages(), format!("{}, {}", kind.words(), sight.file)),
                _ => continue,
            };
            for name in names {
                match packages.iter_mut().find(|(known, _)| known == name) {
                    Some((_, reasons)) if !reasons.contains(&why) => reasons.push(why.clone()),
                    Some(_) => {}
                    None => packages.push((name.clone(), vec![why.clone()])),
                }
            }
        }
        self.line("\n[base]                           # the root that everything else lies on");
        self.line(format_args!("debian   = {}", quoted(self.suite)));
        self.line("packages = [");
        for (name, reasons) in &packages {
            let entry = format!("{},", quoted(name));
            match reasons.first() {
                Some(reason) => self.line(format_args!("    {entry:<32} # {reason}")),
                None => self.line(format_args!("    {entry}")),
            }
        }
        self.line("]");
        for (name, wish, file) in self.toolchains() {
            self.toolchain((name, wish, file), depot);
        }
    }

    fn toolchain(&mut self, (name, wish, file): (&str, Option<&Wish>, &str), depot: Option<&Index>) {
        if let Some(version) = depot.and_then(|index| offered(index, name, wish)) {
            self.line(format_args!("\n[toolchains.{name}]                # {file} tells it; from the depot"));
            self.line(format_args!("version = {}", quoted(&version)));
            return;
        }
        let Some((language, have)) = languages::find(name).and_then(|one| Some((one, one.version_in(self.suite)?)))
        else {
            let version = wish.map_or_else(|| "…".to_owned(), |wish| wish.version.clone());
            self.line(format_args!("\n# [toolchains.{name}]              # {file} tells it"));
            self.line(format_args!("# version = {}", quoted(&version)));
            self.open
                .push(format!("nothing here brings {name}, which {file} asks for; take it from a depot or an archive"));
            return;
        };
        let heading = format!("[toolchains.{name}]");
        self.line(format_args!("\n{heading:<32} # {file} tells it"));
        if let Some(wish) = wish.filter(|wish| !wish.is_met_by(have)) {
            let others = SUITES.iter().filter(|suite| **suite != self.suite);
            let others = others.filter_map(|suite| Some((suite, language.version_in(suite)?)));
            let fitting: Vec<_> = others.filter(|(_, have)| wish.is_met_by(have)).map(|(suite, _)| *suite).collect();
            let other = match fitting.first() {
                Some(suite) => format!("cavrith init --suite {suite} begins with one that has it"),
                None => "a depot or an archive may have it (cavrith explain toolchains)".to_owned(),
            };
            let suite = self.suite;
            self.line(format_args!("# CHOOSE: {file} asks for {name} {wish}, and {suite} has {have}; {other}."));
            self.open.push(format!("{name} {wish} is asked for by {file}, and {suite} has {have}; {other}"));
        } else if wish.is_none() {
            self.guessed.push(format!("{name} {have}, which {} has", self.suite));
        }
        self.line("from     = \"base\"");
        self.line(format_args!("version  = {}", quoted(have)));
        self.line(format_args!("packages = [{}]", listed(language.packages_in(self.suite))));
    }

    /// A base of a depot's packages.
    fn packages(&mut self, index: &Index) {
        let mut names: Vec<_> = index.packages.iter().map(|package| package.name.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        self.line("\n[base]                           # the root that everything else lies on\ndepot    = \"ours\"");
        self.line(format_args!("packages = [{}]", listed(names)));
        self.guessed
            .push("all packages of the depot for the base; leave out what the project does not need".to_owned());
    }

    fn depot_toolchains(&mut self, index: &Index) {
        let (mut real, mut lines) = (false, String::new());
        for (name, wish, file) in self.toolchains() {
            match offered(index, name, wish) {
                Some(version) => {
                    if wish.is_none() {
                        self.guessed.push(format!("the version {version} of {name}"));
                    }
                    let _ = writeln!(lines, "{name} = {}   # {file} tells {name}", quoted(&version));
                    real = true;
                }
                None => {
                    let version = wish.map_or("…", |wish| wish.version.as_str());
                    let _ = writeln!(lines, "# {name} = {}   # {file} tells it; no depot here has it", quoted(version));
                    self.open.push(format!("nothing that brings {name}: no depot here has it"));
                }
            }
        }
        if !lines.is_empty() {
            let heading = if real { "[toolchains]" } else { "# [toolchains]" };
            self.line(format_args!("\n{heading}"));
            self.out.push_str(&lines);
        }
    }

    fn variables(&mut self, has_services: bool) {
        let mut lines = Vec::new();
        let kinds = self.kinds();
        for sight in self.seen {
            let Finding::Variable { name, value } = &sight.finding else { continue };
            // An address of a service that is here now leads to that one.
            let own = kinds.iter().filter(|_| has_services).find_map(|kind| kind.address(value));
            lines.push(format!("{name} = {:<40} # {}", quoted(&own.unwrap_or_else(|| value.clone())), sight.file));
        }
        if !lines.is_empty() {
            self.line("\n[env]");
            lines.iter().for_each(|line| self.line(line.trim_end()));
        }
    }

    fn kinds(&self) -> Vec<ServiceKind> {
        let mut kinds = Vec::new();
        for sight in self.seen {
            if let Finding::Service(kind) = &sight.finding
                && !kinds.contains(kind)
            {
                kinds.push(*kind);
            }
        }
        kinds
    }

    /// Steps that install dependencies, recorded.
    fn installs(&mut self) {
        let mut number = 0;
        for sight in self.seen {
            let Finding::Install { command, files, fills } = &sight.finding else { continue };
            number += 1;
            let name = if number == 1 { "install packages".to_owned() } else { format!("install packages {number}") };
            self.line(format_args!(
                "\n[[steps]]                        # {} tells it; cavrith lock --record pins what it fetches",
                sight.file
            ));
            self.line(format_args!("name    = {}", quoted(&name)));
            self.line("at      = \"build\"");
            let is_own = !fills.is_empty() || !command.contains("/opt/");
            if is_own {
                self.line("account = \"crew\"");
            }
            self.line(format_args!("files   = [{}]", listed(files)));
            self.line("network = \"recorded\"");
            self.line(format_args!("run     = {}", quoted(command)));
        }
    }

    fn services(&mut self) {
        for kind in self.kinds() {
            self.out.push_str(&kind.block(self.suite));
        }
    }

    /// Directories that programs fill stay inside.
    fn folders(&mut self) {
        let mut apart: Vec<&str> = Vec::new();
        for sight in self.seen {
            match &sight.finding {
                Finding::Apart(dir) => apart.push(dir),
                Finding::Install { fills, .. } => apart.extend(fills.iter().map(String::as_str)),
                _ => {}
            }
        }
        apart.sort_unstable();
        apart.dedup();
        if !apart.is_empty() {
            self.line("\n[[folders]]\noutside = \".\"\ninside  = \"/code\"");
            self.line(format_args!("except  = [{}]   # inside, these are the workspace's own", listed(apart)));
        }
    }

    fn started(&mut self, has_packages: bool) {
        let ports = self.seen.iter().filter_map(|sight| match sight.finding {
            Finding::Port(port) => Some((port, sight.file.as_str())),
            _ => None,
        });
        let ports: Vec<_> = ports.collect();
        let start = self.seen.iter().find_map(|sight| match &sight.finding {
            Finding::Start(command) => Some((command, &sight.file)),
            _ => None,
        });
        match start {
            Some((command, file)) if has_packages && !ports.is_empty() => {
                let heading = "[services.site]";
                self.line(format_args!("\n{heading:<32} # {file} tells it"));
                self.line(format_args!("run   = {}", quoted(command)));
                let after: Vec<_> = self.kinds().iter().map(|kind| kind.name()).collect();
                if !after.is_empty() {
                    self.line(format_args!("after = [{}]", listed(after)));
                }
                self.line(format_args!("ready = {{ port = {}, limit = \"2 min\" }}", ports[0].0));
            }
            Some((command, file)) => {
                self.line(format_args!("\n# {file} tells how it is started: cavrith run {command}"));
            }
            None => {}
        }
        for (number, (port, file)) in ports.iter().enumerate() {
            let name = if number == 0 { "site".to_owned() } else { format!("site-{}", number + 1) };
            self.line(format_args!("\n[[ports]]                        # {file} tells it"));
            self.line(format_args!("name   = {}\ninside = {port}", quoted(&name)));
            if number == 0 {
                self.line("open   = true");
            }
            self.guessed.push(format!("the name {} of the port {port}", quoted(&name)));
        }
        self.line("\n# What the image needs besides is made by steps:\n# [[steps]]\n# name = \"bring the settings\"\n# at   = \"build\"\n# run  = \"…\"");
    }
}

/// The version of a toolchain that a depot has and that answers what is wanted, the newest.
fn offered(index: &Index, name: &str, wish: Option<&Wish>) -> Option<String> {
    let versions = index.toolchains.iter().filter(|item| item.name == name).map(|item| &item.version);
    let newest: Option<&Version> = versions.filter(|have| wish.is_none_or(|wish| wish.is_met_by(have.as_str()))).max();
    // An exact wish is written as it is, so that it goes on meaning the same.
    let exact = wish.filter(|wish| wish.is_exact()).map(|wish| wish.version.clone());
    newest.map(|version| exact.unwrap_or_else(|| version.to_string()))
}
