//! Pinning every input.

use std::path::Path;

use cavrith_core::lock::choose::{PackageFacts, check_packages, choose};
use cavrith_core::lock::{self, ArchivePin, Lock, PackagePin, Source};
use cavrith_core::mistake::{Code, Mistake};
use cavrith_core::spec::Base;
use cavrith_sources::checked::{self, Checked};
use cavrith_sources::{compression, deb, tarball};
use cavrith_store::staging::Staging;

use crate::error::EngineError;
use crate::project::{self, Project, Survey};

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
    /// Warnings of the spec.
    pub findings: project::Findings,
}

/// One pin that is not what it was.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Moved {
    /// What it pins.
    pub what: String,
    /// What it was; nothing when it is new.
    pub from: Option<String>,
    /// What it is; nothing when it is gone.
    pub to: Option<String>,
}

/// Locks the project in `dir`: chooses, checks what was chosen, writes `cavrith.lock` when it is not the same already.
/// `trust_changed`: take an archive whose digest is not the locked one any more.
///
/// # Errors
/// Mistakes; sources that are not what they should be.
pub fn lock(dir: &Path, staging: &Staging, trust_changed: bool) -> Result<Locked, EngineError> {
    let Survey { project, offers, findings } = project::survey(dir)?;
    let mut findings = findings.into_result()?;
    let project = project.ok_or_else(|| EngineError::NoProject(dir.to_owned()))?;
    let previous = project::read_lock(dir)?;
    let (mut lock, _) = choose(&project.spec, &offers, previous.as_ref());
    let mut notes = Vec::new();
    let (newest, mistakes) = match &project.spec.base {
        Base::Packages { .. } => read_packages(&project, &lock, staging)?,
        Base::Archive { .. } => {
            (read_archive(&project, &mut lock, previous.as_ref(), trust_changed, staging, &mut notes)?, Vec::new())
        }
    };
    findings.mistakes.extend(mistakes.into_iter().map(|mistake| (0, mistake)));
    let findings = findings.into_result()?;
    lock.epoch = newest.max(EARLIEST);
    if let Some(seal) = previous.as_ref().and_then(|previous| previous.seal.clone()) {
        if seal.pins == lock.pins_digest() {
            lock.seal = Some(seal);
        } else {
            notes.push(
                "what was sealed is not what is locked now, so the seal was taken out; build, try, and seal again"
                    .to_owned(),
            );
        }
    }
    let moved = moved(previous.as_ref(), &lock);
    let written = previous.as_ref() != Some(&lock);
    if written {
        write(dir, &lock)?;
    }
    Ok(Locked { lock, written, moved, notes, findings })
}

/// Writes the lock beside the spec.
///
/// # Errors
/// When the disk refuses.
pub fn write(dir: &Path, lock: &Lock) -> Result<(), EngineError> {
    Ok(cavrith_store::atomic::write(&dir.join(lock::FILE_NAME), lock.to_text().as_bytes())?)
}

/// Opens a pinned file of a depot, proved.
///
/// # Errors
/// When the depot does not have it, or has another.
pub fn open_source(project: &Project, source: &Source, staging: &Staging) -> Result<Checked, EngineError> {
    // A lock whose depot the spec does not declare does not answer the spec, and never comes here.
    let depot = project.spec.depots.get(&source.depot).map_or("", |depot| depot.value.path.value.as_str());
    let path = project.dir.join(depot).join(&source.file);
    Ok(checked::check(&path, source.size, source.sha256, &staging.new_name())?)
}

/// Opens the base's archive, proved.
///
/// # Errors
/// When it is not there, or another.
pub fn open_archive(project: &Project, pin: &ArchivePin, staging: &Staging) -> Result<Checked, EngineError> {
    Ok(checked::check(&project.dir.join(&pin.path), pin.size, pin.sha256, &staging.new_name())?)
}

/// Reads what the base's packages say of themselves: the newest time stamp in them, and mistakes in choosing them.
fn read_packages(project: &Project, lock: &Lock, staging: &Staging) -> Result<(u64, Vec<Mistake>), EngineError> {
    let (mut facts, mut mistakes, mut newest) = (Vec::new(), Vec::new(), 0);
    for pin in &lock.packages {
        let mut checked = open_source(project, &pin.source, staging)?;
        let control = deb::read_control(&mut checked)?;
        newest = newest.max(control.newest);
        mistakes.extend(mislabelled(project, pin, &control));
        facts.push(PackageFacts {
            name: control.field("Package").to_owned(),
            version: control.field("Version").to_owned(),
            provides: control.field("Provides").to_owned(),
            depends: [control.field("Pre-Depends"), control.field("Depends")].join(","),
            scripts: control.scripts(),
        });
    }
    mistakes.extend(check_packages(&project.spec, &facts));
    Ok((newest, mistakes))
}

/// A depot whose index says something else of a package than the package itself.
fn mislabelled(project: &Project, pin: &PackagePin, control: &deb::Control) -> Option<Mistake> {
    let said = [("Package", &pin.name), ("Version", &pin.version), ("Architecture", &pin.architecture)];
    let (field, ours) = said.into_iter().find(|(field, ours)| control.field(field) != ours.as_str())?;
    let span = match &project.spec.base {
        Base::Packages { packages, .. } => {
            packages.iter().find(|wanted| wanted.value == pin.name).map(|wanted| wanted.span.clone())
        }
        Base::Archive { .. } => None,
    };
    let theirs = control.field(field);
    let message =
        format!("the depot says of {} that its {field} is {ours}, and the package says {theirs}", pin.source.file);
    let remedy = "correct the depot's index";
    Some(Mistake::new(Code::DEPOT_UNREADABLE, span.unwrap_or_default(), message, remedy))
}

fn read_archive(
    project: &Project,
    lock: &mut Lock,
    previous: Option<&Lock>,
    trust_changed: bool,
    staging: &Staging,
    notes: &mut Vec<String>,
) -> Result<u64, EngineError> {
    let Some(pin) = &mut lock.archive else {
        return Ok(0);
    };
    let path = project.dir.join(&pin.path);
    let (size, found) = checked::measure(&path)?;
    let written = matches!(&project.spec.base, Base::Archive { sha256: Some(_), .. });
    let before = previous.and_then(|previous| previous.archive.as_ref()).filter(|before| before.path == pin.path);
    let expected =
        if written { Some(pin.sha256) } else { before.map(|before| before.sha256).filter(|_| !trust_changed) };
    match expected {
        Some(expected) if expected != found => {
            return Err(EngineError::ArchiveChanged { path, expected: expected.to_string(), found: found.to_string() });
        }
        Some(_) => {}
        None => notes.push(format!("{} was trusted at first sight; its digest is {found}", pin.path)),
    }
    (pin.size, pin.sha256) = (size, found);
    let mut checked = open_archive(project, pin, staging)?;
    let (name, packed) = (checked.name().to_owned(), checked.size());
    let damaged =
        |error: std::io::Error| cavrith_sources::SourceError::Damaged { name: name.clone(), why: error.to_string() };
    let stream = checked.open().and_then(|file| compression::unpack(file, packed)).map_err(damaged)?;
    Ok(tarball::newest(stream, &name)?)
}

fn moved(previous: Option<&Lock>, lock: &Lock) -> Vec<Moved> {
    let pins = |lock: &Lock| {
        let mut pins = std::collections::BTreeMap::new();
        for pin in &lock.packages {
            pins.insert(format!("package {}", pin.name), pin.version.clone());
        }
        if let Some(pin) = &lock.archive {
            pins.insert(format!("archive {}", pin.path), pin.sha256.to_string()[..16].to_owned());
        }
        for pin in &lock.toolchains {
            pins.insert(format!("toolchain {}", pin.name), pin.version.to_string());
        }
        for pin in &lock.extensions {
            pins.insert(format!("extension {}", pin.id), pin.version.to_string());
        }
        pins
    };
    let (before, after) = (previous.map(pins).unwrap_or_default(), pins(lock));
    let mut names: Vec<_> = before.keys().chain(after.keys()).collect();
    names.sort();
    names.dedup();
    let differing = names.into_iter().filter(|name| before.get(*name) != after.get(*name));
    differing
        .map(|name| Moved { what: name.clone(), from: before.get(name).cloned(), to: after.get(name).cloned() })
        .collect()
}
