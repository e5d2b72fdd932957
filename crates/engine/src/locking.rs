//! Pinning every input.

use std::path::Path;

use cavrith_core::derive::fit;
use cavrith_core::derive::plan::Plan;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::history::{Moved, of_locks};
use cavrith_core::lock::choose::{Offer, Update, choose};
use cavrith_core::lock::packages::{PackageFacts, check_packages};
use cavrith_core::lock::{self, DebianPin, DownloadPin, Lock, PackagePin, own_toolchains};
use cavrith_core::mistake::{Code, Mistake, Weight, nearest};
use cavrith_core::spec::{Base, ImageOrigin, OciBase, Provenance, Suite};
use cavrith_sources::{checked, compression, deb, tarball};

use crate::error::{EngineError, LockError, ProjectError};
use crate::findings::Findings;
use crate::project::{self, Project};
use crate::supply::Supply;
use crate::survey::{self, Survey};
use crate::{choosing, images, project_files};

/// Earliest time stamp that every format can hold (zip begins in 1980).
const EARLIEST: u64 = 315_532_800;

/// What came of locking.
#[derive(Debug)]
pub struct Locked {
    /// The lock, as it stands on disk now.
    pub lock: Lock,
    /// True when the file was written.
    pub written: bool,
    /// What moved, from, to; in words.
    pub moved: Vec<Moved>,
    /// Sentences that are good to know.
    pub notes: Vec<String>,
    /// Steps to be recorded: what they fetch is not known, was recorded for something else, or is to be updated.
    pub to_record: Vec<String>,
    /// Warnings of the spec.
    pub findings: Findings,
}

/// What locking may change.
#[derive(Debug, Clone, Default)]
pub struct Wishes {
    /// Take files whose digest is not the locked one any more.
    pub trust_changed: bool,
    /// Move pins that still answer the spec.
    pub update: Update,
}

/// Locks the project in `dir`: chooses, checks what was chosen, writes `cavrith.lock` when it is not the same already.
///
/// # Errors
/// Mistakes; sources that are not what they should be.
pub fn lock(dir: &Path, supply: Supply<'_>, wishes: &Wishes) -> Result<Locked, EngineError> {
    let previous = project::read_lock(dir)?;
    let Survey { project, offers, mut findings } = survey::survey(dir, supply.web, Some(supply.store), &wishes.update)?;
    // That the lock is behind is about to be repaired.
    findings.mistakes.retain(|mistake| mistake.code != Code::LOCK_BEHIND);
    let mut findings = EngineError::unless_sound(findings)?;
    let project = project.ok_or_else(|| EngineError::Project(ProjectError::NoProject(dir.to_owned())))?;
    known_names(&project, previous.as_ref(), &wishes.update)?;
    let (mut pins, mut notes) = (Vec::<Lock>::new(), Vec::new());
    // The default variant first: the others take versions from it where they ask for nothing else.
    let others = project.variants.keys().filter(|name| **name != project.spec.variant);
    for name in std::iter::once(&project.spec.variant).chain(others) {
        let variant = project.of_variant(name)?;
        let before = previous.as_ref().and_then(|previous| previous.of_variant(name));
        // Another variant may have become the default one; what it asks for was locked for the earlier one.
        let known = before.as_ref().or(pins.first()).or(previous.as_ref());
        let mut locker = Locker { supply, project: &variant, previous: known, wishes, notes: Vec::new() };
        let (lock, mistakes) = locker.pins(&offers)?;
        notes.extend(locker.notes);
        findings.mistakes.extend(mistakes);
        pins.push(lock);
    }
    let findings = EngineError::unless_sound(findings)?;
    notes.dedup();
    let default = pins.remove(0);
    let mut lock = Lock::joined(default, &pins);
    if keep_seals(&project, previous.as_ref(), &mut lock) {
        notes.push(
            "what was sealed is not what is locked now, so the seal was taken out; build, try, and seal again"
                .to_owned(),
        );
    }
    let (to_record, words) = records_to_make(&project, &lock, &wishes.update);
    notes.extend(words);
    let moved = of_locks(previous.as_ref(), Some(&lock));
    let written = previous.as_ref() != Some(&lock);
    if written {
        write(dir, &lock)?;
    }
    Ok(Locked { lock, written, moved, notes, to_record, findings })
}

/// Steps whose records are missing, were made for something else, or are to be updated; and what is to be said of it.
fn records_to_make(project: &Project, lock: &Lock, update: &Update) -> (Vec<String>, Vec<String>) {
    let (mut steps, mut notes) = (Vec::new(), Vec::new());
    for spec in project.variants.values() {
        let Some(pins) = lock.of_spec(spec) else { continue };
        for step in fit::unrecorded(spec, &pins) {
            notes.push(format!("what the step {step:?} fetches is not recorded yet; run cavrith record"));
            steps.push(step);
        }
        for step in Plan::new(spec, &pins).stale_records(&pins) {
            notes.push(format!(
                "the step {step:?}, or what lies beneath it, is another than when it was recorded; when it fetches \
                 something else now, run cavrith record"
            ));
            steps.push(step);
        }
        let updated = pins.records.iter().filter(|pin| update.moves(&pin.step));
        steps.extend(updated.map(|pin| pin.step.clone()));
    }
    steps.sort();
    steps.dedup();
    notes.dedup();
    (steps, notes)
}

/// Keeps the seals of variants whose pins are as they were. True when another one was there.
pub(crate) fn keep_seals(project: &Project, previous: Option<&Lock>, lock: &mut Lock) -> bool {
    let mut lost = false;
    for spec in project.variants.values() {
        let Some(seal) = previous.and_then(|previous| previous.of_variant(&spec.variant)?.seal) else { continue };
        if lock.of_spec(spec).is_some_and(|pins| pins.pins_digest() == seal.pins) {
            lock.set_seal(&spec.variant, Some(seal));
        } else {
            lost = true;
        }
    }
    lost
}

/// That everything to be updated is in the spec.
fn known_names(project: &Project, previous: Option<&Lock>, update: &Update) -> Result<(), EngineError> {
    let Update::Named(names) = update else { return Ok(()) };
    let mut known: Vec<&str> = Vec::new();
    for spec in project.variants.values() {
        known.extend(spec.toolchains.keys().map(String::as_str));
        known.extend(spec.editor.iter().flat_map(|editor| editor.extensions.keys().map(String::as_str)));
        known.extend(spec.downloads.iter().map(|download| download.name.value.as_str()));
        let recorded = spec.steps.iter().filter(|step| step.recorded.is_some());
        known.extend(recorded.map(|step| step.name.value.as_str()));
        match &spec.base {
            Base::Packages { packages, .. } => known.extend(packages.iter().map(|package| package.value.as_str())),
            Base::Archive { .. } | Base::Oci(_) | Base::Debian(_) => known.push("base"),
        }
    }
    let every = previous.iter().flat_map(|previous| previous.variant_names());
    let locked: Vec<_> = every.filter_map(|name| previous?.of_variant(name)?.debian).collect();
    known.extend(locked.iter().flat_map(DebianPin::files).map(|(name, _)| name.as_str()));
    let machines = project.variants.values().filter_map(|spec| spec.machine.as_ref());
    known.extend(machines.map(|machine| machine.kernel.value.as_str()));
    known.sort_unstable();
    known.dedup();
    match names.iter().find(|name| !known.contains(&name.as_str())) {
        Some(name) => {
            let meant = nearest(name, known.iter().copied()).map(str::to_owned);
            known.truncate(40);
            Err(EngineError::Lock(LockError::UnknownName { name: name.clone(), meant, known: known.join(", ") }))
        }
        None => Ok(()),
    }
}

/// What `lock --update` would move, without writing anything; and for everything that a depot offers in a still newer
/// version, which the spec does not ask for, that version.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Outdated {
    /// Toolchain, extension, package.
    pub what: String,
    /// What is locked.
    pub locked: String,
    /// The newest that answers the spec.
    pub within: String,
    /// The newest of all.
    pub newest: String,
}

/// Everything that could be newer.
///
/// # Errors
/// Mistakes; no lock.
pub fn outdated(dir: &Path, supply: Supply<'_>) -> Result<Vec<Outdated>, EngineError> {
    let previous = project::read_lock(dir)?.ok_or(EngineError::Lock(LockError::NoLock))?;
    let Survey { project, offers, findings } = survey::survey(dir, supply.web, Some(supply.store), &Update::All)?;
    EngineError::unless_sound(findings)?;
    let project = project.ok_or_else(|| EngineError::Project(ProjectError::NoProject(dir.to_owned())))?;
    let mut all: Vec<Outdated> = Vec::new();
    for variant in project.in_order() {
        let Some(pins) = previous.of_variant(&variant.spec.variant) else { continue };
        for one in outdated_in(supply, &variant, &pins, &offers)? {
            if !all.contains(&one) {
                all.push(one);
            }
        }
    }
    Ok(all)
}

/// Everything of one variant that could be newer.
fn outdated_in(
    supply: Supply<'_>,
    project: &Project,
    previous: &Lock,
    offers: &std::collections::BTreeMap<String, Offer>,
) -> Result<Vec<Outdated>, EngineError> {
    let (fresh, _) = choose(&project.spec, offers, None, &Update::All);
    let indexes = || offers.values().map(|offer| &offer.index);
    let mut outdated = Vec::new();
    let mut add = |what: String, locked: &str, within: Option<&str>, newest: Option<String>| {
        let within = within.unwrap_or(locked).to_owned();
        let newest = newest.unwrap_or_else(|| within.clone());
        if within != locked || newest != within {
            outdated.push(Outdated { what, locked: locked.to_owned(), within, newest });
        }
    };
    for pin in previous.toolchains.iter().filter(|pin| !pin.also) {
        let within = fresh.toolchains.iter().find(|other| other.name == pin.name && !other.also);
        let all = indexes().flat_map(|index| &index.toolchains).filter(|item| item.name == pin.name);
        let newest = all.map(|item| &item.version).max().map(ToString::to_string);
        add(
            format!("toolchain {}", pin.name),
            pin.version.as_str(),
            within.map(|other| other.version.as_str()),
            newest,
        );
    }
    for pin in &previous.extensions {
        let within = fresh.extensions.iter().find(|other| other.id == pin.id);
        let all = indexes().flat_map(|index| &index.extensions).filter(|item| item.id == pin.id);
        let newest = all.map(|item| &item.version).max().map(ToString::to_string);
        add(format!("extension {}", pin.id), pin.version.as_str(), within.map(|other| other.version.as_str()), newest);
    }
    for pin in &previous.packages {
        let within = fresh.packages.iter().find(|other| other.name == pin.name).map(|other| other.version.as_str());
        add(format!("package {}", pin.name), &pin.version, within, None);
    }
    if let (Base::Debian(suite), Some(before)) = (&project.spec.base, &previous.debian) {
        for (name, locked, newest) in choosing::outdated(supply, project, suite, before)? {
            add(format!("package {name}"), &locked, Some(&newest), None);
        }
    }
    if let (Base::Oci(image), Some(before)) = (&project.spec.base, &previous.oci)
        // What is named by its digest never moves.
        && !before.origin.contains('@')
    {
        let newest = images::find(supply, project, image)?.pin.manifest.to_string();
        add(format!("image {}", before.origin), &before.manifest.to_string(), Some(&newest), None);
    }
    Ok(outdated)
}

/// Writes the lock beside the spec.
///
/// # Errors
/// When the disk refuses.
pub fn write(dir: &Path, lock: &Lock) -> Result<(), EngineError> {
    Ok(cavrith_store::atomic::write_unlinked(&dir.join(lock::FILE_NAME), lock.to_text().as_bytes())?)
}

/// Holds a file against the digest that the spec gives.
fn as_written(file: &str, expected: Sha256Digest, found: Sha256Digest) -> Result<(), EngineError> {
    if expected == found {
        return Ok(());
    }
    let (expected, found) = (expected.to_string(), found.to_string());
    Err(EngineError::Lock(LockError::NotAsWritten { file: file.to_owned(), expected, found }))
}

struct Locker<'a> {
    supply: Supply<'a>,
    project: &'a Project,
    previous: Option<&'a Lock>,
    wishes: &'a Wishes,
    notes: Vec<String>,
}

impl Locker<'_> {
    /// All pins of one variant.
    fn pins(
        &mut self,
        offers: &std::collections::BTreeMap<String, Offer>,
    ) -> Result<(Lock, Vec<Mistake>), EngineError> {
        let spec = &self.project.spec;
        let (mut lock, _) = choose(spec, offers, self.previous, &self.wishes.update);
        let (newest, mistakes) = match &spec.base {
            Base::Packages { .. } => self.read_packages(&lock)?,
            Base::Archive { .. } => (self.archive(&mut lock)?, Vec::new()),
            Base::Debian(suite) => self.suite(suite, &mut lock)?,
            Base::Oci(image) => (self.image(image, &mut lock)?, Vec::new()),
        };
        if mistakes.iter().any(|mistake| mistake.weight != Weight::Warning) {
            return Ok((lock, mistakes));
        }
        self.toolchain_archives(&mut lock)?;
        lock.epoch = newest.max(EARLIEST);
        lock.downloads = self.downloads()?;
        lock.files = project_files::pins(&self.project.bounds, spec)?;
        Ok((lock, mistakes))
    }

    /// Reads what the base's packages say of themselves: the newest time stamp in them, and mistakes in choosing them.
    fn read_packages(&self, lock: &Lock) -> Result<(u64, Vec<Mistake>), EngineError> {
        let (mut facts, mut mistakes, mut newest) = (Vec::new(), Vec::new(), 0);
        for pin in &lock.packages {
            let mut checked = self.supply.source(self.project.origins(), &pin.source)?;
            let control = deb::read_control(&mut checked)?;
            newest = newest.max(control.newest);
            mistakes.extend(mislabelled(self.project, pin, &control));
            facts.push(PackageFacts {
                name: control.field("Package").to_owned(),
                version: control.field("Version").to_owned(),
                provides: control.field("Provides").to_owned(),
                depends: [control.field("Pre-Depends"), control.field("Depends")].join(","),
                scripts: control.scripts(),
            });
        }
        mistakes.extend(check_packages(&self.project.spec, &facts));
        Ok((newest, mistakes))
    }

    /// Pins the packages of the Debian archive. Says when the newest of their suites was made; as long as the first
    /// stage stays, the time stamp stays too, so that what is added later leaves the layers beneath as they are.
    fn suite(&mut self, suite: &Suite, lock: &mut Lock) -> Result<(u64, Vec<Mistake>), EngineError> {
        let before = self.previous.and_then(|previous| previous.debian.as_ref());
        let chosen = choosing::choose(self.supply, self.project, suite, before, &self.wishes.update)?;
        self.notes.extend(chosen.notes);
        let mut mistakes = chosen.mistakes;
        let Some(pin) = chosen.pin else { return Ok((0, mistakes)) };
        let stays = before.is_some_and(|before| before.stages.first() == pin.stages.first());
        let newest = pin.releases.iter().map(|release| release.date).max().unwrap_or(0);
        let epoch = self.previous.filter(|_| stays).map_or(newest, |previous| previous.epoch);
        own_toolchains::add_from_base(&self.project.spec, &pin, lock, &mut mistakes);
        lock.debian = Some(pin);
        Ok((epoch, mistakes))
    }

    /// Pins the archives of toolchains that the spec names.
    fn toolchain_archives(&mut self, lock: &mut Lock) -> Result<(), EngineError> {
        for pin in &mut lock.toolchains {
            let Some(source) = pin.source.as_mut().filter(|source| source.depot.is_empty()) else { continue };
            let before = self.previous.iter().flat_map(|previous| &previous.toolchains);
            let before = before
                .filter_map(|pin| pin.source.as_ref())
                .find(|one| one.depot.is_empty() && one.file == source.file);
            let wanted = self.project.spec.toolchains.get(&pin.name).map(|wanted| &wanted.value.from);
            let written = match wanted {
                Some(Provenance::Archive { sha256: Some(sha256), .. }) => Some(sha256.value),
                _ => None,
            };
            if source.file.contains("://") {
                let before = before.map(|before| (before.size, before.sha256));
                (source.size, source.sha256) = self.at_address(&pin.name, &source.file.clone(), written, before)?;
            } else {
                let before = before.map(|before| before.sha256).filter(|_| !self.wishes.update.moves(&pin.name));
                let path = self.project.bounds.real(&source.file)?;
                (source.size, source.sha256) = self.on_disk(&path, &source.file.clone(), written, before)?;
            }
        }
        Ok(())
    }

    /// Size and digest of a file of the project, compared with what is known of it: what is `written` in the spec, and
    /// what was locked `before`.
    fn on_disk(
        &mut self,
        path: &Path,
        shown: &str,
        written: Option<Sha256Digest>,
        before: Option<Sha256Digest>,
    ) -> Result<(u64, Sha256Digest), EngineError> {
        let (size, found) = checked::measure(path)?;
        // Only a change of the spec changes what is written there.
        if let Some(expected) = written {
            return as_written(shown, expected, found).map(|()| (size, found));
        }
        match before.filter(|_| !self.wishes.trust_changed) {
            Some(expected) if expected != found => {
                let (expected, found) = (expected.to_string(), found.to_string());
                return Err(EngineError::Lock(LockError::ArchiveChanged { path: path.to_owned(), expected, found }));
            }
            Some(_) => {}
            None => self.trusted(shown, &found),
        }
        Ok((size, found))
    }

    /// Pins the base's archive, and says which is the newest time stamp in it.
    fn archive(&mut self, lock: &mut Lock) -> Result<u64, EngineError> {
        let Some(pin) = &mut lock.archive else {
            return Ok(0);
        };
        let written = matches!(&self.project.spec.base, Base::Archive { sha256: Some(_), .. }).then_some(pin.sha256);
        let before = self.previous.and_then(|previous| previous.archive.as_ref());
        let before = before.filter(|before| before.origin() == pin.origin());
        if let Some(url) = pin.url.clone() {
            let before = before.map(|before| (before.size, before.sha256));
            (pin.size, pin.sha256) = self.at_address("base", &url, written, before)?;
        } else {
            let path = self.project.bounds.real(pin.path.as_deref().unwrap_or_default())?;
            let shown = pin.origin().to_owned();
            (pin.size, pin.sha256) = self.on_disk(&path, &shown, written, before.map(|before| before.sha256))?;
        }
        let mut checked = self.supply.archive(self.project.origins(), pin)?;
        let (name, packed) = (checked.name().to_owned(), checked.size());
        let damaged = |error: std::io::Error| cavrith_sources::SourceError::Damaged {
            name: name.clone(),
            why: error.to_string(),
        };
        let stream = checked.open().and_then(|file| compression::unpack(file, packed)).map_err(damaged)?;
        Ok(tarball::newest(stream, &name)?)
    }

    fn trusted(&mut self, origin: &str, digest: &Sha256Digest) {
        self.notes.push(format!("{origin} was trusted at first sight; its digest is {digest}"));
    }

    /// Pins an OCI image, and says when it was made. One that is locked stays, though its tag may have moved on.
    fn image(&mut self, image: &OciBase, lock: &mut Lock) -> Result<u64, EngineError> {
        let before = self.previous.and_then(|previous| Some((previous.oci.as_ref()?, previous.epoch)));
        let same = before.filter(|(pin, _)| pin.origin == image.origin.shown() && pin.platform == image.platform.value);
        if let Some((pin, epoch)) = same.filter(|_| !self.wishes.update.moves("base") && !self.wishes.trust_changed) {
            lock.oci = Some(pin.clone());
            return Ok(epoch);
        }
        let found = images::find(self.supply, self.project, image)?;
        self.notes.extend(found.notes);
        let written = matches!(&image.origin, ImageOrigin::Reference(text) if text.value.contains('@'));
        if !written && same.is_none_or(|(pin, _)| pin.manifest != found.pin.manifest) {
            self.trusted(&found.pin.origin.clone(), &found.pin.manifest);
        }
        lock.oci = Some(found.pin);
        Ok(found.created.unwrap_or(0))
    }

    /// Pins all downloads.
    fn downloads(&mut self) -> Result<Vec<DownloadPin>, EngineError> {
        let mut pins = Vec::new();
        for download in &self.project.spec.downloads {
            let (name, url) = (download.name.value.clone(), download.url.value.clone());
            let written = download.sha256.as_ref().map(|sha256| sha256.value);
            let before =
                self.previous.and_then(|lock| lock.downloads.iter().find(|pin| pin.name == name && pin.url == url));
            let (size, sha256) = self.at_address(&name, &url, written, before.map(|pin| (pin.size, pin.sha256)))?;
            pins.push(DownloadPin { name, url, size, sha256 });
        }
        pins.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(pins)
    }

    /// Size and digest of a file at an address: what is locked already, unless it is to be examined again.
    fn at_address(
        &mut self,
        name: &str,
        url: &str,
        written: Option<Sha256Digest>,
        before: Option<(u64, Sha256Digest)>,
    ) -> Result<(u64, Sha256Digest), EngineError> {
        let moves = self.wishes.trust_changed || self.wishes.update.moves(name);
        if let Some((size, digest)) =
            before.filter(|(_, digest)| !moves && written.is_none_or(|written| written == *digest))
        {
            return Ok((size, digest));
        }
        let (size, found) = self.supply.fetch_unpinned(url)?;
        if let Some(expected) = written {
            return as_written(url, expected, found).map(|()| (size, found));
        }
        match before.map(|(_, digest)| digest).filter(|_| !moves) {
            Some(expected) if expected != found => {
                let (expected, found) = (expected.to_string(), found.to_string());
                return Err(EngineError::Lock(LockError::AddressChanged { url: url.to_owned(), expected, found }));
            }
            None if before.is_none_or(|(_, digest)| digest != found) => self.trusted(url, &found),
            _ => {}
        }
        Ok((size, found))
    }
}

/// A depot whose index says something else of a package than the package itself.
fn mislabelled(project: &Project, pin: &PackagePin, control: &deb::Control) -> Option<Mistake> {
    let said = [("Package", &pin.name), ("Version", &pin.version), ("Architecture", &pin.architecture)];
    let (field, ours) = said.into_iter().find(|(field, ours)| control.field(field) != ours.as_str())?;
    let span = match &project.spec.base {
        Base::Packages { packages, .. } => {
            packages.iter().find(|wanted| wanted.value == pin.name).map(|wanted| wanted.span.clone())
        }
        Base::Archive { .. } | Base::Debian(_) | Base::Oci(_) => None,
    };
    let theirs = control.field(field);
    let message =
        format!("the depot says of {} that its {field} is {ours}, and the package says {theirs}", pin.source.file);
    let remedy = "correct the depot's index";
    Some(Mistake::new(Code::DEPOT_UNREADABLE, span.unwrap_or_default(), message, remedy))
}
