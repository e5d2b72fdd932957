//! Many packages laid at once into one stage of a base, unpacked and not configured yet: what dpkg(1) would have done
//! by `--unpack`.
//!
//! Three things that dpkg decides package by package are decided here when all have been read ([`Stage::settle`]):
//! which of two packages a path belongs to (by `Replaces`, Debian Policy Manual, section 7.6, or by a diversion,
//! dpkg-divert(1)), what of dpkg's own records changes, and which triggers new files set off (deb-triggers(5)).

use std::collections::{BTreeMap, BTreeSet};

use cavrith_core::debian::parse_relations;
use cavrith_core::path::RootPath;
use cavrith_core::tree::Tree;
use cavrith_store::shared::{Move, SharedWriter};

use crate::SourceError;
use crate::checked::Checked;
use crate::deb::{self, Conffiles, Control, damaged, invalid};

/// Records of dpkg's, by their paths beneath `/var/lib/dpkg`.
pub type Records = BTreeMap<String, Vec<u8>>;

/// A package that has been laid.
#[derive(Debug)]
pub struct Package {
    /// Its own name.
    pub name: String,
    /// Its name in dpkg's records.
    pub qualified: String,
    control: Control,
    paths: Vec<RootPath>,
    /// Its configuration files that lie beside their places.
    deferred: BTreeSet<RootPath>,
}

impl Package {
    /// Whether it has a script of this name.
    pub fn has(&self, script: &str) -> bool {
        self.control.files.contains_key(script)
    }

    /// One field of its control file; empty when there is none.
    pub fn field(&self, name: &str) -> &str {
        self.control.field(name)
    }

    /// The path that is meant by one that was laid: a configuration file lies beside its place.
    fn meant(&self, laid: &RootPath) -> RootPath {
        let place = laid.as_bytes().strip_suffix(deb::NEW).and_then(|bytes| RootPath::from_plain(bytes).ok());
        place.filter(|place| self.deferred.contains(place)).unwrap_or_else(|| laid.clone())
    }

    /// The sums of its files, as dpkg makes them for a package that brings none, and misses them afterwards
    /// (`dpkg --audit`); nothing for one that brings them, or has no files.
    fn missing_sums(&self, read_file: &dyn Fn(&RootPath) -> Option<Vec<u8>>) -> Option<Vec<u8>> {
        if self.control.files.iter().any(|(name, _)| name == "md5sums") {
            return None;
        }
        let mut sums = Vec::new();
        for path in &self.paths {
            let laid = if self.deferred.contains(path) { deb::beside(path)? } else { path.clone() };
            let Some(bytes) = read_file(&laid) else { continue };
            sums.extend(format!("{}  ", deb::md5(&bytes)).bytes());
            sums.extend(path.as_bytes());
            sums.push(b'\n');
        }
        (!sums.is_empty()).then_some(sums)
    }

    /// Whether it may take over files of another package.
    fn replaces(&self, name: &str, version: &str) -> bool {
        parse_relations(self.field("Replaces")).iter().flatten().any(|one| one.name == name && one.accepts(version))
    }
}

/// Lays one package, under its number, into the stage. Those of the `first` one need each other before they are
/// configured, as in any root that is started with, so their configuration files lie in their places; those of later
/// ones lie beside them until their package is configured, as dpkg has it, so that nobody else sees half a
/// configuration.
///
/// # Errors
/// When it is damaged, brings what it must not, or is another package than `name` and `version`.
pub fn lay(
    checked: &mut Checked,
    writer: &SharedWriter,
    number: usize,
    (name, version): (&str, &str),
    first: bool,
) -> Result<Package, SourceError> {
    let file = checked.name().to_owned();
    let conffiles = if first { Conffiles::InPlace } else { Conffiles::Beside };
    let (control, paths) = deb::lay(checked, &mut writer.archive(number), conffiles)?;
    let qualified = deb::qualified_name(&control).map_err(|why| damaged(&file, invalid(&why)))?;
    if (control.field("Package"), control.field("Version")) != (name, version) {
        let is = format!("{} {}", control.field("Package"), control.field("Version"));
        return Err(damaged(&file, invalid(&format!("it says that it is {is}, and {name} {version} is expected"))));
    }
    let deferred: BTreeSet<_> = match conffiles {
        Conffiles::InPlace => BTreeSet::new(),
        Conffiles::Beside => control.conffiles().iter().filter_map(|path| RootPath::from_absolute(path).ok()).collect(),
    };
    Ok(Package { name: name.to_owned(), qualified, control, paths, deferred })
}

/// What lies beneath a stage: the tree, and the content of files in it.
pub struct LowerTree<'a> {
    /// The merged tree.
    pub tree: &'a Tree,
    /// Reads a file of it.
    pub read: &'a dyn Fn(&RootPath) -> Option<Vec<u8>>,
}

impl LowerTree<'_> {
    fn record(&self, name: &str) -> Option<String> {
        let path = admin(name)?;
        (self.read)(&path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    /// Names in dpkg's records of the packages that have a path, which the tree has in one place only.
    fn owners(&self, paths: &BTreeSet<Vec<u8>>) -> BTreeMap<Vec<u8>, String> {
        let mut owners = BTreeMap::new();
        let lists = self.tree.entries.keys().filter_map(|path| {
            let name = path.as_bytes().strip_prefix(b"var/lib/dpkg/info/")?.strip_suffix(b".list")?;
            Some((String::from_utf8_lossy(name).into_owned(), path))
        });
        for (package, path) in lists {
            for line in (self.read)(path).unwrap_or_default().split(|byte| *byte == b'\n') {
                let Some(listed) = line.strip_prefix(b"/").and_then(|line| RootPath::from_archive(line).ok()) else {
                    continue;
                };
                // The lists have paths as packages write them; /bin/ls lies in /usr/bin.
                let place = self.tree.resolve_parent(&listed).unwrap_or(listed);
                if paths.contains(place.as_bytes()) {
                    owners.insert(place.as_bytes().to_vec(), package.clone());
                }
            }
        }
        owners
    }
}

fn admin(name: &str) -> Option<RootPath> {
    RootPath::from_archive(format!("var/lib/dpkg/{name}").as_bytes()).ok()
}

/// One line of dpkg's record of diversions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diversion {
    /// The path that is diverted.
    pub from: RootPath,
    /// Where others' files go instead.
    pub to: RootPath,
    /// The package that diverts it, whose own file stays.
    pub by: String,
}

/// Reads dpkg's record of diversions: three lines each.
pub fn parse_diversions(text: &str) -> Vec<Diversion> {
    let lines: Vec<_> = text.lines().collect();
    let read = lines.chunks_exact(3).filter_map(|three| {
        let path = |text: &str| RootPath::from_absolute(text).ok();
        Some(Diversion { from: path(three[0])?, to: path(three[1])?, by: three[2].to_owned() })
    });
    read.collect()
}

/// Packages laid together.
pub struct Stage<'a> {
    /// The packages, by name.
    pub packages: &'a [Package],
    /// What lies beneath; nothing beneath the first stage.
    pub beneath: Option<LowerTree<'a>>,
}

impl Stage<'_> {
    /// Decides who has what several packages bring, by `Replaces` and by the diversions that are known: what has to be
    /// moved for it. With `last` every path has to be decided; before, those that a diversion may still decide are
    /// left.
    ///
    /// # Errors
    /// Two packages with the same file, neither of which gives way.
    pub fn settle(
        &self,
        writer: &SharedWriter,
        diversions: &[Diversion],
        last: bool,
    ) -> Result<Vec<Move>, SourceError> {
        let mut moves = Vec::new();
        for (path, archives) in writer.contested() {
            let package = |number: usize| &self.packages[number];
            let diverted = diversions.iter().find(|diversion| diversion.from == path);
            let winner = match diverted {
                Some(diversion) => archives.iter().copied().find(|number| package(*number).name == diversion.by),
                None => archives.iter().copied().find(|number| {
                    archives
                        .iter()
                        .filter(|other| *other != number)
                        .all(|other| package(*number).replaces(&package(*other).name, package(*other).field("Version")))
                }),
            };
            match winner {
                Some(winner) => {
                    moves.extend(writer.settle(&path, winner, diverted.map(|diversion| &diversion.to)));
                }
                None if last => {
                    let names: Vec<_> = archives.iter().map(|number| package(*number).name.clone()).collect();
                    let why =
                        format!("{path} is in {} too, and neither package says that it replaces the other", names[1]);
                    return Err(SourceError::Refused { name: format!("the package {}", names[0]), why });
                }
                None => {}
            }
        }
        Ok(moves)
    }

    /// Decides about paths that packages of earlier stages have: what has to be moved, and dpkg's records of those that
    /// lose files.
    ///
    /// # Errors
    /// A package with a file of another one that it does not replace.
    pub fn settle_beneath(&self, writer: &SharedWriter) -> Result<(Vec<Move>, Records), SourceError> {
        let (mut moves, mut records) = (Vec::new(), BTreeMap::new());
        let Some(beneath) = &self.beneath else { return Ok((moves, records)) };
        let diversions = parse_diversions(&beneath.record("diversions").unwrap_or_default());
        let covers = |path: &RootPath| beneath.tree.get(path).is_some_and(|entry| !entry.kind.is_directory());
        let mut covering: BTreeMap<Vec<u8>, RootPath> = BTreeMap::new();
        for path in writer.paths() {
            let of = writer.archive_of(&path).map(|number| &self.packages[number]);
            let meant = of.map_or_else(|| path.clone(), |package| package.meant(&path));
            // A diversion holds for anyone who comes, whether its own file is there or not.
            let diverted = diversions.iter().find(|diversion| diversion.from == meant);
            let by = of.map(|package| package.name.as_str());
            match diverted.filter(|diversion| by != Some(diversion.by.as_str())) {
                Some(diversion) if meant == path => moves.push(writer.moving(&path, &diversion.to)),
                // dpkg looks for it beside where it is diverted to.
                Some(diversion) => {
                    moves.extend(deb::beside(&diversion.to).map(|to| writer.moving(&path, &to)));
                }
                None if covers(&meant) => drop(covering.insert(meant.as_bytes().to_vec(), path)),
                None => {}
            }
        }
        if covering.is_empty() {
            return Ok((moves, records));
        }
        let status = beneath.record("status").unwrap_or_default();
        let versions: BTreeMap<_, _> =
            deb::parse_status(&status).into_iter().map(|one| (one.name, one.version)).collect();
        let mut lost: BTreeMap<String, BTreeSet<Vec<u8>>> = BTreeMap::new();
        // What no package has was made by a script; a package's own file takes its place.
        for (bytes, owner) in beneath.owners(&covering.keys().cloned().collect()) {
            let path = &covering[&bytes];
            let taker = writer.archive_of(path).map(|number| &self.packages[number]);
            let name = owner.split(':').next().unwrap_or(&owner);
            let version = versions.get(name).map_or("", String::as_str);
            if taker.is_some_and(|taker| taker.replaces(name, version)) {
                lost.entry(owner).or_default().insert(bytes);
            } else {
                let taker = taker.map_or("", |taker| taker.name.as_str());
                let why = format!(
                    "{path} is in {name} too, which is in the base already, and it does not say that it replaces it"
                );
                return Err(SourceError::Refused { name: format!("the package {taker}"), why });
            }
        }
        for (owner, paths) in lost {
            let name = format!("info/{owner}.list");
            let list = beneath.record(&name).unwrap_or_default();
            let kept = list.lines().filter(|line| !paths.contains(line.trim_start_matches('/').as_bytes()));
            records.insert(name, kept.map(|line| format!("{line}\n")).collect::<String>().into_bytes());
        }
        Ok((moves, records))
    }

    /// dpkg's records with these packages unpacked, by their paths beneath `/var/lib/dpkg`; and whether each is a
    /// script.
    ///
    /// # Errors
    /// A package that names a configuration file and does not bring it.
    pub fn records(
        &self,
        read: &dyn Fn(&RootPath) -> Option<Vec<u8>>,
        read_file: &dyn Fn(&RootPath) -> Option<Vec<u8>>,
    ) -> Result<BTreeMap<String, (Vec<u8>, bool)>, SourceError> {
        let before = |name: &str| self.beneath.as_ref().and_then(|beneath| beneath.record(name));
        let mut records = BTreeMap::new();
        let mut status = before("status").unwrap_or_default();
        let mut file_triggers = before("triggers/File").unwrap_or_default();
        let mut interests: BTreeMap<String, String> = BTreeMap::new();
        for package in self.packages {
            let in_place = package.deferred.is_empty().then_some(read);
            let stanza = deb::stanza(&package.control, "install ok unpacked", in_place);
            let stanza = stanza.map_err(|why| damaged(&package.name, invalid(&why)))?;
            if !status.is_empty() && !status.ends_with("\n\n") {
                status.push('\n');
            }
            status.push_str(&stanza);
            for (name, bytes) in deb::info(&package.control, &package.qualified, &package.paths) {
                let script = deb::SCRIPTS.iter().any(|script| name == format!("{}.{script}", package.qualified));
                records.insert(format!("info/{name}"), (bytes, script));
            }
            if let Some(sums) = package.missing_sums(read_file) {
                records.insert(format!("info/{}.md5sums", package.qualified), (sums, false));
            }
            for (trigger, awaited) in interests_of(&package.control) {
                let who = format!("{}{}", package.qualified, if awaited { "" } else { "/noawait" });
                if trigger.starts_with('/') {
                    file_triggers.push_str(&format!("{trigger} {who}\n"));
                } else if let Some(name) = Some(format!("triggers/{trigger}")).filter(|_| plain(&trigger)) {
                    let text = interests.entry(name.clone()).or_insert_with(|| before(&name).unwrap_or_default());
                    text.push_str(&format!("{who}\n"));
                }
            }
        }
        let set_off = self.set_off(&file_triggers);
        records.insert("status".to_owned(), (status.into_bytes(), false));
        records.insert("triggers/File".to_owned(), (file_triggers.into_bytes(), false));
        records.insert("triggers/Unincorp".to_owned(), (set_off.into_bytes(), false));
        records.extend(interests.into_iter().map(|(name, text)| (name, (text.into_bytes(), false))));
        if self.beneath.is_none() {
            records.insert("info/format".to_owned(), (b"1\n".to_vec(), false));
            for name in ["available", "diversions", "statoverride"] {
                records.insert(name.to_owned(), (Vec::new(), false));
            }
        }
        Ok(records)
    }

    /// Triggers of packages beneath that the new files set off. Packages of this stage see all files when they are
    /// configured.
    fn set_off(&self, file_triggers: &str) -> String {
        let own: BTreeSet<_> = self.packages.iter().map(|package| package.qualified.as_str()).collect();
        let mut names = BTreeSet::new();
        for line in file_triggers.lines() {
            let Some((trigger, who)) = line.split_once(' ') else { continue };
            if own.contains(who.split('/').next().unwrap_or(who)) {
                continue;
            }
            let Ok(place) = RootPath::from_absolute(trigger) else { continue };
            if self
                .packages
                .iter()
                .flat_map(|package| &package.paths)
                .any(|path| path.lies_in(&place) || *path == place)
            {
                names.insert(trigger);
            }
        }
        // A dash stands for nobody who waits.
        names.into_iter().map(|name| format!("{name} -\n")).collect()
    }
}

fn plain(name: &str) -> bool {
    let good = |letter: char| letter.is_ascii_alphanumeric() || "-+._:".contains(letter);
    !name.is_empty()
        && name.chars().all(good)
        && !name.starts_with('.')
        && !["File", "Unincorp", "Lock"].contains(&name)
}

/// Triggers that a package is interested in, and whether others wait for it (deb-triggers(5)).
fn interests_of(control: &Control) -> Vec<(String, bool)> {
    let text =
        control.files.get("triggers").map(|bytes| String::from_utf8_lossy(bytes).into_owned()).unwrap_or_default();
    let mut interests = Vec::new();
    for line in text.lines() {
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        let awaited = match words.next() {
            Some("interest" | "interest-await") => true,
            Some("interest-noawait") => false,
            _ => continue,
        };
        interests.extend(words.next().map(|name| (name.to_owned(), awaited)));
    }
    interests
}
