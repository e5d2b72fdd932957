//! That what is locked does not lie in each other's way.

use super::Lock;
use crate::mistake::{Code, Mistake};
use crate::path::RootPath;
use crate::spec::Spec;

/// Toolchains, extensions and folders each need a place of their own.
pub(super) fn keep_apart(spec: &Spec, lock: &Lock, mistakes: &mut Vec<Mistake>) {
    let mut places = Vec::new();
    // What comes with the base lies where the base has it.
    for pin in lock.toolchains.iter().filter(|pin| pin.source.is_some()) {
        let span = spec.toolchains.get(&pin.name).map_or(0..0, |wanted| wanted.span.clone());
        places.push((format!("the toolchain {}", pin.name), pin.place.clone(), span));
    }
    for pin in &lock.extensions {
        let span = spec.editor.as_ref().and_then(|editor| Some(editor.extensions.get(&pin.id)?.span.clone()));
        places.push((format!("the extension {}", pin.id), pin.place.clone(), span.unwrap_or_default()));
    }
    for download in &spec.downloads {
        let name = format!("the download {}", download.name.value);
        places.push((name, download.inside.value.to_string(), download.inside.span.clone()));
    }
    for folder in &spec.folders {
        places.push((
            format!("the folder {}", folder.inside.value),
            folder.inside.value.to_string(),
            folder.inside.span.clone(),
        ));
    }
    let paths: Vec<_> = places.iter().filter_map(|(_, place, _)| RootPath::from_absolute(place).ok()).collect();
    for (later, (name, place, span)) in places.iter().enumerate().take(paths.len()) {
        for (earlier, (other, _, other_span)) in places[..later].iter().enumerate() {
            // Folders that meet each other or a download are reported by the spec's own rules.
            let folders = name.starts_with("the folder")
                && !other.starts_with("the toolchain")
                && !other.starts_with("the extension");
            if !folders && (paths[later].lies_in(&paths[earlier]) || paths[earlier].lies_in(&paths[later])) {
                let message = format!("{name} and {other} would lie at the same place inside, {place}");
                let remedy = "give the folder another inside path, or the depot's entry another place";
                let mistake = Mistake::new(Code::PLACES_MEET, span.clone(), message, remedy);
                mistakes.push(mistake.noting("this").against(other_span.clone(), "and this"));
            }
        }
    }
}
