//! A project's folder: its spec, its lock, its depots, and every mistake that they show.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use cavrith_core::depot;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::choose::{Offer, choose};
use cavrith_core::lock::{self, Lock, fit};
use cavrith_core::mistake::{Code, Mistake, Weight};
use cavrith_core::spec::{self, Base, Spec};

use crate::error::{EngineError, file_error};

/// A project whose spec is sound.
#[derive(Debug, Clone)]
pub struct Project {
    /// Its folder, absolute.
    pub dir: PathBuf,
    /// Its spec.
    pub spec: Spec,
}

/// Mistakes, with the texts they are in.
#[derive(Debug, Default)]
pub struct Findings {
    /// Every file that was looked at: its path as people write it, and its text.
    pub files: Vec<(PathBuf, String)>,
    /// Which file, and what is wrong in it.
    pub mistakes: Vec<(usize, Mistake)>,
}

impl Findings {
    /// True when there is nothing worse than a warning.
    pub fn is_sound(&self) -> bool {
        self.mistakes.iter().all(|(_, mistake)| mistake.weight == Weight::Warning)
    }

    fn add_file(&mut self, path: PathBuf, text: String) -> usize {
        self.files.push((path, text));
        self.files.len() - 1
    }

    fn add(&mut self, file: usize, mistakes: impl IntoIterator<Item = Mistake>) {
        self.mistakes.extend(mistakes.into_iter().map(|mistake| (file, mistake)));
    }

    /// In the order of the files.
    fn sort(&mut self) {
        self.mistakes
            .sort_by_key(|(file, mistake)| (*file, mistake.places.first().map_or(0, |place| place.span.start)));
    }

    /// The findings as an error, when they are not sound.
    ///
    /// # Errors
    /// When they are not sound.
    pub fn into_result(self) -> Result<Self, EngineError> {
        if self.is_sound() { Ok(self) } else { Err(EngineError::Mistakes(Box::new(self))) }
    }
}

/// A project with all that its files and depots say.
#[derive(Debug)]
pub struct Survey {
    /// The project, when its spec is sound.
    pub project: Option<Project>,
    /// What the depots offer.
    pub offers: BTreeMap<String, Offer>,
    /// Every mistake.
    pub findings: Findings,
}

/// The folder of the project that `start` lies in.
///
/// # Errors
/// When neither `start` nor a folder above it has a spec.
pub fn find(start: &Path) -> Result<PathBuf, EngineError> {
    let start = std::path::absolute(start).map_err(file_error("find", start))?;
    let found = start.ancestors().find(|dir| dir.join(spec::FILE_NAME).is_file());
    found.map(Path::to_owned).ok_or(EngineError::NoProject(start))
}

/// Reads the spec alone.
///
/// # Errors
/// When it cannot be read, or has mistakes.
pub fn load(dir: &Path) -> Result<Project, EngineError> {
    let mut findings = Findings::default();
    let spec = read_spec(dir, &mut findings)?;
    // Warnings are for check.
    findings.into_result()?;
    spec.map(|spec| Project { dir: dir.to_owned(), spec }).ok_or_else(|| EngineError::NoProject(dir.to_owned()))
}

fn read_spec(dir: &Path, findings: &mut Findings) -> Result<Option<Spec>, EngineError> {
    let path = dir.join(spec::FILE_NAME);
    let bytes = fs::read(&path).map_err(file_error("read", &path))?;
    let (text, broken) = match String::from_utf8(bytes) {
        Ok(text) => (text, None),
        Err(error) => {
            let at = error.utf8_error().valid_up_to();
            (String::from_utf8_lossy(error.as_bytes()).into_owned(), Some(at))
        }
    };
    let shown = PathBuf::from(spec::FILE_NAME);
    if let Some(at) = broken {
        let message = "this is no TOML: it is not written in UTF-8";
        let mistake = Mistake::new(Code::NOT_TOML, at..at + 1, message, "save the file as UTF-8");
        let file = findings.add_file(shown, text);
        findings.add(file, [mistake]);
        return Ok(None);
    }
    let parsed = spec::parse(&text);
    let file = findings.add_file(shown, text);
    findings.add(file, parsed.mistakes);
    Ok(parsed.draft)
}

/// Reads the lock and holds it against the spec.
///
/// # Errors
/// When there is none, it is damaged, or it does not answer the spec.
pub fn load_lock(project: &Project) -> Result<Lock, EngineError> {
    let lock = read_lock(&project.dir)?.ok_or(EngineError::NoLock)?;
    let misfits = fit::misfits(&project.spec, &lock);
    if misfits.is_empty() { Ok(lock) } else { Err(EngineError::Misfits(misfits)) }
}

/// Reads the lock, if there is one.
///
/// # Errors
/// When it cannot be read as one.
pub fn read_lock(dir: &Path) -> Result<Option<Lock>, EngineError> {
    let path = dir.join(lock::FILE_NAME);
    match fs::read_to_string(&path) {
        Ok(text) => Ok(Some(Lock::parse(&text)?)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(file_error("read", &path)(error)),
    }
}

/// Reads everything and reports every mistake: in the spec, in the depots' indexes, and between them.
///
/// # Errors
/// When the spec cannot be read at all.
pub fn survey(dir: &Path) -> Result<Survey, EngineError> {
    let mut findings = Findings::default();
    let spec = read_spec(dir, &mut findings)?;
    let mut offers = BTreeMap::new();
    let Some(spec) = spec else {
        findings.sort();
        return Ok(Survey { project: None, offers, findings });
    };
    for (name, depot) in &spec.depots {
        let folder = dir.join(&depot.value.path.value);
        let index = folder.join(depot::FILE_NAME);
        match fs::read_to_string(&index) {
            Ok(text) => {
                let digest = Sha256Digest::of(text.as_bytes());
                match depot::parse(&text) {
                    Ok(index) => drop(offers.insert(name.clone(), Offer { index, digest })),
                    Err(mistake) => {
                        let shown = Path::new(&depot.value.path.value).join(depot::FILE_NAME);
                        let file = findings.add_file(shown, text);
                        findings.add(file, [*mistake]);
                    }
                }
            }
            Err(error) => {
                let message = format!("the depot `{name}` cannot be read: {}: {}", index.display(), plain(&error));
                let remedy = "correct the path; it is relative to the spec, and the folder has to hold a depot.toml";
                findings.add(0, [Mistake::new(Code::DEPOT_UNREADABLE, depot.value.path.span.clone(), message, remedy)]);
            }
        }
    }
    let previous = read_lock(dir).ok().flatten();
    let (_, mistakes) = choose(&spec, &offers, previous.as_ref());
    findings.add(0, mistakes);
    findings.add(0, folder_mistakes(dir, &spec));
    if let Base::Archive { path, .. } = &spec.base
        && !dir.join(&path.value).is_file()
    {
        let message = format!("there is no archive {}", path.value);
        let remedy = "correct the path; it is relative to the spec";
        findings.add(0, [Mistake::new(Code::ARCHIVE_MISSING, path.span.clone(), message, remedy)]);
    }
    findings.sort();
    Ok(Survey { project: Some(Project { dir: dir.to_owned(), spec }), offers, findings })
}

/// The error of a system call without its number.
fn plain(error: &io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}

fn folder_mistakes(dir: &Path, spec: &Spec) -> Vec<Mistake> {
    let mut mistakes = Vec::new();
    for folder in &spec.folders {
        let outside = dir.join(&folder.outside.value);
        let problem = match fs::metadata(&outside) {
            Ok(meta) if meta.is_dir() => continue,
            Ok(_) => "is no folder".to_owned(),
            Err(error) => format!("cannot be used: {}", plain(&error)),
        };
        let message = format!("the folder {} {problem}", folder.outside.value);
        let remedy = "make the folder, or correct the path; it is relative to the spec";
        mistakes.push(Mistake::new(Code::FOLDER_MISSING, folder.outside.span.clone(), message, remedy));
    }
    mistakes
}
