//! Debian packages, deb(5): an ar archive of `debian-binary`, a control archive and a data archive.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read as _};

use md5::Digest as _;

use cavrith_core::debian::{self, Field};
use cavrith_core::path::RootPath;
use cavrith_core::tree::Meta;
use cavrith_store::StoreError;
use cavrith_store::shared::Sink;
use cavrith_store::writer::LayerWriter;

use crate::ar::Members;
use crate::checked::Checked;
use crate::tarball::{self, Laying, Rights};
use crate::{SourceError, compression};

/// Bytes that a control archive's files may have together; real ones have a few hundred kilobytes.
const MAX_CONTROL: u64 = 32 << 20;
/// Scripts that the root's own package manager would run.
pub(crate) const SCRIPTS: [&str; 5] = ["config", "preinst", "postinst", "prerm", "postrm"];

/// A package's control archive.
#[derive(Debug, Clone)]
pub struct Control {
    /// The fields of its control file.
    pub fields: Vec<Field>,
    /// All other files of the control archive, by name.
    pub files: BTreeMap<String, Vec<u8>>,
    /// The newest time stamp in the data archive.
    pub newest: u64,
}

impl Control {
    /// One field; empty when there is none.
    pub fn field(&self, name: &str) -> &str {
        debian::field(&self.fields, name).unwrap_or_default()
    }

    /// Scripts it brings.
    pub fn scripts(&self) -> Vec<String> {
        SCRIPTS.iter().filter(|script| self.files.contains_key(**script)).map(|script| (*script).to_owned()).collect()
    }

    /// Paths that are configuration files.
    pub(crate) fn conffiles(&self) -> Vec<String> {
        let list = self.files.get("conffiles").map_or(&[][..], Vec::as_slice);
        let lines = String::from_utf8_lossy(list).into_owned();
        lines.lines().map(str::trim).filter(|line| line.starts_with('/')).map(str::to_owned).collect()
    }
}

/// Reads what a package says of itself.
///
/// # Errors
/// When it is damaged or no package.
pub fn read_control(checked: &mut Checked) -> Result<Control, SourceError> {
    let name = checked.name().to_owned();
    let mut control = None;
    let mut newest = 0;
    for_each_part(checked, |part, packed, content| {
        let stream = compression::unpack(content, packed).map_err(|error| damaged(&name, error))?;
        match part {
            Part::Control => control = Some(parse_control(&name, stream)?),
            Part::Data => newest = tarball::newest(stream, &name)?,
        }
        Ok(())
    })?;
    let mut control = control.ok_or_else(|| damaged(&name, invalid("it has no control archive")))?;
    control.newest = newest;
    Ok(control)
}

/// Reads what a package says of itself, without looking at what it brings.
///
/// # Errors
/// When it is damaged or no package.
pub fn read_control_only(checked: &mut Checked) -> Result<Control, SourceError> {
    let name = checked.name().to_owned();
    let mut control = None;
    for_each_part(checked, |part, packed, content| {
        if let Part::Control = part {
            let stream = compression::unpack(content, packed).map_err(|error| damaged(&name, error))?;
            control = Some(parse_control(&name, stream)?);
        }
        Ok(())
    })?;
    control.ok_or_else(|| damaged(&name, invalid("it has no control archive")))
}

/// What dpkg keeps of an installed package.
#[derive(Debug, Clone)]
pub struct Installed {
    /// Its stanza in the status file, with a last newline.
    stanza: String,
    /// Its files under `info`, by name.
    info: BTreeMap<String, Vec<u8>>,
}

/// Lays a package's files into the layer of a base.
///
/// # Errors
/// When it is damaged or brings what it must not.
pub fn unpack(checked: &mut Checked, writer: &mut LayerWriter) -> Result<Installed, SourceError> {
    let name = checked.name().to_owned();
    let (control, paths) = lay(checked, writer, Conffiles::InPlace)?;
    let qualified = qualified_name(&control).map_err(|why| damaged(&name, invalid(&why)))?;
    let read = |path: &RootPath| writer.read(path).ok();
    let stanza = stanza(&control, "install ok installed", Some(&read)).map_err(|why| damaged(&name, invalid(&why)))?;
    Ok(Installed { stanza, info: info(&control, &qualified, &paths) })
}

/// Where a package's configuration files are laid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Conffiles {
    /// In their places.
    InPlace,
    /// Beside them, under names that nobody reads, until the package is configured (dpkg(1): `.dpkg-new`).
    Beside,
}

/// The end of a configuration file's name while its package is not configured.
pub(crate) const NEW: &[u8] = b".dpkg-new";

/// The name that a configuration file has while its package is not configured.
pub(crate) fn beside(path: &RootPath) -> Option<RootPath> {
    RootPath::from_plain(&[path.as_bytes(), NEW].concat()).ok()
}

/// Lays configuration files beside their places.
struct Deferring<'a, S> {
    sink: &'a mut S,
    conffiles: BTreeSet<RootPath>,
}

impl<S: Sink> Deferring<'_, S> {
    fn place(&self, path: &RootPath) -> RootPath {
        let deferred = self.conffiles.contains(path).then(|| beside(path)).flatten();
        deferred.unwrap_or_else(|| path.clone())
    }
}

impl<S: Sink> Sink for Deferring<'_, S> {
    fn directory(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        self.sink.directory(path, meta)
    }

    fn file(&mut self, path: &RootPath, meta: Meta, content: &mut dyn io::Read) -> Result<u64, StoreError> {
        self.sink.file(&self.place(path), meta, content)
    }

    fn symlink(&mut self, path: &RootPath, meta: Meta, target: &[u8]) -> Result<(), StoreError> {
        self.sink.symlink(path, meta, target)
    }

    fn hard_link(&mut self, path: &RootPath, existing: &RootPath) -> Result<(), StoreError> {
        self.sink.hard_link(&self.place(path), &self.place(existing))
    }

    fn fifo(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        self.sink.fifo(path, meta)
    }
}

/// Lays a package's files, and returns what it says of itself and the paths that it brought, as it writes them.
///
/// # Errors
/// When it is damaged or brings what it must not.
pub(crate) fn lay(
    checked: &mut Checked,
    writer: &mut impl Sink,
    conffiles: Conffiles,
) -> Result<(Control, Vec<RootPath>), SourceError> {
    let name = checked.name().to_owned();
    let mut control: Option<Control> = None;
    let mut paths = Vec::new();
    for_each_part(checked, |part, packed, content| {
        let stream = compression::unpack(content, packed).map_err(|error| damaged(&name, error))?;
        match part {
            Part::Control => control = Some(parse_control(&name, stream)?),
            Part::Data => {
                let laying = Laying { strip: 0, place: RootPath::root(), rights: Rights::AsGiven };
                let deferred = control.iter().filter(|_| conffiles == Conffiles::Beside).flat_map(Control::conffiles);
                let deferred = deferred.filter_map(|path| RootPath::from_absolute(&path).ok()).collect();
                let mut sink = Deferring { sink: writer, conffiles: deferred };
                paths = tarball::unpack(stream, &name, &laying, &mut sink)?;
            }
        }
        Ok(())
    })?;
    let control = control.ok_or_else(|| damaged(&name, invalid("it has no control archive")))?;
    Ok((control, paths))
}

/// Writes dpkg's database of the packages of a base, in its present format (dpkg(1), FILES): `status`, `info` and the
/// empty files that dpkg expects.
///
/// # Errors
/// When the store refuses.
pub fn write_database(packages: &[Installed], writer: &mut LayerWriter) -> Result<(), SourceError> {
    let mut files: BTreeMap<String, Vec<u8>> =
        ["available", "diversions", "statoverride"].into_iter().map(|name| (name.to_owned(), Vec::new())).collect();
    files.insert("info/format".to_owned(), b"1\n".to_vec());
    let stanzas: Vec<_> = packages.iter().map(|package| package.stanza.as_str()).collect();
    files.insert("status".to_owned(), stanzas.join("\n").into_bytes());
    for package in packages {
        files.extend(package.info.iter().map(|(name, bytes)| (format!("info/{name}"), bytes.clone())));
    }
    for (name, bytes) in files {
        let path = RootPath::from_archive(format!("var/lib/dpkg/{name}").as_bytes());
        let path =
            path.map_err(|invalid| SourceError::Refused { name: "a package".to_owned(), why: invalid.to_string() })?;
        let script = SCRIPTS.iter().any(|script| name.ends_with(&format!(".{script}")));
        writer.file(&path, Meta::root(if script { 0o755 } else { 0o644 }), &mut bytes.as_slice())?;
    }
    Ok(())
}

/// One installed package of a root, as its status file tells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Name.
    pub name: String,
    /// Version.
    pub version: String,
    /// Whether dpkg counts it as installed.
    pub installed: bool,
}

/// The packages that a status file lists.
pub fn parse_status(text: &str) -> Vec<Listed> {
    let stanzas = text.split("\n\n").filter_map(|stanza| debian::parse_stanza(stanza).ok());
    let listed = stanzas.filter_map(|fields| {
        Some(Listed {
            name: debian::field(&fields, "Package")?.to_owned(),
            version: debian::field(&fields, "Version")?.to_owned(),
            installed: debian::field(&fields, "Status")?.ends_with(" installed"),
        })
    });
    listed.collect()
}

/// A package's name as dpkg's files under `info` have it.
pub(crate) fn qualified_name(control: &Control) -> Result<String, String> {
    let name = control.field("Package").to_owned();
    let plain = |letter: char| letter.is_ascii_alphanumeric() || "+-.".contains(letter);
    if name.is_empty() || !name.chars().all(plain) || name.starts_with('.') {
        return Err("its name is not a package's name".to_owned());
    }
    let architecture = control.field("Architecture");
    if !architecture.chars().all(|letter| letter.is_ascii_alphanumeric() || letter == '-') {
        return Err("its architecture is none".to_owned());
    }
    Ok(if control.field("Multi-Arch") == "same" { format!("{name}:{architecture}") } else { name })
}

/// What gives the bytes of a file.
type Read<'a> = &'a dyn Fn(&RootPath) -> Option<Vec<u8>>;

/// A package's stanza in the status file, in a state. `read` gives the bytes of its configuration files, whose digests
/// are in it; without it they lie beside their places, and are new (dpkg's own word for it).
pub(crate) fn stanza(control: &Control, status: &str, read: Option<Read<'_>>) -> Result<String, String> {
    let mut stanza = String::new();
    for (field, value) in &control.fields {
        stanza.push_str(&format!("{field}:{}{value}\n", if value.starts_with('\n') { "" } else { " " }));
        if field.eq_ignore_ascii_case("Package") {
            stanza.push_str(&format!("Status: {status}\n"));
        }
    }
    let conffiles = control.conffiles();
    if !conffiles.is_empty() {
        stanza.push_str("Conffiles:\n");
        for conffile in conffiles {
            let Some(read) = read else {
                stanza.push_str(&format!(" {conffile} newconffile\n"));
                continue;
            };
            let bytes = RootPath::from_absolute(&conffile).ok().and_then(|path| read(&path));
            let bytes =
                bytes.ok_or_else(|| format!("it names {conffile} as a configuration file and does not bring it"))?;
            stanza.push_str(&format!(" {conffile} {}\n", md5(&bytes)));
        }
    }
    Ok(stanza)
}

/// A sum as dpkg keeps it.
pub(crate) fn md5(bytes: &[u8]) -> String {
    md5::Md5::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A package's files under `info`, by name.
pub(crate) fn info(control: &Control, qualified: &str, paths: &[RootPath]) -> BTreeMap<String, Vec<u8>> {
    let mut info: BTreeMap<_, _> =
        control.files.iter().map(|(file, bytes)| (format!("{qualified}.{file}"), bytes.clone())).collect();
    info.insert(format!("{qualified}.list"), list(paths));
    info
}

/// The list of a package's paths, as dpkg keeps it.
pub(crate) fn list(paths: &[RootPath]) -> Vec<u8> {
    let mut list = b"/.\n".to_vec();
    for path in paths.iter().filter(|path| !path.is_root()) {
        list.push(b'/');
        list.extend(path.as_bytes());
        list.push(b'\n');
    }
    list
}

enum Part {
    Control,
    Data,
}

/// Calls `each` for the control archive and then the data archive, in the order that deb(5) demands.
fn for_each_part(
    checked: &mut Checked,
    mut each: impl FnMut(Part, u64, &mut dyn io::Read) -> Result<(), SourceError>,
) -> Result<(), SourceError> {
    let (name, size) = (checked.name().to_owned(), checked.size());
    let file = checked.open().map_err(|error| damaged(&name, error))?;
    let mut members =
        Members::new(io::BufReader::with_capacity(64 * 1024, file), size).map_err(|error| damaged(&name, error))?;
    let mut seen = Vec::new();
    while let Some(member) = members.next_member().map_err(|error| damaged(&name, error))? {
        let mut content = members.content();
        // Members whose name begins with an underscore are for somebody else (deb(5)).
        if member.name.starts_with('_') {
            continue;
        }
        let part = member.name.split('.').take(2).collect::<Vec<_>>().join(".");
        match (seen.len(), part.as_str()) {
            (0, "debian-binary") => {
                let mut version = String::new();
                content.by_ref().take(16).read_to_string(&mut version).map_err(|error| damaged(&name, error))?;
                if !version.starts_with("2.") {
                    return Err(damaged(&name, invalid("it is a package of an unknown format")));
                }
            }
            (1, "control.tar") => each(Part::Control, member.size, &mut content)?,
            (2, "data.tar") => each(Part::Data, member.size, &mut content)?,
            // What follows the data archive is for formats to come.
            (3.., _) => break,
            _ => {
                return Err(damaged(&name, invalid("its members are not those of a package")));
            }
        }
        seen.push(part);
    }
    if seen.len() < 3 { Err(damaged(&name, invalid("it is not complete"))) } else { Ok(()) }
}

fn parse_control(name: &str, stream: impl io::Read) -> Result<Control, SourceError> {
    let mut files = BTreeMap::new();
    let mut left = MAX_CONTROL;
    tarball::for_each(stream, name, |entry| {
        if !matches!(entry.kind, tar::EntryType::Regular | tar::EntryType::Continuous) {
            return Ok(());
        }
        let path = RootPath::from_archive(&entry.path).map_err(|error| damaged(name, invalid(&error.to_string())))?;
        let file = String::from_utf8_lossy(path.as_bytes()).into_owned();
        let mut bytes = Vec::new();
        entry.content.by_ref().take(left + 1).read_to_end(&mut bytes).map_err(|error| damaged(name, error))?;
        left = left
            .checked_sub(bytes.len() as u64)
            .ok_or_else(|| damaged(name, invalid("its control archive is huge")))?;
        if path.depth() == 1 {
            files.insert(file, bytes);
        }
        Ok(())
    })?;
    let text = files.remove("control").ok_or_else(|| damaged(name, invalid("it has no control file")))?;
    let text = String::from_utf8(text).map_err(|_| damaged(name, invalid("its control file is not a text")))?;
    let fields = debian::parse_stanza(&text)
        .map_err(|line| damaged(name, invalid(&format!("its control file has the line {line:?}"))))?;
    Ok(Control { fields, files, newest: 0 })
}

pub(crate) fn invalid(why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, why.to_owned())
}

pub(crate) fn damaged(name: &str, error: io::Error) -> SourceError {
    SourceError::Damaged { name: name.to_owned(), why: error.to_string() }
}
