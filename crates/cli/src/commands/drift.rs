//! `cavrith drift`

mod adopt;

use cavrith_core::drift::{Drift as Changes, Finding};
use cavrith_workspace::drifting;
use serde_json::json;

use crate::args::{Drift, General};
use adopt::Adopting;
use crate::build_env::{self, BuildEnv};
use crate::commands::start::meant;
use crate::commands::{Outcome, build};
use crate::failure::Failure;
use crate::render::drift as render;
use crate::render::progress::Where;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Drift) -> Outcome {
    let (home, _) = build_env::store()?;
    let place = meant(general, &home, &command.which).found()?;
    let build_env = BuildEnv::open()?;
    let (mut drift, scratched) = build::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
        Ok(drifting::drift(context, &place)?)
    })?;
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
    if words.is_empty() {
        return Ok(());
    }
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
    drift.findings.retain(|finding| words.iter().any(|word| finding.is_meant(word)));
    drift.home.clear();
    drift.folded.clear();
    Ok(())
}
