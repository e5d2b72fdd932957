//! The packages that suites offer, from their `Packages` indexes (Debian Repository Format, "Packages Indices").

use std::collections::HashMap;

use super::{Alternative, compare_versions, parse_relations};
use crate::digest::Sha256Digest;
use crate::path::RootPath;

/// One version of one package. A suite has tens of thousands, so only what choosing and fetching need is kept, as it
/// was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Candidate {
    /// Name.
    pub name: Box<str>,
    /// Version.
    pub version: Box<str>,
    /// Architecture; `all` for any.
    pub architecture: Box<str>,
    /// Every root has to have it.
    pub essential: bool,
    /// Its priority: 0 required, 1 important, 2 standard, 3 optional, 4 extra or none.
    pub priority: u8,
    /// `Pre-Depends` and `Depends`.
    pub depends: Box<str>,
    /// `Recommends`.
    pub recommends: Box<str>,
    /// `Conflicts` and `Breaks`.
    pub conflicts: Box<str>,
    /// `Provides`.
    pub provides: Box<str>,
    /// The file's path beneath the archive's root.
    pub file: Box<str>,
    /// The file's length in bytes.
    pub size: u64,
    /// The file's SHA-256.
    pub sha256: Sha256Digest,
    /// Which of the index's suites it comes from.
    pub suite: usize,
}

/// Who provides something, and in which version, if in one.
type Provision = (CandidateId, Option<Box<str>>);

/// Number of a candidate in an index.
pub type CandidateId = u32;

/// A stanza that an index must not have.
#[derive(Debug, thiserror::Error)]
pub enum BadIndex {
    /// A package lacks something.
    #[error("it has a package {name:?} whose {field} is missing or damaged")]
    Field {
        /// The package's name, as far as it was read.
        name: String,
        /// The field.
        field: &'static str,
    },
    /// There are more packages than any suite has.
    #[error("it has more than {MOST} packages")]
    TooLong,
}

/// Packages that all indexes together may have; the largest suites have under a hundred thousand.
const MOST: usize = 1_000_000;

/// What several suites offer together.
#[derive(Debug, Default)]
pub struct Index {
    /// Names of the suites, and whether each one's versions are taken only where no other has the package.
    pub suites: Vec<(String, bool)>,
    candidates: Vec<Candidate>,
    /// Never iterated: the order of a map must not decide anything.
    by_name: HashMap<Box<str>, Vec<CandidateId>>,
    provided: HashMap<Box<str>, Vec<Provision>>,
}

impl Index {
    /// Announces a suite, and says which number it has. With `not_automatic` its versions come after those of all
    /// others.
    pub fn add_suite(&mut self, name: &str, not_automatic: bool) -> usize {
        self.suites.push((name.to_owned(), not_automatic));
        self.suites.len() - 1
    }

    /// Adds one candidate, unless the same version is there already.
    ///
    /// # Errors
    /// When there are too many.
    pub fn add(&mut self, candidate: Candidate) -> Result<(), BadIndex> {
        if self.candidates.len() >= MOST {
            return Err(BadIndex::TooLong);
        }
        let id = self.candidates.len() as CandidateId;
        let versions = self.by_name.entry(candidate.name.clone()).or_default();
        if versions.iter().any(|other| self.candidates[*other as usize].version == candidate.version) {
            return Ok(());
        }
        let rank = |candidate: &Candidate| self.suites.get(candidate.suite).is_some_and(|suite| suite.1);
        // The best first: of a suite whose versions are taken by themselves, and then the newest.
        let place = versions.iter().position(|other| {
            let other = &self.candidates[*other as usize];
            let order = rank(&candidate).cmp(&rank(other));
            order.then_with(|| compare_versions(&other.version, &candidate.version)).is_lt()
        });
        versions.insert(place.unwrap_or(versions.len()), id);
        for provided in parse_relations(&candidate.provides).into_iter().flatten() {
            let version = provided.version.map(|(_, version)| version.into_boxed_str());
            self.provided.entry(provided.name.into_boxed_str()).or_default().push((id, version));
        }
        self.candidates.push(candidate);
        Ok(())
    }

    /// A candidate.
    pub fn get(&self, id: CandidateId) -> &Candidate {
        &self.candidates[id as usize]
    }

    /// All of them.
    pub fn candidates(&self) -> &[Candidate] {
        &self.candidates
    }

    /// Versions of a package, the best first.
    pub fn versions(&self, name: &str) -> &[CandidateId] {
        self.by_name.get(name).map_or(&[], Vec::as_slice)
    }

    /// What satisfies one alternative: real packages, the best first, then those that provide it, by priority and name.
    pub fn answering(&self, wish: &Alternative) -> Vec<CandidateId> {
        let real = self.versions(&wish.name).iter().copied();
        let mut found: Vec<_> = real.filter(|id| wish.accepts(&self.get(*id).version)).collect();
        let mut providers: Vec<_> = self
            .provided
            .get(wish.name.as_str())
            .into_iter()
            .flatten()
            .filter(|(id, version)| {
                let answers = match version {
                    Some(version) => wish.accepts(version),
                    // A provision without a version answers only wishes without one (Debian Policy Manual, section
                    // 7.5).
                    None => wish.version.is_none(),
                };
                answers && *self.get(*id).name != *wish.name
            })
            .map(|(id, _)| *id)
            .collect();
        providers.sort_by(|a, b| {
            let key = |id: &CandidateId| (self.get(*id).priority, self.get(*id).name.clone());
            key(a).cmp(&key(b)).then_with(|| compare_versions(&self.get(*b).version, &self.get(*a).version))
        });
        providers.dedup();
        found.extend(providers);
        found
    }
}

/// Reads a `Packages` index into an [`Index`], line by line: one has fifty megabytes.
#[derive(Debug)]
pub struct IndexReader<'a> {
    index: &'a mut Index,
    suite: usize,
    stanza: Stanza,
}

impl<'a> IndexReader<'a> {
    /// Begins to read the packages of a suite.
    pub fn new(index: &'a mut Index, suite: usize) -> Self {
        Self { index, suite, stanza: Stanza::default() }
    }

    /// Takes one line, without its end.
    ///
    /// # Errors
    /// When a stanza that ends here is damaged.
    pub fn line(&mut self, line: &[u8]) -> Result<(), BadIndex> {
        if line.is_empty() {
            return self.finish();
        }
        self.stanza.line(line);
        Ok(())
    }

    /// Ends the last stanza.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn finish(&mut self) -> Result<(), BadIndex> {
        let stanza = std::mem::take(&mut self.stanza);
        if stanza.started { self.index.add(stanza.finish(self.suite)?) } else { Ok(()) }
    }
}

/// A stanza that is being read.
#[derive(Debug, Default)]
struct Stanza {
    started: bool,
    /// Which of `texts` a continuation line belongs to.
    current: Option<usize>,
    texts: [String; FIELDS.len()],
}

/// The fields that are kept.
const FIELDS: [&str; 14] = [
    "Package",
    "Version",
    "Architecture",
    "Essential",
    "Priority",
    "Pre-Depends",
    "Depends",
    "Recommends",
    "Conflicts",
    "Breaks",
    "Provides",
    "Filename",
    "Size",
    "SHA256",
];

impl Stanza {
    fn line(&mut self, line: &[u8]) {
        self.started = true;
        if line.starts_with(b" ") || line.starts_with(b"\t") {
            if let Some(current) = self.current {
                self.texts[current].push_str(&String::from_utf8_lossy(line));
            }
            return;
        }
        let colon = line.iter().position(|byte| *byte == b':');
        let (name, value) = colon.map_or((line, &[][..]), |colon| (&line[..colon], &line[colon + 1..]));
        self.current = FIELDS.iter().position(|field| field.as_bytes().eq_ignore_ascii_case(name));
        if let Some(current) = self.current {
            self.texts[current] = String::from_utf8_lossy(value).trim().to_owned();
        }
    }

    fn finish(self, suite: usize) -> Result<Candidate, BadIndex> {
        let [
            name,
            version,
            architecture,
            essential,
            priority,
            pre_depends,
            depends,
            recommends,
            conflicts,
            breaks,
            provides,
            file,
            size,
            sha256,
        ] = self.texts;
        let wrong_field = |field: &'static str| BadIndex::Field { name: name.clone(), field };
        let plain = |text: &str, more: &str| {
            !text.is_empty() && text.chars().all(|letter| letter.is_ascii_alphanumeric() || more.contains(letter))
        };
        // Names, versions and paths go into file names, addresses and the lock, so they have to be what they should be.
        if !plain(&name, "+-.") || !name.starts_with(|letter: char| letter.is_ascii_alphanumeric()) {
            return Err(wrong_field("Package"));
        }
        if !plain(&version, ".+-~:") {
            return Err(wrong_field("Version"));
        }
        if !plain(&architecture, "-") {
            return Err(wrong_field("Architecture"));
        }
        let sound = |file: &str| RootPath::from_archive(file.as_bytes()).is_ok() && plain(file, "._+-~%:/");
        if !sound(&file) || file.starts_with('/') {
            return Err(wrong_field("Filename"));
        }
        let joined = |first: String, second: String| match (first.is_empty(), second.is_empty()) {
            (true, _) => second,
            (_, true) => first,
            _ => format!("{first}, {second}"),
        };
        let size = size.parse().map_err(|_| wrong_field("Size"))?;
        let sha256 = sha256.parse().map_err(|_| wrong_field("SHA256"))?;
        let priority = ["required", "important", "standard", "optional"].iter().position(|one| *one == priority);
        Ok(Candidate {
            essential: essential == "yes",
            priority: priority.unwrap_or(4) as u8,
            depends: joined(pre_depends, depends).into(),
            recommends: recommends.into(),
            conflicts: joined(conflicts, breaks).into(),
            provides: provides.into(),
            version: version.into(),
            architecture: architecture.into(),
            file: file.into(),
            name: name.into(),
            size,
            sha256,
            suite,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse_alternative;
    use super::*;

    const HASH: &str = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

    fn stanza(name: &str, version: &str, more: &str) -> String {
        format!(
            "Package: {name}\nVersion: {version}\nArchitecture: amd64\nFilename: pool/{name}.deb\nSize: 5\nSHA256: {HASH}\n{more}\n"
        )
    }

    fn read(index: &mut Index, suite: usize, text: &str) -> Result<(), BadIndex> {
        let mut reader = IndexReader::new(index, suite);
        text.lines().try_for_each(|line| reader.line(line.as_bytes()))?;
        reader.finish()
    }

    fn index(text: &str) -> Result<Index, BadIndex> {
        let mut index = Index::default();
        let suite = index.add_suite("tide", false);
        read(&mut index, suite, text)?;
        Ok(index)
    }

    #[test]
    fn the_newest_version_comes_first_and_providers_after_real_packages() {
        let text = stanza("bell", "1.9", "")
            + &stanza("bell", "1.10", "Priority: optional\n")
            + &stanza("gong", "2", "Provides: bell (= 1.5), horn\nDepends: a,\n b\n");
        let index = index(&text).unwrap();
        let shown = |wish: &str| {
            let found = index.answering(&parse_alternative(wish));
            found.into_iter().map(|id| format!("{} {}", index.get(id).name, index.get(id).version)).collect::<Vec<_>>()
        };
        assert_eq!(shown("bell"), ["bell 1.10", "bell 1.9", "gong 2"]);
        assert_eq!(shown("bell (<< 1.6)"), ["gong 2"]);
        assert_eq!(shown("horn"), ["gong 2"]);
        assert!(shown("horn (>= 1)").is_empty());
        assert_eq!(&*index.get(2).depends, "a, b");
    }

    #[test]
    fn a_suite_that_is_not_automatic_is_asked_last() {
        let mut index = Index::default();
        let (main, later) = (index.add_suite("tide", false), index.add_suite("tide-backports", true));
        read(&mut index, later, &stanza("bell", "2", "")).unwrap();
        read(&mut index, main, &stanza("bell", "1", "")).unwrap();
        let versions: Vec<_> = index.versions("bell").iter().map(|id| &*index.get(*id).version).collect();
        assert_eq!(versions, ["1", "2"]);
    }

    #[test]
    fn damaged_stanzas_are_told_with_their_field() {
        for (from, to, field) in [
            ("Package: bell", "Package: be ll", "Package"),
            ("Version: 1", "Version: 1;rm", "Version"),
            ("pool/bell.deb", "../../bell.deb", "Filename"),
            ("pool/bell.deb", "/etc/passwd", "Filename"),
            ("Size: 5", "Size: many", "Size"),
            (HASH, "abc", "SHA256"),
        ] {
            let error = index(&stanza("bell", "1", "").replace(from, to)).unwrap_err();
            assert!(error.to_string().contains(field), "{to}: {error}");
        }
    }
}
