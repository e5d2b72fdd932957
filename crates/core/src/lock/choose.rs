//! Choosing what to pin: the newest that answers the spec, unless an earlier lock already has something that does.

use std::collections::BTreeMap;

use super::own_toolchains;
use super::{ArchivePin, DepotPin, ExtensionPin, Lock, PackagePin, PartPin, RecordPin, Source, ToolchainPin};
use crate::account;
use crate::debian::{self, languages};
use crate::depot::{EditorProfile, File, Index, Toolchain};
use crate::digest::Sha256Digest;
use crate::editors;
use crate::mistake::{Code, Mistake, nearest};
use crate::spec::{At, Base, Origin, Provenance, Spec, Wanted};
use crate::version::Version;

/// A depot as it was read.
#[derive(Debug, Clone)]
pub struct Offer {
    /// Its index.
    pub index: Index,
    /// SHA-256 of the index's text.
    pub digest: Sha256Digest,
}

/// Which pins may move though they still answer the spec.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Update {
    /// None.
    #[default]
    Nothing,
    /// All.
    All,
    /// Those of these packages, toolchains, extensions and downloads; `base` for the base's archive.
    Named(Vec<String>),
}

impl Update {
    /// Whether the pin of this name may move.
    pub fn moves(&self, name: &str) -> bool {
        match self {
            Self::Nothing => false,
            Self::All => true,
            Self::Named(names) => names.iter().any(|named| named == name),
        }
    }
}

/// Pins everything a spec names, as far as the depots offer it. The epoch, files of the project, and size and digest of
/// an archive and of downloads are for the caller to fill in from the files; `previous` keeps what still answers the
/// spec and is not to be `update`d.
pub fn choose(
    spec: &Spec,
    offers: &BTreeMap<String, Offer>,
    previous: Option<&Lock>,
    update: &Update,
) -> (Lock, Vec<Mistake>) {
    let mut chooser = Chooser { spec, offers, previous, update, mistakes: Vec::new() };
    let editor = chooser.editor(spec);
    let mut lock = Lock {
        lock: 1,
        variant: spec.variant.clone(),
        epoch: 0,
        depots: Vec::new(),
        packages: chooser.packages(spec),
        archive: archive(spec),
        oci: None,
        debian: None,
        toolchains: chooser.toolchains(spec),
        extensions: chooser.extensions(spec, editor.as_ref()),
        editor,
        downloads: Vec::new(),
        files: Vec::new(),
        records: records(spec, previous),
        seal: None,
        variants: Vec::new(),
        sources: BTreeMap::new(),
    };
    lock.depots = chooser.depots(&lock);
    own_toolchains::add_archives(spec, &mut lock);
    // Until the archive is asked again, what is locked of it stands, unless it is another one now.
    if let Some(debian) = previous.and_then(|previous| previous.debian.as_ref())
        && matches!(&spec.base, Base::Debian(suite) if debian.is_of(suite))
    {
        own_toolchains::add_from_base(spec, debian, &mut lock, &mut chooser.mistakes);
    }
    super::places::keep_apart(spec, &lock, &mut chooser.mistakes);
    // Of a depot that could not be read nobody knows what comes from it.
    if chooser.mistakes.is_empty() && spec.depots.keys().all(|name| offers.contains_key(name)) {
        unused_depots(spec, &lock, &mut chooser.mistakes);
    }
    (lock, chooser.mistakes)
}

/// The records of steps that still have one.
fn records(spec: &Spec, previous: Option<&Lock>) -> Vec<RecordPin> {
    let recorded = spec.steps.iter().filter(|step| step.recorded.is_some());
    let known = |name: &str| previous?.records.iter().find(|pin| pin.step == name).cloned();
    recorded.filter_map(|step| known(&step.name.value)).collect()
}

fn archive(spec: &Spec) -> Option<ArchivePin> {
    match &spec.base {
        Base::Archive { origin, sha256, strip } => Some(ArchivePin {
            path: origin.path().map(str::to_owned),
            url: origin.url().map(str::to_owned),
            size: 0,
            sha256: sha256.as_ref().map_or(Sha256Digest::from_bytes([0; 32]), |sha256| sha256.value),
            strip: *strip,
        }),
        Base::Packages { .. } | Base::Debian(_) | Base::Oci(_) => None,
    }
}

/// A depot on the disk that nothing comes from. One on the web may be there for its downloads.
fn unused_depots(spec: &Spec, lock: &Lock, mistakes: &mut Vec<Mistake>) {
    let from_web = !spec.downloads.is_empty()
        || matches!(&spec.base, Base::Archive { origin: Origin::Url(_), .. } | Base::Debian(_) | Base::Oci(_));
    for (name, depot) in &spec.depots {
        if !from_web && !lock.depots.iter().any(|pin| pin.name == *name) && lock.editor.is_none() {
            let message = format!("nothing comes from the depot `{name}`");
            let mistake = Mistake::new(Code::DEPOT_UNUSED, depot.span.clone(), message, "leave it out");
            mistakes.push(mistake.as_warning());
        }
    }
}

struct Chooser<'a> {
    spec: &'a Spec,
    offers: &'a BTreeMap<String, Offer>,
    previous: Option<&'a Lock>,
    update: &'a Update,
    mistakes: Vec<Mistake>,
}

fn source(depot: &str, file: &File) -> Source {
    Source { depot: depot.to_owned(), file: file.file.clone(), size: file.size, sha256: file.sha256 }
}

impl Chooser<'_> {
    /// The lock whose pin of this name is to be kept when it can be.
    fn kept(&self, name: &str) -> Option<&Lock> {
        self.previous.filter(|_| !self.update.moves(name))
    }

    fn depots(&self, lock: &Lock) -> Vec<DepotPin> {
        let mut names: Vec<_> = lock.sources().map(|source| &source.depot).collect();
        names.sort();
        names.dedup();
        names.retain(|name| !name.is_empty());
        let unmoved = self.previous.filter(|previous| {
            previous.packages == lock.packages
                && previous.toolchains == lock.toolchains
                && previous.extensions == lock.extensions
        });
        let pin = |name: &String| {
            // An index may grow without anything that is pinned here having moved; then the lock stays as it was.
            let kept = unmoved.and_then(|previous| previous.depots.iter().find(|pin| pin.name == *name));
            let index = kept.map(|pin| pin.index).or_else(|| Some(self.offers.get(name)?.digest))?;
            Some(DepotPin { name: name.clone(), index })
        };
        names.into_iter().filter_map(pin).collect()
    }

    fn packages(&mut self, spec: &Spec) -> Vec<PackagePin> {
        let Base::Packages { depot, packages } = &spec.base else {
            return Vec::new();
        };
        let Some(offer) = self.offers.get(&depot.value) else {
            return Vec::new();
        };
        let mut pins = Vec::new();
        for wanted in packages {
            let kept = self.kept(&wanted.value).and_then(|lock| {
                lock.packages.iter().find(|pin| pin.name == wanted.value && pin.source.depot == depot.value)
            });
            let newest = || {
                let named = offer.index.packages.iter().filter(|package| package.name == wanted.value);
                named.max_by(|a, b| debian::compare_versions(&a.version, &b.version))
            };
            match kept.cloned().or_else(|| {
                newest().map(|package| PackagePin {
                    name: package.name.clone(),
                    version: package.version.clone(),
                    architecture: package.architecture.clone(),
                    source: source(&depot.value, &package.file),
                })
            }) {
                Some(pin) => pins.push(pin),
                None => {
                    let known = offer.index.packages.iter().map(|package| package.name.as_str());
                    let lacks = format!("the depot `{}` has no", depot.value);
                    self.not_offered("package", wanted, known, &lacks);
                }
            }
        }
        pins.sort_by(|a, b| a.name.cmp(&b.name));
        pins
    }

    fn not_offered<'n>(&mut self, what: &str, wanted: &At<String>, known: impl Iterator<Item = &'n str>, by: &str) {
        let mut known: Vec<_> = known.collect();
        known.sort_unstable();
        known.dedup();
        let remedy = match nearest(&wanted.value, known.iter().copied()) {
            Some(meant) => format!("write `{meant}`"),
            None if known.is_empty() => format!("add it to the depot; there are no {what}s in it"),
            None => format!("choose one of {}, or add it to a depot", known.join(", ")),
        };
        let message = format!("{by} {what} `{}`", wanted.value);
        self.mistakes.push(Mistake::new(Code::NOT_OFFERED, wanted.span.clone(), message, remedy));
    }

    /// A toolchain of a spec without depots, for which the base's own packages may be meant.
    fn no_depot(&mut self, name: &At<String>, wanted: &Wanted) {
        let Base::Debian(suite) = &self.spec.base else {
            let message = format!("`{}` would come from a depot, and the spec declares none", name.value);
            let remedy = "declare one: [depots] ours = { path = \"../depot\" }; cavrith depot new makes one";
            self.mistakes.push(Mistake::new(Code::NOT_OFFERED, name.span.clone(), message, remedy));
            return;
        };
        let language = languages::find(&name.value);
        let there = language.and_then(|language| language.version_in(&suite.name.value));
        let asked = &wanted.version.value;
        let fits = there
            .and_then(|there| Version::new(there).ok())
            .is_some_and(|there| there.answers(asked) || asked.answers(&there));
        let message = match there {
            Some(there) if !fits => format!(
                "`{}` {asked} would come from a depot, and the spec declares none; {} has {there}",
                name.value, suite.name.value
            ),
            _ => format!("`{}` would come from a depot, and the spec declares none", name.value),
        };
        let version = if fits { asked.to_string() } else { there.map_or_else(|| asked.to_string(), str::to_owned) };
        let packages =
            language.map_or_else(|| vec!["…".to_owned()], |language| language.packages_in(&suite.name.value));
        let packages = packages.iter().map(|package| format!("{package:?}")).collect::<Vec<_>>().join(", ");
        let remedy = format!(
            "write {} = {{ from = \"base\", version = \"{version}\", packages = [{packages}] }} for Debian's own, or declare a depot that has it",
            name.value
        );
        self.mistakes.push(Mistake::new(Code::NOT_OFFERED, name.span.clone(), message, remedy));
    }

    /// Picks the newest version that answers, or says which ones there are.
    fn newest<'o, T>(
        &mut self,
        what: &str,
        name: &At<String>,
        wanted: &At<Version>,
        asked: &str,
        offered: Vec<(&'o str, &'o T, &'o Version)>,
    ) -> Option<(&'o str, &'o T)> {
        let answering = offered.iter().filter(|(_, _, version)| version.answers(&wanted.value));
        // Of equal versions the depot that comes first by name is taken, so that the answer never depends on chance.
        if let Some((depot, item, _)) = answering.max_by(|a, b| a.2.cmp(b.2).then(b.0.cmp(a.0))) {
            return Some((depot, item));
        }
        let mut versions: Vec<_> = offered.iter().map(|(_, _, version)| *version).collect();
        versions.sort();
        versions.dedup();
        let listed = versions.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let message = format!("{asked} {what} `{}` in version {}", name.value, wanted.value);
        let remedy = format!("choose one of {listed}, or the beginning of one");
        self.mistakes.push(Mistake::new(Code::VERSION_NOT_OFFERED, wanted.span.clone(), message, remedy));
        None
    }

    fn toolchains(&mut self, spec: &Spec) -> Vec<ToolchainPin> {
        let mut pins: Vec<ToolchainPin> = Vec::new();
        for (name, wanted) in &spec.toolchains {
            // The others are pinned by themselves.
            let Provenance::Depot(depot) = &wanted.value.from else { continue };
            let Some(named) = self.depot_names(spec, depot.as_ref()) else {
                continue;
            };
            let first = pins.len();
            let versions = std::iter::once((&wanted.value.version, false));
            for (version, also) in versions.chain(wanted.value.also.iter().map(|version| (version, true))) {
                let Some(pin) = self.toolchain(name, wanted, version, also, &named) else { continue };
                if pins[first..].iter().any(|other| other.version == pin.version) {
                    let message = format!(
                        "{} is the version {} of {name}, which is asked for already",
                        version.value, pin.version
                    );
                    let remedy = "leave it out, or write more of the version that is meant";
                    self.mistakes.push(Mistake::new(Code::VERSION_TWICE, version.span.clone(), message, remedy));
                    continue;
                }
                pins.push(pin);
            }
        }
        pins
    }

    /// One version of a toolchain.
    fn toolchain(
        &mut self,
        name: &str,
        wanted: &At<Wanted>,
        version: &At<Version>,
        also: bool,
        named: &[String],
    ) -> Option<ToolchainPin> {
        let keeps = |pin: &&ToolchainPin| {
            pin.name == name
                && pin.also == also
                && pin.version.answers(&version.value)
                && pin.source.as_ref().is_some_and(|source| named.contains(&source.depot))
                && crate::derive::fit::parts_answer(&wanted.value, pin)
        };
        if let Some(pin) = self.kept(name).and_then(|lock| lock.toolchains.iter().find(keeps)) {
            return Some(pin.clone());
        }
        let asked = match wanted.value.depot() {
            Some(depot) => format!("the depot `{}` does not have", depot.value),
            None => "no depot here has".to_owned(),
        };
        let all = self.offers.iter().filter(|(depot, _)| named.contains(depot));
        let all: Vec<_> = all
            .flat_map(|(depot, offer)| offer.index.toolchains.iter().map(move |item| (depot.as_str(), item)))
            .collect();
        let offered = all.iter().filter(|(_, item)| item.name == name);
        let offered: Vec<_> = offered.map(|(depot, item)| (*depot, *item, &item.version)).collect();
        let name = At { value: name.to_owned(), span: wanted.span.clone() };
        if offered.is_empty() && self.spec.depots.is_empty() {
            self.no_depot(&name, &wanted.value);
            return None;
        }
        if offered.is_empty() {
            let known = all.iter().map(|(_, item)| item.name.as_str());
            self.not_offered("toolchain", &name, known, &format!("{asked} a"));
            return None;
        }
        let (depot, item) = self.newest("the toolchain", &name, version, &asked, offered)?;
        Some(ToolchainPin {
            name: item.name.clone(),
            version: item.version.clone(),
            source: Some(source(depot, &item.file)),
            packages: Vec::new(),
            strip: item.strip,
            place: item.place.clone(),
            path: item.path.clone(),
            also,
            probe: item.probe.clone(),
            parts: self.parts(&wanted.value, depot, item),
        })
    }

    /// The parts of a toolchain that are wanted.
    fn parts(&mut self, wanted: &Wanted, depot: &str, item: &Toolchain) -> Vec<PartPin> {
        let known: Vec<_> = item.parts.iter().map(|part| part.name.as_str()).collect();
        for name in wanted.parts.iter().flatten().filter(|name| !known.contains(&name.value.as_str())) {
            let message = format!("{} {} has no part `{}`", item.name, item.version, name.value);
            let remedy = match (nearest(&name.value, known.iter().copied()), known.is_empty()) {
                (Some(meant), _) => format!("write \"{meant}\""),
                (None, true) => "leave parts out; it comes as a whole".to_owned(),
                (None, false) => format!("choose from {}", known.join(", ")),
            };
            self.mistakes.push(Mistake::new(Code::PART_NOT_OFFERED, name.span.clone(), message, remedy));
        }
        let chosen = |name: &str| wanted.parts.as_ref().is_none_or(|parts| parts.iter().any(|part| part.value == name));
        let chosen = item.parts.iter().filter(|part| chosen(&part.name));
        let mut pins: Vec<_> = chosen
            .map(|part| PartPin { name: part.name.clone(), source: source(depot, &part.file), strip: part.strip })
            .collect();
        pins.sort_by(|a, b| a.name.cmp(&b.name));
        pins
    }

    /// The depots that may be asked; `None` when one is named that cannot be read (which is said elsewhere).
    fn depot_names(&self, spec: &Spec, named: Option<&At<String>>) -> Option<Vec<String>> {
        match named {
            Some(depot) => self.offers.contains_key(&depot.value).then(|| vec![depot.value.clone()]),
            None => {
                let all: Vec<_> = spec.depots.keys().cloned().collect();
                all.iter().all(|name| self.offers.contains_key(name)).then_some(all)
            }
        }
    }

    fn editor(&mut self, spec: &Spec) -> Option<EditorProfile> {
        let editor = spec.editor.as_ref()?;
        self.depot_names(spec, None)?;
        let mut profiles: Vec<_> = self.offers.values().flat_map(|offer| &offer.index.editors).collect();
        profiles.sort_by(|a, b| a.name.cmp(&b.name));
        profiles.dedup();
        let own = editors::profiles();
        let names: Vec<_> =
            profiles.iter().map(|profile| &**profile).chain(&own).map(|one| one.name.as_str()).collect();
        let chosen = match &editor.profile {
            // A depot may know better where an editor looks.
            Some(name) if !profiles.iter().any(|profile| profile.name == name.value) => {
                if let Some(profile) = own.iter().find(|profile| profile.name == name.value) {
                    return Some(profile.clone());
                }
                None
            }
            Some(name) => profiles.iter().find(|profile| profile.name == name.value),
            None if profiles.len() == 1 => profiles.first(),
            None => None,
        };
        if let Some(profile) = chosen {
            return Some((*profile).clone());
        }
        let listed = names.join(", ");
        let (span, message) = match &editor.profile {
            Some(name) => (name.span.clone(), format!("no depot here has an editor profile `{}`", name.value)),
            None if profiles.is_empty() => (
                editor.span.clone(),
                "it is not said which editor is meant, and no depot here has a profile".to_owned(),
            ),
            None => (editor.span.clone(), "the depots have several editor profiles".to_owned()),
        };
        let meant = editor.profile.as_ref().and_then(|name| nearest(&name.value, names.iter().copied()));
        let remedy = match meant {
            Some(meant) => format!("write profile = \"{meant}\""),
            None => format!("write profile = \"…\" with one of {listed}, or add one to a depot, under [[editors]]"),
        };
        self.mistakes.push(Mistake::new(Code::EDITOR_PROFILE, span, message, remedy));
        None
    }

    fn extensions(&mut self, spec: &Spec, profile: Option<&EditorProfile>) -> Vec<ExtensionPin> {
        let (Some(editor), Some(profile)) = (&spec.editor, profile) else {
            return Vec::new();
        };
        let home = account::home(&spec.workspace.account.value);
        let mut pins = Vec::new();
        for (id, wanted) in &editor.extensions {
            let place = |version: &Version| profile.extension_place(id, version, &home);
            let kept = self.kept(id).and_then(|lock| lock.extensions.iter().find(|pin| pin.id == *id));
            let keeps = |pin: &&ExtensionPin| {
                pin.version.answers(&wanted.value)
                    && self.offers.contains_key(&pin.source.depot)
                    && pin.place == place(&pin.version)
            };
            if let Some(pin) = kept.filter(keeps) {
                pins.push(pin.clone());
                continue;
            }
            let all: Vec<_> = self
                .offers
                .iter()
                .flat_map(|(depot, offer)| offer.index.extensions.iter().map(move |item| (depot.as_str(), item)))
                .collect();
            let offered: Vec<_> = all
                .iter()
                .filter(|(_, item)| item.id == *id)
                .map(|(depot, item)| (*depot, *item, &item.version))
                .collect();
            let name = At { value: id.clone(), span: wanted.span.clone() };
            if offered.is_empty() {
                self.not_offered(
                    "extension",
                    &name,
                    all.iter().map(|(_, item)| item.id.as_str()),
                    "no depot here has an",
                );
                continue;
            }
            if let Some((depot, item)) = self.newest("the extension", &name, wanted, "no depot here has", offered) {
                pins.push(ExtensionPin {
                    id: item.id.clone(),
                    version: item.version.clone(),
                    source: source(depot, &item.file),
                    strip: item.strip,
                    place: place(&item.version),
                });
            }
        }
        pins
    }
}
