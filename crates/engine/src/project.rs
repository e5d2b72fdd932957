//! A project's folder: its spec and its lock, found and read.

use std::collections::BTreeMap;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};

use cavrith_core::derive::fit;
use cavrith_core::lock::{self, Lock};
use cavrith_core::mistake::{Code, Mistake};
use cavrith_core::spec::document::{LONGEST, Sources};
use cavrith_core::spec::{self, Gathered, Parsed, Spec};

use cavrith_store::reading;

use crate::error::{EngineError, LockError, ProjectError, RecordError, file_error, plain};
use crate::findings::Findings;
use crate::outside::Bounds;
use crate::project_files;
use crate::supply::Origins;
use crate::team;

/// A project whose spec is sound.
#[derive(Debug, Clone)]
pub struct Project {
    /// Its folder, absolute.
    pub dir: PathBuf,
    /// Its spec, of the variant that is meant.
    pub spec: Spec,
    /// All its variants by name, the one that is meant among them.
    pub variants: BTreeMap<String, Spec>,
    /// Where its own files end.
    pub bounds: Bounds,
}

impl Project {
    /// The project with another of its variants as the one that is meant.
    ///
    /// # Errors
    /// When it has no such variant.
    pub fn of_variant(&self, name: &str) -> Result<Self, EngineError> {
        let spec = self.variants.get(name).ok_or_else(|| {
            let known = self.variants.keys().cloned().collect::<Vec<_>>().join(", ");
            EngineError::Project(ProjectError::NoVariant { name: name.to_owned(), known })
        })?;
        Ok(Self { spec: spec.clone(), ..self.clone() })
    }

    /// One that the variant that is meant takes something from, with its pins.
    pub fn source(&self, lock: &Lock, name: &str) -> Option<(Self, Lock)> {
        let spec = self.spec.sources.get(name)?.clone();
        Some((Self { spec, ..self.clone() }, lock.sources.get(name)?.clone()))
    }

    /// All variants, each after those that it takes something from.
    pub fn in_order(&self) -> Vec<Self> {
        let mut names: Vec<&String> = self.variants.keys().collect();
        // What takes from nobody comes first; a source of a source is counted at each.
        fn depth(spec: &Spec) -> usize {
            spec.sources.values().map(|source| 1 + depth(source)).max().unwrap_or(0)
        }
        names.sort_by_key(|name| self.variants.get(*name).map(depth));
        names.into_iter().filter_map(|name| self.of_variant(name).ok()).collect()
    }

    /// Where it says that its files are.
    pub fn origins(&self) -> Origins<'_> {
        Origins { dir: &self.dir, bounds: &self.bounds, depots: &self.spec.depots }
    }
}

/// A folder that was typed, by its canonical path, without links: by whatever name it was typed, a project is one, and
/// what is known of it hangs on this path.
///
/// # Errors
/// When it is not there, or is not a folder.
pub fn folder(typed: &Path) -> Result<PathBuf, EngineError> {
    let bad = |why: String| EngineError::Project(ProjectError::NoFolder { path: typed.to_owned(), why });
    let folder = typed.canonicalize().map_err(|error| bad(plain(&error)))?;
    if folder.is_dir() { Ok(folder) } else { Err(bad("it is not a folder".to_owned())) }
}

/// The folder of the project that `start` lies in.
///
/// # Errors
/// When `start` is not there, or neither it nor a folder above it has a spec.
pub fn find(start: &Path) -> Result<PathBuf, EngineError> {
    let start = folder(start)?;
    let found = start.ancestors().find(|dir| dir.join(spec::FILE_NAME).is_file());
    found.map(Path::to_owned).ok_or(EngineError::Project(ProjectError::NoProject(start)))
}

/// Reads the spec alone, with what it includes, of the default variant or of the one that is named.
///
/// # Errors
/// When it cannot be read, has mistakes, or has no such variant.
pub fn load(dir: &Path, variant: Option<&str>) -> Result<Project, EngineError> {
    load_within(dir, variant, Bounds::of(dir)?)
}

/// As [`load`], with bounds that are known.
///
/// # Errors
/// As [`load`].
pub fn load_within(dir: &Path, variant: Option<&str>, bounds: Bounds) -> Result<Project, EngineError> {
    let (gathered, parsed) = read_spec_within(dir, &bounds)?;
    let spec = parsed.draft().cloned();
    // Warnings are for check.
    EngineError::unless_sound(Findings { sources: gathered.sources, mistakes: parsed.mistakes })?;
    let spec = spec.ok_or_else(|| EngineError::Project(ProjectError::NoProject(dir.to_owned())))?;
    let project = Project { dir: dir.to_owned(), spec, variants: parsed.drafts, bounds };
    let project = match variant {
        None => project,
        Some(name) => project.of_variant(name)?,
    };
    project.bounds.check(&project.spec)?;
    for source in project.spec.sources.values() {
        project.bounds.check(source)?;
    }
    Ok(project)
}

/// Reads the spec and what it includes.
///
/// # Errors
/// When the spec's own file cannot be read.
pub fn read_spec(dir: &Path) -> Result<(Gathered, Parsed), EngineError> {
    read_spec_within(dir, &Bounds::of(dir)?)
}

pub(crate) fn read_spec_within(dir: &Path, bounds: &Bounds) -> Result<(Gathered, Parsed), EngineError> {
    let path = dir.join(spec::FILE_NAME);
    let bytes = read_bounded(&path).map_err(file_error("read", &path))?;
    let text = match String::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => {
            let at = error.utf8_error().valid_up_to();
            let text = String::from_utf8_lossy(error.as_bytes()).into_owned();
            let mut sources = Sources::default();
            sources.add(spec::FILE_NAME, text);
            let message = "this is no TOML: it is not written in UTF-8";
            let mistakes = vec![Mistake::new(Code::NOT_TOML, at..at + 1, message, "save the file as UTF-8")];
            let gathered = Gathered { sources, ..Gathered::default() };
            return Ok((gathered, Parsed { mistakes, ..Parsed::default() }));
        }
    };
    let gathered = spec::gather(spec::FILE_NAME, &text, &mut |named| {
        let real = bounds.real(named).map_err(|error| match error {
            EngineError::File { source, .. } => plain(&source),
            other => other.to_string(),
        })?;
        let bytes = read_bounded(&real).map_err(|error| plain(&error))?;
        String::from_utf8(bytes).map_err(|_| "it is not written in UTF-8".to_owned())
    });
    let parsed = spec::parse_gathered(&gathered);
    Ok((gathered, parsed))
}

/// A file that is no longer than a spec may be, and is a file.
fn read_bounded(path: &Path) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    reading::open_real(path)?.take(LONGEST as u64 + 1).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Reads the lock and compares it with the spec, and its seal with the team.
///
/// # Errors
/// When there is none, it is damaged, it does not answer the spec, or its seal is not to be believed.
pub fn load_lock(project: &Project) -> Result<Lock, EngineError> {
    let lock = load_pins(project)?;
    team::judge(&project.dir, &lock)?;
    Ok(lock)
}

/// As [`load_lock`], for those who make a seal: the one that is there may be any.
///
/// # Errors
/// When there is none, it is damaged, or it does not answer the spec.
pub fn load_pins(project: &Project) -> Result<Lock, EngineError> {
    let lock = pins(project, &read_lock(&project.dir)?.ok_or(EngineError::Lock(LockError::NoLock))?)?;
    match fits_but_for_records(project, &lock)?.into_iter().next() {
        None => Ok(lock),
        Some(step) => Err(RecordError::None { step: format!("step {step:?}") }.into()),
    }
}

/// Compares a lock with the spec. Gives the steps that have no record yet.
///
/// # Errors
/// When anything else does not answer the spec.
pub fn fits_but_for_records(project: &Project, lock: &Lock) -> Result<Vec<String>, EngineError> {
    let misfits = fit::misfits(&project.spec, lock);
    let unrecorded = fit::unrecorded(&project.spec, lock);
    if misfits.len() == unrecorded.len() { Ok(unrecorded) } else { Err(EngineError::Lock(LockError::Misfits(misfits))) }
}

/// The pins that a whole lock has of the project's variant.
///
/// # Errors
/// When it has none.
pub fn pins(project: &Project, whole: &Lock) -> Result<Lock, EngineError> {
    whole
        .of_spec(&project.spec)
        .ok_or_else(|| EngineError::Lock(LockError::Misfits(vec![fit::no_variant(&project.spec)])))
}

/// Holds the files that steps take against what the lock pins of them.
///
/// # Errors
/// When they are not what was locked.
pub fn check_files(project: &Project, lock: &Lock) -> Result<(), EngineError> {
    for name in project.spec.sources.keys() {
        if let Some((source, pins)) = project.source(lock, name) {
            check_files(&source, &pins)?;
        }
    }
    for found in project_files::pins(&project.bounds, &project.spec)? {
        if let Some(pin) = lock.files.iter().find(|pin| pin.step == found.step && **pin != found) {
            return Err(project_files::changed(pin, &found));
        }
    }
    Ok(())
}

/// Reads the lock, if there is one.
///
/// # Errors
/// When it cannot be read as one.
pub fn read_lock(dir: &Path) -> Result<Option<Lock>, EngineError> {
    let path = dir.join(lock::FILE_NAME);
    match reading::text(&path) {
        Ok(text) => Ok(Some(Lock::parse(&text).map_err(LockError::from)?)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(file_error("read", &path)(error)),
    }
}
