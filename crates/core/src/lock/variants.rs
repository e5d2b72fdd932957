//! The pins of several variants in one lock.
//!
//! At the top stand the pins of the default variant. Every other variant has those sections that differ from it, and is
//! otherwise the same; so what variants share stands once, and a change of it is one change.

use serde::{Deserialize, Serialize};

use super::{
    ArchivePin, DebianPin, DepotPin, DownloadPin, ExtensionPin, FilesPin, Lock, OciPin, PackagePin, RecordPin,
    ToolchainPin,
};
use crate::depot::EditorProfile;
use crate::seal::Seal;
use crate::spec::Spec;

/// What is pinned otherwise for one variant. A section that is left out is that of the default variant.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct VariantPins {
    /// The variant's name.
    pub name: String,
    /// Its own time stamp.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    epoch: Option<u64>,
    /// Sections of the default variant that this one does not have.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    without: Vec<Section>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    depots: Option<Vec<DepotPin>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    packages: Option<Vec<PackagePin>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    archive: Option<ArchivePin>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    oci: Option<OciPin>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    debian: Option<DebianPin>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    toolchains: Option<Vec<ToolchainPin>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    editor: Option<EditorProfile>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    extensions: Option<Vec<ExtensionPin>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    downloads: Option<Vec<DownloadPin>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    files: Option<Vec<FilesPin>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    records: Option<Vec<RecordPin>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) seal: Option<Seal>,
}

/// A section of a lock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Section {
    Depots,
    Packages,
    Archive,
    Oci,
    Debian,
    Toolchains,
    Editor,
    Extensions,
    Downloads,
    Files,
    Records,
}

/// A list of pins, of which an empty one is none.
trait Pins: Clone + PartialEq {
    type Kept;
    fn kept(&self) -> Option<Self::Kept>;
    fn none() -> Self;
    fn from_kept(kept: Self::Kept) -> Self;
}

impl<T: Clone + PartialEq> Pins for Vec<T> {
    type Kept = Self;
    fn kept(&self) -> Option<Self> {
        (!self.is_empty()).then(|| self.clone())
    }
    fn none() -> Self {
        Self::new()
    }
    fn from_kept(kept: Self) -> Self {
        kept
    }
}

impl<T: Clone + PartialEq> Pins for Option<T> {
    type Kept = T;
    fn kept(&self) -> Self {
        self.clone()
    }
    fn none() -> Self {
        None
    }
    fn from_kept(kept: T) -> Self {
        Some(kept)
    }
}

/// What is written of `own` beside `main`.
fn difference<P: Pins>(main: &P, own: &P, section: Section, without: &mut Vec<Section>) -> Option<P::Kept> {
    if main == own {
        return None;
    }
    let kept = own.kept();
    if kept.is_none() {
        without.push(section);
    }
    kept
}

/// What was meant by that.
fn resolved<P: Pins>(main: &P, own: Option<P::Kept>, section: Section, without: &[Section]) -> P {
    match own {
        Some(own) => P::from_kept(own),
        None if without.contains(&section) => P::none(),
        None => main.clone(),
    }
}

impl VariantPins {
    fn new(main: &Lock, own: &Lock) -> Self {
        let mut without = Vec::new();
        let gone = &mut without;
        Self {
            name: own.variant.clone(),
            epoch: (own.epoch != main.epoch).then_some(own.epoch),
            depots: difference(&main.depots, &own.depots, Section::Depots, gone),
            packages: difference(&main.packages, &own.packages, Section::Packages, gone),
            archive: difference(&main.archive, &own.archive, Section::Archive, gone),
            oci: difference(&main.oci, &own.oci, Section::Oci, gone),
            debian: difference(&main.debian, &own.debian, Section::Debian, gone),
            toolchains: difference(&main.toolchains, &own.toolchains, Section::Toolchains, gone),
            editor: difference(&main.editor, &own.editor, Section::Editor, gone),
            extensions: difference(&main.extensions, &own.extensions, Section::Extensions, gone),
            downloads: difference(&main.downloads, &own.downloads, Section::Downloads, gone),
            files: difference(&main.files, &own.files, Section::Files, gone),
            records: difference(&main.records, &own.records, Section::Records, gone),
            seal: own.seal.clone(),
            without,
        }
    }

    fn lock(self, main: &Lock) -> Lock {
        let gone = &self.without;
        Lock {
            lock: main.lock,
            variant: self.name,
            epoch: self.epoch.unwrap_or(main.epoch),
            depots: resolved(&main.depots, self.depots, Section::Depots, gone),
            packages: resolved(&main.packages, self.packages, Section::Packages, gone),
            archive: resolved(&main.archive, self.archive, Section::Archive, gone),
            oci: resolved(&main.oci, self.oci, Section::Oci, gone),
            debian: resolved(&main.debian, self.debian, Section::Debian, gone),
            toolchains: resolved(&main.toolchains, self.toolchains, Section::Toolchains, gone),
            editor: resolved(&main.editor, self.editor, Section::Editor, gone),
            extensions: resolved(&main.extensions, self.extensions, Section::Extensions, gone),
            downloads: resolved(&main.downloads, self.downloads, Section::Downloads, gone),
            files: resolved(&main.files, self.files, Section::Files, gone),
            records: resolved(&main.records, self.records, Section::Records, gone),
            seal: self.seal,
            variants: Vec::new(),
            sources: std::collections::BTreeMap::new(),
        }
    }
}

impl Lock {
    /// One lock of the default variant's pins and those of others.
    pub fn joined(default: Self, others: &[Self]) -> Self {
        let mut variants: Vec<_> = others.iter().map(|own| VariantPins::new(&default, own)).collect();
        variants.sort_by(|one, other| one.name.cmp(&other.name));
        Self { variants, sources: std::collections::BTreeMap::new(), ..default }
    }

    /// The pins of one variant alone.
    pub fn of_variant(&self, name: &str) -> Option<Self> {
        if name == self.variant {
            return Some(Self { variants: Vec::new(), sources: std::collections::BTreeMap::new(), ..self.clone() });
        }
        Some(self.variants.iter().find(|pins| pins.name == name)?.clone().lock(self))
    }

    /// The pins of a spec's variant, with those of the variants that it takes something from.
    pub fn of_spec(&self, spec: &Spec) -> Option<Self> {
        let mut own = self.of_variant(&spec.variant)?;
        for (name, source) in &spec.sources {
            own.sources.insert(name.clone(), self.of_spec(source)?);
        }
        Some(own)
    }

    /// The records of all variants.
    pub fn all_records(&self) -> impl Iterator<Item = &RecordPin> {
        self.records.iter().chain(self.variants.iter().flat_map(|pins| pins.records.iter().flatten()))
    }

    /// The same with other pins of one variant, and without any seal.
    #[must_use]
    pub fn with_pins(&self, own: &Self) -> Self {
        let names = std::iter::once(&self.variant).chain(self.variants.iter().map(|pins| &pins.name));
        let of = |name: &String| {
            let pins = if *name == own.variant { Some(own.clone()) } else { self.of_variant(name) };
            pins.map(|pins| Self { seal: None, ..pins })
        };
        let mut all: Vec<_> = names.filter_map(of).collect();
        let default = all.remove(0);
        Self::joined(Self { variants: Vec::new(), ..default }, &all)
    }

    /// Puts another seal into the pins of one variant; false when it has none.
    pub fn set_seal(&mut self, variant: &str, seal: Option<Seal>) -> bool {
        if variant == self.variant {
            self.seal = seal;
            return true;
        }
        let pins = self.variants.iter_mut().find(|pins| pins.name == variant);
        pins.map(|pins| pins.seal = seal).is_some()
    }

    /// The seals of all variants that have one, by name.
    pub fn seals(&self) -> impl Iterator<Item = (&str, &Seal)> {
        let own = std::iter::once((self.variant.as_str(), self.seal.as_ref()));
        let all = own.chain(self.variants.iter().map(|pins| (pins.name.as_str(), pins.seal.as_ref())));
        all.filter_map(|(name, seal)| Some((name, seal?)))
    }

    /// The names of all variants, the default one first.
    pub fn variant_names(&self) -> Vec<&str> {
        std::iter::once(self.variant.as_str()).chain(self.variants.iter().map(|pins| pins.name.as_str())).collect()
    }
}
