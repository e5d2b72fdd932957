//! `cavrith apply`

use std::time::Instant;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::derive::changes::Effort;
use cavrith_core::drift::Drift;
use cavrith_keeper::client::Client;
use cavrith_keeper::names;
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Standing;
use cavrith_workspace::adding;
use cavrith_workspace::drifting;
use cavrith_workspace::lifecycle::{self, Wanted};
use serde_json::json;

use crate::args::{Apply, General};
use crate::build_env::{self, BuildEnv};
use crate::commands::start::{client, lock_of, meant, open_sites, status_value, typed, watch};
use crate::commands::stop::{bring_down, confirm, hosts_file, tell_of_backup};
use crate::commands::{Outcome, build};
use crate::failure::Failure;
use crate::render;
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Apply) -> Outcome {
    let started = Instant::now();
    let (home, store) = build_env::store()?;
    let meant = meant(general, &home, &command.which);
    let place = meant.found()?;
    let Some(running) = Client::new(&place) else {
        match command.report.json {
            true => screen.json(&json!({ "name": place.name, "applied": false, "pending": null })),
            false => {
                screen.say(format_args!("{} does not run; the next start follows the spec as it is then", place.name));
            }
        }
        return Ok(0);
    };
    let status = running.status()?;
    let pending = lifecycle::pending(&store, &place, &status.arrangement);
    if let Some(why) = &pending.unclear {
        return Err(Failure::Own(1, why.clone()));
    }
    let failed = status.failed_step.is_some()
        || status.ports.len() < status.arrangement.ports.len()
        || status.services.iter().any(|service| service.phase == cavrith_keeper::protocol::Phase::Failed);
    if !command.report.json && !screen.quiet {
        render::runtime::pending(screen, &pending, false);
    }
    if command.dry_run {
        if command.report.json {
            screen.json(&json!({ "name": place.name, "applied": false, "pending": pending }));
        } else if pending.changes.is_empty() {
            screen.result(format_args!("{} is up to date", place.name));
        }
        return Ok(0);
    }
    if pending.changes.is_empty() && !failed {
        screen.say(format_args!("{} is up to date; nothing to do", styled(screen.err.strong, &place.name)));
        if command.report.json {
            screen.json(&json!({ "name": place.name, "applied": false, "pending": pending }));
        }
        return Ok(0);
    }
    if status.standing == Standing::Frozen {
        return Err(Failure::Own(2, format!("{} is frozen; cavrith thaw lets it go on", place.name)));
    }
    let project = lifecycle::of_place(&place)?;
    let mut effort = pending.effort();
    if effort >= Effort::WorkspaceRestart {
        let lock = lock_of(&project)?;
        let build_env = BuildEnv::open()?;
        let built = build::ensure(screen, &build_env, &project, &lock)?;
        let mut wanted = Wanted::new(&project, &lock, &built.record);
        wanted.arrangement.choose_as(&status.arrangement, &project.spec);
        let left = cavrith_core::derive::changes::changes(&status.arrangement, &wanted.arrangement);
        // An image that came out the same needs no restart.
        effort = left.iter().map(|change| change.effort).max().unwrap_or(Effort::Nothing);
        if effort < Effort::WorkspaceRestart {
            client(&place)?.apply(wanted.followed())?;
        } else {
            let lost = || {
                build::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
                    Ok(drifting::lost(context, &place, &project, &lock)?)
                })
            };
            let same = wanted.arrangement.image == status.arrangement.image;
            let lost = if same { None } else { say_what_is_lost(screen, command, &place, &status.arrangement, lost)? };
            let brought = adding::brought(&project, &typed, false)?;
            let added = build::with_progress(screen, &build_env, Where::Aside, false, |context| {
                Ok(brought.over(context, (&project, &lock), &built.record))
            })?;
            running_stop(screen, &place)?;
            if let Some(scratch) = lost {
                let aside = lifecycle::set_scratch_aside(&home, &place, &scratch)?;
                aside.iter().for_each(|aside| tell_of_backup(screen, aside));
            }
            // The spec may have another name for it by now.
            let (place, _) = meant.to_start()?;
            build::with_progress(screen, &build_env, Where::Aside, false, |context| {
                Ok(wanted.launch(context, (&project, &lock), &place, (added, false))?)
            })?;
        }
    } else {
        let lock = lock_of(&project)?;
        let built = cavrith_engine::build::find(&store, &project, &lock)?;
        let Some(built) = built else {
            return Err(Failure::Own(3, "the image was removed from the store meanwhile; try again".to_owned()));
        };
        let mut wanted = Wanted::new(&project, &lock, &built.record);
        wanted.arrangement.choose_as(&status.arrangement, &project.spec);
        client(&place)?.apply(wanted.followed())?;
    }
    // A spec that calls the workspace otherwise has moved it.
    let place = meant.existing()?.unwrap_or(place);
    let good = watch(screen, &place, None, true, command.report.json)?;
    let status = client(&place)?.status()?;
    let (hosts, label) = (hosts_file(None), lifecycle::names_label(&place));
    if let Ok(project) = lifecycle::of_place(&place)
        && names::is_behind(&hosts, &label, &lifecycle::outside_names(&project.spec))
    {
        let file = hosts.display();
        screen.insist(format_args!(
            "{file} has other names of {label} than the spec; cavrith names --apply brings them up to date"
        ));
    }
    if command.report.json {
        let value = status_value(&status);
        screen.json(&json!({ "name": place.name, "applied": true, "good": good, "pending": pending, "status": value }));
    } else if !screen.quiet {
        let took = seconds(started.elapsed().as_millis() as u64);
        let how = if good == Some(true) {
            styled(screen.out.good, "is up to date")
        } else {
            styled(screen.out.bad, "is up to date, but something failed")
        };
        let name = styled(screen.out.strong, &place.name);
        screen.result(format_args!("{name} {how}: {} in {took}", effort.done()));
        if good == Some(true) {
            open_sites(screen, &status);
        }
    }
    Ok(if good == Some(true) { 0 } else { 5 })
}

fn running_stop(screen: &Screen, place: &Place) -> Result<(), Failure> {
    if let Some(client) = Client::new(place) {
        bring_down(screen, &client, place)?;
    }
    Ok(())
}

/// Tells what was changed inside and is not in the new image. Returns the scratch that it lies in when that is to be
/// set aside.
fn say_what_is_lost(
    screen: &Screen,
    command: &Apply,
    place: &Place,
    runs: &Arrangement,
    find: impl FnOnce() -> Result<Drift, Failure>,
) -> Result<Option<std::path::PathBuf>, Failure> {
    let Some((number, some, path)) = lifecycle::left_behind(place, runs, 10) else { return Ok(None) };
    let scratch = path.parent().map(std::path::Path::to_owned);
    if command.fresh {
        return Ok(scratch);
    }
    // The image that it runs over may be gone from the store, so only the files can be named.
    let lines = match find() {
        Ok(mut drift) => {
            // The home goes along.
            if cavrith_keeper::home::going_along(runs).is_some() {
                drift.home.clear();
            }
            if drift.findings.is_empty() && drift.home.is_empty() {
                return Ok(None);
            }
            render::drift::in_short(&drift, &screen.err, 10)
        }
        Err(_) => {
            let more = (number > some.len()).then(|| format!("    … and {} more", number - some.len()));
            some.iter().map(|path| format!("    {path}")).chain(more).collect()
        }
    };
    screen.insist("the new image lacks what was changed inside by hand:");
    lines.iter().for_each(|line| screen.insist(line));
    screen.insist(format_args!("the files stay in {} until the workspace is dropped", path.display()));
    confirm(screen, false, "go over to the new image?").map_err(|failure| match failure {
        Failure::Own(2, _) => Failure::Own(
            1,
            "nothing was changed; write --fresh to begin with an empty scratch, or bring what you need into the spec first \
             (cavrith drift --adopt)"
                .to_owned(),
        ),
        other => other,
    })?;
    Ok(None)
}
