//! `cavrith record`

use std::time::Instant;

use cavrith_core::verdict::{count, size};
use cavrith_engine::{project, recording};
use serde_json::json;

use crate::args::{General, Record};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building};
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

/// Hosts that are shown.
const SHOWN: usize = 4;

pub fn exec(general: &General, screen: &Screen, command: &Record) -> Outcome {
    let started = Instant::now();
    let project = project::load(&project::find(general.project())?, general.variant.as_deref())?;
    let variants = if general.variant.is_some() { vec![project.clone()] } else { project.in_order() };
    let build_env = BuildEnv::open()?;
    let place = if command.report.json { Where::Nowhere } else { Where::Result };
    let recorded = building::with_progress(screen, &build_env, place, false, |context| {
        Ok(recording::record_all(context, &project, &variants, &command.step)?)
    })?;
    if command.report.json {
        let steps = recorded.iter().map(|(variant, one)| {
            let mut value = json!(one);
            value["variant"] = json!(variant);
            value
        });
        screen.json(&json!({ "records": steps.collect::<Vec<_>>() }));
        return Ok(0);
    }
    if recorded.is_empty() && !screen.quiet {
        screen.result("no step fetches; network = \"recorded\" lets one");
    }
    for (variant, one) in &recorded {
        let pin = &one.pin;
        let mut hosts = pin.hosts.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
        if pin.hosts.len() > SHOWN {
            hosts += &format!(" and {} more", pin.hosts.len() - SHOWN);
        }
        let which = if variants.len() > 1 { format!(" of {variant}") } else { String::new() };
        let from = if hosts.is_empty() { String::new() } else { format!(" from {hosts}") };
        screen.result(format_args!(
            "{} step {:?}{which}  {}, {}{from}",
            styled(screen.out.good, if one.is_same { "the same" } else { "recorded" }),
            pin.step,
            count(pin.requests as usize, "request"),
            size(pin.bytes),
        ));
    }
    if !recorded.is_empty() && !screen.quiet {
        screen.result(format_args!(
            "{} and built from it, in {}; cavrith.records belongs into version control, beside the lock",
            styled(screen.out.good, "pinned"),
            seconds(started.elapsed().as_millis() as u64),
        ));
    }
    Ok(0)
}
