//! A base of which only some packages are kept: its stages are made as for a whole base, and what stays of them is one
//! layer.

use std::fs::File;

use cavrith_core::debian::trim::{self, Records};
use cavrith_core::derive::plan::{Content, PlannedLayer, Trimmed};
use cavrith_core::digest::{ContentDigest, TreeDigest};
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Tree};
use cavrith_store::Store;
use cavrith_store::known::KnownLayer;
use cavrith_store::writer::StagedLayer;

use crate::error::{BuildError, EngineError, file_error};
use crate::event::Event;
use crate::layer_cache::Ready;
use crate::stages;

/// The directory of what dpkg knows of each package.
const RECORDS: &str = "var/lib/dpkg/info";

/// The layer of a trimmed base.
pub(crate) fn make(maker: &stages::Maker<'_>, planned: &PlannedLayer, trimmed: &Trimmed) -> Result<Ready, EngineError> {
    maker.cache.layer(planned, None, || {
        let stages: Vec<_> =
            trimmed.stages.iter().map(|(name, stage)| stage_layer(name, stage, planned.time)).collect();
        let made = maker.make(&stages.iter().collect::<Vec<_>>())?;
        let (mut whole, mut layers) = (Tree::with_root(), Vec::new());
        for ready in made {
            layers.push(ready.outcome.tree);
            whole.overlay_whole(ready.tree);
        }
        (maker.context.observer)(Event::Stage { text: format!("taking {} from its stages", planned.name) });
        write(maker, &layers, &whole, &trimmed.keep)
    })
}

fn stage_layer(name: &str, stage: &cavrith_core::derive::plan::Stage, time: u64) -> PlannedLayer {
    PlannedLayer { name: name.to_owned(), content: Content::Stage(stage.clone()), time }
}

/// What stays of a whole base, with the reason for each path; `layers` are its stages.
///
/// # Errors
/// A package that the base does not have; records that cannot be read.
pub fn decide(
    store: &Store,
    layers: &[TreeDigest],
    whole: &Tree,
    keep: &[String],
) -> Result<trim::Trimmed, EngineError> {
    let path = |text: &str| RootPath::from_archive(text.as_bytes()).unwrap_or_else(|bad| panic!("BUG: {bad}"));
    let read =
        |path: &RootPath| Ok::<_, EngineError>(store.file_of_image(layers.iter(), whole, path)?.unwrap_or_default());
    let status = read(&path(trim::STATUS))?;
    let mut lists = Vec::new();
    for (record, _) in whole.under(&path(RECORDS)) {
        let name = String::from_utf8_lossy(record.name().unwrap_or_default()).into_owned();
        if let Some(package) = name.strip_suffix(".list") {
            lists.push((package.to_owned(), read(record)?));
        }
    }
    let lists_by_name = lists.iter().map(|(name, list)| (name.as_str(), list.as_slice()));
    let records = Records::read(whole, &String::from_utf8_lossy(&status), lists_by_name);
    trim::trim(whole, &records, keep).map_err(|bad| EngineError::Build(BuildError::KeptPackage { name: bad.name }))
}

fn write(
    maker: &stages::Maker<'_>,
    layers: &[TreeDigest],
    whole: &Tree,
    keep: &[String],
) -> Result<StagedLayer, EngineError> {
    let store = maker.context.store;
    let trimmed = decide(store, layers, whole, keep)?;
    let mut tree = trimmed.tree(whole);
    // The one file that is not as it was: the list of packages without those that went.
    let list = RootPath::from_archive(trim::STATUS.as_bytes()).unwrap_or_else(|bad| panic!("BUG: {bad}"));
    let status = store.file_of_image(layers.iter(), whole, &list)?.unwrap_or_default();
    let status = trimmed.status(&String::from_utf8_lossy(&status));
    if let Some(entry) = tree.entries.get_mut(&list) {
        let content = ContentDigest::of(status.as_bytes());
        entry.kind = Kind::File { size: status.len() as u64, content, links: None };
    }
    let files = tree.entries.iter().filter(|(_, entry)| matches!(entry.kind, Kind::File { .. }));
    let files: Vec<_> = files.map(|(path, _)| path.clone()).collect();
    let mut layer = KnownLayer::new(maker.context.staging.new_dir()?, tree, store.ownership())?;
    for path in files {
        if path == list {
            layer.file(&path, &mut status.as_bytes())?;
            continue;
        }
        let Some(place) = store.place_in_image(layers.iter(), whole, &path) else { continue };
        let mut file = File::open(&place).map_err(file_error("read", &place))?;
        layer.file(&path, &mut file)?;
    }
    Ok(layer.finish()?)
}
