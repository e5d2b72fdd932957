//! Making, filling and checking depots.

mod filling;

use std::fs;
use std::io::{self, Read};
use std::path::Path;

use cavrith_core::depot::{self, Extension, Index, Package, Part, Probe, Template, Toolchain};
use cavrith_core::digest::Sha256Digest;
use cavrith_core::mistake::Weight;
use cavrith_core::spec::document::LONGEST;
use cavrith_core::version::Version;
use cavrith_sources::checked::{self, Checked};
use cavrith_sources::{compression, deb, tarball, zipball};
use cavrith_store::atomic::NewFile;
use cavrith_store::staging::Staging;

use crate::error::{DepotError, EngineError, file_error};
use cavrith_store::reading;

pub use filling::fill;

/// Bytes of an extension's description that are examined.
const LONGEST_DESCRIPTION: u64 = 4 << 20;

/// Makes an empty depot.
///
/// # Errors
/// When there is something in the folder.
pub fn new(dir: &Path, about: Option<String>) -> Result<(), EngineError> {
    if fs::read_dir(dir).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(DepotError::NotEmpty(dir.to_owned()).into());
    }
    fs::create_dir_all(dir).map_err(file_error("make", dir))?;
    write_index(dir, &Index::empty(about))
}

fn write_index(dir: &Path, index: &Index) -> Result<(), EngineError> {
    Ok(cavrith_store::atomic::write(&dir.join(depot::FILE_NAME), index.to_text().as_bytes())?)
}

/// Reads the index of the depot in a folder.
///
/// # Errors
/// When there is none, or it cannot be read as one.
pub fn read(dir: &Path) -> Result<Index, EngineError> {
    let path = dir.join(depot::FILE_NAME);
    parse(&path, &reading::text(&path).map_err(file_error("read", &path))?)
}

/// Reads the text of an index, which is at this path or address.
///
/// # Errors
/// When it cannot be read as one.
pub fn parse(path: &Path, text: &str) -> Result<Index, EngineError> {
    depot::parse(text).map_err(|mistake| {
        let line =
            mistake.places.first().map_or(1, |place| cavrith_core::mistake::line_and_column(text, place.span.start).0);
        DepotError::Index { path: path.to_owned(), line, why: mistake.message }.into()
    })
}

/// What people say of a toolchain's archive.
#[derive(Debug, Clone)]
pub struct Described {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// It is this part of the toolchain.
    pub part: Option<String>,
    /// How many leading directories to drop.
    pub strip: usize,
    /// Where it lies inside.
    pub place: Option<String>,
    /// Directories of its programs.
    pub path: Vec<String>,
    /// The command that tells its version.
    pub probe: Option<String>,
    /// What that answers.
    pub answer: Option<String>,
}

/// Copies a file into a depot and into its index, and says what it is. A toolchain's archive has to be described.
///
/// # Errors
/// When it is none of the kinds of files that a depot has, or is there already.
pub fn add(dir: &Path, file: &Path, described: Option<&Described>, staging: &Staging) -> Result<String, EngineError> {
    let mut index = read(dir)?;
    let (size, sha256) = checked::measure(file)?;
    let mut checked = checked::check(file, size, sha256, &staging.new_name())?;
    let file_in = |folder: &str, name: String| depot::File { file: format!("{folder}/{name}"), size, sha256 };
    let added = if let Some(described) = described {
        read_through(&mut checked)?;
        let version = Version::new(&described.version).map_err(DepotError::from)?;
        add_toolchain(&mut index, described, version, file_in("toolchains", file_name(file)?))?
    } else if is_package(&mut checked).map_err(file_error("read", file))? {
        let control = deb::read_control(&mut checked)?;
        let field = |name: &str| control.field(name).to_owned();
        let (name, version, architecture) = (field("Package"), field("Version"), field("Architecture"));
        if index
            .packages
            .iter()
            .any(|one| (&one.name, &one.version, &one.architecture) == (&name, &version, &architecture))
        {
            return Err(DepotError::There(format!("{name} {version}")).into());
        }
        let added = format!("package {name} {version}");
        // A colon of an epoch is not a letter for every filesystem; in names of packages it is written %3a.
        let plain = format!("{name}_{}_{architecture}.deb", version.replace(':', "%3a"));
        let file = file_in("packages", plain);
        index.packages.push(Package { name, version, architecture, file });
        added
    } else {
        let (id, version, strip) = describe_extension(&mut checked)?;
        if index.extensions.iter().any(|one| one.id == id && one.version == version) {
            return Err(DepotError::There(format!("{id} {version}")).into());
        }
        let added = format!("extension {id} {version}");
        index.extensions.push(Extension { id, version, file: file_in("extensions", file_name(file)?), strip });
        added
    };
    let path =
        last_file(&index, &sha256).ok_or_else(|| DepotError::Entry("BUG: the file is not in the index".to_owned()))?;
    // What people write in an index is read again, so that no index is written that nobody can read.
    depot::parse(&index.to_text()).map_err(|mistake| DepotError::Entry(mistake.message))?;
    put(dir, &path, &mut checked)?;
    write_index(dir, &index)?;
    Ok(added)
}

/// Writes an editor's profile into the index of a depot, and says what it is.
///
/// # Errors
/// When a profile of that name is there, or a place of it is no path inside.
pub fn add_editor(dir: &Path, profile: depot::EditorProfile) -> Result<String, EngineError> {
    let mut index = read(dir)?;
    let added = format!("editor {}", profile.name);
    if index.editors.iter().any(|one| one.name == profile.name) {
        return Err(DepotError::There(added).into());
    }
    index.editors.push(profile);
    depot::parse(&index.to_text()).map_err(|mistake| DepotError::Entry(mistake.message))?;
    write_index(dir, &index)?;
    Ok(added)
}

/// Copies a spec into a depot, for others to begin with.
///
/// # Errors
/// When the file is no spec, or there is a template of that name.
pub fn add_template(
    dir: &Path,
    file: &Path,
    (name, about): (&str, &str),
    staging: &Staging,
) -> Result<String, EngineError> {
    let mut index = read(dir)?;
    let (size, sha256) = checked::measure(file)?;
    let mut checked = checked::check(file, size, sha256, &staging.new_name())?;
    let plain = |letter: char| letter.is_ascii_lowercase() || letter.is_ascii_digit() || letter == '-';
    if name.is_empty() || !name.chars().all(plain) {
        let text = format!("{name} cannot be a template's name; use lower-case letters, digits and -");
        return Err(DepotError::Entry(text).into());
    }
    if index.templates.iter().any(|one| one.name == name) {
        return Err(DepotError::There(format!("the template {name}")).into());
    }
    let text = template_text(&mut checked)?;
    // What it includes is not in the depot, so it is read alone.
    let mistakes = cavrith_core::spec::parse(&text).mistakes;
    if let Some(mistake) = mistakes.iter().find(|mistake| mistake.weight != Weight::Warning) {
        return Err(DepotError::Entry(format!("it is no spec to begin with: {}", mistake.message)).into());
    }
    let file = depot::File { file: format!("templates/{name}.toml"), size, sha256 };
    let path = file.file.clone();
    index.templates.push(Template { name: name.to_owned(), about: about.to_owned(), file });
    put(dir, &path, &mut checked)?;
    write_index(dir, &index)?;
    Ok(format!("template {name}"))
}

/// The text of a depot's template, proved.
///
/// # Errors
/// When its file is not there, or another.
pub fn template(dir: &Path, template: &Template, copy: &Path) -> Result<String, EngineError> {
    let depot::File { file, size, sha256 } = &template.file;
    template_text(&mut checked::check(&dir.join(file), *size, *sha256, copy)?)
}

fn template_text(checked: &mut Checked) -> Result<String, EngineError> {
    let name = checked.name().to_owned();
    let mut text = String::new();
    let read = checked.open().and_then(|file| file.take(LONGEST as u64).read_to_string(&mut text));
    read.map_err(file_error("read", name))?;
    Ok(text)
}

fn file_name(file: &Path) -> Result<String, EngineError> {
    let name = file.file_name().and_then(|name| name.to_str());
    Ok(name.map(str::to_owned).ok_or_else(|| DepotError::FileName(file.to_owned()))?)
}

fn last_file(index: &Index, sha256: &Sha256Digest) -> Option<String> {
    index.files().filter(|file| file.sha256 == *sha256).last().map(|file| file.file.clone())
}

fn add_toolchain(
    index: &mut Index,
    described: &Described,
    version: Version,
    file: depot::File,
) -> Result<String, EngineError> {
    let name = described.name.clone();
    let there = index.toolchains.iter_mut().find(|one| one.name == name && one.version == version);
    if let Some(part) = &described.part {
        let toolchain = format!("{name} {version}");
        let part_first = DepotError::PartFirst { toolchain: toolchain.clone(), part: part.clone() };
        let there = there.ok_or(part_first)?;
        if there.parts.iter().any(|one| one.name == *part) {
            return Err(DepotError::PartThere { toolchain, part: part.clone() }.into());
        }
        there.parts.push(Part { name: part.clone(), file, strip: described.strip });
        return Ok(format!("part {part} of toolchain {name} {version}"));
    }
    if there.is_some() {
        return Err(DepotError::There(format!("{name} {version}")).into());
    }
    let probe = described.probe.clone().unwrap_or_else(|| format!("{name} --version"));
    let run: Vec<_> = probe.split_whitespace().map(str::to_owned).collect();
    index.toolchains.push(Toolchain {
        name: name.clone(),
        version: version.clone(),
        file,
        strip: described.strip,
        place: described.place.clone().unwrap_or_else(|| format!("/opt/{name}/{version}")),
        path: described.path.clone(),
        probe: Probe {
            run,
            answer: described.answer.clone().unwrap_or_else(|| format!("{name} {version}")),
            within: false,
        },
        parts: Vec::new(),
    });
    Ok(format!("toolchain {name} {version}"))
}

fn is_package(checked: &mut Checked) -> io::Result<bool> {
    let mut first = [0; 8];
    let read = checked.open()?.take(8).read(&mut first)?;
    Ok(read == 8 && &first == b"!<arch>\n")
}

/// Reads a tar archive to its end, so that a broken one is reported now and not to the next member who builds.
fn read_through(checked: &mut Checked) -> Result<(), EngineError> {
    let (name, packed) = (checked.name().to_owned(), checked.size());
    let stream = checked.open().and_then(|file| compression::unpack(file, packed));
    tarball::newest(stream.map_err(file_error("read", &name))?, &name)?;
    Ok(())
}

/// Id and version of an extension, from its own description, and how many directories are above it.
fn describe_extension(checked: &mut Checked) -> Result<(String, Version, usize), EngineError> {
    let name = checked.name().to_owned();
    for (path, strip) in [("extension/package.json", 1), ("package.json", 0)] {
        let text = if zipball::is_zip(checked).map_err(file_error("read", &name))? {
            zipball::read_one(checked, path, LONGEST_DESCRIPTION)?
        } else {
            let packed = checked.size();
            let stream = checked.open().and_then(|file| compression::unpack(file, packed));
            match stream {
                Ok(stream) => tarball::read_one(stream, &name, path, LONGEST_DESCRIPTION)?,
                Err(_) => None,
            }
        };
        let Some(text) = text else { continue };
        let description = |why| DepotError::Description { path, name: name.clone(), why };
        let value: serde_json::Value =
            serde_json::from_slice(&text).map_err(|error| description(format!("cannot be read: {error}")))?;
        let field = |key: &str| {
            let text = value.get(key).and_then(|value| value.as_str()).map(str::to_owned);
            text.ok_or_else(|| description(format!("has no {key}")))
        };
        let version = Version::new(&field("version")?).map_err(DepotError::from)?;
        return Ok((format!("{}.{}", field("publisher")?, field("name")?), version, strip));
    }
    Err(DepotError::Unknown(name).into())
}

/// Puts a proved file under its name in a depot.
fn put(dir: &Path, file: &str, checked: &mut Checked) -> Result<(), EngineError> {
    let place = dir.join(file);
    let folder = place.parent().unwrap_or(dir).to_owned();
    fs::create_dir_all(&folder).map_err(file_error("make", &folder))?;
    let mut attempt = || {
        let mut new = NewFile::beside(&place, 0o666)?;
        io::copy(checked.open()?, &mut new)?;
        new.put_in_place()
    };
    attempt().map_err(file_error("write", &place))
}

/// One file of a depot that is not what its index says.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Flaw {
    /// The file.
    pub file: String,
    /// What is wrong.
    pub why: String,
}

/// Holds every byte of a depot against its index. Says how many files there are, and what is wrong.
///
/// # Errors
/// When the index cannot be read.
pub fn check(dir: &Path) -> Result<(usize, Vec<Flaw>), EngineError> {
    let index = read(dir)?;
    let mut flaws = Vec::new();
    let mut number = 0;
    for file in index.files() {
        number += 1;
        let flaw = |why: String| Flaw { file: file.file.clone(), why };
        match checked::measure(&dir.join(&file.file)) {
            Err(cavrith_sources::SourceError::Unreadable { source, .. }) => {
                flaws.push(flaw(format!("cannot be read: {}", crate::error::plain(&source))));
            }
            Err(error) => flaws.push(flaw(error.to_string())),
            Ok((size, _)) if size != file.size => {
                flaws.push(flaw(format!("has {size} bytes, and the index says {}", file.size)));
            }
            Ok((_, found)) if found != file.sha256 => {
                flaws.push(flaw(format!("is another file: expected {}, found {found}", file.sha256)));
            }
            Ok(_) => {}
        }
    }
    Ok((number, flaws))
}

/// What filling did.
#[derive(Debug, Clone, Default, PartialEq, Eq, serde::Serialize)]
pub struct Filled {
    /// Files that were brought.
    pub brought: Vec<String>,
    /// Files that were there.
    pub there: usize,
    /// Good to know.
    pub notes: Vec<String>,
}
