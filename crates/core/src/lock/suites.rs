//! Pins of a base from the Debian archive.

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::digest::Sha256Digest;
use crate::spec::{Spec, Suite};

/// A base from the Debian archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DebianPin {
    /// The suite.
    pub suite: String,
    /// Suites beside it.
    pub extra: Vec<String>,
    /// Components.
    pub components: Vec<String>,
    /// Architecture.
    pub architecture: String,
    /// Whether recommended packages were taken.
    pub recommended: bool,
    /// What was wished, sorted.
    pub wishes: Vec<String>,
    /// The suites' `Release` files that the packages were chosen from.
    pub releases: Vec<ReleasePin>,
    /// The packages, in the stages in which they are laid and configured. A package that is wished later comes as a
    /// stage of its own, so that what is beneath stays as it is; as the stages are written here, everybody builds by
    /// the same ones.
    pub stages: Vec<StagePin>,
    /// What a machine is started from, by the packages' names; no part of the root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<MachinePin>,
}

/// What a machine is started from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct MachinePin {
    /// The package that the spec names for the kernel, which may only say which one that is.
    pub kernel: String,
    /// The packages, by name: the one with the kernel, and the one with what firmware starts.
    pub packages: BTreeMap<String, ArchivePackage>,
}

/// A suite's `Release` file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ReleasePin {
    /// The suite.
    pub suite: String,
    /// When it was made, in seconds since 1970.
    pub date: u64,
    /// SHA-256 of its signed form.
    pub sha256: Sha256Digest,
}

/// Packages that are laid and configured together.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct StagePin {
    /// The packages, by name.
    pub packages: BTreeMap<String, ArchivePackage>,
}

/// One package; one line of the lock: version, architecture, suite, size, SHA-256, path beneath the archive's root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArchivePackage {
    /// Version.
    pub version: String,
    /// Architecture; `all` for any.
    pub architecture: String,
    /// The suite it was chosen from.
    pub suite: String,
    /// The file's length in bytes.
    pub size: u64,
    /// The file's SHA-256.
    pub sha256: Sha256Digest,
    /// The file's path beneath the archive's root.
    pub file: String,
}

impl Serialize for ArchivePackage {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Self { version, architecture, suite, size, sha256, file } = self;
        serializer.collect_str(&format_args!("{version} {architecture} {suite} {size} {sha256} {file}"))
    }
}

impl<'de> Deserialize<'de> for ArchivePackage {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let not_a_pin = || serde::de::Error::custom(format!("{text:?} is not a pin of a package"));
        let words: Vec<_> = text.split(' ').collect();
        let [version, architecture, suite, size, sha256, file] = words.as_slice() else { return Err(not_a_pin()) };
        let sound = crate::path::RootPath::from_archive(file.as_bytes()).is_ok() && !file.starts_with('/');
        if words.iter().any(|word| word.is_empty()) || !sound {
            return Err(not_a_pin());
        }
        Ok(Self {
            version: (*version).to_owned(),
            architecture: (*architecture).to_owned(),
            suite: (*suite).to_owned(),
            size: size.parse().map_err(|_| not_a_pin())?,
            sha256: sha256.parse().map_err(|_| not_a_pin())?,
            file: (*file).to_owned(),
        })
    }
}

impl DebianPin {
    /// All packages with their names, stage by stage.
    pub fn packages(&self) -> impl Iterator<Item = (&String, &ArchivePackage)> {
        self.stages.iter().flat_map(|stage| &stage.packages)
    }

    /// The same, and those that a machine is started from.
    pub fn files(&self) -> impl Iterator<Item = (&String, &ArchivePackage)> {
        self.packages().chain(self.machine.iter().flat_map(|machine| &machine.packages))
    }

    /// A package of this name.
    pub fn package(&self, name: &str) -> Option<&ArchivePackage> {
        self.stages.iter().find_map(|stage| stage.packages.get(name))
    }

    /// Whether it was made for the same suites in the same way, whatever is wished of them.
    pub fn is_of(&self, suite: &Suite) -> bool {
        let texts = |list: &[crate::spec::At<String>]| list.iter().map(|one| one.value.clone()).collect::<Vec<_>>();
        self.suite == suite.name.value
            && self.extra == texts(&suite.extra)
            && self.components == texts(&suite.components)
            && self.architecture == suite.architecture.value
            && self.recommended == suite.recommended
    }
}

/// What a spec wishes of its base's archive, sorted.
pub fn wishes(spec: &Spec) -> Vec<String> {
    let mut wishes: Vec<_> = spec.wishes().into_iter().map(|wish| plain_wish(&wish.value)).collect();
    wishes.sort();
    wishes.dedup();
    wishes
}

/// A wish in one way of writing.
pub fn plain_wish(wish: &str) -> String {
    crate::debian::parse_alternative(wish).to_string()
}

/// Divides chosen packages into stages, after those that are locked already. What is in an earlier lock stays in its
/// stage as long as all of that stage and of those beneath is still chosen just so; the rest makes one more. Without
/// such a lock the root itself is the first stage, which all projects with the same suites share, and what was wished
/// the second.
pub fn stages(
    chosen: &BTreeMap<String, ArchivePackage>,
    core: &dyn Fn(&str) -> bool,
    before: Option<&DebianPin>,
) -> Vec<StagePin> {
    let mut left = chosen.clone();
    let mut stages = Vec::new();
    for stage in before.iter().flat_map(|before| &before.stages) {
        if stage.packages.iter().any(|(name, package)| left.get(name) != Some(package)) {
            break;
        }
        left.retain(|name, _| !stage.packages.contains_key(name));
        stages.push(stage.clone());
    }
    if stages.is_empty() {
        let (first, rest) = left.into_iter().partition(|(name, _)| core(name));
        stages.push(StagePin { packages: first });
        left = rest;
    }
    if !left.is_empty() {
        stages.push(StagePin { packages: left });
    }
    stages
}

#[cfg(test)]
mod tests {
    use super::*;

    fn package(version: &str) -> ArchivePackage {
        ArchivePackage {
            version: version.to_owned(),
            architecture: "amd64".to_owned(),
            suite: "tide".to_owned(),
            size: 7,
            sha256: Sha256Digest::from_bytes([1; 32]),
            file: "pool/a.deb".to_owned(),
        }
    }

    fn chosen(text: &str) -> BTreeMap<String, ArchivePackage> {
        text.split(' ')
            .map(|one| one.split_once('=').unwrap())
            .map(|(name, version)| (name.to_owned(), package(version)))
            .collect()
    }

    fn shown(stages: &[StagePin]) -> String {
        let one = |stage: &StagePin| stage.packages.keys().cloned().collect::<Vec<_>>().join("+");
        stages.iter().map(one).collect::<Vec<_>>().join(" / ")
    }

    #[test]
    fn what_is_added_makes_a_stage_of_its_own_and_what_changes_takes_along_what_is_above() {
        let core = |name: &str| name.starts_with('c');
        let pin = |stages| DebianPin {
            suite: "tide".to_owned(),
            extra: Vec::new(),
            components: Vec::new(),
            architecture: "amd64".to_owned(),
            recommended: false,
            wishes: Vec::new(),
            releases: Vec::new(),
            stages,
            machine: None,
        };
        let first = pin(stages(&chosen("c1=1 c2=1 git=1 libgit=1"), &core, None));
        assert_eq!(shown(&first.stages), "c1+c2 / git+libgit");
        let more = pin(stages(&chosen("c1=1 c2=1 git=1 libgit=1 gdb=1"), &core, Some(&first)));
        assert_eq!(shown(&more.stages), "c1+c2 / git+libgit / gdb");
        let moved = stages(&chosen("c1=1 c2=1 git=2 libgit=1 gdb=1"), &core, Some(&more));
        assert_eq!(shown(&moved), "c1+c2 / gdb+git+libgit");
        let gone = stages(&chosen("c1=1 c2=1 git=1 libgit=1"), &core, Some(&more));
        assert_eq!(shown(&gone), "c1+c2 / git+libgit");
        let beneath = stages(&chosen("c1=2 c2=1 git=1 libgit=1 gdb=1"), &core, Some(&more));
        assert_eq!(shown(&beneath), "c1+c2 / gdb+git+libgit");
    }
}
