//! Workspaces of projects that were moved: found again, and brought to the project's name.

use std::fs;
use std::path::Path;

use cavrith_engine::home::Home;

use crate::WorkspaceError;
use cavrith_keeper::folder_identity::note;
use cavrith_keeper::place::{Place, id_of};

/// Brings what belongs to a project under other paths to its name now: workspaces, and what dropped ones kept. What
/// runs is left until it has ended. Where several claim the same name, the one that ran last gets it, and the others
/// stay as they are.
///
/// # Errors
/// When the disk refuses.
pub fn adopt(home: &Home, project: &Path) -> Result<(), WorkspaceError> {
    let mut all = Place::all(home);
    all.extend(Place::dropped(home));
    let mut moved: Vec<_> = all.into_iter().filter(|place| place.project != *project && place.is_of(project)).collect();
    let last = |place: &Place| fs::metadata(place.dir.join("record")).and_then(|meta| meta.modified()).ok();
    moved.sort_by_key(|place| std::cmp::Reverse(last(place)));
    for place in moved {
        let own = place.named.then_some(place.name.as_str());
        let entry = format!("{}-{}", place.name, id_of(project, own));
        let to = Place {
            dir: home.workspaces().join(&entry),
            kept: home.kept().join(&entry),
            project: project.to_owned(),
            ..place.clone()
        };
        if place.is_held() || to.dir.exists() || to.kept.exists() && place.kept.exists() {
            continue;
        }
        // Nobody else begins it meanwhile.
        let held = if place.dir.is_dir() { Some(place.hold()?) } else { None };
        place.rename(&to)?;
        if to.dir.is_dir() {
            note(&to.project, &to.dir, "")?;
        }
        if to.kept.is_dir() {
            note(&to.project, &to.kept, ".")?;
        }
        drop(held);
    }
    Ok(())
}
