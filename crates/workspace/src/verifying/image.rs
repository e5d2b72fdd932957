//! The image as it is on disk, every byte of it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use cavrith_core::digest::TreeDigest;
use cavrith_core::listing::{Listing, shortened};
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::seal::{Seal, SealedLayer};
use cavrith_core::spec::Spec;
use cavrith_core::tree::Tree;
use cavrith_core::tree::diff::changes;
use cavrith_core::verdict::{Aspect, Difference, NOTHING, count, size};
use cavrith_engine::context::BuildContext;
use cavrith_engine::culprit::Packages;
use cavrith_engine::listing;
use cavrith_keeper::record;
use cavrith_sources::deb;
use cavrith_store::StoreError;
use cavrith_store::records::ImageRecord;
use cavrith_store::stamps::Stamped;

use crate::WorkspaceError;

/// The image as it is on disk now.
pub(super) struct Image<'a> {
    context: BuildContext<'a>,
    pub record: &'a ImageRecord,
    /// The merged tree, measured.
    pub merged: Tree,
    differences: Vec<Difference>,
    /// Layers that were not read, and when the first of them was read last, in milliseconds since 1970.
    trusted: Option<(usize, u64)>,
    /// Nothing was read, and [`Self::merged`] is empty.
    pub all_trusted: bool,
}

impl<'a> Image<'a> {
    /// Reads every byte of every layer; with `quick`, of those alone that do not look as when they were last read.
    pub fn measure(context: BuildContext<'a>, record: &'a ImageRecord, quick: bool) -> Result<Self, StoreError> {
        let store = context.store;
        let mut merged = Tree::with_root();
        let mut differences = Vec::new();
        // Missing ones are told when they are to be read.
        let looks = |layer: &SealedLayer| Some((store.stamped(&layer.tree)?, store.stamp(&layer.tree).ok()?));
        let as_it_was =
            |layer: &SealedLayer| looks(layer).filter(|(was, stamp)| was.stamp == *stamp).map(|(was, _)| was);
        let trust: Vec<_> = record.layers.iter().map(|layer| if quick { as_it_was(layer) } else { None }).collect();
        let since = trust.iter().flatten().map(|was| was.read_at).min();
        let trusted = since.map(|since| (trust.iter().flatten().count(), since));
        if quick && trust.iter().all(Option::is_some) {
            return Ok(Self { context, record, merged, differences, trusted, all_trusted: true });
        }
        for (layer, trust) in record.layers.iter().zip(trust) {
            let listed = store.layer_tree(&layer.tree);
            if trust.is_some()
                && let Ok(listed) = listed
            {
                merged.overlay_whole(listed);
                continue;
            }
            // One that cannot be looked through is told below.
            let stamp = store.stamp(&layer.tree).ok();
            let nothing = Tree::with_root();
            let measure = store.measure(&layer.tree, listed.as_ref().unwrap_or(&nothing))?;
            let mut found = Vec::new();
            match listed {
                Ok(expected) => {
                    let changes = changes(&expected, &measure.tree);
                    found.extend(changes.iter().map(|change| Difference::of_change(change, None)));
                    // A change that brought a fraction of a second along is reported already, and so is one in a
                    // directory.
                    let own = changes.iter().map(|change| change.path.clone());
                    let above = changes.iter().filter_map(|change| change.path.parent());
                    let reported: BTreeSet<_> = own.chain(above).collect();
                    let strange = measure.strange.iter().filter(|(path, _)| !reported.contains(path));
                    found.extend(strange.map(|(path, what)| Difference::new(path.to_string(), NOTHING, *what)));
                }
                Err(error) => found.push(Difference::new("the layer's list", layer.tree.spoken(), error.to_string())),
            }
            // What somebody changed while it was read is read again the next time.
            if let Some(stamp) =
                stamp.filter(|stamp| found.is_empty() && store.stamp(&layer.tree).is_ok_and(|now| now == *stamp))
            {
                store.remember_stamp(&layer.tree, &Stamped { stamp, read_at: record::now() })?;
            }
            differences.extend(
                found.into_iter().map(|difference| Difference { from: Some(layer.name.clone()), ..difference }),
            );
            merged.overlay_whole(measure.tree);
        }
        Ok(Self { context, record, merged, differences, trusted, all_trusted: false })
    }

    /// The image against the seal: what was changed on the disk, and in which layers and files it came out differently.
    pub fn aspect(&self, dir: &Path, seal: &Seal) -> Result<Aspect, StoreError> {
        let mut differences = self.differences.clone();
        let mut unmeasured = Vec::new();
        let sealed: BTreeMap<_, _> = seal.layers.iter().map(|layer| (&layer.name, layer.tree)).collect();
        let here: BTreeMap<_, _> = self.record.layers.iter().map(|layer| (&layer.name, layer.tree)).collect();
        let names: BTreeSet<_> = sealed.keys().chain(here.keys()).collect();
        let mut listing = None;
        for name in names.into_iter().filter(|name| sealed.get(*name) != here.get(*name)) {
            let spoken =
                |layers: &BTreeMap<_, TreeDigest>| layers.get(name).map_or(NOTHING.to_owned(), TreeDigest::spoken);
            differences.push(Difference::new(format!("layer {name}"), spoken(&sealed), spoken(&here)));
            // Of a layer that only one side has, there is no more to say than its name.
            let (Some(tree), true, Some(digest)) = (here.get(name), sealed.contains_key(name), &seal.listing) else {
                continue;
            };
            match listing.get_or_insert_with(|| listing::read(dir, digest)) {
                Ok(listing) => differences.extend(self.files(listing, name, tree)?),
                Err(why) => unmeasured.push(format!("which files of the layer {name} differ: {why}")),
            }
        }
        let found = if self.all_trusted { self.record.image } else { self.merged.image_fingerprint() };
        if found != seal.image && differences.is_empty() {
            differences.push(Difference::new("image", seal.image.spoken(), found.spoken()));
        }
        let entries = if self.all_trusted { self.record.entries } else { self.merged.entries.len() as u64 };
        let measured = match self.trusted {
            None => format!("{entries} entries, {} read", size(self.merged.content_bytes())),
            Some((layers, since)) => {
                let since = i64::try_from(since).ok().and_then(|millis| jiff::Timestamp::from_millisecond(millis).ok());
                let since =
                    since.map_or_else(String::new, |since| format!(" since {}", since.strftime("%Y-%m-%d %H:%M UTC")));
                let layers = count(layers, "layer");
                format!("{entries} entries; of {layers} only sizes and times, which are as they were{since}")
            }
        };
        Ok(Aspect { unmeasured, ..Aspect::new("image", measured, differences) })
    }

    /// The files in which a layer that was built here is not the one that was sealed.
    fn files(&self, listing: &Listing, name: &str, tree: &TreeDigest) -> Result<Vec<Difference>, StoreError> {
        let Some(sealed) = listing.layer(name) else { return Ok(Vec::new()) };
        let here = shortened(self.context.store.layer_tree(tree)?);
        let packages = Packages::of(self.context.store, tree, &here);
        Ok(changes(sealed, &here).iter().map(|change| packages.difference(change, name)).collect())
    }

    /// The content of a file of the image, from the uppermost layer that has it.
    pub fn read(&self, path: &str) -> Option<Vec<u8>> {
        let path = RootPath::from_archive(path.as_bytes()).ok()?;
        let layers = self.record.layers.iter().map(|layer| &layer.tree);
        self.context.store.file_of_image(layers, &self.merged, &path).ok()?
    }

    /// What dpkg's records inside say, against the lock.
    pub fn packages(&self, spec: &Spec, lock: &Lock) -> Result<Aspect, WorkspaceError> {
        let status = self.read("var/lib/dpkg/status").unwrap_or_default();
        let listed = deb::parse_status(&String::from_utf8_lossy(&status));
        let version = |package: &deb::Listed| {
            if package.installed { package.version.clone() } else { format!("{}, not installed", package.version) }
        };
        let here: BTreeMap<_, _> = listed.iter().map(|package| (package.name.clone(), version(package))).collect();
        let mut differences = Vec::new();
        let pinned: BTreeMap<&str, &str> = lock
            .packages
            .iter()
            .map(|pin| (pin.name.as_str(), pin.version.as_str()))
            .chain(
                lock.debian
                    .iter()
                    .flat_map(|debian| debian.packages())
                    .map(|(name, pin)| (name.as_str(), pin.version.as_str())),
            )
            .collect();
        // Which packages of a trimmed base stay follows from its stages; the image's fingerprint holds that.
        let trimmed = spec.is_trimmed();
        for (name, version) in pinned.iter().filter(|(name, _)| !trimmed || here.contains_key(**name)) {
            let found = here.get(*name).map_or(NOTHING, String::as_str);
            if found != *version {
                differences.push(Difference::new(*name, *version, found));
            }
        }
        // A base from an archive, or a step, may bring packages of its own; the image's fingerprint holds those.
        let extra = here
            .iter()
            .filter(|(name, _)| lock.archive.is_none() && lock.oci.is_none() && !pinned.contains_key(name.as_str()));
        differences.extend(extra.map(|(name, version)| Difference::new(name.clone(), NOTHING, version.clone())));
        Ok(Aspect::new("packages", count(here.len(), "package"), differences))
    }
}
