//! `cavrith editor`

use cavrith_core::lock::choose::Update;
use cavrith_core::version::Version;
use cavrith_engine::{editing, project, survey};
use serde_json::json;

use crate::args::{Editor, EditorAdd, General};
use crate::build_env;
use crate::commands::Outcome;
use crate::failure::Failure;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Editor) -> Outcome {
    let Editor::Add(add) = command;
    let dir = project::find(general.project())?;
    let version = match &add.release {
        Some(version) => {
            let wanted = Version::new(version).map_err(|error| Failure::Own(2, error.to_string()))?;
            offered(&dir, add, &wanted)?;
            wanted.to_string()
        }
        None => newest(&dir, add)?,
    };
    let before = editing::add_extension(&dir, &add.id, &version)?;
    if add.report.json {
        screen.json(&json!({ "extension": add.id, "version": version, "before": before }));
        return Ok(0);
    }
    let done = match before {
        Some(before) if before == version => format!("{} {version} is in the spec already", add.id),
        Some(before) => format!("{} {before} → {version} in the spec; run cavrith lock", add.id),
        None => format!("{} {version} to the spec; run cavrith lock", add.id),
    };
    if !screen.quiet {
        screen.result(format_args!("{} {done}", styled(screen.out.good, "added")));
    }
    Ok(0)
}

/// Refuses a version that no depot has, where depots have some of the extension.
fn offered(dir: &std::path::Path, add: &EditorAdd, wanted: &Version) -> Result<(), Failure> {
    // Whether there is such an extension at all.
    newest(dir, add)?;
    let store = build_env::store().ok().map(|(_, store)| store);
    let survey = survey::survey(dir, &build_env::web(), store.as_ref(), &Update::Nothing)?;
    let all = survey.offers.values().flat_map(|offer| &offer.index.extensions);
    let versions: Vec<_> = all.filter(|extension| extension.id == add.id).map(|extension| &extension.version).collect();
    if versions.iter().any(|version| version.answers(wanted)) {
        return Ok(());
    }
    let known: Vec<_> = versions.iter().map(ToString::to_string).collect();
    let text = format!("no depot of this project has {} in version {wanted}; they have {}", add.id, known.join(", "));
    Err(Failure::Own(1, text))
}

/// The newest version that the depots offer, without its last number when it has three: what comes after it is taken by
/// `lock --update`.
fn newest(dir: &std::path::Path, add: &EditorAdd) -> Result<String, Failure> {
    let store = build_env::store().ok().map(|(_, store)| store);
    let survey = survey::survey(dir, &build_env::web(), store.as_ref(), &Update::Nothing)?;
    let all = || survey.offers.values().flat_map(|offer| &offer.index.extensions);
    let newest = all().filter(|extension| extension.id == add.id).map(|extension| &extension.version).max();
    let Some(newest) = newest else {
        let known: Vec<_> = all().map(|extension| extension.id.as_str()).collect();
        let remedy = match cavrith_core::mistake::nearest(&add.id, known.iter().copied()) {
            Some(meant) => format!("did you mean {meant}?"),
            None if known.is_empty() => "there are no extensions in the depots".to_owned(),
            None => format!("they have {}", known.join(", ")),
        };
        return Err(Failure::Own(1, format!("no depot of this project has an extension {}; {remedy}", add.id)));
    };
    let numbers: Vec<_> = newest.as_str().split('.').collect();
    let plain = numbers.len() == 3 && numbers.iter().all(|number| number.bytes().all(|byte| byte.is_ascii_digit()));
    Ok(if plain { numbers[..2].join(".") } else { newest.to_string() })
}
