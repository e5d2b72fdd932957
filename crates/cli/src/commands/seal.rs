//! `cavrith seal`

use std::time::Instant;

use cavrith_core::digest::TeamDigest;
use cavrith_core::lock::Lock;
use cavrith_core::seal::{self as core, SealSignature};
use cavrith_core::team::{Role, SEAL};
use cavrith_engine::error::{LockError, SealError};
use cavrith_engine::project::Project;
use cavrith_engine::sealing::Candidate;
use cavrith_engine::signing::{self, SigningKey};
use cavrith_engine::team::{self, Standing};
use cavrith_engine::{EngineError, locking, project, sealing};
use cavrith_exchange::machine_disk;
use serde_json::json;

use crate::args::{General, Seal};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building, for_all_variants};
use crate::failure::Failure;
use crate::keys;
use crate::render::progress::{Where, seconds};
use crate::render::{failure, unlike};
use crate::screen::{Screen, styled};

/// A lead's signature over the seal of a variant.
fn signed(seal: &core::Seal, variant: &str, key: &SigningKey, team: TeamDigest) -> Result<SealSignature, EngineError> {
    let text = seal.signed_text(variant, &team);
    Ok(SealSignature { by: key.name.clone(), team, signature: key.sign(SEAL, text.as_bytes())? })
}

/// Who stands for the seals of a project.
fn say_who_signed(screen: &Screen, project: &Project, whole: &Lock) -> Result<(), EngineError> {
    let Some(lock) = whole.of_variant(&project.spec.variant) else { return Ok(()) };
    match team::judge(&project.dir, &lock)? {
        Standing::Signed { signer, .. } => screen.result(format_args!(
            "{} {} {}",
            styled(screen.out.good, "signed by"),
            styled(screen.out.strong, &signer.name),
            styled(screen.out.faint, signer.key.fingerprint())
        )),
        Standing::Unsigned => {
            let text = "nobody of the team has signed it; a lead runs cavrith seal --sign";
            screen.say(format_args!("{} {text}", styled(screen.err.warning, "note")));
        }
        Standing::NoSeal | Standing::NoTeam | Standing::TeamGone => {}
    }
    Ok(())
}

pub fn exec(general: &General, screen: &Screen, command: &Seal) -> Outcome {
    let started = Instant::now();
    for_all_variants(general, "seal")?;
    let project = project::load(&project::find(general.project())?, None)?;
    let mut whole = project::read_lock(&project.dir)?.ok_or(EngineError::Lock(LockError::NoLock))?;
    let variants = project.in_order();
    let mut locks = Vec::new();
    for variant in &variants {
        let mut lock = project::load_pins(variant)?;
        project::check_files(variant, &lock)?;
        // What takes its place need not be believed.
        if team::judge(&project.dir, &lock).is_err() {
            lock.seal = None;
        }
        locks.push(lock);
    }
    // Before two builds, and not after them.
    let signing = if command.sign {
        let team = team::signed(&project)?;
        Some((signing::find(&team.now, Role::Lead, keys::choice(&command.key))?, team.digest))
    } else {
        None
    };
    let build_env = BuildEnv::open()?;
    let place = if command.report.json { Where::Nowhere } else { Where::Result };
    let sealed = building::with_progress(screen, &build_env, place, false, |context| {
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
        let mut seals = building::with_cache(context, &project, |context| Ok(sealing::seal(context, &candidates)?))?;
        for (Candidate { project, lock, record }, seal) in candidates.iter().zip(&mut seals) {
            if project.spec.machine.as_ref().is_some_and(|machine| machine.verity) {
                seal.machine_root = Some(machine_disk::root_digest(context, record, lock.epoch)?);
            }
        }
        Ok((seals, records))
    });
    let (seals, records) = match sealed {
        Err(failure) if command.why && !command.report.json => {
            let Failure::Engine(EngineError::Seal(SealError::NotReproducible(all))) = &failure else {
                return Err(failure);
            };
            screen.insist(failure::headline(screen, &failure));
            unlike::show_reasons(screen, all);
            return Ok(failure.exit_code());
        }
        other => other?,
    };
    let before = whole.clone();
    let mut seals = seals;
    for (variant, seal) in variants.iter().zip(&mut seals) {
        let name = &variant.spec.variant;
        match &signing {
            Some((key, team)) => seal.signature = Some(signed(seal, name, key, *team)?),
            // The same seal is still the one that was signed.
            None => {
                let known =
                    before.of_variant(name).and_then(|pins| pins.seal).filter(|known| known.unsigned() == *seal);
                seal.signature = known.and_then(|known| known.signature);
            }
        }
    }
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
        say_who_signed(screen, &project, &whole)?;
    }
    if command.publish {
        for (((variant, lock), _), record) in &all {
            building::publish(screen, &build_env, (variant, lock), record)?;
        }
    }
    Ok(0)
}
