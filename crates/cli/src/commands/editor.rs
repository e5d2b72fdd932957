//! `cavrith editor`

use std::collections::BTreeMap;

use cavrith_core::depot::Extension;
use cavrith_core::spec::Spec;
use cavrith_core::version::Version;
use cavrith_engine::findings::Findings;
use cavrith_engine::{editing, project, survey};
use serde_json::json;

use crate::args::{Editor, EditorAdd, General};
use crate::build_env;
use crate::choosing;
use crate::commands::Outcome;
use crate::failure::Failure;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Editor) -> Outcome {
    let Editor::Add(add) = command;
    let dir = project::find(general.project())?;
    let store = build_env::store().ok().map(|(_, store)| store);
    let (_, parsed) = project::read_spec(&dir)?;
    let spec = parsed.draft();
    let offers = spec.map(|spec| {
        // A depot that cannot be read is for check; the others may have it.
        survey::offered(&dir, spec, &build_env::web(), store.as_ref(), &mut Findings::default())
    });
    let offered: Vec<_> = offers.iter().flatten().flat_map(|(_, offer)| &offer.index.extensions).collect();
    let id = match &add.id {
        Some(id) => id.clone(),
        None => chosen(screen, add, &offered, spec)?,
    };
    let newest = newest(&id, &offered)?;
    let version = match &add.release {
        Some(version) => {
            let wanted = Version::new(version).map_err(|error| Failure::Own(2, error.to_string()))?;
            has_version(&id, &wanted, &offered)?;
            wanted.to_string()
        }
        None => newest,
    };
    let before = editing::add_extension(&dir, &id, &version)?;
    if add.report.json {
        screen.json(&json!({ "extension": id, "version": version, "before": before }));
        return Ok(0);
    }
    let done = match before {
        Some(before) if before == version => format!("{id} {version} is in the spec already"),
        Some(before) => format!("{id} {before} → {version} in the spec; run cavrith lock"),
        None => format!("{id} {version} to the spec; run cavrith lock"),
    };
    if !screen.quiet {
        screen.result(format_args!("{} {done}", styled(screen.out.good, "added")));
    }
    Ok(0)
}

/// The extension that somebody chooses from a list.
fn chosen(screen: &Screen, add: &EditorAdd, offered: &[&Extension], spec: Option<&Spec>) -> Result<String, Failure> {
    let editor = spec.and_then(|spec| spec.editor.as_ref());
    let has = |id: &str| editor.is_some_and(|editor| editor.extensions.contains_key(id));
    // The newest of each.
    let mut all: BTreeMap<&str, &Version> = BTreeMap::new();
    for extension in offered {
        let version = all.entry(&extension.id).or_insert(&extension.version);
        *version = (*version).max(&extension.version);
    }
    if all.is_empty() {
        let text = "no depot of this project has an extension; cavrith depot add DIR FILE brings one into a depot";
        return Err(Failure::Own(1, text.to_owned()));
    }
    let ids: Vec<_> = all.keys().copied().collect();
    let lines = all.iter().map(|(id, version)| format!("{id} {version}{}", if has(id) { "  in the spec" } else { "" }));
    let text = format!("which extension? Write its id; the depots have {}", ids.join(", "));
    let question = "which extension? Type to find one";
    let number = choosing::one_of(screen, !add.report.json, question, &lines.collect::<Vec<_>>(), text)?;
    Ok(ids[number].to_owned())
}

/// Refuses a version that no depot has.
fn has_version(id: &str, wanted: &Version, offered: &[&Extension]) -> Result<(), Failure> {
    let versions = offered.iter().filter(|extension| extension.id == id).map(|extension| &extension.version);
    let versions: Vec<_> = versions.collect();
    if versions.iter().any(|version| version.answers(wanted)) {
        return Ok(());
    }
    let known: Vec<_> = versions.iter().map(ToString::to_string).collect();
    let text = format!("no depot of this project has {id} in version {wanted}; they have {}", known.join(", "));
    Err(Failure::Own(1, text))
}

/// The newest version that the depots offer, without its last number when it has three: what comes after it is taken by
/// `lock --update`.
fn newest(id: &str, offered: &[&Extension]) -> Result<String, Failure> {
    let newest = offered.iter().filter(|extension| extension.id == id).map(|extension| &extension.version).max();
    let Some(newest) = newest else {
        let known: Vec<_> = offered.iter().map(|extension| extension.id.as_str()).collect();
        let remedy = match cavrith_core::mistake::nearest(id, known.iter().copied()) {
            Some(meant) => format!("did you mean {meant}?"),
            None if known.is_empty() => "there are no extensions in the depots".to_owned(),
            None => format!("they have {}", known.join(", ")),
        };
        return Err(Failure::Own(1, format!("no depot of this project has an extension {id}; {remedy}")));
    };
    let numbers: Vec<_> = newest.as_str().split('.').collect();
    let plain = numbers.len() == 3 && numbers.iter().all(|number| number.bytes().all(|byte| byte.is_ascii_digit()));
    Ok(if plain { numbers[..2].join(".") } else { newest.to_string() })
}
