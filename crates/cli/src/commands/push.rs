//! `cavrith push`

use std::path::Path;
use std::time::Instant;

use cavrith_core::oci::Reference;
use cavrith_core::oci::image::{Attachment, Descriptor};
use cavrith_core::team::{IMAGE, Role};
use cavrith_core::verdict::{count, size};
use cavrith_core::{contents, provenance, report};
use cavrith_engine::contents as listing;
use cavrith_engine::project::Project;
use cavrith_engine::signing::{self, SigningKey};
use cavrith_engine::team;
use cavrith_exchange::layout::Outgoing;
use cavrith_exchange::parcel::{OpenParcel, encryption, moving};
use cavrith_exchange::{ExchangeError, pushing};
use cavrith_sandbox::perturbed::CONDITIONS;
use serde_json::json;

use crate::args::{General, Push};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building, export, locked_project};
use crate::failure::Failure;
use crate::keys;
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

/// What our seal is called among what belongs to an image.
const SEAL: &str = "application/vnd.cavrith.seal.v1+json";
/// A bill of materials in SPDX (IANA, media types).
const SPDX: &str = "application/spdx+json";

pub fn exec(general: &General, screen: &Screen, command: &Push) -> Outcome {
    let started = Instant::now();
    let reference = Reference::parse(&command.reference)
        .map_err(|why| ExchangeError::Reference { text: command.reference.clone(), why })?;
    if let Some(path) = &command.parcel {
        return push_parcel(screen, command, &reference, path);
    }
    let (project, lock) = locked_project(general)?;
    let build_env = BuildEnv::open()?;
    let record = building::ensure(screen, &build_env, &project, &lock)?.record;
    let pins = lock.pins_digest().to_string();
    let outgoing = Outgoing::new(&project.spec, &lock, &record);
    let subject = outgoing.subject(export::compression(command.compress));
    let items = listing::list(&build_env.store_session.store, &project, &lock, Some(&record))?;
    let bill = contents::Subject {
        name: &project.spec.name(),
        image: Some(&record.image),
        pins: &pins,
        epoch: lock.epoch,
        version: env!("CARGO_PKG_VERSION"),
    };
    let bytes = |value: &serde_json::Value| serde_json::to_vec(value).unwrap_or_default();
    let mut attachments = vec![Attachment { media_type: SPDX, bytes: bytes(&contents::spdx(bill, &items)) }];
    // Another image than the sealed one has no seal to show.
    if let Some(seal) = lock.seal.as_ref().filter(|seal| seal.image == record.image) {
        attachments.push(Attachment { media_type: SEAL, bytes: bytes(&json!(seal)) });
    }
    // Before anything is sent, and not after it.
    let key = publisher(&project, command)?;
    let name = format!("{}/{}", reference.registry, reference.name);
    let provenance = |manifest: &Descriptor| {
        let of = (name.as_str(), &manifest.digest.0);
        let statement =
            provenance::statement((&project.spec, &lock), of, &items, &CONDITIONS, env!("CARGO_PKG_VERSION"));
        attested(bytes(&statement), key.as_ref())
    };
    let pushed = building::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
        Ok(pushing::push(context, &reference, &record, subject, &attachments, &provenance, command.index)?)
    })?;
    let sent = pushed.layers.iter().filter(|layer| layer.how == "sent");
    let (sent, bytes) = sent.fold((0, 0), |(count, bytes), layer| (count + 1, bytes + layer.layer.size));
    if command.report.json {
        screen.json(&json!({
            "reference": reference.to_string(),
            "image": record.image,
            "manifest": pushed.manifest.digest,
            "layers": pushed.layers,
            "attachments": pushed.attachments,
            "sealed": attachments.len() > 1,
            "signed": key.as_ref().map(|key| &key.name),
        }));
    } else if !screen.quiet {
        let there = pushed.layers.len() - sent;
        screen.result(format_args!(
            "{} {}  {} of {} sent, {there} there already, sha256:{}, in {}",
            styled(screen.out.good, "pushed"),
            styled(screen.out.strong, &reference),
            count(sent, "layer"),
            size(bytes),
            pushed.manifest.digest.0,
            seconds(started.elapsed().as_millis() as u64),
        ));
        if attachments.len() == 1 {
            screen.say(format_args!("{} it is not sealed", styled(screen.err.warning, "note")));
        }
    }
    Ok(0)
}

/// The key to sign with. Where the team has publishers, nobody else pushes in its name without saying so.
fn publisher(project: &Project, command: &Push) -> Result<Option<SigningKey>, Failure> {
    let has_team = project.spec.team.as_ref().is_some_and(|team| !team.people.is_empty() || team.signers.is_some());
    if command.unsigned || !(command.sign || has_team) {
        return Ok(None);
    }
    let team = team::signed(project)?;
    let has_publishers = team.now.people.values().any(|person| person.roles.contains(&Role::Publisher));
    if !command.sign && !has_publishers {
        return Ok(None);
    }
    let key = signing::find(&team.now, Role::Publisher, keys::choice(&command.key));
    let key = key.map_err(|error| match command.sign {
        true => Failure::from(error),
        false => Failure::Own(2, format!("{error}; --unsigned pushes without a publisher's signature")),
    });
    key.map(Some)
}

/// A statement as it is attached: in an envelope, when somebody signs it.
fn attested(statement: Vec<u8>, key: Option<&SigningKey>) -> Result<Attachment, ExchangeError> {
    let Some(key) = key else {
        return Ok(Attachment { media_type: provenance::STATEMENT_TYPE, bytes: statement });
    };
    let signature = key.sign(IMAGE, &report::encoded(&statement))?;
    let envelope = report::envelope(&statement, key.public(), signature);
    Ok(Attachment { media_type: provenance::ENVELOPE_TYPE, bytes: envelope.into_bytes() })
}

fn push_parcel(screen: &Screen, command: &Push, reference: &Reference, path: &Path) -> Outcome {
    let started = Instant::now();
    // In one that is encrypted nobody can look; it goes up as it is.
    let parcel = if encryption::is_encrypted(path) { None } else { Some(OpenParcel::open(path)?) };
    let build_env = BuildEnv::open()?;
    let (sent, there) = building::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
        Ok(match &parcel {
            Some(parcel) => moving::push(context, parcel, reference)?,
            None => moving::push_encrypted(context, path, reference)?,
        })
    })?;
    if command.report.json {
        screen.json(&json!({ "reference": reference.to_string(), "sent": sent, "there": there }));
    } else if !screen.quiet {
        screen.result(format_args!(
            "{} {}  {} sent, {there} there already, in {}",
            styled(screen.out.good, "pushed"),
            styled(screen.out.strong, reference),
            count(sent, "blob"),
            seconds(started.elapsed().as_millis() as u64),
        ));
    }
    Ok(0)
}
