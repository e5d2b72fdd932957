//! A first spec, from what a project's own files tell.

use std::path::{Component, Path, PathBuf};
use std::{fs, io};

use cavrith_core::depot::{self, Index};
use cavrith_core::first_spec::{self, FirstSpec, Origin, Sight};
use cavrith_core::spec::FILE_NAME;

use cavrith_sources::web::Web;

use crate::error::{EngineError, ProjectError, file_error};
use crate::findings::Findings;
use crate::{looking, project, supply};
use cavrith_store::{Store, reading};

/// What came of writing a first spec.
#[derive(Debug, Clone)]
pub struct Begun {
    /// What was seen.
    pub seen: Vec<Sight>,
    /// The spec.
    pub spec: FirstSpec,
}

/// What a first spec is made of.
#[derive(Debug)]
pub struct Basis {
    /// What the project's files tell.
    pub seen: Vec<Sight>,
    /// The depot that was named, or lies nearby: its path or address, and its index.
    pub depot: Option<(String, Index)>,
    /// Whether it was named.
    pub is_named: bool,
}

impl Basis {
    /// Whether the base is one of the Debian archive: nobody named a depot with packages, and none lies nearby.
    pub fn is_of_archive(&self) -> bool {
        self.depot.as_ref().is_none_or(|(_, index)| index.packages.is_empty())
    }
}

/// Looks at a project. `depot` is the path or the address of a depot; one that lies nearby is found.
///
/// # Errors
/// When there is a spec already, or the depot cannot be read.
pub fn look(dir: &Path, depot: Option<&str>, web: &Web, store: Option<&Store>) -> Result<Basis, EngineError> {
    let path = dir.join(FILE_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::SpecExists { path }.into());
    }
    let found = match depot {
        Some(url) if is_address(url) => {
            let (text, _) = supply::index(web, store, url)?;
            Some((url.to_owned(), crate::depots::parse(Path::new(url), &text)?))
        }
        Some(path) => Some((path.to_owned(), crate::depots::read(&dir.join(path))?)),
        None => nearby(dir),
    };
    Ok(Basis { seen: looking::look(dir), depot: found, is_named: depot.is_some() })
}

/// Whether a folder is a depot, and no project.
pub fn is_depot(folder: &Path) -> bool {
    folder.join(depot::FILE_NAME).is_file() && !folder.join(FILE_NAME).exists()
}

/// The way from a project's folder to another folder, as a spec has it.
pub fn relative(dir: &Path, to: &Path) -> String {
    let (Ok(dir), Ok(to)) = (dir.canonicalize(), to.canonicalize()) else { return to.display().to_string() };
    let shared = dir.components().zip(to.components()).take_while(|(one, other)| one == other).count();
    let up = dir.components().skip(shared).map(|_| Component::ParentDir);
    up.chain(to.components().skip(shared)).collect::<PathBuf>().display().to_string()
}

/// Whether a depot is meant by its address on the web.
pub fn is_address(depot: &str) -> bool {
    depot.starts_with("https://") || depot.starts_with("http://")
}

/// Writes a project's first spec. The root comes from the depot when it has packages and nobody asks for a suite.
///
/// # Errors
/// When it cannot be written.
pub fn write_first(dir: &Path, basis: Basis, suite: Option<&str>) -> Result<Begun, EngineError> {
    let Basis { seen, depot: found, is_named } = basis;
    let found = found.as_ref().map(|(path, index)| (path.as_str(), index));
    let origin = match found.filter(|(_, index)| suite.is_none() && !index.packages.is_empty()) {
        Some((path, index)) => Origin::Depot(path, index),
        None => Origin::Suite(suite),
    };
    // A depot that brings nothing of what is asked for is only in the way.
    let brings = |index: &Index| !index.toolchains.is_empty() || !index.editors.is_empty();
    let spec = first_spec::write(&name_of(dir), &seen, origin, found.filter(|(_, index)| is_named || brings(index)));
    write_new(&dir.join(FILE_NAME), &spec.text)?;
    Ok(Begun { seen, spec })
}

/// Begins a project's spec as another project's, with what that one includes from its own folder; the workspace gets
/// the name of this folder. Gives the files that were written.
///
/// # Errors
/// When there is a spec already, the other one cannot be read, or the disk refuses.
pub fn write_from(dir: &Path, other: &Path) -> Result<Vec<String>, EngineError> {
    let path = dir.join(FILE_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::SpecExists { path }.into());
    }
    let (gathered, parsed) = project::read_spec(other)?;
    EngineError::unless_sound(Findings { sources: gathered.sources.clone(), mistakes: parsed.mistakes })?;
    let mut written = Vec::new();
    for file in gathered.sources.files().iter().rev() {
        let inner = Path::new(&file.path);
        // What lies beside that project is not its own.
        if inner.components().any(|part| !matches!(part, Component::Normal(_))) {
            continue;
        }
        let to = dir.join(inner);
        let is_spec = file.path == FILE_NAME;
        if !is_spec && to.symlink_metadata().is_ok() {
            return Err(ProjectError::SpecExists { path: to }.into());
        }
        let text = if is_spec { renamed(&file.text, &name_of(dir)) } else { file.text.clone() };
        if let Some(above) = to.parent() {
            fs::create_dir_all(above).map_err(file_error("make", above))?;
        }
        // The spec itself comes last, so that an interrupted start can be typed again.
        write_new(&to, &text)?;
        written.push(file.path.clone());
    }
    Ok(written)
}

/// The depot that is meant for a folder: the one of this path, or one that lies nearby; with its path.
///
/// # Errors
/// When the one that is named cannot be read.
pub fn depot_of(dir: &Path, named: Option<&str>) -> Result<Option<(PathBuf, Index)>, EngineError> {
    match named {
        Some(path) => Ok(Some((dir.join(path), crate::depots::read(&dir.join(path))?))),
        None => Ok(nearby(dir).map(|(path, index)| (dir.join(path), index))),
    }
}

/// Begins a project's spec with a text, under the name of this folder.
///
/// # Errors
/// When there is a spec already, or the disk refuses.
pub fn write_text(dir: &Path, text: &str) -> Result<(), EngineError> {
    write_new(&dir.join(FILE_NAME), &renamed(text, &name_of(dir)))
}

/// Writes a file of a project that begins: nothing that is there, or came while somebody was asked, is replaced.
fn write_new(path: &Path, text: &str) -> Result<(), EngineError> {
    cavrith_store::atomic::write_new(path, text.as_bytes()).map_err(|error| match error.kind() {
        io::ErrorKind::AlreadyExists => ProjectError::SpecExists { path: path.to_owned() }.into(),
        _ => file_error("write", path)(error),
    })
}

/// A spec's text with another workspace's name, and otherwise as it is.
fn renamed(text: &str, name: &str) -> String {
    let Ok(mut document) = text.parse::<toml_edit::DocumentMut>() else { return text.to_owned() };
    if let Some(there) = document.get_mut("workspace").and_then(|table| table.get_mut("name")) {
        let decor = there.as_value().map(|value| value.decor().clone());
        *there = toml_edit::value(name);
        if let (Some(value), Some(decor)) = (there.as_value_mut(), decor) {
            *value.decor_mut() = decor;
        }
    }
    document.to_string()
}

fn nearby(dir: &Path) -> Option<(String, Index)> {
    ["depot", "../depot", "../../depot"].into_iter().find_map(|path| {
        let text = reading::text(&dir.join(path).join(depot::FILE_NAME)).ok()?;
        Some((path.to_owned(), depot::parse(&text).ok()?))
    })
}

/// A name that a workspace may have, from the folder's.
fn name_of(dir: &Path) -> String {
    let folder = dir.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let plain: String =
        folder.chars().map(|letter| if letter.is_ascii_alphanumeric() { letter } else { '-' }).take(63).collect();
    let plain = plain.trim_matches('-');
    if plain.is_empty() { "project".to_owned() } else { plain.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_spec_that_came_while_somebody_was_asked_stays() {
        let dir = tempfile::tempdir().unwrap();
        let basis = look(dir.path(), None, &Web::new(true), None).unwrap();
        fs::write(dir.path().join(FILE_NAME), "spec = 1\n").unwrap();
        let told = write_first(dir.path(), basis, None).unwrap_err().to_string();
        assert!(told.contains(FILE_NAME), "{told}");
        assert_eq!(fs::read_to_string(dir.path().join(FILE_NAME)).unwrap(), "spec = 1\n");
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1, "something is left beside it");
    }

    #[test]
    fn a_name_is_made_of_any_folder() {
        assert_eq!(name_of(Path::new("/x/Time Table!")), "time-table");
        assert_eq!(name_of(Path::new("/")), "project");
        assert_eq!(name_of(Path::new("/x/Übersicht")), "bersicht");
    }
}
