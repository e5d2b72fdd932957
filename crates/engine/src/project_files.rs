//! Files of the project that a step takes into the image.
//!
//! What counts of them is what version control keeps too: names, contents, links, and whether a file is a program.
//! Owners, other rights and times do not.

use std::fs::{self, File};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::lock::FilesPin;
use cavrith_core::path::RootPath;
use cavrith_core::spec::{Action, Spec, Step, Text};
use cavrith_core::tree::{Entry, Kind, Meta, Tree};
use ignore::gitignore::{Gitignore, GitignoreBuilder};

use crate::error::{BuildError, EngineError, file_error};
use crate::outside::Bounds;
use cavrith_store::hashing;

/// Entries that one step may take.
const MOST: usize = 1_000_000;

/// What a step takes.
#[derive(Debug, Clone)]
pub struct Taken {
    /// File or folder on the disk.
    pub from: PathBuf,
    /// What is in it; a single file is the entry of the root's name `file`.
    pub tree: Tree,
    /// True for a folder.
    pub is_folder: bool,
}

/// The name of a single file in its tree.
const SINGLE: &str = "file";

impl Taken {
    /// Reads all of it.
    ///
    /// # Errors
    /// When something cannot be read, or is neither file, folder nor link.
    pub fn read(bounds: &Bounds, from: &str, except: &[String], ignored: bool) -> Result<Self, EngineError> {
        let path = bounds.real_entry(from)?;
        let above = if ignored { None } else { Some(ignore_files_above(bounds.top_of(&path), &path)) };
        Self::at(path, except, above)
    }

    /// Reads a template, which is the file that its name leads to.
    ///
    /// # Errors
    /// As [`Self::read`].
    pub fn template(bounds: &Bounds, file: &str) -> Result<Self, EngineError> {
        Self::at(bounds.real(file)?, &[], None)
    }

    /// Reads files of the project that are named one by one.
    ///
    /// # Errors
    /// As [`Self::read`], and when one is no file.
    pub fn files<'n>(bounds: &Bounds, names: impl IntoIterator<Item = &'n str>) -> Result<Self, EngineError> {
        let mut tree = Tree::with_root();
        for name in names {
            let path = bounds.real(name)?;
            let cannot = |why: String| EngineError::Build(BuildError::NotTakeable { path: path.clone(), why });
            let meta = fs::symlink_metadata(&path).map_err(file_error("take", &path))?;
            if !meta.is_file() {
                return Err(cannot("it is no file; copy takes folders".to_owned()));
            }
            let inner = RootPath::from_archive(name.as_bytes()).map_err(|bad| cannot(bad.to_string()))?;
            tree.ensure_parents(&inner);
            tree.entries.insert(inner, entry(&path, &meta)?);
        }
        Ok(Self { from: bounds.dir().to_owned(), tree, is_folder: true })
    }

    fn at(path: PathBuf, except: &[String], ignore_files: Option<Vec<Gitignore>>) -> Result<Self, EngineError> {
        let meta = fs::symlink_metadata(&path).map_err(file_error("take", &path))?;
        let mut tree = Tree::with_root();
        if meta.is_dir() {
            let except = patterns(except);
            let mut walk = Walk { top: &path, except: &except, ignore_files, tree: &mut tree };
            walk.folder(&RootPath::root())?;
        } else {
            let at = RootPath::from_archive(SINGLE.as_bytes()).unwrap_or_else(|bad| panic!("BUG: {bad}"));
            tree.entries.insert(at, entry(&path, &meta)?);
        }
        Ok(Self { from: path, tree, is_folder: meta.is_dir() })
    }

    /// The pin of it.
    pub fn pin(&self, step: &str, from: &str) -> FilesPin {
        let files = self.tree.entries.values().filter(|entry| !entry.kind.is_directory()).count();
        FilesPin {
            step: step.to_owned(),
            from: from.to_owned(),
            files: files as u64,
            bytes: self.tree.content_bytes(),
            tree: self.tree.digest(),
        }
    }

    /// Every entry but the root: its path beneath the place that it goes to, where it lies, and what it is.
    pub fn entries(&self) -> impl Iterator<Item = (RootPath, PathBuf, &Entry)> {
        self.tree.entries.iter().filter(|(path, _)| !path.is_root()).map(|(path, entry)| {
            if self.is_folder {
                (path.clone(), self.from.join(path.as_relative()), entry)
            } else {
                (RootPath::root(), self.from.clone(), entry)
            }
        })
    }
}

/// The pins of all that a spec's steps take.
///
/// # Errors
/// When something cannot be taken.
pub fn pins(bounds: &Bounds, spec: &Spec) -> Result<Vec<FilesPin>, EngineError> {
    let one = |step: &Step| {
        let (from, taken) = match &step.action {
            Action::Copy(copy) => {
                let except: Vec<_> = copy.except.iter().map(|pattern| pattern.value.clone()).collect();
                (copy.from.value.clone(), Taken::read(bounds, &copy.from.value, &except, copy.ignored))
            }
            Action::Write(write) => match &write.text {
                Text::Template(file) => (file.value.clone(), Taken::template(bounds, &file.value)),
                Text::Content(_) => return None,
            },
            Action::Run(_) if !step.files.is_empty() => (step.files_shown(), Taken::files(bounds, names(step))),
            Action::Run(_) | Action::Take(_) => return None,
        };
        Some(taken.map(|taken| taken.pin(&step.name.value, &from)))
    };
    spec.steps.iter().filter_map(one).collect()
}

fn names(step: &Step) -> impl Iterator<Item = &str> {
    step.files.iter().map(|file| file.value.as_str())
}

/// Every file and link of the project, relative to it, but for what git ignores.
///
/// # Errors
/// When something cannot be read.
pub fn all(bounds: &Bounds) -> Result<Vec<PathBuf>, EngineError> {
    let taken = Taken::read(bounds, ".", &[], false)?;
    let files = taken.entries().filter(|(_, _, entry)| !entry.kind.is_directory());
    Ok(files.map(|(inner, ..)| inner.as_relative().to_owned()).collect())
}

/// Every file and link of the project that a spec's steps take, relative to the project.
///
/// # Errors
/// When something cannot be taken.
pub fn taken(bounds: &Bounds, spec: &Spec) -> Result<Vec<PathBuf>, EngineError> {
    let mut files = Vec::new();
    for step in &spec.steps {
        match &step.action {
            Action::Copy(copy) => {
                let except: Vec<_> = copy.except.iter().map(|pattern| pattern.value.clone()).collect();
                let taken = Taken::read(bounds, &copy.from.value, &except, copy.ignored)?;
                let from = Path::new(&copy.from.value);
                let entries = taken.entries().filter(|(_, _, entry)| !entry.kind.is_directory());
                files.extend(entries.map(|(inner, ..)| match inner.is_root() {
                    true => from.to_owned(),
                    false => from.join(inner.as_relative()),
                }));
            }
            Action::Write(write) => {
                if let Text::Template(file) = &write.text {
                    files.push(PathBuf::from(&file.value));
                }
            }
            Action::Run(_) => files.extend(names(step).map(PathBuf::from)),
            Action::Take(_) => {}
        }
    }
    Ok(files)
}

/// The files of the first step that is given others now than the lock has. Only files that are named one by one are
/// looked at: it is asked often, and folders may be large.
pub fn first_changed(bounds: &Bounds, spec: &Spec, pins: &[FilesPin]) -> Option<String> {
    let given = spec.steps.iter().filter(|step| !step.files.is_empty());
    let is_changed = |step: &&Step| {
        let found = Taken::files(bounds, names(step)).map(|taken| taken.pin(&step.name.value, &step.files_shown()));
        pins.iter().any(|pin| pin.step == step.name.value && found.as_ref().ok() != Some(pin))
    };
    given.into_iter().find(is_changed).map(Step::files_shown)
}

/// That the files are not those that were locked.
pub fn changed(pin: &FilesPin, found: &FilesPin) -> EngineError {
    let words = |pin: &FilesPin| {
        format!("{} in {}", pin.tree.spoken(), cavrith_core::verdict::count(pin.files as usize, "file"))
    };
    EngineError::Build(BuildError::FilesChanged {
        step: pin.step.clone(),
        from: pin.from.clone(),
        expected: words(pin),
        found: words(found),
    })
}

/// The ignore files of the directories above a path, from the top of its tree down (gitignore(5)). What a clone has
/// besides, `.git/info/exclude` and the member's own, is not everybody's and does not count.
fn ignore_files_above(top: &Path, path: &Path) -> Vec<Gitignore> {
    let above: Vec<_> = path.ancestors().skip(1).take_while(|above| above.starts_with(top)).collect();
    above.into_iter().rev().filter_map(ignore_file).collect()
}

/// The ignore file in a directory.
fn ignore_file(dir: &Path) -> Option<Gitignore> {
    let text = cavrith_store::reading::text(&dir.join(".gitignore")).ok()?;
    let mut builder = GitignoreBuilder::new(dir);
    for line in text.lines() {
        // As git does, lines that cannot be read mean nothing.
        let _ = builder.add_line(None, line);
    }
    builder.build().ok().filter(|ignored| !ignored.is_empty())
}

/// Patterns as a step has them, relative to what it takes.
pub(crate) fn patterns(except: &[String]) -> Gitignore {
    let mut builder = GitignoreBuilder::new("");
    for pattern in except {
        // A pattern that cannot be read is a mistake of the spec.
        let _ = builder.add_line(None, pattern);
    }
    builder.build().unwrap_or_else(|_| Gitignore::empty())
}

struct Walk<'a> {
    top: &'a Path,
    except: &'a Gitignore,
    /// Those of the directories on the way, the outermost first; nothing when they do not count.
    ignore_files: Option<Vec<Gitignore>>,
    tree: &'a mut Tree,
}

impl Walk<'_> {
    /// Whether something is left out: the step's own patterns decide, then the nearest ignore file that names it.
    fn leaves_out(&self, inner: &RootPath, path: &Path, is_folder: bool) -> bool {
        let own = self.except.matched(inner.as_relative(), is_folder);
        if !own.is_none() {
            return own.is_ignore();
        }
        let files = self.ignore_files.iter().flatten().rev();
        let named = files.map(|file| file.matched(path, is_folder)).find(|named| !named.is_none());
        named.is_some_and(|named| named.is_ignore())
    }

    fn folder(&mut self, at: &RootPath) -> Result<(), EngineError> {
        let dir = self.top.join(at.as_relative());
        let own = self.ignore_files.as_ref().and_then(|_| ignore_file(&dir));
        let has_own = own.is_some();
        if let Some(files) = &mut self.ignore_files {
            files.extend(own);
        }
        let read = self.entries(at, &dir);
        if let Some(files) = self.ignore_files.as_mut().filter(|_| has_own) {
            files.pop();
        }
        read
    }

    fn entries(&mut self, at: &RootPath, dir: &Path) -> Result<(), EngineError> {
        let mut names: Vec<_> = fs::read_dir(dir)
            .and_then(|entries| entries.map(|entry| Ok(entry?.file_name())).collect::<io::Result<_>>())
            .map_err(file_error("list", dir))?;
        names.sort();
        for name in names {
            let path = dir.join(&name);
            let cannot = |why: String| EngineError::Build(BuildError::NotTakeable { path: path.clone(), why });
            let inner = at.join(name.as_bytes()).map_err(|bad| cannot(bad.to_string()))?;
            let meta = fs::symlink_metadata(&path).map_err(file_error("take", &path))?;
            // What version control keeps for itself differs from clone to clone.
            let own = name.as_bytes() == b".git";
            if own || self.leaves_out(&inner, &path, meta.is_dir()) {
                continue;
            }
            if self.tree.entries.len() > MOST {
                return Err(cannot(format!("a step may take {MOST} files")));
            }
            if meta.is_dir() {
                let directory = Entry { kind: Kind::DIRECTORY, meta: Meta::root(0o755) };
                self.tree.entries.insert(inner.clone(), directory);
                self.folder(&inner)?;
            } else {
                self.tree.entries.insert(inner, entry(&path, &meta)?);
            }
        }
        Ok(())
    }
}

fn entry(path: &Path, meta: &fs::Metadata) -> Result<Entry, EngineError> {
    if meta.is_symlink() {
        let target = fs::read_link(path).map_err(file_error("take", path))?;
        let kind = Kind::Symlink { target: target.as_os_str().as_bytes().to_vec() };
        return Ok(Entry { kind, meta: Meta::root(0o777) });
    }
    if !meta.is_file() {
        let why = "it is neither a file, a folder nor a link".to_owned();
        return Err(EngineError::Build(BuildError::NotTakeable { path: path.to_owned(), why }));
    }
    let (size, content) =
        hashing::content(&mut open(path)?, None).map_err(|fault| file_error("take", path)(fault.into()))?;
    let mode = if meta.mode() & 0o100 != 0 { 0o755 } else { 0o644 };
    Ok(Entry { kind: Kind::File { size, content, links: None }, meta: Meta::root(mode) })
}

/// Opens a file that was seen to be one, and is not followed if it has become a link meanwhile.
pub fn open(path: &Path) -> Result<File, EngineError> {
    cavrith_store::reading::open_real(path).map_err(file_error("take", path))
}
