//! Drift: what was changed by hand in a workspace, told as a person would tell it.
//!
//! A used workspace differs from its image in thousands of files, most of which say nothing by themselves: a package
//! that was installed is one thing that somebody did, whatever it wrote. So each reader below takes the differences
//! that it can explain out of an [`Open`] list, and what is left at the end are files that somebody wrote.
//!
//! | module | explains by |
//! |---|---|
//! | [`packages`] | dpkg's records in the scratch against those of the image |
//! | [`languages`] | the descriptions that package managers of languages leave |
//! | [`accounts`] | the lines of passwd(5), group(5) and their neighbours |
//! | [`variables`] | lines of shells' files that only set a variable |
//! | `noise` | where programs write as they run: caches, logs, histories |

pub mod accounts;
pub mod languages;
mod noise;
pub mod packages;
pub mod variables;

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use similar::TextDiff;

use crate::path::RootPath;
use crate::tree::diff::{Change, Field, What, changes};
use crate::tree::{Kind, Tree};

/// Bytes of a text whose lines are compared.
const LONGEST_TEXT: u64 = 512 << 10;
/// Lines of a difference that are kept.
const MOST_LINES: usize = 400;

/// Where a file is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// As it is in the image.
    Image,
    /// As it is in the workspace.
    Here,
}

/// What is known of a workspace.
pub struct Observed<'a> {
    /// Its image.
    pub image: &'a Tree,
    /// The same with what was changed.
    pub here: &'a Tree,
    /// The account's home.
    pub home: &'a str,
    /// Files that Cavrith itself lays in.
    pub own_files: &'a [&'a str],
    /// Where folders are mounted; the directories to mount on are made at a start.
    pub mounts: &'a [String],
    /// Whether the spec's own steps wrote a file at a start.
    pub by_steps: &'a dyn Fn(&RootPath) -> bool,
    /// The content of a regular file by its real place; nothing where there is none.
    pub read: &'a dyn Fn(Side, &RootPath) -> Option<Vec<u8>>,
    /// What brought a path of the image: a layer, in words.
    pub layer: &'a dyn Fn(&RootPath) -> Option<String>,
}

/// Everything that was changed by hand.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Drift {
    /// What makes the workspace another one.
    pub findings: Vec<Finding>,
    /// What lies in the account's home, by the uppermost new or changed entry.
    pub home: Vec<Group>,
    /// Files that were changed and say nothing, by why.
    pub folded: BTreeMap<String, u64>,
    /// What each finding changed, by [`Finding::bundle`].
    #[serde(skip)]
    pub paths: BTreeMap<String, Vec<RootPath>>,
}

impl Drift {
    /// Keeps the findings that still hold in another comparison of the same workspace: those that are found there,
    /// too, or a file of which is part of what was found there.
    pub fn retain_differing(&mut self, other: &Self) {
        let differing: BTreeSet<_> =
            other.findings.iter().filter_map(|finding| other.paths.get(&finding.bundle())).flatten().collect();
        let paths = &self.paths;
        self.findings.retain(|finding| {
            let same = |still: &Finding| still.group() == finding.group() && still.name() == finding.name();
            // All packages and accounts are one bundle, so their files say nothing of a single one.
            let by_path = !matches!(finding, Finding::Package { .. } | Finding::Account { .. })
                && paths.get(&finding.bundle()).into_iter().flatten().any(|path| differing.contains(path));
            by_path || other.findings.iter().any(same)
        });
    }
}

/// Files of one directory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Group {
    /// The directory, or the only file.
    pub path: String,
    /// Files in it.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// One thing that somebody did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Finding {
    /// A package of the base came, went or became another.
    Package {
        /// Its name.
        name: String,
        /// Its version in the image.
        from: Option<String>,
        /// Its version here.
        to: Option<String>,
        /// Somebody asked for it; else another package needed it.
        asked: bool,
    },
    /// A package of a language came, went or became another.
    LanguagePackage {
        /// As a package URL has it: `pypi`, `npm`, `gem`, `cargo`.
        manager: String,
        /// Its name.
        name: String,
        /// Its version in the image.
        from: Option<String>,
        /// Its version here.
        to: Option<String>,
        /// The directory that it is installed in.
        place: String,
        /// How it would be installed: program and arguments. Nothing when that does not follow from where it lies.
        install: Option<Vec<String>>,
    },
    /// A new directory in which a language's packages lie apart from all others.
    Environment {
        /// The directory.
        path: String,
        /// What it is, in words.
        what: String,
        /// How it would be made: program and arguments.
        make: Vec<String>,
    },
    /// A file of the image was changed, or a new one lies alone.
    File {
        /// Its path.
        path: String,
        /// What happened to it: `changed` or `new`.
        how: FileChange,
        /// The package or layer that brings it; nothing of a new one.
        origin: Option<String>,
        /// Properties that differ.
        fields: Vec<Field>,
        /// Lines of text that differ, as a unified diff.
        diff: Option<String>,
        /// Its length now.
        bytes: u64,
        /// Where it leads, when it is a symbolic link.
        leads_to: Option<String>,
    },
    /// Something of the image is gone.
    Removed {
        /// Its path; that of a directory when all of it is gone.
        path: String,
        /// The package or layer that brought it.
        origin: Option<String>,
        /// Files that are gone with it.
        files: u64,
    },
    /// A new directory.
    Folder(Group),
    /// An account came, went or became another.
    Account {
        /// Its name.
        name: String,
        /// What happened, in words.
        change: String,
        /// The commands that would do the same, each a program and its arguments.
        commands: Vec<Vec<String>>,
    },
    /// A variable is set by a shell's file.
    Variable {
        /// Its name.
        name: String,
        /// Its value.
        value: String,
        /// The file.
        file: String,
    },
    /// A program that no service of the spec's is listens.
    Service {
        /// The port.
        port: u16,
        /// The program's name.
        program: String,
        /// Program and arguments, as far as they are known.
        command: Vec<String>,
        /// The account that it runs as.
        account: String,
    },
}

/// What happened to a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileChange {
    /// The image has it otherwise.
    Changed,
    /// The image does not have it.
    New,
}

impl Finding {
    /// What people call it: a name or a path.
    pub fn name(&self) -> &str {
        match self {
            Self::Package { name, .. } | Self::LanguagePackage { name, .. } => name,
            Self::Account { name, .. } | Self::Variable { name, .. } => name,
            Self::File { path, .. } | Self::Removed { path, .. } | Self::Environment { path, .. } => path,
            Self::Folder(group) => &group.path,
            Self::Service { program, .. } => program,
        }
    }

    /// The word for all of its kind.
    pub fn group(&self) -> &'static str {
        match self {
            Self::Package { .. } => "packages",
            Self::LanguagePackage { .. } | Self::Environment { .. } => "language-packages",
            Self::File { .. } | Self::Removed { .. } | Self::Folder(_) => "files",
            Self::Account { .. } => "accounts",
            Self::Variable { .. } => "variables",
            Self::Service { .. } => "services",
        }
    }

    /// Makes every text in it one that a terminal does not obey: whoever is inside chose them. Lines of files and
    /// commands stay as they are; whoever shows those sees to it.
    fn escape(&mut self) {
        let escape = |text: &mut String| {
            if text.chars().any(char::is_control) {
                *text = crate::path::shown(text.as_bytes());
            }
        };
        let escape_all = |texts: &mut [Option<&mut String>]| texts.iter_mut().flatten().for_each(|text| escape(text));
        match self {
            Self::Package { name, from, to, .. } => escape_all(&mut [Some(name), from.as_mut(), to.as_mut()]),
            Self::LanguagePackage { manager, name, from, to, place, .. } => {
                escape_all(&mut [Some(manager), Some(name), from.as_mut(), to.as_mut(), Some(place)]);
            }
            Self::File { path, origin, leads_to, .. } => {
                escape_all(&mut [Some(path), origin.as_mut(), leads_to.as_mut()]);
            }
            Self::Removed { path, origin, .. } => escape_all(&mut [Some(path), origin.as_mut()]),
            Self::Folder(group) => escape(&mut group.path),
            Self::Environment { path, what, .. } => escape_all(&mut [Some(path), Some(what)]),
            Self::Account { name, change, .. } => escape_all(&mut [Some(name), Some(change)]),
            Self::Variable { name, value, file } => escape_all(&mut [Some(name), Some(value), Some(file)]),
            Self::Service { program, account, .. } => escape_all(&mut [Some(program), Some(account)]),
        }
    }

    /// With which others it can be taken back only: those of the same bundle.
    pub fn bundle(&self) -> String {
        match self {
            Self::Package { .. } | Self::Account { .. } => self.group().to_owned(),
            Self::LanguagePackage { place, .. } => format!("{place} {}", self.name()),
            Self::Variable { file, .. } => file.clone(),
            Self::File { .. }
            | Self::Removed { .. }
            | Self::Folder(_)
            | Self::Environment { .. }
            | Self::Service { .. } => self.name().to_owned(),
        }
    }

    /// Whether somebody means it by a word: its name, the word for its kind, or a directory above it.
    pub fn is_meant(&self, word: &str) -> bool {
        let beneath = || {
            let above = word.trim_end_matches('/');
            let lies_in = |path: &str| path.strip_prefix(above).is_some_and(|rest| rest.starts_with('/'));
            let place = match self {
                Self::LanguagePackage { place, .. } => place == above || lies_in(place),
                _ => false,
            };
            above.starts_with('/') && (place || lies_in(self.name()))
        };
        self.name() == word || self.group() == word || self.name() == word.trim_end_matches('/') || beneath()
    }
}

/// Differences that nobody has explained yet.
pub struct Open<'a> {
    /// What the workspace is.
    pub observed: &'a Observed<'a>,
    /// By path.
    pub changes: BTreeMap<RootPath, What>,
    /// Counted without being told, by why.
    pub folded: BTreeMap<String, u64>,
    /// What was taken out, by the bundle of findings that explain it.
    pub paths: BTreeMap<String, Vec<RootPath>>,
}

impl Open<'_> {
    /// Takes out what lies at a path.
    pub fn take(&mut self, bundle: &str, path: &RootPath) {
        self.take_if(bundle, |other, _| other == path);
    }

    /// Takes out what a condition holds for.
    pub fn take_if(&mut self, bundle: &str, mut holds: impl FnMut(&RootPath, &What) -> bool) {
        let mut taken = Vec::new();
        self.changes.retain(|path, what| {
            let holds = holds(path, what);
            if holds {
                taken.push(path.clone());
            }
            !holds
        });
        if !taken.is_empty() {
            self.paths.entry(bundle.to_owned()).or_default().extend(taken);
        }
    }

    /// Takes out what a condition holds for, and counts it under a reason.
    fn fold(&mut self, why: &str, holds: impl Fn(&RootPath, &What) -> bool) {
        let before = self.changes.len();
        self.changes.retain(|path, what| !holds(path, what));
        let folded = before - self.changes.len();
        if folded > 0 {
            *self.folded.entry(why.to_owned()).or_default() += folded as u64;
        }
    }

    /// The text of a file on one side, by an absolute path whose directories may be links.
    pub fn text(&self, side: Side, path: &str) -> Option<String> {
        let tree = if side == Side::Image { self.observed.image } else { self.observed.here };
        let place = tree.resolve(&RootPath::from_absolute(path).ok()?)?;
        let bytes = (self.observed.read)(side, &place)?;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    }
}

/// Everything that was changed by hand. `listening` is what listens inside and is no service of the spec's.
pub fn find(observed: &Observed<'_>, listening: Vec<Finding>) -> Drift {
    let mut open = Open { observed, changes: differences(observed), folded: BTreeMap::new(), paths: BTreeMap::new() };
    open.fold("written by the spec's own steps", |path, _| (observed.by_steps)(path));
    let (mut findings, owners) = packages::explain(&mut open);
    findings.extend(languages::explain(&mut open));
    findings.extend(accounts::explain(&mut open, &owners));
    noise::fold(&mut open);
    findings.extend(variables::explain(&mut open));
    findings.extend(listening);
    let home = home(&mut open);
    findings.extend(files(&mut open, &owners));
    findings.iter_mut().for_each(Finding::escape);
    Drift { findings, home, folded: open.folded, paths: open.paths }
}

/// All differences but those that say only when something was written.
fn differences(observed: &Observed<'_>) -> BTreeMap<RootPath, What> {
    let mut all = BTreeMap::new();
    for Change { path, mut what } in changes(observed.image, observed.here) {
        if let What::Changed { fields } = &mut what {
            fields.retain(|field| field.name != "time");
            if fields.is_empty() {
                continue;
            }
        }
        if !observed.own_files.contains(&path.to_string().as_str()) {
            all.insert(path, what);
        }
    }
    let mounts: Vec<_> = observed.mounts.iter().filter_map(|mount| RootPath::from_absolute(mount).ok()).collect();
    // A new directory is told by what is in it.
    let filled: BTreeSet<RootPath> = all.keys().filter_map(RootPath::parent).collect();
    let is_new_directory = |path: &RootPath, what: &What| {
        *what == What::Extra && observed.here.get(path).is_some_and(|entry| entry.kind.is_directory())
    };
    let leads_to_mount = |path: &RootPath| mounts.iter().any(|mount| mount.lies_in(path));
    all.retain(|path, what| !(is_new_directory(path, what) && (filled.contains(path) || leads_to_mount(path))));
    all
}

/// What lies in the account's home.
fn home(open: &mut Open<'_>) -> Vec<Group> {
    let Ok(top) = RootPath::from_absolute(open.observed.home) else { return Vec::new() };
    let mut groups: BTreeMap<RootPath, (u64, u64)> = BTreeMap::new();
    let mine: Vec<_> = open.changes.keys().filter(|path| path.lies_in(&top) && **path != top).cloned().collect();
    for path in mine {
        open.changes.remove(&path);
        let first = path.ancestors().into_iter().find(|above| above.depth() == top.depth() + 1);
        let group = groups.entry(first.unwrap_or_else(|| path.clone())).or_default();
        group.0 += 1;
        group.1 += size(open.observed.here, &path);
    }
    groups.into_iter().map(|(path, (files, bytes))| Group { path: named(&path), files, bytes }).collect()
}

/// A path as a person would type it, whole; one that is no printable text with what is not escaped.
fn named(path: &RootPath) -> String {
    match std::str::from_utf8(path.as_bytes()) {
        Ok(text) if !text.chars().any(char::is_control) => format!("/{text}"),
        _ => path.to_string(),
    }
}

fn leads_to(tree: &Tree, path: &RootPath) -> Option<String> {
    match tree.get(path).map(|entry| &entry.kind) {
        Some(Kind::Symlink { target }) => Some(String::from_utf8_lossy(target).into_owned()),
        _ => None,
    }
}

fn size(tree: &Tree, path: &RootPath) -> u64 {
    match tree.get(path).map(|entry| &entry.kind) {
        Some(Kind::File { size, .. }) => *size,
        _ => 0,
    }
}

/// What is left: files that somebody wrote.
fn files(open: &mut Open<'_>, owners: &packages::Owners) -> Vec<Finding> {
    let observed = open.observed;
    let left = std::mem::take(&mut open.changes);
    let mut paths: BTreeMap<String, Vec<RootPath>> = BTreeMap::new();
    let origin = |path: &RootPath| {
        let package = owners.of(path).map(|package| format!("package {package}"));
        package.or_else(|| (observed.layer)(path))
    };
    let mut findings = Vec::new();
    let mut groups: BTreeMap<RootPath, (u64, u64)> = BTreeMap::new();
    let mut gone: Option<RootPath> = None;
    for (path, what) in &left {
        match what {
            What::Missing => {
                // Told with the directory that is gone as a whole.
                if gone.as_ref().is_some_and(|top| path.lies_in(top)) {
                    continue;
                }
                let files = observed.image.under(path).filter(|(_, entry)| !entry.kind.is_directory()).count();
                gone = Some(path.clone());
                paths.entry(named(path)).or_default().push(path.clone());
                findings.push(Finding::Removed { path: named(path), origin: origin(path), files: files as u64 });
            }
            What::Extra => {
                // The uppermost directory that the image does not have.
                let new = |above: &RootPath| !above.is_root() && observed.image.get(above).is_none();
                let top = path.ancestors().into_iter().find(new).unwrap_or_else(|| path.clone());
                paths.entry(named(&top)).or_default().push(path.clone());
                let group = groups.entry(top).or_default();
                group.0 += u64::from(!observed.here.get(path).is_some_and(|entry| entry.kind.is_directory()));
                group.1 += size(observed.here, path);
            }
            What::Changed { fields } => {
                paths.entry(named(path)).or_default().push(path.clone());
                let diff = if fields.iter().any(|field| field.name == "content") { diff(observed, path) } else { None };
                findings.push(Finding::File {
                    path: named(path),
                    how: FileChange::Changed,
                    origin: origin(path),
                    fields: fields.clone(),
                    diff,
                    bytes: size(observed.here, path),
                    leads_to: leads_to(observed.here, path),
                });
            }
        }
    }
    for (path, (files, bytes)) in groups {
        // The only file of new directories, which are as everybody makes them, is told itself.
        let plain = |above: &RootPath| {
            let meta = observed.here.get(above).map(|entry| (entry.meta.mode, entry.meta.uid, entry.meta.gid));
            observed.image.get(above).is_some() || meta == Some((0o755, 0, 0))
        };
        let inner: Vec<_> = paths.get(&named(&path)).into_iter().flatten().collect();
        let path = match inner.as_slice() {
            [only] if files == 1 && **only != path && only.ancestors().iter().all(plain) => {
                let only = (*only).clone();
                paths.remove(&named(&path));
                paths.insert(named(&only), vec![only.clone()]);
                only
            }
            _ => path,
        };
        let is_directory = observed.here.get(&path).is_some_and(|entry| entry.kind.is_directory());
        findings.push(match is_directory {
            true => Finding::Folder(Group { path: named(&path), files, bytes }),
            false => Finding::File {
                path: named(&path),
                how: FileChange::New,
                origin: None,
                fields: Vec::new(),
                diff: None,
                bytes,
                leads_to: leads_to(observed.here, &path),
            },
        });
    }
    findings.sort_by(|one, other| one.name().cmp(other.name()));
    // A directory that is something else already keeps what was taken for that.
    for (bundle, more) in paths {
        open.paths.entry(bundle).or_default().extend(more);
    }
    findings
}

/// The lines in which a text of the image differs here.
fn diff(observed: &Observed<'_>, path: &RootPath) -> Option<String> {
    if size(observed.here, path) > LONGEST_TEXT || size(observed.image, path) > LONGEST_TEXT {
        return None;
    }
    let read = |side| {
        let bytes = (observed.read)(side, path)?;
        String::from_utf8(bytes).ok().filter(|text| !text.contains('\0'))
    };
    let (before, after) = (read(Side::Image)?, read(Side::Here)?);
    Some(unified(&path.to_string(), &before, &after))
}

/// A unified diff of two texts (POSIX diff(1p), "Diff -u Output Format"), cut where it is long.
pub fn unified(name: &str, before: &str, after: &str) -> String {
    let diff = TextDiff::from_lines(before, after);
    let text = diff.unified_diff().context_radius(2).header(&format!("a{name}"), &format!("b{name}")).to_string();
    let mut lines: Vec<_> = text.lines().collect();
    if lines.len() > MOST_LINES {
        lines.truncate(MOST_LINES);
        lines.push("… and more");
    }
    lines.iter().map(|line| format!("{line}\n")).collect()
}
