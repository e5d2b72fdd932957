//! The kept folders of a project's workspaces. What lies in them is the member's own and never counts; that each is
//! there, and is a folder of the spec's, does.

use cavrith_core::arrangement::{Arrangement, Place as FilesPlace};
use cavrith_core::verdict::{Aspect, Difference, count, size};
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;

use crate::kept;

/// The aspect of a workspace that was started, when it or its spec keeps folders. A quick look does not count what is
/// in them.
pub(super) fn aspect(place: &Place, spec: &Arrangement, quick: bool) -> Option<Aspect> {
    let record = Record::read(&place.dir)?;
    // They are on the machine's disk; that each is mounted is told with what runs.
    if record.arrangement.machine.is_some() {
        return None;
    }
    let names = |arrangement: &Arrangement| -> Vec<String> {
        let folders = arrangement.folders.iter();
        let kept = folders.filter_map(|folder| match &folder.place {
            FilesPlace::Kept(name, _) => Some(name.clone()),
            FilesPlace::Live(_) | FilesPlace::Synced(..) => None,
        });
        kept.collect()
    };
    let (mut differences, mut measured) = (Vec::new(), Vec::new());
    // Those of the spec that was started; what another spec wants is a pending change, and told as that.
    for name in names(&record.arrangement) {
        let path = place.kept.join(&name);
        let what = format!("kept folder {name}");
        match path.symlink_metadata() {
            Ok(meta) if meta.is_dir() && quick => measured.push(name),
            Ok(meta) if meta.is_dir() => {
                let inside = kept::measure(place, &name, &path);
                let entries = usize::try_from(inside.entries).unwrap_or(usize::MAX);
                let entries = if entries == 1 { "1 entry".to_owned() } else { format!("{entries} entries") };
                measured.push(format!("{name}: {entries}, {}", size(inside.bytes)));
            }
            Ok(_) => differences.push(Difference::new(what, "a folder", "something else is in its place")),
            Err(_) => differences.push(Difference::new(what, "a folder", "gone")),
        }
    }
    let wanted = names(spec);
    let mut left: Vec<_> = std::fs::read_dir(&place.kept).into_iter().flatten().flatten().collect();
    left.retain(|entry| !entry.file_name().to_string_lossy().starts_with('.'));
    let left = left.iter().filter(|entry| !wanted.iter().any(|name| *entry.file_name() == **name)).count();
    if left > 0 {
        measured.push(format!("your own: {} that the spec names no more", count(left, "folder")));
    }
    if measured.is_empty() && differences.is_empty() {
        return None;
    }
    let name = if place.named { format!("kept folders of {}", place.name) } else { "kept folders".to_owned() };
    Some(Aspect::new(name, measured.join("; "), differences))
}
