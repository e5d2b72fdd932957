//! Suites of the Debian archive: fetched, proved, read.
//!
//! The chain: a key of the keyring has signed `InRelease`; `InRelease` has the digests of the indexes; an index has the
//! digest of each package. Nothing is parsed before what stands above it in the chain has proved it.

use std::collections::BTreeSet;
use std::io::{BufRead as _, BufReader};
use std::time::{SystemTime, UNIX_EPOCH};

use cavrith_core::debian::index::{Candidate, Index, IndexReader};
use cavrith_core::debian::parse_alternative;
use cavrith_core::debian::release::{Release, day};
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::Lock;
use cavrith_core::lock::suites::{ReleasePin, plain_wish};
use cavrith_core::mistake::{Mistake, nearest};
use cavrith_core::spec::{Base, Spec, Suite};
use cavrith_sources::checked::Checked;
use cavrith_sources::compression;
use cavrith_sources::signature::{Keyring, Unproved};

use crate::choosing::unknown_package;
use crate::error::{EngineError, LockError};
use crate::event::Event;
use crate::supply::{Supply, join_url};
use cavrith_store::{Store, reading};

/// Unknown packages for which a name is found that may be meant.
const GUESSED: usize = 10;

/// Bytes that a signed `Release` may have.
const LONGEST_RELEASE: u64 = 16 << 20;

/// What the suites of a base offer together.
#[derive(Debug)]
pub struct Offered {
    /// Their packages.
    pub index: Index,
    /// Their `Release` files.
    pub releases: Vec<ReleasePin>,
    /// Good to know.
    pub notes: Vec<String>,
}

/// Seconds since 1970.
pub(crate) fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs()
}

/// Fetches and reads the indexes of a base's suites. `before` are the releases of an earlier lock: a mirror that has
/// older ones is not believed.
///
/// # Errors
/// A suite that cannot be reached, is not signed as it should be, or lacks what is asked for.
pub fn read(supply: Supply<'_>, suite: &Suite, before: &[ReleasePin]) -> Result<Offered, EngineError> {
    let mut offered = Offered { index: Index::default(), releases: Vec::new(), notes: Vec::new() };
    for name in suite.suites() {
        (supply.observer)(Event::Stage { text: format!("reading the suite {name}") });
        let reader = SuiteReader { supply, name: &name };
        let (release, pin, note) = reader.release(before.iter().find(|pin| pin.suite == name))?;
        offered.notes.extend(note);
        let number = offered.index.add_suite(&name, release.not_automatic);
        for component in &suite.components {
            reader.index(&release, &component.value, &suite.architecture.value, number, &mut offered.index)?;
        }
        offered.releases.push(pin);
    }
    let names: BTreeSet<&str> = offered.index.candidates().iter().flat_map(names_of).collect();
    let names: Vec<_> = names.into_iter().collect();
    supply.store.remember_index(&names_address(suite), names.join("\n").as_bytes())?;
    Ok(offered)
}

/// The names that wishes can have for a package: its own, and what it provides.
fn names_of(candidate: &Candidate) -> impl Iterator<Item = &str> {
    let provided = candidate.provides.split(',').filter_map(|entry| entry.split_whitespace().next());
    std::iter::once(&*candidate.name).chain(provided)
}

/// What the names of all packages of a base's suites are kept under: those of the state that was read last.
fn names_address(suite: &Suite) -> String {
    let components: Vec<_> = suite.components.iter().map(|component| component.value.as_str()).collect();
    format!("names: {} {} {}", suite.suites().join(" "), components.join(" "), suite.architecture.value)
}

/// Packages of a spec that none of its suites had when they were read last, on this machine. What is locked is passed
/// over; so is everything where no suite was read yet.
pub fn unknown_packages(store: &Store, spec: &Spec, lock: Option<&Lock>) -> Vec<Mistake> {
    let Base::Debian(suite) = &spec.base else { return Vec::new() };
    let locked: BTreeSet<_> =
        lock.and_then(|lock| lock.debian.as_ref()).into_iter().flat_map(|pin| pin.wishes.iter()).collect();
    let wishes = spec.wishes().into_iter().filter(|wish| !locked.contains(&plain_wish(&wish.value)));
    // What is no name at all was said of the spec itself.
    let is_name = |name: &String| name.chars().all(|letter| letter.is_ascii_alphanumeric() || "+-.".contains(letter));
    let wishes = wishes.map(|wish| (parse_alternative(&wish.value).name, wish));
    let wishes: Vec<_> = wishes.filter(|(name, _)| is_name(name)).collect();
    if wishes.is_empty() {
        return Vec::new();
    }
    let seen = store.seen_index(&names_address(suite)).and_then(|bytes| String::from_utf8(bytes).ok());
    let Some(seen) = seen else { return Vec::new() };
    let known: BTreeSet<&str> = seen.lines().collect();
    let unknown = wishes.into_iter().filter(|(name, _)| !known.contains(name.as_str()));
    unknown
        .enumerate()
        .map(|(number, (name, wish))| {
            // Holding a name against a hundred thousand others takes a tenth of a second.
            let meant = if number < GUESSED { nearest(&name, known.iter().copied()) } else { None };
            let mut mistake = unknown_package(suite, wish, &name, meant);
            mistake.remedy.push_str("; cavrith lock looks for it in the archive as it is now");
            mistake
        })
        .collect()
}

/// A file that a suite consists of, as it was locked.
#[derive(Debug)]
pub(crate) struct KeptFile {
    /// Its name in a depot.
    pub file: String,
    /// Where it came from.
    pub url: String,
    /// Its length.
    pub size: u64,
    /// Its digest.
    pub sha256: Sha256Digest,
}

/// The files from which packages of a suite can be chosen anew without a network: the signed `Release` that is locked,
/// and its indexes. All of them are in the store afterwards.
///
/// # Errors
/// When that state of the suite is to be had nowhere any more.
pub(crate) fn kept(supply: Supply<'_>, suite: &Suite, pin: &ReleasePin) -> Result<Vec<KeptFile>, EngineError> {
    let reader = SuiteReader { supply, name: &pin.suite };
    let mirrors = supply.member.mirrors(&pin.suite);
    let address = |mirror: &String| join_url(mirror, &format!("dists/{}/InRelease", pin.suite));
    let is_locked = |bytes: &Vec<u8>| Sha256Digest::of(bytes) == pin.sha256;
    let seen = mirrors.iter().find_map(|mirror| supply.store.seen_index(&address(mirror)).filter(is_locked));
    let bytes = seen
        .or_else(|| reader.locked_release(pin))
        .or_else(|| mirrors.iter().find_map(|mirror| supply.web.text(&address(mirror)).ok().filter(is_locked)));
    let bytes = bytes.ok_or_else(|| reader.bad("it has moved on since it was locked", "lock again, with --update"))?;
    let text = reader.keyring()?.0.prove(&bytes, now());
    let text = text.map_err(|error| reader.bad(error.to_string(), "lock again, with --update"))?;
    let release = Release::parse(&text).map_err(|error| reader.bad(error.to_string(), "lock again, with --update"))?;
    supply.store.put_blob(&bytes, &pin.sha256)?;
    let mut files = vec![KeptFile {
        file: format!("suites/{}-InRelease", pin.suite),
        url: mirrors.first().map(address).unwrap_or_default(),
        size: bytes.len() as u64,
        sha256: pin.sha256,
    }];
    for component in &suite.components {
        let place = reader.index_place(&release, &component.value, &suite.architecture.value)?;
        reader.fetched(&release, &place)?;
        files.push(KeptFile {
            file: format!("suites/{}-{}-{}", pin.suite, component.value, place.name),
            url: reader.addresses(&release, &place).pop().unwrap_or_default(),
            size: place.size,
            sha256: place.sha256,
        });
    }
    Ok(files)
}

/// Where a suite has the index of a component.
struct IndexPlace {
    /// Its directory in the suite.
    dir: String,
    /// Its name there.
    name: String,
    size: u64,
    sha256: Sha256Digest,
    /// For people.
    shown: String,
}

struct SuiteReader<'a> {
    supply: Supply<'a>,
    name: &'a str,
}

impl SuiteReader<'_> {
    fn bad(&self, why: impl Into<String>, remedy: impl Into<String>) -> EngineError {
        EngineError::Lock(LockError::Suite { suite: self.name.to_owned(), why: why.into(), remedy: remedy.into() })
    }

    /// The suite's `Release` file, proved.
    fn release(&self, before: Option<&ReleasePin>) -> Result<(Release, ReleasePin, Option<String>), EngineError> {
        let (bytes, address, note, is_locked) = self.signed_release(before)?;
        let (keyring, path) = self.keyring()?;
        let text = keyring.prove(&bytes, now()).map_err(|error| {
            let remedy = match error {
                Unproved::UnknownKeys(_) => format!(
                    "install a newer debian-archive-keyring, or name another keyring than {path} in config.toml ([debian] keyring)"
                ),
                Unproved::Invalid(_) => "install a newer debian-archive-keyring, or ask another mirror".to_owned(),
                _ => "ask another mirror; somebody on the way may have changed it".to_owned(),
            };
            self.bad(format!("{address} is not proved: {error}"), remedy)
        })?;
        let release =
            Release::parse(&text).map_err(|error| self.bad(format!("{address}: {error}"), "ask another mirror"))?;
        if !release.is(self.name) {
            let is = format!("{address} says that it is {} ({})", release.codename, release.suite);
            return Err(self.bad(is, "ask another mirror, or write that name"));
        }
        let current = "ask another mirror; this one is behind, or somebody shows an old state";
        // What is locked is no older state that somebody could show us.
        if let Some(until) = release.valid_until.filter(|until| *until < now() && !is_locked) {
            return Err(self.bad(format!("{address} was valid until {} only", day(until)), current));
        }
        if let Some(before) = before.filter(|before| before.date > release.date) {
            let (theirs, locked) = (day(release.date), day(before.date));
            return Err(self.bad(format!("{address} is of {theirs}, older than what is locked ({locked})"), current));
        }
        // Only what is proved is remembered for when it cannot be reached.
        if !is_locked {
            self.supply.store.remember_index(&address, &bytes)?;
        }
        let pin = ReleasePin { suite: self.name.to_owned(), date: release.date, sha256: Sha256Digest::of(&bytes) };
        Ok((release, pin, note))
    }

    /// The signed file as the first mirror gives it that can be reached, or else as it was seen last, or as it is
    /// locked; with where it comes from, a sentence about that, and whether it is the locked one.
    fn signed_release(
        &self,
        before: Option<&ReleasePin>,
    ) -> Result<(Vec<u8>, String, Option<String>, bool), EngineError> {
        let mirrors = self.supply.member.mirrors(self.name);
        let addresses: Vec<_> =
            mirrors.iter().map(|mirror| join_url(mirror, &format!("dists/{}/InRelease", self.name))).collect();
        let mut last = None;
        for address in &addresses {
            match self.supply.web.text(address) {
                Ok(bytes) => return Ok((bytes, address.clone(), None, false)),
                Err(error) => last = Some(error),
            }
        }
        // Only when no mirror answers is an earlier state good enough.
        for address in addresses {
            if let (Some(bytes), Some(error)) = (self.supply.store.seen_index(&address), &last) {
                let note = format!("{error}; what was seen of the suite {} last is used", self.name);
                return Ok((bytes, address, Some(note), false));
            }
        }
        if let Some(bytes) = before.and_then(|pin| self.locked_release(pin)) {
            let note = format!("no mirror can be reached; the suite {} is used as it is locked", self.name);
            return Ok((bytes, format!("the suite {} as it is locked", self.name), Some(note), true));
        }
        if mirrors.is_empty() {
            let remedy = "write [debian] mirror = \"…\" into config.toml in Cavrith's configuration directory";
            return Err(
                self.bad("no mirror is known: neither the configuration nor this machine's apt names one", remedy)
            );
        }
        let unknown = matches!(&last, Some(cavrith_sources::SourceError::Unreachable { cause, .. }) if cause.status() == Some(404));
        let why = last.map_or_else(String::new, |error| error.to_string());
        let remedy = "try again when it can be reached, or name another mirror in config.toml ([debian] mirror)";
        let spelling = if unknown { "; is the suite's name right?" } else { "" };
        Err(self.bad(format!("{why}{spelling}"), remedy))
    }

    /// The signed file that is locked, when a depot or a parcel brought it.
    fn locked_release(&self, pin: &ReleasePin) -> Option<Vec<u8>> {
        let path = self.supply.member.find_in_depots(&pin.sha256).or_else(|| self.supply.store.blob(&pin.sha256))?;
        let bytes = reading::bounded(&path, LONGEST_RELEASE).ok()?;
        (Sha256Digest::of(&bytes) == pin.sha256).then_some(bytes)
    }

    fn keyring(&self) -> Result<(Keyring, String), EngineError> {
        let path = self.supply.member.keyring(self.name);
        let shown = path.display().to_string();
        let bytes = reading::bytes(&path).map_err(|error| {
            let why = format!("its keyring {shown} cannot be read ({})", crate::error::plain(&error));
            self.bad(why, "install debian-archive-keyring, or name a keyring in config.toml ([debian] keyring)")
        })?;
        let mut keyring = Keyring::default();
        keyring.add(&bytes).map_err(|why| self.bad(format!("{shown} is not a keyring: {why}"), "name another one"))?;
        Ok((keyring, shown))
    }

    /// Where the index of a component is.
    fn index_place(&self, release: &Release, component: &str, architecture: &str) -> Result<IndexPlace, EngineError> {
        let dir = format!("{component}/binary-{architecture}");
        let found = ["xz", "gz", ""].into_iter().find_map(|ending| {
            let name = if ending.is_empty() { "Packages".to_owned() } else { format!("Packages.{ending}") };
            release.files.get(&format!("{dir}/{name}")).map(|(size, sha256)| (name, *size, *sha256))
        });
        let Some((name, size, sha256)) = found else {
            let (components, architectures) = (release.components.join(", "), release.architectures.join(", "));
            let why = format!("it has no index of {component} for {architecture}");
            return Err(self.bad(why, format!("its components are {components}, its architectures {architectures}")));
        };
        let shown = format!("{name} of {} {component}", self.name);
        Ok(IndexPlace { dir, name, size, sha256, shown })
    }

    fn addresses(&self, release: &Release, place: &IndexPlace) -> Vec<String> {
        let IndexPlace { dir, name, sha256, .. } = place;
        let mut addresses = Vec::new();
        for mirror in self.supply.member.mirrors(self.name) {
            let at = |path: String| join_url(&mirror, &format!("dists/{}/{path}", self.name));
            if release.by_hash {
                addresses.push(at(format!("{dir}/by-hash/SHA256/{sha256}")));
            }
            addresses.push(at(format!("{dir}/{name}")));
        }
        addresses
    }

    fn fetched(&self, release: &Release, place: &IndexPlace) -> Result<Checked, EngineError> {
        self.supply.fetched(&self.addresses(release, place), &place.shown, place.size, place.sha256)
    }

    /// Reads the index of one component.
    fn index(
        &self,
        release: &Release,
        component: &str,
        architecture: &str,
        number: usize,
        into: &mut Index,
    ) -> Result<(), EngineError> {
        let place = self.index_place(release, component, architecture)?;
        let mut checked = self.fetched(release, &place)?;
        let path = format!("{}/{}", place.dir, place.name);
        let damaged = |why: String| self.bad(format!("its index {path} is damaged: {why}"), "ask another mirror");
        let packed = checked.size();
        let stream = checked.open().and_then(|file| compression::unpack(file, packed));
        let mut lines = BufReader::with_capacity(256 * 1024, stream.map_err(|error| damaged(error.to_string()))?);
        let mut reader = IndexReader::new(into, number);
        let mut line = Vec::new();
        loop {
            line.clear();
            let count = lines.read_until(b'\n', &mut line).map_err(|error| damaged(error.to_string()))?;
            let text = line.strip_suffix(b"\n").unwrap_or(&line);
            if count == 0 {
                return reader.finish().map_err(|error| damaged(error.to_string()));
            }
            reader.line(text).map_err(|error| damaged(error.to_string()))?;
        }
    }
}
