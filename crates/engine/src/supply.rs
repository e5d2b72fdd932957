//! Where the bytes of a lock come from: depots on the disk and on the web, addresses, the project's own files.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use cavrith_core::digest::Sha256Digest;
use cavrith_core::encode::percent_encoded;
use cavrith_core::lock::{ArchivePackage, ArchivePin, DownloadPin, Source};
use cavrith_core::spec::{At, Depot, Origin};
use cavrith_core::{depot, lock};
use cavrith_sources::checked::{self, Checked};
use cavrith_sources::web::Web;
use cavrith_sources::{SourceError, Unreached};
use cavrith_store::Store;
use cavrith_store::staging::Staging;

use crate::bodies::BodySource;
use crate::error::{EngineError, LockError};
use crate::event::{Event, Observer};
use crate::member::Member;
use crate::outside::Bounds;
use cavrith_store::reading;

/// Bytes that a file may have whose length nobody knows yet.
const LONGEST: u64 = 4 << 30;

/// What is needed to get hold of files.
#[derive(Clone, Copy)]
pub struct Supply<'a> {
    /// Where what comes from the web is kept.
    pub store: &'a Store,
    /// Where private copies are made.
    pub staging: &'a Staging,
    /// The way to the web.
    pub web: &'a Web,
    /// What is this member's own: depots, in which whatever is pinned is looked for first; mirrors.
    pub member: &'a Member,
    /// Whom to ask for the bodies of records that are not here.
    pub bodies: Option<&'a dyn BodySource>,
    /// Gets every event.
    pub observer: Observer<'a>,
}

/// Where a project says that its files are.
#[derive(Debug, Clone, Copy)]
pub struct Origins<'a> {
    /// Its folder, absolute.
    pub dir: &'a Path,
    /// Where its own files end.
    pub bounds: &'a Bounds,
    /// Its depots, by name.
    pub depots: &'a BTreeMap<String, At<Depot>>,
}

/// A file of a depot on the web.
pub fn join_url(url: &str, file: &str) -> String {
    format!("{}/{}", url.trim_end_matches('/'), percent_encoded(file, "/+:"))
}

/// What a file from the web has to be.
struct Wanted<'p> {
    /// For people.
    name: &'p str,
    size: u64,
    sha256: Sha256Digest,
}

impl Supply<'_> {
    /// A pinned file of a depot, proved.
    ///
    /// # Errors
    /// When the depot does not have it, or has another.
    pub fn source(&self, origins: Origins<'_>, source: &Source) -> Result<Checked, EngineError> {
        if source.depot.is_empty() && source.file.contains("://") {
            return self.address(origins, &source.file, source.size, source.sha256);
        }
        if let Some(path) = self.member.find_in_depots(&source.sha256) {
            return self.local(&path, source.size, source.sha256);
        }
        if source.depot.is_empty() {
            return self.local(&origins.bounds.real(&source.file)?, source.size, source.sha256);
        }
        // A lock whose depot the spec does not declare does not answer the spec, and never comes here.
        let origin = origins.depots.get(&source.depot).map(|depot| &depot.value.origin);
        match origin {
            Some(Origin::Url(url)) => {
                let name = source.file.rsplit('/').next().unwrap_or(&source.file);
                let wanted = Wanted { name, size: source.size, sha256: source.sha256 };
                self.over_web(&[join_url(&url.value, &source.file)], &wanted)
            }
            origin => {
                let folder = origin.and_then(Origin::path).unwrap_or("");
                let path = origins.dir.join(folder).join(&source.file);
                // A parcel may have brought the file without the depot.
                let brought = self.store.blob(&source.sha256).filter(|_| path.symlink_metadata().is_err());
                self.local(&brought.unwrap_or(path), source.size, source.sha256)
            }
        }
    }

    /// The base's archive, proved.
    ///
    /// # Errors
    /// When it is not there, or another.
    pub fn archive(&self, origins: Origins<'_>, pin: &ArchivePin) -> Result<Checked, EngineError> {
        match (&pin.path, &pin.url) {
            (None, Some(url)) => self.address(origins, url, pin.size, pin.sha256),
            (path, _) => self.local(&origins.bounds.real(path.as_deref().unwrap_or_default())?, pin.size, pin.sha256),
        }
    }

    /// A download, proved.
    ///
    /// # Errors
    /// When it can be had nowhere, or is another everywhere.
    pub fn download(&self, origins: Origins<'_>, pin: &DownloadPin) -> Result<Checked, EngineError> {
        self.address(origins, &pin.url, pin.size, pin.sha256)
    }

    /// Whether a file has to be fetched.
    pub(crate) fn lacks(&self, digest: &Sha256Digest) -> bool {
        self.member.find_in_depots(digest).is_none() && self.store.blob(digest).is_none()
    }

    fn local(&self, path: &Path, size: u64, sha256: Sha256Digest) -> Result<Checked, EngineError> {
        Ok(checked::check(path, size, sha256, &self.staging.new_name())?)
    }

    /// A file that an address stands for, proved: from the store, from a depot that keeps it, from the address.
    ///
    /// # Errors
    /// When it can be had nowhere, or is another everywhere.
    pub fn address(
        &self,
        origins: Origins<'_>,
        url: &str,
        size: u64,
        sha256: Sha256Digest,
    ) -> Result<Checked, EngineError> {
        self.wherever(origins, vec![url.to_owned()], size, sha256)
    }

    /// A package of the Debian archive, proved: from a depot, from the store, from a mirror.
    ///
    /// # Errors
    /// When it can be had nowhere.
    pub fn package(&self, origins: Origins<'_>, name: &str, pin: &ArchivePackage) -> Result<Checked, EngineError> {
        let mirrors = self.member.mirrors(&pin.suite);
        let addresses = mirrors.iter().map(|mirror| join_url(mirror, &pin.file)).collect();
        let found = self.wherever(origins, addresses, pin.size, pin.sha256);
        found.map_err(|error| match error {
            EngineError::Source(SourceError::Unreachable { url, cause })
                if mirrors.is_empty() || cause == Unreached::Offline || matches!(cause.status(), Some(404 | 410)) =>
            {
                let why = if mirrors.is_empty() { "no mirror is known".to_owned() } else { format!("{url}: {cause}") };
                EngineError::Lock(LockError::PackageGone { package: name.to_owned(), why })
            }
            other => other,
        })
    }

    /// A file that any of some addresses stands for, proved: from the member's depots, the store, a depot of the spec,
    /// the addresses.
    fn wherever(
        &self,
        origins: Origins<'_>,
        urls: Vec<String>,
        size: u64,
        sha256: Sha256Digest,
    ) -> Result<Checked, EngineError> {
        let url = urls.first().map_or("", String::as_str);
        let name = url.rsplit('/').next().filter(|name| !name.is_empty()).unwrap_or(url).to_owned();
        let wanted = Wanted { name: &name, size, sha256 };
        let (kept, mut addresses) = self.in_depots(origins, size, sha256)?;
        if let Some(kept) = kept {
            return Ok(kept);
        }
        addresses.extend(urls);
        self.over_web(&addresses, &wanted)
    }

    /// A file that a depot or the store has, proved.
    ///
    /// # Errors
    /// When it is there, and another.
    pub(crate) fn kept(
        &self,
        origins: Origins<'_>,
        sha256: &Sha256Digest,
        size: u64,
    ) -> Result<Option<Checked>, EngineError> {
        let (kept, addresses) = self.in_depots(origins, size, *sha256)?;
        if kept.is_some() || (addresses.is_empty() && self.store.blob(sha256).is_none()) {
            return Ok(kept);
        }
        self.fetched(&addresses, &sha256.to_string()[..12], size, *sha256).map(Some)
    }

    /// A file in a depot on the disk, or its addresses in depots on the web; neither is looked for when the store has
    /// it.
    fn in_depots(
        &self,
        origins: Origins<'_>,
        size: u64,
        sha256: Sha256Digest,
    ) -> Result<(Option<Checked>, Vec<String>), EngineError> {
        if let Some(path) = self.member.find_in_depots(&sha256) {
            return Ok((Some(self.local(&path, size, sha256)?), Vec::new()));
        }
        let mut addresses = Vec::new();
        if self.store.blob(&sha256).is_none() {
            for depot in origins.depots.values() {
                match &depot.value.origin {
                    Origin::Path(path) => {
                        let folder = origins.dir.join(&path.value);
                        let index = || reading::text(&folder.join(depot::FILE_NAME)).ok();
                        if let Some(file) = self.member.offered(&path.value, &sha256, index) {
                            return Ok((Some(self.local(&folder.join(file), size, sha256)?), addresses));
                        }
                    }
                    Origin::Url(depot_url) => {
                        let index = || self.index(&depot_url.value).ok().map(|(text, _)| text);
                        let file = self.member.offered(&depot_url.value, &sha256, index);
                        addresses.extend(file.map(|file| join_url(&depot_url.value, &file)));
                    }
                }
            }
        }
        Ok((None, addresses))
    }

    /// A file of one of these addresses whose digest is known, proved; from a depot or the store, when it is there.
    ///
    /// # Errors
    /// When no address gives it.
    pub fn fetched(
        &self,
        addresses: &[String],
        name: &str,
        size: u64,
        sha256: Sha256Digest,
    ) -> Result<Checked, EngineError> {
        match self.member.find_in_depots(&sha256) {
            Some(path) => self.local(&path, size, sha256),
            None => self.over_web(addresses, &Wanted { name, size, sha256 }),
        }
    }

    /// The index of a depot on the web, and a sentence when it is not today's but the one that was seen last.
    ///
    /// # Errors
    /// When it cannot be reached and was never seen.
    pub fn index(&self, url: &str) -> Result<(String, Option<String>), SourceError> {
        index(self.web, Some(self.store), url)
    }

    /// A file that the store has, or that one of these addresses gives.
    fn over_web(&self, addresses: &[String], wanted: &Wanted<'_>) -> Result<Checked, EngineError> {
        if let Some(blob) = self.store.blob(&wanted.sha256) {
            match checked::check_own(&blob, wanted.name, wanted.size, wanted.sha256) {
                Ok(checked) => return Ok(checked),
                Err(error) => {
                    let text = format!("{} in the store is damaged and is fetched again ({error})", wanted.name);
                    (self.observer)(Event::Note { text });
                    let _ = fs::remove_file(&blob);
                }
            }
        }
        let mut last = None;
        for address in addresses {
            match self.fetch_proved(address, wanted) {
                Ok(checked) => return Ok(checked),
                Err(error) => last = Some(error),
            }
        }
        Err(last.unwrap_or_else(|| {
            let cause = Unreached::broken("no address is known for it");
            SourceError::Unreachable { url: wanted.name.to_owned(), cause }.into()
        }))
    }

    fn fetch_proved(&self, address: &str, wanted: &Wanted<'_>) -> Result<Checked, EngineError> {
        let mut partial = self.store.partial(address)?;
        // Somebody else may have fetched it while we waited.
        if let Some(blob) = self.store.blob(&wanted.sha256)
            && let Ok(checked) = checked::check_own(&blob, wanted.name, wanted.size, wanted.sha256)
        {
            let _ = fs::remove_file(partial.path());
            return Ok(checked);
        }
        // What was carried on from an earlier time may be another file now; from the beginning it cannot be.
        let carried_on = partial.file().metadata().is_ok_and(|meta| meta.len() > 0);
        for again in [false, true] {
            if let Err(error) = self.fetch(address, wanted.name, &mut partial, wanted.size) {
                // What has arrived is for the next time; nothing is nothing.
                if partial.file().metadata().is_ok_and(|meta| meta.len() == 0) {
                    let _ = fs::remove_file(partial.path());
                }
                return Err(error.into());
            }
            let proved = checked::check_own(partial.path(), wanted.name, wanted.size, wanted.sha256);
            match proved {
                Ok(checked) => {
                    self.store.keep_blob(&partial, &wanted.sha256)?;
                    return Ok(checked);
                }
                Err(_) if carried_on && !again => {
                    partial.file().set_len(0).map_err(crate::error::file_error("empty", address))?;
                }
                Err(error) => {
                    let _ = fs::remove_file(partial.path());
                    return Err(unlike(error, address).into());
                }
            }
        }
        unreachable!("BUG: the second round returns")
    }

    fn fetch(
        &self,
        address: &str,
        name: &str,
        partial: &mut cavrith_store::blobs::Partial,
        longest: u64,
    ) -> Result<(), SourceError> {
        let progress =
            |done: u64, of: Option<u64>| (self.observer)(Event::Fetching { name: name.to_owned(), done, of });
        let fetched = self.web.fetch(address, partial.file(), longest, &progress);
        (self.observer)(Event::Fetched { name: name.to_owned() });
        fetched
    }

    /// Fetches a file whose digest nobody knows yet, and says what it is.
    ///
    /// # Errors
    /// When it cannot be reached.
    pub fn fetch_unpinned(&self, url: &str) -> Result<(u64, Sha256Digest), EngineError> {
        let name = url.rsplit('/').next().unwrap_or(url);
        let mut partial = self.store.partial(url)?;
        // Nothing proves that what arrived earlier belongs to what is there now.
        partial.file().set_len(0).map_err(crate::error::file_error("empty", url))?;
        let longest = self.member.config.web.longest_mib.map_or(LONGEST, |mib| mib.saturating_mul(1 << 20));
        self.fetch(url, name, &mut partial, longest).map_err(|error| match error {
            SourceError::Unreachable { url, cause: Unreached::TooLong(longest) } => {
                SourceError::Unreachable { url, cause: Unreached::TooLongUnpinned(longest) }
            }
            other => other,
        })?;
        let (size, digest) = checked::measure(partial.path())?;
        self.store.keep_blob(&partial, &digest)?;
        Ok((size, digest))
    }
}

/// A file that is not what it should be is reported by its address, not by where its bytes lie here.
fn unlike(error: SourceError, address: &str) -> SourceError {
    let at = || PathBuf::from(address);
    match error {
        SourceError::OtherDigest { expected, found, .. } => SourceError::OtherDigest { path: at(), expected, found },
        SourceError::OtherSize { expected, found, .. } => SourceError::OtherSize { path: at(), expected, found },
        other => other,
    }
}

/// The index of a depot on the web, and a sentence when it is not today's but the one that was seen last.
///
/// # Errors
/// When it cannot be reached and was never seen.
pub fn index(web: &Web, store: Option<&Store>, url: &str) -> Result<(String, Option<String>), SourceError> {
    let address = join_url(url, depot::FILE_NAME);
    let not_text = |_| SourceError::Damaged { name: address.clone(), why: "it is not written in UTF-8".to_owned() };
    match web.text(&address) {
        Ok(bytes) => {
            if let Some(store) = store {
                store.remember_index(&address, &bytes)?;
            }
            Ok((String::from_utf8(bytes).map_err(not_text)?, None))
        }
        Err(error) => match store.and_then(|store| store.seen_index(&address)) {
            Some(seen) => {
                let note = format!("{error}; what was seen of it last is used");
                Ok((String::from_utf8(seen).map_err(not_text)?, Some(note)))
            }
            None => Err(error),
        },
    }
}

/// Everything of a lock that comes from an address rather than from a depot: name, address, size, digest.
pub fn addresses(lock: &lock::Lock) -> Vec<(String, String, u64, Sha256Digest)> {
    let downloads = lock.downloads.iter().map(|pin| (pin.name.clone(), pin.url.clone(), pin.size, pin.sha256));
    let archive =
        lock.archive.iter().filter_map(|pin| Some(("base".to_owned(), pin.url.clone()?, pin.size, pin.sha256)));
    let toolchains = lock.toolchains.iter().filter_map(|pin| {
        let source = pin.source.as_ref().filter(|source| source.depot.is_empty() && source.file.contains("://"))?;
        Some((pin.name.clone(), source.file.clone(), source.size, source.sha256))
    });
    downloads.chain(archive).chain(toolchains).collect()
}
