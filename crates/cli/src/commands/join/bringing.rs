//! Bringing a project from wherever it is into a folder.

use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};

use crate::commands::own::Own;
use cavrith_core::link::Link;
use cavrith_core::oci::Reference;
use cavrith_engine::project;
use cavrith_exchange::ExchangeError;
use cavrith_exchange::joining::{self, Brought, Source};
use cavrith_exchange::parcel::{OpenParcel, encryption};
use cavrith_sandbox::janitor;

use crate::args::{General, KeyFiles};
use crate::failure::Failure;
use crate::keys;
use crate::screen::Screen;

/// Where a project comes from.
pub enum JoinSource {
    /// A clone.
    Git(Source),
    /// A file.
    Parcel(PathBuf),
    /// A registry.
    Registry(Reference),
}

impl JoinSource {
    /// Reads a source as it is typed, and what a link says besides.
    pub fn parse(text: &str) -> Result<(Self, Link), Failure> {
        let Some(link) = Link::parse(text) else { return Ok((Self::parse_plain(text)?, Link::default())) };
        let link = link.map_err(|why| Failure::Own(2, format!("the link cannot be used: {why}")))?;
        let source = match &link.revision {
            Some(revision) => Self::Git(Source::parse(&format!("{}#{revision}", link.source))?),
            None => Self::parse_plain(&link.source)?,
        };
        Ok((source, link))
    }

    fn parse_plain(text: &str) -> Result<Self, Failure> {
        let path = Path::new(text);
        if path.is_file() {
            return Ok(Self::Parcel(path.to_owned()));
        }
        Ok(match joining::image(text) {
            Some(reference) => Self::Registry(reference),
            None => Self::Git(Source::parse(text)?),
        })
    }

    /// The folder's name when none is typed.
    pub fn folder(&self) -> PathBuf {
        match self {
            Self::Git(source) => source.folder(),
            Self::Parcel(path) => path.file_stem().map_or_else(|| "project".into(), PathBuf::from),
            Self::Registry(reference) => reference.name.rsplit('/').next().unwrap_or("project").into(),
        }
    }
}

impl std::fmt::Display for JoinSource {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Git(source) => write!(f, "{source}"),
            Self::Parcel(path) => write!(f, "{}", path.display()),
            Self::Registry(reference) => write!(f, "{reference}"),
        }
    }
}

/// A project that was brought here.
pub struct Here {
    /// Its folder.
    pub dir: PathBuf,
    /// How it came, in a word.
    pub how: &'static str,
    /// The parcel that it came in, and has layers in.
    pub parcel: Option<OpenedParcel>,
}

/// A parcel, and the file that it is read from.
pub struct OpenedParcel {
    pub path: PathBuf,
    pub parcel: OpenParcel,
}

/// Brings a project for a moment, lets somebody look into it, and removes it. A folder is looked into where it is.
pub fn look_into<T>(
    general: &General,
    keys: &KeyFiles,
    screen: &Screen,
    source: &str,
    beside: &Path,
    look: impl FnOnce(&Path) -> Result<T, Failure>,
) -> Result<T, Failure> {
    if Path::new(source).is_dir() {
        return look(&project::folder(Path::new(source))?);
    }
    let (source, _) = JoinSource::parse(source)?;
    let aside = aside(&beside.join("project"));
    let _janitor = janitor::watch(&aside, removed)?;
    make(&aside)?;
    let bringer = Bringer { general, keys, quiet: screen.quiet, aside: &aside.join("under-way") };
    let looked = bringer.bring(&source, &aside.join("there")).and_then(|here| look(&here.dir));
    removed(&aside);
    looked
}

/// Brings projects.
pub struct Bringer<'a> {
    pub general: &'a General,
    pub keys: &'a KeyFiles,
    pub quiet: bool,
    /// Where everything is made first; on the disk of the folder that the project goes to.
    pub aside: &'a Path,
}

impl Bringer<'_> {
    /// Brings a project into its folder, unless it is there from an earlier try.
    pub fn bring(&self, source: &JoinSource, dir: &Path) -> Result<Here, Failure> {
        let path = match source {
            JoinSource::Git(source) => {
                let how = match joining::bring(source, dir, self.aside)? {
                    Brought::Cloned => "cloned",
                    Brought::There => "there already",
                };
                return Ok(Here { dir: dir.to_owned(), how, parcel: None });
            }
            JoinSource::Parcel(path) => path.canonicalize().unwrap_or_else(|_| path.clone()),
            JoinSource::Registry(reference) => {
                make(self.aside)?;
                let name = reference.name.rsplit('/').next().unwrap_or("project");
                let path = self.aside.join(format!("{name}.parcel"));
                let above = dir.parent().unwrap_or(Path::new("/"));
                let own = Own { dir: above, general: self.general, variant: None, quiet: self.quiet };
                own.passed(&["pull", "--known", &reference.to_string(), &path.to_string_lossy()])?;
                path
            }
        };
        let decrypted = self.aside.join("decrypted");
        if encryption::is_encrypted(&path) {
            make(&decrypted)?;
        }
        // Under its own name, which is shown.
        let name = path.file_name().unwrap_or(OsStr::new("parcel"));
        let path = keys::readable(&path, self.keys, &decrypted.join(name))?;
        let parcel = OpenParcel::open(&path)?;
        let mut here = Here { dir: dir.to_owned(), how: "unpacked", parcel: None };
        if dir.symlink_metadata().is_ok() {
            here.how = "there already";
            here.dir = parcel
                .is_in(dir)?
                .ok_or_else(|| ExchangeError::Elsewhere { dir: dir.to_owned(), from: source.to_string() })?;
        } else {
            make(self.aside)?;
            here.dir = parcel.lay(dir, &self.aside.join("project"), &self.aside.join("history"))?;
        }
        here.parcel = Some(OpenedParcel { path, parcel });
        Ok(here)
    }
}

pub fn make(dir: &Path) -> Result<(), Failure> {
    let made = fs::create_dir_all(dir);
    made.map_err(|error| Failure::Own(3, format!("cannot make {}: {error}", dir.display())))
}

/// Where a clone is made: beside its place, under a name that nobody else takes.
pub fn aside(dir: &Path) -> PathBuf {
    let name = dir.file_name().unwrap_or(OsStr::new("project")).to_string_lossy().into_owned();
    dir.with_file_name(format!(".{name}.{}.joining", std::process::id()))
}

pub fn removed(path: &Path) -> bool {
    match fs::remove_dir_all(path) {
        Ok(()) => true,
        Err(error) => error.kind() == std::io::ErrorKind::NotFound,
    }
}
