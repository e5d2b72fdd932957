//! Opening a parcel, which may be anybody's.
//!
//! The archive's entries are found once; then each blob is read from its place. Everything that is believed is proved:
//! documents by the digests that name them, lists of layers by the seal, files by the lists. What a parcel brings for
//! the project's folder goes through the one writer of foreign archives, and never into `.git`.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::FileExt as _;
use std::path::{Component, Path, PathBuf};

use cavrith_core::digest::{Sha256Digest, TreeDigest};
use cavrith_core::lock;
use cavrith_core::oci::image::{Descriptor, Index};
use cavrith_core::oci::parcel::{self, ListedLayer, PARCEL, Parcel, Work};
use cavrith_core::path::shown;
use cavrith_core::spec::FILE_NAME;
use cavrith_engine::context::BuildContext;
use cavrith_engine::sealed::LayerSource;
use cavrith_sandbox::ground::{self, Ground, Most};
use cavrith_store::writer::StagedLayer;
use cavrith_store::{Store, hashing, reading};

use crate::cache::{LONGEST_LIST, read_list, unpack};
use crate::error::writing;
use crate::joining::clone;
use crate::layout::{INDEX_FILE, LONGEST_INDEX};
use crate::{ExchangeError, git};

/// Entries that a parcel may have.
const MOST_ENTRIES: usize = 100_000;
/// Bytes of one of its documents.
const LONGEST_DOCUMENT: u64 = 16 << 20;
/// What it may bring for the project's folder.
const MOST_FILES: Most = Most { bytes: 64 << 30, entries: 1 << 22 };

/// A parcel that was opened.
#[derive(Debug)]
pub struct OpenParcel {
    path: PathBuf,
    file: File,
    /// Where each blob begins, and its length.
    blobs: BTreeMap<Sha256Digest, (u64, u64)>,
    /// The index, as it is written.
    pub index: Vec<u8>,
    /// What is in it.
    pub document: Parcel,
    layers: Vec<ListedLayer>,
}

impl OpenParcel {
    /// Opens a parcel.
    ///
    /// # Errors
    /// When the file is none.
    pub fn open(path: &Path) -> Result<Self, ExchangeError> {
        let bad = |why: String| ExchangeError::Parcel { path: path.to_owned(), why };
        let file = reading::open(path).map_err(|error| bad(error.to_string()))?;
        let length = file.metadata().map_err(|error| bad(error.to_string()))?.len();
        let mut archive = tar::Archive::new(&file);
        let (mut blobs, mut index) = (BTreeMap::new(), None);
        let entries = archive.entries_with_seek().map_err(|error| bad(error.to_string()))?;
        for (number, entry) in entries.enumerate() {
            let mut entry = entry.map_err(|error| bad(error.to_string()))?;
            if number >= MOST_ENTRIES {
                return Err(bad("it has too many entries".to_owned()));
            }
            let name = entry.path_bytes().into_owned();
            let name = String::from_utf8_lossy(&name).into_owned();
            let name = name.trim_start_matches("./");
            if !entry.header().entry_type().is_file() {
                continue;
            }
            let (start, size) = (entry.raw_file_position(), entry.size());
            if start.checked_add(size).is_none_or(|end| end > length) {
                return Err(bad("it is cut off".to_owned()));
            }
            if name == INDEX_FILE {
                let mut bytes = Vec::new();
                let read = entry.by_ref().take(LONGEST_INDEX).read_to_end(&mut bytes);
                read.map_err(|error| bad(error.to_string()))?;
                index = Some(bytes);
            } else if let Some(digest) = name.strip_prefix("blobs/sha256/").and_then(|hex| hex.parse().ok()) {
                blobs.entry(digest).or_insert((start, size));
            }
        }
        let index = index.ok_or_else(|| bad("it has no index".to_owned()))?;
        let read: Index = serde_json::from_slice(&index).map_err(|error| bad(format!("its index: {error}")))?;
        let listed = read.manifests.into_iter().find(|one| one.artifact_type.as_deref() == Some(PARCEL));
        let listed = listed.ok_or_else(|| bad("it is an image layout, and no parcel".to_owned()))?;
        let mut parcel = Self {
            path: path.to_owned(),
            file: file.try_clone().map_err(|error| bad(error.to_string()))?,
            blobs,
            index,
            document: Parcel::empty(),
            layers: Vec::new(),
        };
        let bytes = parcel.document_of(&listed.digest.0)?;
        parcel.document = Parcel::read(&bytes).map_err(|why| bad(format!("its document: {why}")))?;
        parcel.layers = parcel.document.lists();
        Ok(parcel)
    }

    pub(super) fn bad(&self, why: impl Into<String>) -> ExchangeError {
        ExchangeError::Parcel { path: self.path.clone(), why: why.into() }
    }

    /// All blobs with their lengths.
    pub fn blobs(&self) -> impl Iterator<Item = (&Sha256Digest, u64)> {
        self.blobs.iter().map(|(digest, (_, size))| (digest, *size))
    }

    /// The bytes of a blob, unproved.
    ///
    /// # Errors
    /// When it is not there.
    pub fn blob(&self, digest: &Sha256Digest) -> Result<Stretch<'_>, ExchangeError> {
        let (start, size) = self.blobs.get(digest).ok_or_else(|| self.bad(format!("it lacks {digest}")))?;
        Ok(Stretch { file: &self.file, at: *start, left: *size })
    }

    /// A small blob, proved.
    pub(super) fn small(&self, digest: &Sha256Digest, longest: u64) -> Result<Vec<u8>, ExchangeError> {
        let mut bytes = Vec::new();
        let mut blob = self.blob(digest)?;
        if blob.left > longest {
            return Err(self.bad(format!("{digest} is longer than it may be")));
        }
        blob.read_to_end(&mut bytes).map_err(|error| self.bad(error.to_string()))?;
        if Sha256Digest::of(&bytes) == *digest { Ok(bytes) } else { Err(self.bad(format!("{digest} is damaged"))) }
    }

    /// A document, proved by its digest.
    ///
    /// # Errors
    /// When it is not there, or is another one.
    pub fn document_of(&self, digest: &Sha256Digest) -> Result<Vec<u8>, ExchangeError> {
        self.small(digest, LONGEST_DOCUMENT)
    }

    /// The work in progress that it has.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn work(&self) -> Result<Option<Work>, ExchangeError> {
        let Some(part) = self.document.only(parcel::WORK) else { return Ok(None) };
        let bytes = self.document_of(&part.digest.0)?;
        let work: Work = serde_json::from_slice(&bytes).map_err(|error| self.bad(error.to_string()))?;
        Ok(Some(work))
    }

    /// Writes a part into a file, proved.
    ///
    /// # Errors
    /// When it is damaged, or the disk refuses.
    pub fn part_to(&self, part: &Descriptor, to: &Path) -> Result<(), ExchangeError> {
        let mut file = File::options().write(true).create_new(true).open(to).map_err(writing(to))?;
        io::copy(&mut self.blob(&part.digest.0)?, &mut file).map_err(writing(to))?;
        let mut written = File::open(to).map_err(writing(to))?;
        let (_, found) = hashing::sha256(&mut written, None).map_err(writing(to))?;
        if found == part.digest.0 { Ok(()) } else { Err(self.bad(format!("{} is damaged", part.digest.0))) }
    }

    /// Puts the pinned files that it has into a store, each proved by its digest; how many were not there yet.
    ///
    /// # Errors
    /// When one is damaged, or the disk refuses.
    pub fn keep_sources(&self, store: &Store) -> Result<usize, ExchangeError> {
        let mut count = 0;
        for part in self.document.sources() {
            let digest = &part.digest.0;
            if store.blob(digest).is_some() {
                continue;
            }
            let mut partial = store.partial(&format!("parcel {digest}"))?;
            let path = partial.path().to_owned();
            partial.file().set_len(0).map_err(writing(&path))?;
            let (_, found) = hashing::sha256(&mut self.blob(digest)?, Some(partial.file())).map_err(writing(&path))?;
            if found != *digest {
                return Err(self.bad(format!("{digest} is damaged")));
            }
            store.keep_blob(&partial, digest)?;
            count += 1;
        }
        Ok(count)
    }

    /// Lays the project into a folder that is not there yet, by way of `aside`, which is not there either and lies on
    /// the same disk; `bundle` is a name for a file that is needed meanwhile. Gives the project's place in the folder.
    ///
    /// # Errors
    /// When the parcel is damaged or has something that no project has, git fails, or the disk refuses.
    pub fn lay(&self, dir: &Path, aside: &Path, bundle: &Path) -> Result<PathBuf, ExchangeError> {
        let work = self.work()?;
        match (&work, self.document.only(parcel::HISTORY)) {
            (Some(work), Some(history)) => {
                self.part_to(history, bundle)?;
                clone(&bundle.to_string_lossy(), aside)?;
                let commit = work.commit.as_deref().unwrap_or("HEAD");
                if !commit.bytes().all(|byte| byte.is_ascii_hexdigit()) || commit.len() < 40 {
                    return Err(self.bad("it names no commit"));
                }
                match work.branch.as_deref().filter(|branch| is_branch(branch)) {
                    Some(branch) => git::text(aside, ["checkout", "--quiet", "-B", branch, commit])?,
                    None => git::text(aside, ["checkout", "--quiet", "--detach", commit])?,
                };
                // It leads to the file that is gone in a moment.
                git::text(aside, ["remote", "remove", "origin"])?;
            }
            _ => std::fs::create_dir(aside).map_err(writing(aside))?,
        }
        let work = work.unwrap_or_default();
        for gone in &work.deleted {
            let path = self.inner(Path::new(gone))?;
            let _ = std::fs::remove_file(beneath(aside, &path)?);
        }
        for kind in [parcel::PROJECT, parcel::FILES] {
            if let Some(part) = self.document.only(kind) {
                self.unpack_files(part, aside)?;
            }
        }
        let within = if work.within.is_empty() { PathBuf::new() } else { self.inner(Path::new(&work.within))? };
        if !beneath(aside, &within)?.join(FILE_NAME).is_file() {
            return Err(self.bad(format!("it has no {FILE_NAME}")));
        }
        std::fs::rename(aside, dir).map_err(writing(dir))?;
        Ok(if work.within.is_empty() { dir.to_owned() } else { dir.join(within) })
    }

    /// Whether a folder has the project of this parcel.
    ///
    /// # Errors
    /// When the parcel is damaged.
    pub fn is_in(&self, dir: &Path) -> Result<Option<PathBuf>, ExchangeError> {
        let within = self.work()?.map(|work| work.within).filter(|within| !within.is_empty());
        let project = match within {
            Some(within) => dir.join(self.inner(Path::new(&within))?),
            None => dir.to_owned(),
        };
        let lock = reading::bytes(&project.join(lock::FILE_NAME)).map(|bytes| Sha256Digest::of(&bytes).to_string());
        let expected = self.document.annotations.get(LOCK);
        Ok((lock.ok().as_ref() == expected && expected.is_some()).then_some(project))
    }

    /// A path that a parcel names in the project's folder.
    fn inner(&self, path: &Path) -> Result<PathBuf, ExchangeError> {
        place(path).map_err(|error| self.bad(error.to_string()))
    }

    fn unpack_files(&self, part: &Descriptor, into: &Path) -> Result<(), ExchangeError> {
        let damaged = |error: io::Error| self.bad(error.to_string());
        let stream = zstd::Decoder::new(self.blob(&part.digest.0)?).map_err(damaged)?;
        let ground = Ground::open(into).map_err(writing(into))?;
        let mut archive = tar::Archive::new(stream);
        ground::unpack(&mut archive, &ground, false, MOST_FILES, place).map(drop).map_err(damaged)
    }
}

/// Some bytes of a file, read without moving anybody else's place in it.
#[derive(Debug)]
pub struct Stretch<'a> {
    file: &'a File,
    at: u64,
    left: u64,
}

impl Read for Stretch<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let most = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        let read = self.file.read_at(&mut buffer[..most], self.at)?;
        self.at += read as u64;
        self.left -= read as u64;
        Ok(read)
    }
}

/// Annotation of a parcel: the variant that is meant.
pub const VARIANT: &str = "cavrith.variant";
/// Annotation of a parcel: the SHA-256 of its lock.
pub const LOCK: &str = "cavrith.lock-file";

/// Where something of a parcel goes in the project's folder: not out of it, and not into what git would believe.
fn place(path: &Path) -> io::Result<PathBuf> {
    let refused = |why: &str| {
        let name = shown(path.as_os_str().as_encoded_bytes());
        io::Error::new(io::ErrorKind::InvalidData, format!("{name} {why}"))
    };
    let mut to = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            Component::Normal(name) => {
                // As git itself has it: on some disks these are one name.
                let plain = name.to_string_lossy().to_ascii_lowercase();
                if plain.trim_end_matches(['.', ' ']) == ".git" || plain.starts_with("git~") {
                    return Err(refused("is git's own"));
                }
                to.push(name);
            }
            _ => return Err(refused("leads out of the folder")),
        }
    }
    Ok(to)
}

/// A path in a folder, on a way without links.
fn beneath(folder: &Path, inner: &Path) -> Result<PathBuf, ExchangeError> {
    cavrith_sandbox::archive::beneath(folder, inner).map_err(writing(folder))
}

/// Whether a text may be a branch's name (git-check-ref-format(1)), as far as it could be taken for something else.
fn is_branch(text: &str) -> bool {
    let plain = |letter: char| letter.is_alphanumeric() || "-_./+@".contains(letter);
    !text.is_empty() && !text.starts_with(['-', '/', '.']) && !text.contains("..") && text.chars().all(plain)
}

impl LayerSource for OpenParcel {
    fn fetch(&self, context: BuildContext<'_>, _: &str, tree: &TreeDigest) -> Result<Option<StagedLayer>, String> {
        let Some(layer) = self.layers.iter().find(|layer| layer.tree == *tree) else { return Ok(None) };
        let words = |error: ExchangeError| error.to_string();
        let packed = self.small(&layer.list, LONGEST_LIST).map_err(words)?;
        let list = read_list(&packed, tree)?;
        let dir = context.staging.new_dir().map_err(|error| error.to_string())?;
        let content = self.blob(&layer.content).map_err(words)?;
        unpack(list, dir, context, content).map(Some).map_err(|why| format!("{}: {why}", self.path.display()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_goes_out_of_the_folder_or_into_what_git_believes() {
        for path in ["../x", "/etc/passwd", ".git/config", "a/.GIT/hooks/x", ".git./x", "git~1/config", "a/../../b"] {
            assert!(place(Path::new(path)).is_err(), "{path}");
        }
        for path in ["./a/b", ".gitignore", "a/.github/x", "git/x"] {
            assert!(place(Path::new(path)).is_ok(), "{path}");
        }
        for branch in ["main", "feature/tides_2", "v1.2"] {
            assert!(is_branch(branch), "{branch}");
        }
        for branch in ["-x", "--upload-pack=x", "", "a..b", "a b", "../x", "a:b"] {
            assert!(!is_branch(branch), "{branch}");
        }
    }
}
