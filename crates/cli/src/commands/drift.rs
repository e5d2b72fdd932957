//! `cavrith drift`

pub mod adopt;

use cavrith_core::drift::{Drift as Changes, Finding};
use cavrith_core::verdict::count;
use cavrith_keeper::place::Place;
use cavrith_workspace::drifting::{self, Scratched, undo};
use serde_json::json;

use crate::args::{Drift, General};
use crate::build_env::{self, BuildEnv};
use crate::commands::start::meant;
use crate::commands::stop::confirm;
use crate::commands::{Outcome, build};
use crate::failure::Failure;
use crate::render::drift as render;
use crate::render::progress::Where;
use crate::screen::{Screen, styled};
use adopt::Adopting;

pub fn exec(general: &General, screen: &Screen, command: &Drift) -> Outcome {
    let (home, _) = build_env::store()?;
    let place = meant(general, &home, &command.which).found()?;
    let build_env = BuildEnv::open()?;
    let (mut drift, scratched) = build::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
        Ok(drifting::drift(context, &place)?)
    })?;
    if command.undo {
        check_words(&drift, &command.what)?;
        let meant =
            |finding: &Finding| command.what.is_empty() || command.what.iter().any(|word| finding.is_meant(word));
        return undo(screen, &build_env, (&place, command), (&drift, &scratched), meant);
    }
    keep_meant(&mut drift, &command.what)?;
    if command.adopt {
        let adopting = Adopting { general, screen, command, place: &place, build_env: &build_env };
        return adopting.exec(&drift, &scratched);
    }
    if command.report.json {
        screen.json(&json!({
            "name": place.name,
            "project": place.project,
            "findings": drift.findings,
            "home": drift.home,
            "folded": drift.folded,
        }));
    } else if !(screen.quiet && drift.findings.is_empty()) {
        render::show(screen, &drift);
        if drift.findings.is_empty() {
            screen.result(format_args!("{} was changed by hand in {}", styled(screen.out.good, "nothing"), place.name));
        } else {
            screen.say("cavrith drift --adopt brings it into the spec, --undo takes it back");
        }
    }
    Ok(u8::from(!drift.findings.is_empty()))
}

/// Keeps the findings that somebody named.
fn keep_meant(drift: &mut Changes, words: &[String]) -> Result<(), Failure> {
    check_words(drift, words)?;
    if words.is_empty() {
        return Ok(());
    }
    drift.findings.retain(|finding| words.iter().any(|word| finding.is_meant(word)));
    drift.home.clear();
    drift.folded.clear();
    Ok(())
}

/// Sees to it that every word means something.
fn check_words(drift: &Changes, words: &[String]) -> Result<(), Failure> {
    for word in words {
        if !drift.findings.iter().any(|finding| finding.is_meant(word)) {
            let names: Vec<_> = drift.findings.iter().map(Finding::name).take(12).collect();
            let text = match names.as_slice() {
                [] => format!("nothing was changed by hand, so there is no {word}"),
                names => format!("nothing that was changed by hand is called {word}; there are {}", names.join(", ")),
            };
            return Err(Failure::Own(2, text));
        }
    }
    Ok(())
}

/// Takes back what is meant; the image's own is there again at the next start.
fn undo(
    screen: &Screen,
    build_env: &BuildEnv,
    (place, command): (&Place, &Drift),
    (drift, scratched): (&Changes, &Scratched),
    meant: impl Fn(&Finding) -> bool,
) -> Outcome {
    let findings: Vec<_> = drift.findings.iter().filter(|finding| meant(finding)).cloned().collect();
    if findings.is_empty() {
        if command.report.json {
            screen.json(&json!({ "name": place.name, "undone": [], "backup": null }));
        } else {
            screen.result(format_args!("{} was changed by hand in {}", styled(screen.out.good, "nothing"), place.name));
        }
        return Ok(0);
    }
    if place.is_held() {
        let text = format!("{} runs; cavrith stop, then take it back", place.name);
        return Err(Failure::Own(2, text));
    }
    if !command.report.json {
        render::show(screen, &Changes { findings, ..Changes::default() });
    }
    confirm(screen, command.yes, "take this back?")?;
    let undone = build::with_progress(screen, build_env, Where::Nowhere, false, |context| {
        Ok(undo::undo(context, &build_env.store_session.home, place, (drift, scratched), meant)?)
    })?;
    if command.report.json {
        screen.json(&json!({ "name": place.name, "undone": undone.names, "backup": undone.backup }));
        return Ok(0);
    }
    let what = count(undone.names.len(), "change");
    let aside = undone.backup.map_or_else(String::new, |at| format!("; what was changed lies in {}", at.display()));
    screen.result(format_args!("{} {what}{aside}", styled(screen.out.good, "took back")));
    Ok(0)
}
