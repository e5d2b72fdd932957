//! The bill of materials of a project's image, with what the image itself tells of licences.

use std::collections::BTreeSet;

use cavrith_core::contents::installed::{Description, Installed};
use cavrith_core::contents::{self, Item, declared, fetched, items};
use cavrith_core::debian::trim::STATUS;
use cavrith_core::derive::plan::{Content, Plan, PlannedLayer};
use cavrith_core::digest::{Sha256Digest, TreeDigest};
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Tree};
use cavrith_sources::deb;
use cavrith_store::Store;
use cavrith_store::records::ImageRecord;

use crate::bodies;
use crate::culprit::Packages;
use crate::error::EngineError;
use crate::project::Project;
use crate::trimming;

/// Everything that a lock pins and the image has; with licences, when it is built. Which packages of a trimmed base
/// stay is known then only; before, none is listed.
///
/// # Errors
/// A store that cannot be read.
pub fn list(
    store: &Store,
    project: &Project,
    lock: &Lock,
    image: Option<&ImageRecord>,
) -> Result<Vec<Item>, EngineError> {
    let mut items = items(&project.spec, lock);
    let records = lock.records.iter().map(|pin| bodies::pinned(project, pin));
    items.extend(fetched(&records.collect::<Result<Vec<_>, _>>()?));
    let trimmed = project.spec.is_trimmed();
    let Some(image) = image else {
        items.retain(|item| !trimmed || item.kind != "package");
        return Ok(items);
    };
    let mut merged = Tree::with_root();
    for layer in &image.layers {
        merged.overlay_whole(store.layer_tree(&layer.tree)?);
    }
    if trimmed {
        let layers = image.layers.iter().map(|layer| &layer.tree);
        let list = RootPath::from_archive(STATUS.as_bytes()).ok();
        let list = list.map(|list| store.file_of_image(layers, &merged, &list)).transpose()?.flatten();
        let stay = deb::parse_status(&String::from_utf8_lossy(&list.unwrap_or_default()));
        let stay: BTreeSet<_> = stay.into_iter().map(|package| package.name).collect();
        items.retain(|item| item.kind != "package" || stay.contains(&item.name));
    }
    for item in items.iter_mut().filter(|item| item.kind == "package") {
        let path = RootPath::from_archive(format!("usr/share/doc/{}/copyright", item.name).as_bytes()).ok();
        let Some(place) = path.and_then(|path| merged.resolve(&path)) else { continue };
        let layers = image.layers.iter().map(|layer| &layer.tree);
        if let Some(bytes) = store.file_of_image(layers, &merged, &place)? {
            item.licences = declared(&String::from_utf8_lossy(&bytes));
        }
    }
    contents::add_installed(&mut items, installed(store, project, lock, image, &merged)?);
    Ok(items)
}

/// The packages of languages that an image has over its base, whose own are among the packages of that.
fn installed(
    store: &Store,
    project: &Project,
    lock: &Lock,
    image: &ImageRecord,
    merged: &Tree,
) -> Result<Vec<(Installed, String, Sha256Digest)>, EngineError> {
    let plan = Plan::new(&project.spec, lock);
    let mut base = Tree::with_root();
    for (planned, layer) in plan.layers.iter().zip(&image.layers) {
        if planned.content.is_base() && lock.debian.is_some() {
            base.overlay_whole(store.layer_tree(&layer.tree)?);
        }
    }
    let mut all = Vec::new();
    for (path, entry) in &merged.entries {
        let is_file = matches!(entry.kind, Kind::File { .. });
        let Some(description) = Description::at(path).filter(|_| is_file && base.get(path) != Some(entry)) else {
            continue;
        };
        let layers = image.layers.iter().map(|layer| &layer.tree);
        let bytes = store.file_of_image(layers, merged, path)?.unwrap_or_default();
        let text = if description.is_text() { String::from_utf8_lossy(&bytes) } else { "".into() };
        let sha256 = Sha256Digest::of(&bytes);
        all.extend(description.read(path, &text).into_iter().map(|one| (one, path.to_string(), sha256)));
    }
    Ok(all)
}

/// Why a path is in an image, or is not.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Why {
    /// Where it really lies.
    pub path: String,
    /// What it is; nothing when the image does not have it.
    pub kind: Option<&'static str>,
    /// The uppermost layer that brings it.
    pub layer: Option<String>,
    /// The package that it is from, or the script of which made it, in words.
    pub origin: Option<String>,
    /// In a trimmed base: the rule by which it stays, or that none keeps it.
    pub rule: Option<String>,
}

/// Says of a path which layer and package it is from and, where the base is trimmed, by which rule it stays.
///
/// # Errors
/// A store that cannot be read.
pub fn why(
    store: &Store,
    project: &Project,
    lock: &Lock,
    image: &ImageRecord,
    path: &RootPath,
) -> Result<Why, EngineError> {
    let trees = image.layers.iter().map(|layer| Ok((layer, store.layer_tree(&layer.tree)?)));
    let trees = trees.collect::<Result<Vec<_>, EngineError>>()?;
    let merged = Tree::merged(trees.iter().map(|(_, tree)| tree));
    let place = merged.resolve_parent(path).unwrap_or_else(|| path.clone());
    let entry = merged.get(&place);
    let brings = trees.iter().rev().find(|(_, tree)| tree.get(&place).is_some()).filter(|_| entry.is_some());
    let mut found = Why {
        path: place.to_string(),
        kind: entry.map(|entry| entry.kind.word()),
        layer: brings.map(|(layer, _)| layer.name.clone()),
        origin: None,
        rule: None,
    };
    let of_layers = |layers: &[(TreeDigest, &Tree)]| {
        let origins = layers.iter().rev().filter(|(_, tree)| tree.get(&place).is_some());
        let origin = origins.filter_map(|(layer, tree)| Packages::of(store, layer, tree).origin(&place)).next();
        origin.map(|origin| origin.to_string())
    };
    let plan = Plan::new(&project.spec, lock);
    let trimmed = plan.layers.iter().find_map(|layer| match &layer.content {
        Content::Trimmed(trimmed) => Some((layer, trimmed)),
        _ => None,
    });
    let Some((layer, trimmed)) = trimmed else {
        found.origin = of_layers(&trees.iter().map(|(layer, tree)| (layer.tree, tree)).collect::<Vec<_>>());
        return Ok(found);
    };
    let mut stages = Vec::new();
    for (name, stage) in &trimmed.stages {
        let planned = PlannedLayer { name: name.clone(), content: Content::Stage(stage.clone()), time: layer.time };
        let known = store.layer_for(&plan.key(&planned, None));
        let Some((digest, tree)) = known.and_then(|digest| Some((digest, store.layer_tree(&digest).ok()?))) else {
            found.rule =
                Some("not known: the whole base is not in this store; cavrith build --fresh makes it".to_owned());
            return Ok(found);
        };
        stages.push((digest, tree));
    }
    let whole = Tree::merged(stages.iter().map(|(_, tree)| tree));
    let layers: Vec<_> = stages.iter().map(|(digest, _)| *digest).collect();
    found.origin = of_layers(&stages.iter().map(|(digest, tree)| (*digest, tree)).collect::<Vec<_>>());
    let decided = trimming::decide(store, &layers, &whole, &trimmed.keep)?;
    found.rule = match decided.paths.get(&place) {
        Some(rule) => Some(format!("stays: {rule}")),
        None if whole.get(&place).is_some() => Some("left out: nothing that is kept needs it".to_owned()),
        None => None,
    };
    Ok(found)
}
