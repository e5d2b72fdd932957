//! What steps that fetch are answered, in the cache that a team shares: whoever lacks a layer builds it from there,
//! when its packages are gone from where they came from, too.
//!
//! | where | what |
//! |---|---|
//! | a folder | `SHA256.body` |
//! | a registry | a blob; the tags `record-SHA256` (of the record), `record-SHA256-1` … name artifacts of them |
//!
//! Each body is proved by the digest that the record has of it, so here, too, nobody is trusted.

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::io::{self, Read};
use std::sync::{Mutex, PoisonError};

use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::RecordPin;
use cavrith_core::oci::image::{EMPTY, MANIFEST, SharedBlobs};
use cavrith_engine::bodies::{self, BodySource};
use cavrith_engine::context::BuildContext;
use cavrith_engine::project::Project;
use cavrith_engine::supply::Supply;
use cavrith_store::{atomic, reading, workers};

use crate::cache::{Cache, Place, private_or_there, reference};
use crate::error::writing;
use crate::{ExchangeError, transfer};

/// Bodies that one manifest names; a registry takes 4 MiB of one.
const IN_A_MANIFEST: usize = 10_000;

/// What is known of the bodies that a cache has.
#[derive(Debug, Default)]
pub(crate) struct Bodies {
    /// Whether the registry has those of a record, by its SHA-256, or why it cannot be asked.
    records: Mutex<HashMap<Sha256Digest, Result<bool, String>>>,
}

impl Cache {
    /// Puts the bodies of a project's record into the cache. Gives how many were not there yet.
    ///
    /// # Errors
    /// When one can be had nowhere, or the place does not take it.
    pub fn publish_bodies(
        &self,
        context: BuildContext<'_>,
        project: &Project,
        pin: &RecordPin,
    ) -> Result<usize, ExchangeError> {
        let record = bodies::pinned(project, pin)?;
        let mut bodies: BTreeMap<_, _> = bodies::of_record(&record);
        bodies.retain(|_, (_, response)| response.size > 0);
        let step = format!("step {:?}", pin.step);
        let body = |answer| -> Result<File, ExchangeError> {
            let body = bodies::body(context.supply(), project.origins(), (&step, &pin.sha256), answer)?;
            Ok(body.into_file())
        };
        match &self.place {
            Place::Folder(folder) => {
                private_or_there(folder)?;
                let mut sent = 0;
                for (digest, answer) in bodies {
                    let at = folder.join(format!("{digest}.body"));
                    if at.is_file() {
                        continue;
                    }
                    let new = atomic::NewFile::beside(&at, 0o644).map_err(writing(&at))?;
                    io::copy(&mut body(answer)?, &mut new.file()).map_err(writing(&at))?;
                    new.put_in_place().map_err(writing(&at))?;
                    sent += 1;
                }
                Ok(sent)
            }
            Place::Registry(registry) => {
                let tag = tag(&pin.sha256);
                let reference = reference(registry, &tag)?;
                let registry = self.connect(context.supply(), &reference)?;
                if registry.find_manifest(&tag)?.is_some() {
                    return Ok(0);
                }
                let bodies: Vec<_> = bodies.into_iter().collect();
                workers::each(bodies.len(), transfer::AT_ONCE, |number| -> Result<(), ExchangeError> {
                    let (digest, answer) = bodies[number];
                    let file = body(answer)?;
                    transfer::push_file(context.supply(), &registry, (&digest, answer.1.size), &file)?;
                    Ok(())
                })?;
                transfer::push_bytes(context.supply(), &registry, EMPTY.1)?;
                let sizes: Vec<_> = bodies.iter().map(|(digest, (_, response))| (*digest, response.size)).collect();
                let mut parts: Vec<_> = sizes.chunks(IN_A_MANIFEST).enumerate().collect();
                // The first one last, since it is looked for.
                parts.reverse();
                for (number, part) in parts {
                    let tag = if number == 0 { tag.clone() } else { format!("{tag}-{number}") };
                    registry.push_manifest(&tag, MANIFEST, &SharedBlobs::bodies(part).bytes())?;
                }
                Ok(bodies.len())
            }
        }
    }

    /// Whether a registry has the bodies of a record. It is asked once, and not again when it failed.
    fn has_bodies(&self, supply: Supply<'_>, registry: &str, record: &Sha256Digest) -> Result<bool, String> {
        let mut records = self.bodies.records.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = records.get(record) {
            return known.clone();
        }
        let ask = || -> Result<bool, ExchangeError> {
            let tag = tag(record);
            let reference = reference(registry, &tag)?;
            Ok(self.connect(supply, &reference)?.find_manifest(&tag)?.is_some())
        };
        let ask = || ask().map_err(|error| error.to_string());
        records.entry(*record).or_insert_with(ask).clone()
    }
}

impl BodySource for Cache {
    fn open(
        &self,
        supply: Supply<'_>,
        record: &Sha256Digest,
        (digest, size): (Sha256Digest, u64),
    ) -> Result<Option<Box<dyn Read>>, String> {
        let file = match &self.place {
            Place::Folder(folder) => match reading::open(&folder.join(format!("{digest}.body"))) {
                Ok(file) => file,
                Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
                Err(error) => return Err(format!("{} cannot be read: {error}", self.shown())),
            },
            Place::Registry(_) if supply.web.is_offline() => return Ok(None),
            Place::Registry(registry) => {
                if !self.has_bodies(supply, registry, record)? {
                    return Ok(None);
                }
                let reference = reference(registry, &tag(record)).map_err(|error| error.to_string())?;
                let registry = self.connect(supply, &reference).map_err(|error| error.to_string())?;
                let place = supply.staging.new_name();
                let name = format!("body {}", &digest.to_string()[..12]);
                let fetched = transfer::fetch_unproved(supply, &registry, (&digest, size), &name, &place);
                // It is open, and needs its name no more.
                let _ = fs::remove_file(&place);
                fetched.map_err(|error| error.to_string())?
            }
        };
        Ok(Some(Box::new(file)))
    }
}

fn tag(record: &Sha256Digest) -> String {
    format!("record-{record}")
}
