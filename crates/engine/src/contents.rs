//! The bill of materials of a project's image, with what the image itself tells of licences.

use cavrith_core::contents::{Item, declared, items};
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::tree::Tree;
use cavrith_store::Store;
use cavrith_store::records::ImageRecord;

use crate::error::EngineError;
use crate::project::Project;

/// Everything that a lock pins; with licences, when the image is built.
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
    let Some(image) = image else { return Ok(items) };
    let mut merged = Tree::with_root();
    for layer in &image.layers {
        merged.overlay_whole(store.layer_tree(&layer.tree)?);
    }
    for item in items.iter_mut().filter(|item| item.kind == "package") {
        let path = RootPath::from_archive(format!("usr/share/doc/{}/copyright", item.name).as_bytes()).ok();
        let Some(place) = path.and_then(|path| merged.resolve(&path)) else { continue };
        let layers = image.layers.iter().map(|layer| &layer.tree);
        if let Some(bytes) = store.file_of_image(layers, &merged, &place)? {
            item.licences = declared(&String::from_utf8_lossy(&bytes));
        }
    }
    Ok(items)
}
