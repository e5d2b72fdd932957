//! Bringing all that locks pin into a depot.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use cavrith_core::depot::{self, Extension, Index, Kept, Package, Part, Toolchain};
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::{ArchivePackage, Lock, Source};
use cavrith_core::path::RootPath;
use cavrith_core::spec::Base;
use cavrith_sources::checked::{self, Checked};

use super::{Filled, new, put, read, write_index};
use crate::bodies;
use crate::error::{DepotError, EngineError};
use crate::images;
use crate::project::Project;
use crate::suites::{self, KeptFile};
use crate::supply::{self, Supply};

/// Brings all that the pins of a project's variants need into a depot, which is made when there is none; with
/// `only_fetched`, just what their steps fetched.
///
/// # Errors
/// When something cannot be had.
pub fn fill(
    dir: &Path,
    variants: &[(Project, Lock)],
    supply: Supply<'_>,
    only_fetched: bool,
) -> Result<Filled, EngineError> {
    if let Some((project, _)) = variants.first().filter(|_| !dir.join(depot::FILE_NAME).exists()) {
        let what = if only_fetched { "what the steps of {} fetched" } else { "all that {} needs" };
        new(dir, Some(what.replace("{}", &project.spec.workspace.name.value)))?;
    }
    let (mut filled, mut seen) = (Filled::default(), BTreeSet::new());
    for (project, lock) in variants {
        let mut filler = Filler { dir, project, supply, index: read(dir)?, filled, seen };
        if only_fetched {
            filler.bring_records(lock)?;
        } else {
            filler.fill(lock)?;
        }
        write_index(dir, &filler.index)?;
        (filled, seen) = (filler.filled, filler.seen);
    }
    Ok(filled)
}

struct Filler<'a> {
    dir: &'a Path,
    project: &'a Project,
    supply: Supply<'a>,
    index: Index,
    filled: Filled,
    /// Files that were seen for an earlier variant, too.
    seen: BTreeSet<String>,
}

impl Filler<'_> {
    fn fill(&mut self, lock: &Lock) -> Result<(), EngineError> {
        for pin in &lock.packages {
            let file = self.bring(&pin.source)?;
            let (name, version, architecture) = (pin.name.clone(), pin.version.clone(), pin.architecture.clone());
            let entry = Package { name, version, architecture, file };
            self.index.packages.retain(|one| (&one.name, &one.version) != (&entry.name, &entry.version));
            self.index.packages.push(entry);
        }
        for (name, pin) in lock.debian.iter().flat_map(|debian| debian.files()) {
            let file = self.bring_package(name, pin)?;
            let (name, version, architecture) = (name.clone(), pin.version.clone(), pin.architecture.clone());
            let entry = Package { name, version, architecture, file };
            self.index.packages.retain(|one| (&one.name, &one.version) != (&entry.name, &entry.version));
            self.index.packages.push(entry);
        }
        for pin in &lock.toolchains {
            // One from the base comes with its packages, one from an address with the downloads.
            let Some(source) = pin.source.as_ref().filter(|source| !source.depot.is_empty()) else { continue };
            let file = self.bring(source)?;
            let there = self.index.toolchains.iter().find(|one| one.name == pin.name && one.version == pin.version);
            let mut parts = there.map(|one| one.parts.clone()).unwrap_or_default();
            for part in &pin.parts {
                let file = self.bring(&part.source)?;
                parts.retain(|one| one.name != part.name);
                parts.push(Part { name: part.name.clone(), file, strip: part.strip });
            }
            let entry = Toolchain {
                name: pin.name.clone(),
                version: pin.version.clone(),
                file,
                strip: pin.strip,
                place: pin.place.clone(),
                path: pin.path.clone(),
                probe: pin.probe.clone(),
                parts,
            };
            self.index.toolchains.retain(|one| (&one.name, &one.version) != (&entry.name, &entry.version));
            self.index.toolchains.push(entry);
        }
        for pin in &lock.extensions {
            let file = self.bring(&pin.source)?;
            let entry = Extension { id: pin.id.clone(), version: pin.version.clone(), file, strip: pin.strip };
            self.index.extensions.retain(|one| (&one.id, &one.version) != (&entry.id, &entry.version));
            self.index.extensions.push(entry);
        }
        if let Some(profile) = &lock.editor {
            self.index.editors.retain(|one| one.name != profile.name);
            self.index.editors.push(profile.clone());
        }
        for (name, url, size, sha256) in supply::addresses(lock) {
            let file = self.bring_address(&name, &url, size, sha256)?;
            self.index.downloads.retain(|one| one.file.sha256 != sha256);
            self.index.downloads.push(Kept { name, url, file });
        }
        self.bring_suites(lock)?;
        self.bring_records(lock)?;
        for pin in lock.oci.iter().flat_map(|oci| &oci.layers) {
            let name = format!("image-layer-{}", &pin.sha256.to_string()[..12]);
            let place = format!("images/{}", pin.sha256);
            let (supply, project) = (self.supply, self.project);
            let file = self.bring_file(&place, pin.size, pin.sha256, || images::layer(supply, project, pin))?;
            self.index.downloads.retain(|one| one.file.sha256 != pin.sha256);
            let url = lock.oci.as_ref().map(|oci| oci.origin.clone()).unwrap_or_default();
            self.index.downloads.push(Kept { name, url, file });
        }
        if let Some(path) = lock.archive.as_ref().and_then(|pin| pin.path.as_ref()) {
            let note = format!("the base's archive {path} belongs to the project and stays there");
            if !self.filled.notes.contains(&note) {
                self.filled.notes.push(note);
            }
        }
        Ok(())
    }

    /// Brings what packages can be chosen anew from.
    fn bring_suites(&mut self, lock: &Lock) -> Result<(), EngineError> {
        let (Base::Debian(suite), Some(debian)) = (&self.project.spec.base, &lock.debian) else { return Ok(()) };
        for pin in &debian.releases {
            let kept = match suites::kept(self.supply, suite, pin) {
                Ok(kept) => kept,
                Err(error) => {
                    let note = format!("without a network, nothing new can be chosen from {}: {error}", pin.suite);
                    if !self.filled.notes.contains(&note) {
                        self.filled.notes.push(note);
                    }
                    continue;
                }
            };
            for KeptFile { file, url, size, sha256 } in kept {
                let supply = self.supply;
                let file = self.bring_file(&file, size, sha256, || supply.fetched(&[], &file, size, sha256))?;
                let name = file.file.rsplit('/').next().unwrap_or(&file.file).to_owned();
                self.index.downloads.retain(|one| one.file.sha256 != sha256);
                self.index.downloads.push(Kept { name, url, file });
            }
        }
        Ok(())
    }

    /// Brings what steps that fetch are answered.
    fn bring_records(&mut self, lock: &Lock) -> Result<(), EngineError> {
        let (supply, project) = (self.supply, self.project);
        for pin in &lock.records {
            let name = format!("step {:?}", pin.step);
            let record = bodies::pinned(project, pin)?;
            for (sha256, answer) in bodies::of_record(&record) {
                let (request, response) = answer;
                if response.size == 0 || self.index.downloads.iter().any(|one| one.file.sha256 == sha256) {
                    continue;
                }
                let place = format!("records/{sha256}");
                let get = || bodies::body(supply, project.origins(), (&name, &pin.sha256), answer);
                let file = self.bring_file(&place, response.size, sha256, get)?;
                self.index.downloads.push(Kept { name: request.host().to_owned(), url: request.url.clone(), file });
            }
        }
        Ok(())
    }

    fn bring(&mut self, source: &Source) -> Result<depot::File, EngineError> {
        let (supply, project) = (self.supply, self.project);
        self.bring_file(&source.file, source.size, source.sha256, || supply.source(project.origins(), source))
    }

    fn bring_package(&mut self, name: &str, pin: &ArchivePackage) -> Result<depot::File, EngineError> {
        let file = format!("packages/{}", pin.file.rsplit('/').next().unwrap_or(&pin.file));
        let (supply, project) = (self.supply, self.project);
        self.bring_file(&file, pin.size, pin.sha256, || supply.package(project.origins(), name, pin))
    }

    fn bring_address(
        &mut self,
        name: &str,
        url: &str,
        size: u64,
        sha256: Sha256Digest,
    ) -> Result<depot::File, EngineError> {
        // The last name of the address says what kind of archive it is; ours keeps it apart from others.
        let last = url.split(['?', '#']).next().unwrap_or(url).rsplit('/').next().unwrap_or_default();
        let safe: String = last
            .chars()
            .map(|letter| if letter.is_ascii_alphanumeric() || "-_.+".contains(letter) { letter } else { '_' })
            .collect();
        let file = format!("downloads/{name}-{}-{}", &sha256.to_string()[..8], safe.trim_start_matches('.'));
        let (supply, project) = (self.supply, self.project);
        self.bring_file(&file, size, sha256, || supply.address(project.origins(), url, size, sha256))
    }

    fn bring_file(
        &mut self,
        file: &str,
        size: u64,
        sha256: Sha256Digest,
        get: impl FnOnce() -> Result<Checked, EngineError>,
    ) -> Result<depot::File, EngineError> {
        RootPath::from_archive(file.as_bytes()).map_err(DepotError::from)?;
        // Two depots may have different files of one name.
        let mut name = file.to_owned();
        let other = self.index.files().any(|one| one.file == name && one.sha256 != sha256);
        if other {
            name = format!(
                "{}/{}",
                &sha256.to_string()[..16],
                PathBuf::from(file).file_name().unwrap_or_default().to_string_lossy()
            );
        }
        let entry = depot::File { file: name.clone(), size, sha256 };
        let again = !self.seen.insert(name.clone());
        if checked::measure(&self.dir.join(&name)).is_ok_and(|found| found == (size, sha256)) {
            self.filled.there += usize::from(!again);
            return Ok(entry);
        }
        put(self.dir, &name, &mut get()?)?;
        self.filled.brought.push(name);
        Ok(entry)
    }
}
