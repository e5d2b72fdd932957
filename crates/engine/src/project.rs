//! A project's folder: its spec, its lock, its depots, and every mistake that they show.

use std::collections::BTreeMap;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};

use cavrith_core::depot;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::choose::{Offer, Update, choose};
use cavrith_core::lock::{self, Lock, fit};
use cavrith_core::mistake::{Code, Mistake, Weight};
use cavrith_core::spec::document::{LONGEST, Sources};
use cavrith_core::spec::{self, Gathered, Origin, Parsed, Spec};
use cavrith_sources::SourceError;
use cavrith_sources::web::Web;
use cavrith_store::Store;

use crate::error::{EngineError, file_error};
use crate::outside::Bounds;
use crate::{supply, surroundings, project_files};
use cavrith_store::reading;

/// A project whose spec is sound.
#[derive(Debug, Clone)]
pub struct Project {
    /// Its folder, absolute.
    pub dir: PathBuf,
    /// Its spec.
    pub spec: Spec,
    /// Where its own files end.
    pub bounds: Bounds,
}

/// Mistakes, with the texts they are in.
#[derive(Debug, Default)]
pub struct Findings {
    /// Every file that was looked at.
    pub sources: Sources,
    /// What is wrong, at places in those files.
    pub mistakes: Vec<Mistake>,
}

impl Findings {
    /// True when there is nothing worse than a warning.
    pub fn is_sound(&self) -> bool {
        self.mistakes.iter().all(|mistake| mistake.weight == Weight::Warning)
    }

    /// True when nothing is wrong but that depots on the web cannot be reached.
    pub fn only_unreachable(&self) -> bool {
        let mut errors = self.mistakes.iter().filter(|mistake| mistake.weight == Weight::Error).peekable();
        errors.peek().is_some() && errors.all(|mistake| mistake.code == Code::DEPOT_UNREACHABLE)
    }

    /// Adds a mistake in another file than the spec.
    fn add_in(&mut self, path: &Path, text: &str, mut mistake: Mistake) {
        let start = self.sources.add(path.to_string_lossy(), text);
        for place in &mut mistake.places {
            place.span = place.span.start + start..place.span.end + start;
        }
        self.mistakes.push(mistake);
    }

    /// In the order of the files.
    fn sort(&mut self) {
        self.mistakes.sort_by_key(|mistake| mistake.places.first().map_or(0, |place| place.span.start));
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

/// A folder that was typed, by its canonical path, without links: by whatever name it was typed, a project is one, and
/// what is known of it hangs on this path.
///
/// # Errors
/// When it is not there, or is no folder.
pub fn folder(typed: &Path) -> Result<PathBuf, EngineError> {
    let bad = |why: String| EngineError::NoFolder { path: typed.to_owned(), why };
    let folder = typed.canonicalize().map_err(|error| bad(plain(&error)))?;
    if folder.is_dir() { Ok(folder) } else { Err(bad("it is no folder".to_owned())) }
}

/// The folder of the project that `start` lies in.
///
/// # Errors
/// When `start` is not there, or neither it nor a folder above it has a spec.
pub fn find(start: &Path) -> Result<PathBuf, EngineError> {
    let start = folder(start)?;
    let found = start.ancestors().find(|dir| dir.join(spec::FILE_NAME).is_file());
    found.map(Path::to_owned).ok_or(EngineError::NoProject(start))
}

/// Reads the spec alone, with what it includes.
///
/// # Errors
/// When it cannot be read, or has mistakes.
pub fn load(dir: &Path) -> Result<Project, EngineError> {
    load_within(dir, Bounds::of(dir)?)
}

/// As [`load`], with bounds that are known.
///
/// # Errors
/// As [`load`].
pub fn load_within(dir: &Path, bounds: Bounds) -> Result<Project, EngineError> {
    let (gathered, parsed) = read_spec_within(dir, &bounds)?;
    // Warnings are for check.
    Findings { sources: gathered.sources, mistakes: parsed.mistakes }.into_result()?;
    let spec = parsed.draft.ok_or_else(|| EngineError::NoProject(dir.to_owned()))?;
    bounds.check(&spec)?;
    Ok(Project { dir: dir.to_owned(), spec, bounds })
}

/// Reads the spec and what it includes.
///
/// # Errors
/// When the spec's own file cannot be read.
pub fn read_spec(dir: &Path) -> Result<(Gathered, Parsed), EngineError> {
    read_spec_within(dir, &Bounds::of(dir)?)
}

fn read_spec_within(dir: &Path, bounds: &Bounds) -> Result<(Gathered, Parsed), EngineError> {
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
            return Ok((gathered, Parsed { draft: None, mistakes }));
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

/// Reads the lock and holds it against the spec.
///
/// # Errors
/// When there is none, it is damaged, or it does not answer the spec.
pub fn load_lock(project: &Project) -> Result<Lock, EngineError> {
    let lock = read_lock(&project.dir)?.ok_or(EngineError::NoLock)?;
    let misfits = fit::misfits(&project.spec, &lock);
    if misfits.is_empty() { Ok(lock) } else { Err(EngineError::Misfits(misfits)) }
}

/// Holds the files that steps take against what the lock pins of them.
///
/// # Errors
/// When they are not what was locked.
pub fn check_files(project: &Project, lock: &Lock) -> Result<(), EngineError> {
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
        Ok(text) => Ok(Some(Lock::parse(&text)?)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(file_error("read", &path)(error)),
    }
}

/// Reads everything and reports every mistake: in the spec, in the depots' indexes, and between them. Indexes on the
/// web come over `web`; those seen last are in `store`.
///
/// # Errors
/// When the spec cannot be read at all.
pub fn survey(dir: &Path, web: &Web, store: Option<&Store>, update: &Update) -> Result<Survey, EngineError> {
    let bounds = Bounds::of(dir)?;
    let (gathered, parsed) = read_spec_within(dir, &bounds)?;
    let mut findings = Findings { sources: gathered.sources, mistakes: parsed.mistakes };
    let mut offers = BTreeMap::new();
    let Some(spec) = parsed.draft else {
        findings.sort();
        return Ok(Survey { project: None, offers, findings });
    };
    for (name, depot) in &spec.depots {
        let origin = &depot.value.origin;
        match read_index(dir, origin, web, store) {
            Ok((text, note)) => {
                let digest = Sha256Digest::of(text.as_bytes());
                match depot::parse(&text) {
                    Ok(index) => drop(offers.insert(name.clone(), Offer { index, digest })),
                    Err(mistake) => {
                        let shown = match origin {
                            Origin::Path(path) => Path::new(&path.value).join(depot::FILE_NAME),
                            Origin::Url(url) => PathBuf::from(supply::join_url(&url.value, depot::FILE_NAME)),
                        };
                        findings.add_in(&shown, &text, *mistake);
                    }
                }
                if let Some(note) = note {
                    let message = format!("the depot `{name}`: {note}");
                    let mistake =
                        Mistake::new(Code::DEPOT_UNREACHABLE, origin.at().span.clone(), message, "try again later");
                    findings.mistakes.push(mistake.as_warning());
                }
            }
            Err((code, why, remedy)) => {
                let message = format!("the depot `{name}` cannot be read: {why}");
                findings.mistakes.push(Mistake::new(code, origin.at().span.clone(), message, remedy));
            }
        }
    }
    let previous = read_lock(dir);
    let (lock, mistakes) = choose(&spec, &offers, previous.as_ref().ok().and_then(Option::as_ref), update);
    findings.mistakes.extend(mistakes);
    findings.mistakes.extend(surroundings::mistakes(&bounds, dir, &spec, &lock, previous, &findings.sources));
    findings.sort();
    Ok(Survey { project: Some(Project { dir: dir.to_owned(), spec, bounds }), offers, findings })
}

type Unread = (Code, String, &'static str);

/// The index of a depot, and what is good to know of it.
fn read_index(
    dir: &Path,
    origin: &Origin,
    web: &Web,
    store: Option<&Store>,
) -> Result<(String, Option<String>), Unread> {
    match origin {
        Origin::Path(path) => {
            let index = dir.join(&path.value).join(depot::FILE_NAME);
            let remedy = "correct the path; it is relative to the spec, and the folder has to hold a depot.toml";
            let why =
                |error: io::Error| (Code::DEPOT_UNREADABLE, format!("{}: {}", index.display(), plain(&error)), remedy);
            Ok((reading::text(&index).map_err(why)?, None))
        }
        Origin::Url(url) => supply::index(web, store, &url.value).map_err(|error| {
            let code = if matches!(error, SourceError::Unreachable { .. }) {
                Code::DEPOT_UNREACHABLE
            } else {
                Code::DEPOT_UNREADABLE
            };
            (code, error.to_string(), "correct the address, or try again when it can be reached")
        }),
    }
}

/// The error of a system call without its number.
pub(crate) fn plain(error: &io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}
