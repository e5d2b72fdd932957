//! Trimming a root to what some of its packages need.
//!
//! What stays is decided by dpkg's own records in the root (dpkg(1), files `status` and `info/*.list`), each path by
//! one [`Rule`]: it belongs to a kept package, a kept link leads to it, it is a link to something kept, a script made
//! it in a kept package's directory, or every system has it. Everything else goes.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use super::{field, parse_relations, parse_stanza};
use crate::path::RootPath;
use crate::tree::{Kind, Tree};

/// Packages that others name because their scripts use them while they are configured, or that keep records of
/// packages; a finished root runs without them. They stay only where they are named.
const ONLY_CONFIGURE: [&str; 13] = [
    "adduser",
    "cdebconf",
    "debconf",
    "debianutils",
    "dpkg",
    "init-system-helpers",
    "install-info",
    "insserv",
    "lsb-base",
    "perl-base",
    "sensible-utils",
    "sysvinit-utils",
    "ucf",
];

/// Directories and files that every system has, whatever runs in it.
const EVERYWHERE: [&str; 32] = [
    "bin",
    "boot",
    "dev",
    "etc",
    "etc/debian_version",
    "etc/group",
    "etc/gshadow",
    "etc/host.conf",
    "etc/nsswitch.conf",
    "etc/os-release",
    "etc/passwd",
    "etc/shadow",
    "home",
    "lib",
    "lib32",
    "lib64",
    "media",
    "mnt",
    "opt",
    "proc",
    "root",
    "run",
    "sbin",
    "srv",
    "sys",
    "tmp",
    "usr",
    "usr/lib/os-release",
    "var",
    "var/lock",
    "var/run",
    "var/tmp",
];

/// What the C library needs to be of use, though other packages bring or make it: its cache of places, and the locale
/// that every workspace is in.
const OF_THE_C_LIBRARY: [&str; 2] = ["etc/ld.so.cache", "usr/lib/locale/C.utf8"];

/// Documentation, which programs do not read. Copyright files stay: licences ask for them.
const DOCUMENTATION: [&str; 7] = [
    "usr/share/bug",
    "usr/share/doc",
    "usr/share/doc-base",
    "usr/share/info",
    "usr/share/lintian",
    "usr/share/man",
    "usr/share/linda",
];

/// dpkg's list of packages.
pub const STATUS: &str = "var/lib/dpkg/status";

/// What one package says of itself in the root's records.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Record {
    /// Groups of alternatives that it depends on.
    depends: Vec<Vec<String>>,
    /// Names that it stands for besides its own.
    provides: Vec<String>,
    /// Its paths, where they really lie.
    paths: Vec<RootPath>,
}

/// The records of a root's packages, by name.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Records {
    packages: BTreeMap<String, Record>,
}

/// Why a path stays.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rule {
    /// Every system has it.
    Everywhere,
    /// It belongs to this package.
    Package(String),
    /// The C library needs it.
    CLibrary,
    /// A script made it in a directory of this package.
    MadeFor(String),
    /// It is a link that leads to this path, which stays.
    LeadsTo(RootPath),
    /// The link at this path, which stays, leads to it.
    LedToBy(RootPath),
    /// It says which packages there are, for programs that look for known weaknesses.
    Inventory,
    /// Something that stays lies in it.
    Above,
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Everywhere => write!(f, "every system has it"),
            Self::Package(package) => write!(f, "it belongs to the package {package}"),
            Self::CLibrary => write!(f, "the C library needs it"),
            Self::MadeFor(package) => write!(f, "a script made it in a directory of the package {package}"),
            Self::LeadsTo(path) => write!(f, "it is a link to {path}, which stays"),
            Self::LedToBy(path) => write!(f, "the link {path}, which stays, leads to it"),
            Self::Inventory => write!(f, "it says which packages there are"),
            Self::Above => write!(f, "something that stays lies in it"),
        }
    }
}

/// A package to keep that the root does not have.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("there is no package {name} in the base")]
pub struct NotThere {
    /// The package.
    pub name: String,
}

/// What stays of a root.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Trimmed {
    /// The packages.
    pub packages: BTreeSet<String>,
    /// Every path, with the reason.
    pub paths: BTreeMap<RootPath, Rule>,
}

impl Records {
    /// Reads `status`, and each package's `list`, whose name is the file's without its ending. Stanzas that cannot be
    /// read are no packages.
    pub fn read<'a>(tree: &Tree, status: &str, lists: impl Iterator<Item = (&'a str, &'a [u8])>) -> Self {
        let mut packages = BTreeMap::new();
        for stanza in status.split("\n\n") {
            let Ok(fields) = parse_stanza(stanza.trim_start_matches('\n')) else { continue };
            let Some(name) = field(&fields, "Package") else { continue };
            if !field(&fields, "Status").is_some_and(|status| status.ends_with(" installed")) {
                continue;
            }
            let names = |text: &str| -> Vec<Vec<String>> {
                let groups = parse_relations(text).into_iter();
                groups.map(|group| group.into_iter().map(|one| one.name).collect()).collect()
            };
            let mut depends = names(field(&fields, "Pre-Depends").unwrap_or_default());
            depends.extend(names(field(&fields, "Depends").unwrap_or_default()));
            let provides = names(field(&fields, "Provides").unwrap_or_default()).into_iter().flatten().collect();
            packages.insert(name.to_owned(), Record { depends, provides, paths: Vec::new() });
        }
        for (name, list) in lists {
            let name = name.split(':').next().unwrap_or(name);
            let Some(record) = packages.get_mut(name) else { continue };
            let lines = list.split(|byte| *byte == b'\n').filter_map(|line| line.strip_prefix(b"/"));
            let paths = lines.filter_map(|line| RootPath::from_archive(line).ok());
            record.paths.extend(paths.filter_map(|path| tree.resolve_parent(&path)));
        }
        Self { packages }
    }

    /// These packages and all that they depend on, without what only serves configuring.
    fn closure(&self, keep: &[String]) -> Result<BTreeSet<String>, NotThere> {
        let mut closure = BTreeSet::new();
        let mut ahead: Vec<&str> = Vec::new();
        for name in keep {
            if !self.packages.contains_key(name) {
                return Err(NotThere { name: name.clone() });
            }
            ahead.push(name);
        }
        let mut by_name: BTreeMap<&str, &str> = BTreeMap::new();
        for (name, record) in &self.packages {
            for provided in &record.provides {
                by_name.entry(provided).or_insert(name);
            }
        }
        by_name.extend(self.packages.keys().map(|name| (name.as_str(), name.as_str())));
        while let Some(name) = ahead.pop() {
            if !closure.insert(name.to_owned()) {
                continue;
            }
            let Some(record) = self.packages.get(name) else { continue };
            for group in &record.depends {
                // dpkg was content with whichever is installed; the first of them is the one that was meant.
                let there = group.iter().find_map(|name| by_name.get(name.as_str()).copied());
                ahead.extend(there.filter(|name| !ONLY_CONFIGURE.contains(name)));
            }
        }
        Ok(closure)
    }
}

/// Whether a path is documentation.
fn is_documentation(path: &RootPath) -> bool {
    let bytes = path.as_bytes();
    let beneath = |top: &str| bytes.strip_prefix(top.as_bytes()).is_some_and(|rest| rest.is_empty() || rest[0] == b'/');
    DOCUMENTATION.iter().any(|top| beneath(top)) && path.name() != Some(b"copyright".as_slice())
}

/// What Python makes of its sources when they are installed; it makes it again, or does without.
fn is_compiled_source(path: &RootPath) -> bool {
    path.names().any(|name| name == b"__pycache__")
}

/// Decides for every path of a root whether it stays when only the packages `keep` and what they need are kept.
///
/// # Errors
/// When the root does not have one of the packages.
pub fn trim(tree: &Tree, records: &Records, keep: &[String]) -> Result<Trimmed, NotThere> {
    let packages = records.closure(keep)?;
    let mut trimmer = Trimmer { tree, paths: BTreeMap::new() };
    trimmer.keep(&RootPath::root(), Rule::Everywhere);
    for path in EVERYWHERE {
        trimmer.keep_named(path, Rule::Everywhere);
    }
    let mut kept_directories: BTreeMap<&RootPath, &str> = BTreeMap::new();
    let mut owned: BTreeSet<&RootPath> = BTreeSet::new();
    for (name, record) in &records.packages {
        owned.extend(&record.paths);
        if !packages.contains(name) {
            continue;
        }
        for path in &record.paths {
            if tree.get(path).is_some_and(|entry| entry.kind.is_directory()) {
                // Which of several packages is named does not matter; it is the first by name everywhere.
                kept_directories.entry(path).or_insert(name);
            } else if !is_documentation(path) || trimmer.is_shared_documentation(path) {
                trimmer.keep(path, Rule::Package(name.clone()));
            }
        }
    }
    if packages.contains("libc6") {
        for path in OF_THE_C_LIBRARY {
            trimmer.keep_named(path, Rule::CLibrary);
        }
    }
    trimmer.made_by_scripts(&owned, &kept_directories);
    trimmer.links_to_kept(&owned);
    trimmer.targets();
    // Empty directories of a package may be where its program writes; those above what stays are there in any case.
    for (path, name) in kept_directories {
        if !is_documentation(path) {
            trimmer.keep(path, Rule::Package(name.to_owned()));
        }
    }
    if !packages.is_empty() {
        trimmer.keep_named(STATUS, Rule::Inventory);
    }
    trimmer.above();
    Ok(Trimmed { packages, paths: trimmer.paths })
}

struct Trimmer<'a> {
    tree: &'a Tree,
    paths: BTreeMap<RootPath, Rule>,
}

impl Trimmer<'_> {
    fn keep(&mut self, path: &RootPath, rule: Rule) {
        if self.tree.get(path).is_some() && !self.paths.contains_key(path) {
            self.paths.insert(path.clone(), rule);
        }
    }

    /// Keeps what lies at a plain path, and in it when it is a locale's directory.
    fn keep_named(&mut self, path: &str, rule: Rule) {
        let Ok(path) = RootPath::from_archive(path.as_bytes()) else { return };
        self.keep(&path, rule.clone());
        if rule == Rule::CLibrary {
            let within: Vec<_> = self.tree.under(&path).map(|(path, _)| path.clone()).collect();
            within.iter().for_each(|path| self.keep(path, rule.clone()));
        }
    }

    /// Files that no package brings, in directories that only a few packages have, one of them kept. What lies in
    /// directories that everything shares (`/etc`, `/usr/bin`) is nobody's.
    fn made_by_scripts(&mut self, owned: &BTreeSet<&RootPath>, kept: &BTreeMap<&RootPath, &str>) {
        for (path, entry) in &self.tree.entries {
            if entry.kind.is_directory() || owned.contains(path) || is_compiled_source(path) {
                continue;
            }
            let nearest = path.ancestors().into_iter().rev().find(|above| owned.contains(above));
            let Some(name) =
                nearest.as_ref().filter(|above| above.names().count() > 2).and_then(|above| kept.get(above))
            else {
                continue;
            };
            if !is_shared(nearest.as_ref()) && !is_documentation(path) {
                self.keep(path, Rule::MadeFor((*name).to_owned()));
            }
        }
    }

    /// Links that scripts made and that lead to something kept, as those of alternatives do.
    fn links_to_kept(&mut self, owned: &BTreeSet<&RootPath>) {
        loop {
            let mut found = Vec::new();
            for (path, entry) in &self.tree.entries {
                let Kind::Symlink { target } = &entry.kind else { continue };
                if owned.contains(path) || self.paths.contains_key(path) || is_documentation(path) {
                    continue;
                }
                let Some(leads_to) = self.target(path, target) else { continue };
                let is_kept = self.paths.contains_key(&leads_to);
                // A link to a directory says nothing of what is in it.
                if is_kept && self.tree.get(&leads_to).is_some_and(|entry| !entry.kind.is_directory()) {
                    found.push((path.clone(), leads_to));
                }
            }
            if found.is_empty() {
                return;
            }
            found.into_iter().for_each(|(path, target)| self.keep(&path, Rule::LeadsTo(target)));
        }
    }

    /// What kept links lead to.
    fn targets(&mut self) {
        let mut ahead: Vec<RootPath> = self.paths.keys().cloned().collect();
        while let Some(path) = ahead.pop() {
            let Some(Kind::Symlink { target }) = self.tree.get(&path).map(|entry| &entry.kind) else { continue };
            let Some(leads_to) = self.target(&path, target) else { continue };
            if self.tree.get(&leads_to).is_some() && !self.paths.contains_key(&leads_to) && !is_documentation(&leads_to)
            {
                self.keep(&leads_to, Rule::LedToBy(path));
                ahead.push(leads_to);
            }
        }
    }

    /// A package's documentation that is a link to another package's, where the copyright file is.
    fn is_shared_documentation(&self, path: &RootPath) -> bool {
        path.depth() == 4
            && path.as_bytes().starts_with(b"usr/share/doc/")
            && matches!(self.tree.get(path).map(|entry| &entry.kind), Some(Kind::Symlink { .. }))
    }

    /// Where a link leads, by one step.
    fn target(&self, path: &RootPath, target: &[u8]) -> Option<RootPath> {
        let mut names: Vec<&[u8]> = Vec::new();
        let parent = path.parent().unwrap_or_default();
        if !target.starts_with(b"/") {
            names.extend(parent.names());
        }
        for name in target.split(|byte| *byte == b'/') {
            match name {
                b"" | b"." => {}
                b".." => drop(names.pop()),
                name => names.push(name),
            }
        }
        let path = RootPath::from_archive(&names.join(&b'/')).ok()?;
        self.tree.resolve_parent(&path)
    }

    /// The directories above all that stays.
    fn above(&mut self) {
        let all: Vec<RootPath> = self.paths.keys().flat_map(RootPath::ancestors).collect();
        all.iter().for_each(|path| self.keep(path, Rule::Above));
    }
}

/// Directories three levels deep that everything shares.
fn is_shared(directory: Option<&RootPath>) -> bool {
    let shared: [&[u8]; 6] = [
        b"usr/share/locale",
        b"usr/share/icons",
        b"usr/lib/systemd",
        b"var/lib/dpkg",
        b"var/lib/systemd",
        b"usr/lib/python3/dist-packages",
    ];
    directory.is_some_and(|directory| {
        shared.iter().any(|top| directory.as_bytes().starts_with(top))
            || directory.as_bytes().starts_with(b"var/cache/")
    })
}

impl Trimmed {
    /// dpkg's list of the packages that stay, from that of the whole root.
    pub fn status(&self, status: &str) -> String {
        let stays = |stanza: &&str| {
            let name = stanza.lines().find_map(|line| line.strip_prefix("Package: "));
            name.is_some_and(|name| self.packages.contains(name.trim()))
        };
        status.split("\n\n").filter(stays).map(|stanza| format!("{}\n\n", stanza.trim_matches('\n'))).collect()
    }

    /// The tree of what stays.
    pub fn tree(&self, whole: &Tree) -> Tree {
        let entries = self.paths.keys().filter_map(|path| Some((path.clone(), whole.get(path)?.clone())));
        let mut tree = Tree { entries: entries.collect() };
        // Of a file with several names one may be left.
        let mut names: BTreeMap<_, usize> = BTreeMap::new();
        for entry in tree.entries.values() {
            if let Kind::File { links: Some(group), .. } = entry.kind {
                *names.entry(group).or_default() += 1;
            }
        }
        for entry in tree.entries.values_mut() {
            if let Kind::File { links, .. } = &mut entry.kind
                && links.is_some_and(|group| names.get(&group) == Some(&1))
            {
                *links = None;
            }
        }
        tree
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::ContentDigest;
    use crate::tree::{Entry, Meta};

    const PACKAGES: &str = "Package: harbour\nStatus: install ok installed\nVersion: 1\nDepends: libtide1 (>= 2) | libtide0, debconf (>= 0.5)\n\nPackage: libtide1\nStatus: install ok installed\nVersion: 2\nProvides: libtide\n\nPackage: debconf\nStatus: install ok installed\nVersion: 1\nDepends: perl-base\n\nPackage: dash\nStatus: install ok installed\nVersion: 1\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 1\n";

    fn root() -> Tree {
        let mut tree = Tree::with_root();
        let mut add = |path: &str, kind: Kind| {
            let path = RootPath::from_archive(path.as_bytes()).unwrap();
            tree.ensure_parents(&path);
            tree.entries.insert(path, Entry { kind, meta: Meta::root(0o755) });
        };
        let file = || Kind::File { size: 1, content: ContentDigest::of(b"x"), links: None };
        let link = |target: &str| Kind::Symlink { target: target.as_bytes().to_vec() };
        add("lib", link("usr/lib"));
        for path in [
            "usr/bin/harbour",
            "usr/lib/libtide.so.1.2",
            "usr/share/doc/harbour/copyright",
            "usr/share/doc/harbour/README",
            "usr/share/man/man1/harbour.1",
            "usr/bin/dash",
            "usr/bin/debconf",
            "var/lib/harbour/db/made",
            "etc/passwd",
            "etc/motd",
            "var/lib/dpkg/status",
        ] {
            add(path, file());
        }
        add("usr/lib/libtide.so.1", link("libtide.so.1.2"));
        add("etc/alternatives/port", link("/usr/bin/harbour"));
        add("usr/bin/port", link("/etc/alternatives/port"));
        add("usr/bin/sh", link("dash"));
        tree
    }

    fn kept(keep: &[&str]) -> Result<Trimmed, NotThere> {
        let tree = root();
        let lists: [(&str, &[u8]); 4] = [
            ("harbour", b"/.\n/usr/bin/harbour\n/usr/share/doc/harbour/copyright\n/usr/share/doc/harbour/README\n/usr/share/man/man1/harbour.1\n/var/lib/harbour/db\n"),
            ("libtide1:amd64", b"/lib/libtide.so.1\n/lib/libtide.so.1.2\n"),
            ("debconf", b"/usr/bin/debconf\n"),
            ("dash", b"/usr/bin/dash\n/usr/bin/sh\n"),
        ];
        let records = Records::read(&tree, PACKAGES, lists.into_iter());
        trim(&tree, &records, &keep.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>())
    }

    #[test]
    fn what_a_package_needs_stays_with_the_reason() {
        let trimmed = kept(&["harbour"]).unwrap();
        assert_eq!(trimmed.packages.iter().map(String::as_str).collect::<Vec<_>>(), ["harbour", "libtide1"]);
        let reasons: Vec<_> = trimmed.paths.iter().map(|(path, rule)| format!("{path}: {rule}")).collect();
        let status = trimmed.status(PACKAGES);
        assert_eq!(status.matches("Package: ").count(), 2);
        assert!(status.contains("Package: libtide1\n") && status.ends_with("Provides: libtide\n\n"));
        insta::assert_snapshot!(reasons.join("\n"), @r"
        /: every system has it
        /etc: every system has it
        /etc/alternatives: something that stays lies in it
        /etc/alternatives/port: it is a link to /usr/bin/harbour, which stays
        /etc/passwd: every system has it
        /lib: every system has it
        /usr: every system has it
        /usr/bin: something that stays lies in it
        /usr/bin/harbour: it belongs to the package harbour
        /usr/bin/port: it is a link to /etc/alternatives/port, which stays
        /usr/lib: the link /lib, which stays, leads to it
        /usr/lib/libtide.so.1: it belongs to the package libtide1
        /usr/lib/libtide.so.1.2: it belongs to the package libtide1
        /usr/share: something that stays lies in it
        /usr/share/doc: something that stays lies in it
        /usr/share/doc/harbour: something that stays lies in it
        /usr/share/doc/harbour/copyright: it belongs to the package harbour
        /var: every system has it
        /var/lib: something that stays lies in it
        /var/lib/dpkg: something that stays lies in it
        /var/lib/dpkg/status: it says which packages there are
        /var/lib/harbour: something that stays lies in it
        /var/lib/harbour/db: it belongs to the package harbour
        /var/lib/harbour/db/made: a script made it in a directory of the package harbour
        ");
    }

    #[test]
    fn nothing_kept_is_a_bare_root() {
        let trimmed = kept(&[]).unwrap();
        assert!(trimmed.packages.is_empty());
        assert!(trimmed.paths.values().all(|rule| matches!(rule, Rule::Everywhere | Rule::Above | Rule::LedToBy(_))));
        assert_eq!(kept(&["yacht"]), Err(NotThere { name: "yacht".to_owned() }));
        assert_eq!(kept(&["gone"]), Err(NotThere { name: "gone".to_owned() }));
    }

    #[test]
    fn a_shell_stays_where_it_is_named() {
        let has = |trimmed: &Trimmed, path: &str| {
            trimmed.paths.contains_key(&RootPath::from_archive(path.as_bytes()).unwrap())
        };
        assert!(!has(&kept(&["harbour"]).unwrap(), "usr/bin/sh"));
        let trimmed = kept(&["harbour", "dash"]).unwrap();
        assert!(has(&trimmed, "usr/bin/sh") && has(&trimmed, "usr/bin/dash"));
    }
}
