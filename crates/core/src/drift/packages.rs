//! Packages of the base, by dpkg's records in the workspace against those of the image.

use std::collections::{BTreeMap, BTreeSet};

use super::{Finding, Open, Side};
use crate::debian;
use crate::path::RootPath;
use crate::tree::Tree;
use crate::tree::diff::What;

const STATUS: &str = "/var/lib/dpkg/status";
const EXTENDED: &str = "/var/lib/apt/extended_states";
/// The bundle of what the package manager did; see [`Finding::bundle`].
const BUNDLE: &str = "packages";
const INFO: &str = "var/lib/dpkg/info";
/// Scripts that write files.
const SCRIPTS: [&str; 3] = ["preinst", "postinst", "config"];
/// What `update-alternatives` and `update-rc.d` write for packages.
const FOR_PACKAGES: [&str; 11] = [
    "etc/alternatives",
    "var/lib/dpkg/alternatives",
    "var/lib/dpkg/triggers",
    "etc/rc0.d",
    "etc/rc1.d",
    "etc/rc2.d",
    "etc/rc3.d",
    "etc/rc4.d",
    "etc/rc5.d",
    "etc/rc6.d",
    "etc/rcS.d",
];

/// Which package each path belongs to, by dpkg's lists on both sides, those of the workspace first.
#[derive(Debug, Default)]
pub struct Owners {
    by_path: BTreeMap<RootPath, String>,
    /// Scripts of the packages that came, went or became others.
    scripts: Vec<String>,
}

impl Owners {
    /// The package that brings a path.
    pub fn of(&self, path: &RootPath) -> Option<&str> {
        self.by_path.get(path).map(String::as_str)
    }

    /// Whether a script of a package that was changed names a word.
    pub fn is_scripted(&self, word: &str) -> bool {
        self.scripts.iter().any(|script| script.contains(word))
    }
}

struct Listed {
    version: String,
    /// Digests of its configuration files, by path, as dpkg brought them.
    conffiles: Vec<(String, String)>,
}

fn installed(status: &str) -> BTreeMap<String, Listed> {
    let stanzas = status.split("\n\n").filter_map(|stanza| debian::parse_stanza(stanza).ok());
    let one = |fields: Vec<debian::Field>| {
        let field = |name: &str| debian::field(&fields, name);
        if !field("Status")?.ends_with(" installed") {
            return None;
        }
        let conffiles = field("Conffiles").unwrap_or_default().lines().filter_map(|line| {
            let mut words = line.split_whitespace();
            Some((words.next()?.to_owned(), words.next()?.to_owned()))
        });
        let listed = Listed { version: field("Version")?.to_owned(), conffiles: conffiles.collect() };
        Some((field("Package")?.to_owned(), listed))
    };
    stanzas.filter_map(one).collect()
}

/// The stanzas of all packages but some, sorted.
fn others<'t>(status: &'t str, packages: &BTreeSet<String>) -> BTreeSet<&'t str> {
    let stanzas = status.split("\n\n").map(str::trim).filter(|stanza| !stanza.is_empty());
    let name =
        |stanza: &str| stanza.lines().find_map(|line| line.strip_prefix("Package: ")).unwrap_or_default().to_owned();
    stanzas.filter(|stanza| !packages.contains(&name(stanza))).collect()
}

/// Packages that apt took because others needed them (apt-mark(8)).
fn automatic(extended: &str) -> BTreeSet<String> {
    let stanzas = extended.split("\n\n").filter_map(|stanza| debian::parse_stanza(stanza).ok());
    let automatic = stanzas.filter(|fields| debian::field(fields, "Auto-Installed") == Some("1"));
    automatic.filter_map(|fields| debian::field(&fields, "Package").map(str::to_owned)).collect()
}

/// What the package manager did, and whose each path is.
pub(super) fn explain(open: &mut Open<'_>) -> (Vec<Finding>, Owners) {
    let (before_text, after_text) = (open.text(Side::Image, STATUS), open.text(Side::Here, STATUS));
    let (before_text, after_text) = (before_text.unwrap_or_default(), after_text.unwrap_or_default());
    let (before, after) = (installed(&before_text), installed(&after_text));
    let automatic = automatic(&open.text(Side::Here, EXTENDED).unwrap_or_default());
    let mut findings = Vec::new();
    let mut moved = BTreeSet::new();
    for name in before.keys().chain(after.keys()).collect::<BTreeSet<_>>() {
        let (from, to) = (before.get(name), after.get(name));
        if from.map(|one| &one.version) != to.map(|one| &one.version) {
            moved.insert(name.clone());
            findings.push(Finding::Package {
                name: name.clone(),
                from: from.map(|one| one.version.clone()),
                to: to.map(|one| one.version.clone()),
                asked: !automatic.contains(name),
            });
        }
    }
    // Only what the moves of packages explain of it; an edited record is a changed file.
    if others(&before_text, &moved) == others(&after_text, &moved)
        && let Ok(status) = RootPath::from_absolute(STATUS)
    {
        open.take(BUNDLE, &status);
    }
    let mut owners = Owners::default();
    let mut mine = BTreeSet::new();
    for (side, tree) in [(Side::Image, open.observed.image), (Side::Here, open.observed.here)] {
        lists(open, side, tree, |open, package, path| {
            let changed = moved.contains(package);
            if changed || open.changes.contains_key(&path) {
                if changed {
                    mine.insert(path.clone());
                }
                owners.by_path.insert(path, package.to_owned());
            }
        });
    }
    if moved.is_empty() {
        return (findings, owners);
    }
    // A file that is not as its package brought it was changed by somebody.
    let conffiles = after.iter().filter(|(name, _)| moved.contains(*name)).flat_map(|(_, listed)| &listed.conffiles);
    let mut sums: Vec<(String, String)> = conffiles.cloned().collect();
    sums.extend(brought(open, &moved));
    let is_written = |(path, sum): &(String, String)| {
        let place = open.observed.here.resolve_parent(&RootPath::from_absolute(path).ok()?)?;
        let bytes = (open.observed.read)(Side::Here, &place)?;
        (md5(&bytes) != *sum).then_some(place)
    };
    let written: BTreeSet<RootPath> = sums.iter().filter_map(is_written).collect();
    open.take_if(BUNDLE, |path, _| mine.contains(path) && !written.contains(path));
    owners.scripts = scripts(open, &moved);
    records(open, &moved);
    for_packages(open, &owners);
    (findings, owners)
}

/// Goes through the lists of all packages on one side.
fn lists(open: &Open<'_>, side: Side, tree: &Tree, mut each: impl FnMut(&Open<'_>, &str, RootPath)) {
    let Ok(info) = RootPath::from_archive(INFO.as_bytes()) else { return };
    for (path, _) in tree.under(&info) {
        let name = String::from_utf8_lossy(path.name().unwrap_or_default()).into_owned();
        let Some(package) = name.strip_suffix(".list") else { continue };
        let package = package.split(':').next().unwrap_or(package);
        let Some(list) = (open.observed.read)(side, path) else { continue };
        for line in list.split(|byte| *byte == b'\n').filter_map(|line| line.strip_prefix(b"/")) {
            let Ok(named) = RootPath::from_archive(line) else { continue };
            // A list may name /bin/ls where /bin is a link.
            let place = if tree.get(&named).is_some() { Some(named) } else { tree.resolve_parent(&named) };
            if let Some(place) = place {
                each(open, package, place);
            }
        }
    }
}

/// Digests of the files of some packages, by path, as dpkg's lists of sums have them.
fn brought(open: &Open<'_>, packages: &BTreeSet<String>) -> Vec<(String, String)> {
    let mut sums = Vec::new();
    let Ok(info) = RootPath::from_archive(INFO.as_bytes()) else { return sums };
    for (path, _) in open.observed.here.under(&info) {
        let name = String::from_utf8_lossy(path.name().unwrap_or_default()).into_owned();
        let Some(package) = name.strip_suffix(".md5sums") else { continue };
        if packages.contains(package.split(':').next().unwrap_or(package)) {
            let list = (open.observed.read)(Side::Here, path).unwrap_or_default();
            let list = String::from_utf8_lossy(&list).into_owned();
            let lines = list.lines().filter_map(|line| line.split_once("  "));
            sums.extend(lines.map(|(sum, path)| (format!("/{path}"), sum.to_owned())));
        }
    }
    sums
}

/// dpkg's records of some packages: `info/NAME.*` and `info/NAME:ARCHITECTURE.*`.
fn records(open: &mut Open<'_>, packages: &BTreeSet<String>) {
    let Ok(info) = RootPath::from_archive(INFO.as_bytes()) else { return };
    let is_of = |path: &RootPath| {
        let name = String::from_utf8_lossy(path.name().unwrap_or_default()).into_owned();
        // A package's name may have dots in it.
        let whole = name.rsplit_once('.').map_or(name.as_str(), |(whole, _)| whole);
        path.lies_in(&info) && packages.contains(whole.split(':').next().unwrap_or(whole))
    };
    open.take_if(BUNDLE, |path, _| is_of(path));
}

fn scripts(open: &Open<'_>, moved: &BTreeSet<String>) -> Vec<String> {
    let mut scripts = Vec::new();
    for (side, tree) in [(Side::Image, open.observed.image), (Side::Here, open.observed.here)] {
        let Ok(info) = RootPath::from_archive(INFO.as_bytes()) else { continue };
        for (path, _) in tree.under(&info) {
            let name = String::from_utf8_lossy(path.name().unwrap_or_default()).into_owned();
            let Some((package, kind)) = name.rsplit_once('.') else { continue };
            let package = package.split(':').next().unwrap_or(package);
            if SCRIPTS.contains(&kind) && moved.contains(package) {
                let text = (open.observed.read)(side, path).unwrap_or_default();
                scripts.push(String::from_utf8_lossy(&text).into_owned());
            }
        }
    }
    scripts
}

/// What is written for packages beside their own files: alternatives and the links to them, boot links, and what their
/// scripts name.
fn for_packages(open: &mut Open<'_>, owners: &Owners) {
    let tops: Vec<_> = FOR_PACKAGES.iter().filter_map(|top| RootPath::from_archive(top.as_bytes()).ok()).collect();
    let leads_to_alternative = |tree: &Tree, path: &RootPath| {
        let kind = tree.get(path).map(|entry| &entry.kind);
        matches!(kind, Some(crate::tree::Kind::Symlink { target }) if target.starts_with(b"/etc/alternatives/"))
    };
    let (image, here) = (open.observed.image, open.observed.here);
    open.take_if(BUNDLE, |path, what| {
        let for_packages = tops.iter().any(|top| path.lies_in(top))
            || leads_to_alternative(image, path)
            || leads_to_alternative(here, path);
        // What the image has and a script names may have been changed by somebody; what is new is the script's.
        let named = *what == What::Extra && {
            let mut above = path.ancestors();
            above.push(path.clone());
            above.iter().filter(|above| above.depth() >= 2).any(|above| owners.is_scripted(&above.to_string()))
        };
        for_packages || named
    });
}

fn md5(bytes: &[u8]) -> String {
    use md5::Digest as _;
    md5::Md5::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}
