//! Records in a project, and the bodies of their answers: proved, wherever they come from.

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::io::{self, Read};
use std::sync::Mutex;

use cavrith_core::derive::plan::PlannedRecord;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::RecordPin;
use cavrith_core::path::RootPath;
use cavrith_core::record::{DIRECTORY, Record, Request, Response};
use cavrith_sources::checked::{self, Checked};
use cavrith_store::{hashing, reading, workers};

use crate::context::BuildContext;
use crate::error::{EngineError, RecordError, file_error};
use crate::outward::Outward;
use crate::project::Project;
use crate::supply::{Origins, Supply};

/// Bytes that a record may have.
const LONGEST_RECORD: u64 = 256 << 20;
/// Bodies that are fetched at once.
const AT_ONCE: usize = 8;

/// Somebody who may have the bodies of records.
pub trait BodySource: Sync {
    /// The body of this digest and length, which an answer in the record of a SHA-256 has; nothing when it is not
    /// there. It need not be proved. An error says, in words, why it cannot be had.
    ///
    /// # Errors
    /// When the place cannot be reached.
    fn open(
        &self,
        supply: Supply<'_>,
        record: &Sha256Digest,
        body: (Sha256Digest, u64),
    ) -> Result<Option<Box<dyn Read>>, String>;
}

/// A record with the bodies of its answers, each proved.
pub struct OpenRecord {
    /// The record.
    pub record: Record,
    bodies: HashMap<Sha256Digest, Mutex<File>>,
}

impl OpenRecord {
    /// Reads the record that a lock pins for a step, and gets hold of every body.
    ///
    /// # Errors
    /// When it is another one, or a body can be had nowhere.
    pub fn load(
        context: BuildContext<'_>,
        project: &Project,
        (step, planned): (&str, &PlannedRecord),
    ) -> Result<Self, EngineError> {
        let record = read(project, step, planned)?;
        let wanted: Vec<_> = of_record(&record).into_values().collect();
        let bodies: Mutex<HashMap<_, _>> = Mutex::default();
        workers::each(wanted.len(), AT_ONCE, |number| -> Result<(), EngineError> {
            let (_, response) = wanted[number];
            let file = body(context.supply(), project.origins(), (step, &planned.sha256), wanted[number])?.into_file();
            let mut bodies = bodies.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            bodies.insert(response.body, Mutex::new(file));
            Ok(())
        })?;
        let bodies = bodies.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        Ok(Self { record, bodies })
    }

    /// The body with a digest, to be read from its beginning by whoever asks.
    pub fn body(&self, digest: &Sha256Digest) -> io::Result<File> {
        let held = self.bodies.get(digest).ok_or_else(|| io::Error::from(io::ErrorKind::NotFound))?;
        let held = held.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        // Another description of the same file: each reader has a place of its own in it.
        File::open(format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&*held)))
    }
}

/// The record of a pin.
///
/// # Errors
/// As [`read`].
pub fn pinned(project: &Project, pin: &RecordPin) -> Result<Record, EngineError> {
    let planned = PlannedRecord { file: pin.record.clone(), sha256: pin.sha256 };
    read(project, &format!("step {:?}", pin.step), &planned)
}

/// The record that a lock pins for a step, which is named as its layer is.
///
/// # Errors
/// When its file is not there, or another one.
pub fn read(project: &Project, step: &str, planned: &PlannedRecord) -> Result<Record, EngineError> {
    let missing = || EngineError::Record(RecordError::None { step: step.to_owned() });
    let name = RootPath::from_plain(planned.file.as_bytes()).ok().filter(|name| name.depth() == 1);
    let path = project.dir.join(DIRECTORY).join(name.ok_or_else(missing)?.as_relative());
    let bytes = match reading::bounded(&path, LONGEST_RECORD) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(RecordError::Gone { step: step.to_owned(), path }.into());
        }
        Err(error) => return Err(file_error("read", &path)(error)),
    };
    if Sha256Digest::of(&bytes) != planned.sha256 {
        return Err(RecordError::Other { step: step.to_owned(), path }.into());
    }
    let text = String::from_utf8_lossy(&bytes);
    Record::parse(&text).map_err(|bad| RecordError::Bad { path, why: bad.to_string() }.into())
}

/// The bodies of a record's answers, each once, with the first request that each is an answer to.
pub fn of_record(record: &Record) -> BTreeMap<Sha256Digest, (&Request, &Response)> {
    let mut bodies = BTreeMap::new();
    for (request, response) in &record.answers {
        bodies.entry(response.body).or_insert((request, response));
    }
    bodies
}

/// The body of an answer, proved: from a depot, the store, the team's cache, or where it came from.
///
/// # Errors
/// When it can be had nowhere.
pub fn body(
    supply: Supply<'_>,
    origins: Origins<'_>,
    (step, record): (&str, &Sha256Digest),
    (request, response): (&Request, &Response),
) -> Result<Checked, EngineError> {
    let lost =
        |why: String| EngineError::Record(RecordError::Lost { step: step.to_owned(), request: request.shown(), why });
    // Nothing is to be had everywhere; depots and caches do not keep it.
    if response.size == 0 {
        return keep(supply, request, response, io::empty()).map_err(lost);
    }
    let here = supply.kept(origins, &response.body, response.size);
    if let Some(known) = here.map_err(|error| lost(error.to_string()))? {
        return Ok(known);
    }
    // It has to be the same to the byte, so whoever gives it need not be who gave it first.
    let shared = shared(supply, record, request, response);
    if let Ok(Some(known)) = shared {
        return Ok(known);
    }
    again(supply, request, response)
        .map_err(|why| lost(shared.err().map_or(why.clone(), |other| format!("{why}; {other}"))))
}

/// A body that the team shares.
fn shared(
    supply: Supply<'_>,
    record: &Sha256Digest,
    request: &Request,
    response: &Response,
) -> Result<Option<Checked>, String> {
    let Some(source) = supply.bodies else { return Ok(None) };
    match source.open(supply, record, (response.body, response.size))? {
        Some(body) => keep(supply, request, response, body).map(Some),
        None => Ok(None),
    }
}

/// Asks once more what was recorded, which has to come out the same.
fn again(supply: Supply<'_>, request: &Request, response: &Response) -> Result<Checked, String> {
    if request.body.is_some() {
        return Err("what was sent along is not known any more".to_owned());
    }
    let outward = Outward::new(supply.web, &supply.member.config.recording)?;
    let headers: Vec<_> = request.headers.clone().into_iter().collect();
    let fetched = outward.fetch(request, &headers, &[])?;
    if fetched.status != response.status {
        return Err(format!("it is answered with {} now", fetched.status));
    }
    keep(supply, request, response, fetched.body)
}

/// Puts a body into the store, when it is the recorded one.
fn keep(supply: Supply<'_>, request: &Request, response: &Response, body: impl Read) -> Result<Checked, String> {
    let words = |error: io::Error| error.to_string();
    let store = supply.store;
    let mut partial = store.partial(&format!("again {}", response.body)).map_err(|error| error.to_string())?;
    partial.file().set_len(0).map_err(words)?;
    let mut body = body.take(response.size.saturating_add(1));
    let found = hashing::sha256(&mut body, Some(partial.file())).map_err(words)?;
    if found != (response.size, response.body) {
        let _ = fs::remove_file(partial.path());
        return Err("it is answered with something else now".to_owned());
    }
    let path = store.keep_blob(&partial, &response.body).map_err(|error| error.to_string())?;
    checked::check_own(&path, &request.shown(), response.size, response.body).map_err(|error| error.to_string())
}
