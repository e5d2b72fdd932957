//! `cavrith init`

use std::path::Path;

use cavrith_core::first_spec::{self, Finding, FirstSpec, Fit, Sight};
use cavrith_engine::depots;
use cavrith_engine::init_spec;
use cavrith_engine::project;
use cavrith_keeper::place;
use serde_json::json;

use crate::args::{General, Init};
use crate::build_env::{self, BuildEnv, StoreSession};
use crate::choosing;
use crate::commands::{Outcome, drift, join};
use crate::failure::Failure;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Init) -> Outcome {
    // A first spec is written where one is, not above it.
    let dir = project::folder(general.project())?;
    // A depot is no spec to begin with; what is meant is one that brings its toolchains.
    let meant = command.from.as_ref().and_then(Option::as_ref).filter(|_| command.depot.is_none());
    let as_depot = meant.filter(|source| init_spec::is_depot(Path::new(source)));
    let depot = match as_depot {
        Some(source) => Some(init_spec::relative(&dir, Path::new(source))),
        None => command.depot.clone(),
    };
    match &command.from {
        _ if as_depot.is_some() => {}
        None => {}
        Some(None) => return templates(screen, command, &dir),
        Some(Some(source)) => return from(general, screen, command, &dir, source),
    }
    let store = build_env::store().ok().map(|(_, store)| store);
    let basis = init_spec::look(&dir, depot.as_deref(), &build_env::web(), store.as_ref())?;
    let suite = match &command.suite {
        None if basis.is_of_archive() => chosen_suite(screen, command, &basis.seen)?,
        suite => suite.clone(),
    };
    let begun = init_spec::write_first(&dir, basis, suite.as_deref())?;
    let FirstSpec { text, guessed, open } = &begun.spec;
    if command.report.json {
        screen.json(&json!({ "seen": begun.seen, "guessed": guessed, "open": open, "text": text }));
        return Ok(0);
    }
    if screen.quiet {
        return Ok(0);
    }
    for sight in begun.seen.iter().filter(|sight| !matches!(sight.finding, Finding::Left(_))) {
        let words = sight.finding.words();
        screen.result(format_args!("{}     {}: {words}", styled(screen.out.good, "seen"), sight.file));
    }
    if begun.seen.is_empty() {
        screen.result(format_args!(
            "{}     nothing that tells which toolchains the project needs",
            styled(screen.out.warning, "seen")
        ));
    }
    for guess in guessed {
        screen.result(format_args!("{}  {guess}", styled(screen.out.warning, "guessed")));
    }
    for one in open {
        screen.result(format_args!("{}     {one}", styled(screen.out.bad, "open")));
    }
    let records = begun.seen.iter().any(|sight| matches!(sight.finding, Finding::Install { .. }));
    let lock = if records { "cavrith lock --record" } else { "cavrith lock" };
    screen.result(format_args!(
        "{} cavrith.toml; look it over, then run cavrith check, {lock}, cavrith start",
        styled(screen.out.good, "wrote")
    ));
    Ok(0)
}

/// The suite that a person chooses, where none has every version that is asked for and there is somebody to ask.
fn chosen_suite(screen: &Screen, command: &Init, seen: &[Sight]) -> Result<Option<String>, Failure> {
    let fits = first_spec::fits(seen);
    let may_ask = !command.yes && !command.report.json && !screen.quiet && choosing::somebody_there();
    if !may_ask || fits.first().is_none_or(Fit::is_whole) {
        return Ok(None);
    }
    let line = |fit: &Fit| {
        let language = |(name, wanted, have, is_met): &(String, String, String, bool)| match is_met {
            true => format!("{name} {have}"),
            false => format!("{name} {have} in place of {wanted}"),
        };
        format!("{:<9} {}", fit.suite, fit.languages.iter().map(language).collect::<Vec<_>>().join(", "))
    };
    let lines: Vec<_> = fits.iter().map(line).collect();
    let question = "no suite of Debian has every version that the project asks for; which one?";
    let number = choosing::one_of(screen, true, question, &lines, String::new())?;
    Ok(fits.get(number).map(|fit| fit.suite.to_owned()))
}

/// Lists the specs to begin with.
fn templates(screen: &Screen, command: &Init, dir: &Path) -> Outcome {
    let depot = init_spec::depot_of(dir, command.depot.as_deref())?;
    let templates = depot.map(|(_, index)| index.templates).unwrap_or_default();
    if command.report.json {
        let templates: Vec<_> = templates.iter().map(|one| json!({ "name": one.name, "about": one.about })).collect();
        screen.json(&json!({ "templates": templates }));
        return Ok(0);
    }
    let width = templates.iter().map(|one| one.name.len()).max().unwrap_or(0);
    for one in &templates {
        screen.result(format_args!(
            "{}  {}",
            styled(screen.out.strong, format_args!("{:width$}", one.name)),
            one.about
        ));
    }
    if templates.is_empty() {
        screen.result("there is no template in a depot nearby; cavrith depot add --template makes one of a spec");
    }
    Ok(0)
}

/// Begins with a template, or with another project's spec.
fn from(general: &General, screen: &Screen, command: &Init, dir: &Path, source: &str) -> Outcome {
    let depot = init_spec::depot_of(dir, command.depot.as_deref())?;
    let named =
        depot.and_then(|(depot, index)| Some((depot, index.templates.into_iter().find(|one| one.name == source)?)));
    if let Some((depot, template)) = named {
        let session = StoreSession::open()?;
        init_spec::write_text(dir, &depots::template(&depot, &template, &session.staging.new_name())?)?;
        if command.report.json {
            screen.json(&json!({ "written": ["cavrith.toml"], "from": source }));
        } else {
            screen.result(format_args!(
                "{} cavrith.toml; look it over, then run cavrith check",
                styled(screen.out.good, "wrote")
            ));
        }
        return Ok(0);
    }
    // A workspace of this machine, by its name, unless something is there under it.
    let workspaces = place::Place::all(&build_env::home()?);
    let named = workspaces.into_iter().find(|place| place.name == source && !Path::new(source).exists());
    if command.drift && named.is_none() {
        let text = format!(
            "--drift goes with a workspace, and there is none called {source}; cavrith list shows those there are"
        );
        return Err(Failure::Own(2, text));
    }
    // Before anything else is started.
    let drifted = match &named {
        Some(place) if command.drift => Some((place.clone(), BuildEnv::open()?)),
        _ => None,
    };
    let project = named.map(|place| place.project.display().to_string());
    let source = project.as_deref().unwrap_or(source);
    let written =
        join::look_into(general, &command.keys, screen, source, dir, |other| Ok(init_spec::write_from(dir, other)?))?;
    let adopted =
        drifted.map(|(place, build_env)| drift::adopt::with_drift(screen, &build_env, &place, dir)).transpose()?;
    if command.report.json {
        let adopted = adopted.as_ref().map(|adoption| &adoption.adopted);
        screen.json(&json!({ "written": written, "from": source, "adopted": adopted }));
        return Ok(0);
    }
    for (name, why) in adopted.iter().flat_map(|adoption| &adoption.left) {
        screen.result(format_args!("{} {name}: {why}", styled(screen.out.warning, "not taken")));
    }
    for name in adopted.iter().flat_map(|adoption| &adoption.adopted) {
        screen.result(format_args!("{} {name}", styled(screen.out.good, "took")));
    }
    for file in written.iter().rev() {
        screen.result(format_args!("{} {file}", styled(screen.out.good, "wrote")));
    }
    screen.result(
        "look it over, then run cavrith check: it names the files that the other project has and this one lacks",
    );
    Ok(0)
}
