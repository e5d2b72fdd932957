//! `cavrith seal`

use std::time::Instant;

use cavrith_engine::error::LockError;
use cavrith_engine::sealing::Candidate;
use cavrith_engine::{EngineError, locking, project, sealing};
use serde_json::json;

use crate::args::{General, Seal};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building, for_all_variants, locked_project};
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Seal) -> Outcome {
    let started = Instant::now();
    for_all_variants(general, "seal")?;
    let (project, _) = locked_project(general)?;
    let mut whole = project::read_lock(&project.dir)?.ok_or(EngineError::Lock(LockError::NoLock))?;
    let variants = project.in_order();
    let mut locks = Vec::new();
    for variant in &variants {
        let lock = project::load_lock(variant)?;
        project::check_files(variant, &lock)?;
        locks.push(lock);
    }
    let build_env = BuildEnv::open()?;
    let place = if command.report.json { Where::Nowhere } else { Where::Result };
    let (seals, records) = building::with_progress(screen, &build_env, place, false, |context| {
        let mut records = Vec::new();
        for (variant, lock) in variants.iter().zip(&locks) {
            records.push(building::made(context, variant, lock)?.record);
        }
        let candidates: Vec<_> = variants
            .iter()
            .zip(&locks)
            .zip(&records)
            .map(|((project, lock), record)| Candidate { project, lock, record })
            .collect();
        Ok((building::with_cache(context, &project, |context| Ok(sealing::seal(context, &candidates)?))?, records))
    })?;
    let before = whole.clone();
    for (variant, seal) in variants.iter().zip(&seals) {
        whole.set_seal(&variant.spec.variant, Some(seal.clone()));
    }
    if whole != before {
        locking::write(&project.dir, &whole)?;
    }
    // The default variant first, as everywhere.
    let mut all: Vec<_> = variants.iter().zip(&locks).zip(seals).zip(records).collect();
    all.sort_by_key(|(((variant, _), _), _)| !variant.spec.is_default);
    if command.report.json {
        let mut value = json!(all.first().map(|(((_, _), seal), _)| seal));
        let others: serde_json::Map<_, _> =
            all.iter().skip(1).map(|(((variant, _), seal), _)| (variant.spec.variant.clone(), json!(seal))).collect();
        if let Some(entries) = value.as_object_mut().filter(|_| !others.is_empty()) {
            entries.insert("variants".to_owned(), others.into());
        }
        screen.json(&value);
    } else if !screen.quiet {
        for (((variant, _), seal), _) in &all {
            let same = before.of_variant(&variant.spec.variant).is_some_and(|pins| pins.seal.as_ref() == Some(seal));
            let which = if all.len() > 1 { format!("  {}:", variant.spec.variant) } else { " ".to_owned() };
            screen.result(format_args!(
                "{} {}{which} {} layers and {} probes came out the same twice, in {}",
                styled(screen.out.good, if same { "still sealed" } else { "sealed" }),
                styled(screen.out.strong, &seal.words),
                seal.layers.len(),
                seal.probes.len(),
                seconds(started.elapsed().as_millis() as u64),
            ));
        }
    }
    if command.publish {
        for (((variant, lock), _), record) in &all {
            building::publish(screen, &build_env, (variant, lock), record)?;
        }
    }
    Ok(0)
}
