//! Sending blobs and manifests (OCI Distribution Specification 1.1, "Push").
//!
//! A blob that the registry has is not sent. A large one goes in chunks, and after a break the registry is asked how
//! far it got ("Pushing a blob in chunks"). A registry that is busy is asked again when it says.

use std::fs::File;
use std::time::Duration;

use cavrith_core::digest::Sha256Digest;

use super::Registry;
use crate::web::{Answer, Payload};
use crate::{SourceError, Unreached};

/// Bytes that are sent in one request.
const CHUNK: u64 = 32 << 20;
/// How often a request without progress is tried.
const TRIES: u32 = 5;
/// Time before the second try; doubled for each further one.
const FIRST_PAUSE: Duration = Duration::from_millis(300);
/// The longest time that a registry may have us wait.
const LONGEST_PAUSE: u64 = 60;
/// Bytes of an answer that are read: an error in words.
const LONGEST_ANSWER: u64 = 64 << 10;

/// What became of a blob.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pushed {
    /// The registry had it.
    There,
    /// It was sent.
    Sent,
}

/// An upload that has begun: where the next bytes go, and how many have arrived.
struct Upload {
    location: String,
    arrived: u64,
}

impl Registry<'_> {
    /// Whether the registry has a blob of this image's.
    ///
    /// # Errors
    /// When it cannot be reached, or does not let us in.
    pub fn has_blob(&self, digest: &Sha256Digest) -> Result<bool, SourceError> {
        let address = self.blob_address(&digest.to_string());
        let answer = self.patient("HEAD", &address, &[], Payload::Nothing)?;
        match answer.status {
            200..=299 => Ok(true),
            404 => Ok(false),
            _ => Err(self.refused(&address, &answer)),
        }
    }

    /// Has the registry take a blob from another image of its own ("Mounting a blob from another repository"). False
    /// when it does not, for whatever reason: then the blob has to be sent.
    ///
    /// # Errors
    /// When the registry cannot be reached.
    pub fn mount_blob(&self, digest: &Sha256Digest, from: &str) -> Result<bool, SourceError> {
        let from = cavrith_core::encode::percent_encoded(from, "/");
        let address = format!("{}/blobs/uploads/?mount=sha256%3A{digest}&from={from}", self.base);
        match self.patient("POST", &address, &[], Payload::Nothing) {
            Ok(answer) => Ok(answer.status == 201 && self.has_blob(digest)?),
            // The other image may be closed to us.
            Err(SourceError::Unreachable { cause: Unreached::Offline, .. }) => self.has_blob(digest),
            Err(_) => Ok(false),
        }
    }

    /// Sends a blob unless the registry has it. `progress` hears how many bytes have arrived.
    ///
    /// # Errors
    /// When the registry cannot be reached, does not let us in, or does not take it.
    pub fn push_blob(
        &self,
        digest: &Sha256Digest,
        size: u64,
        file: &File,
        progress: &dyn Fn(u64),
    ) -> Result<Pushed, SourceError> {
        if self.has_blob(digest)? {
            return Ok(Pushed::There);
        }
        let (mut tries, mut pause) = (1, FIRST_PAUSE);
        let mut upload = self.begin()?;
        while upload.arrived < size {
            let before = upload.arrived;
            let outcome = self.send_chunk(&mut upload, size, file);
            progress(upload.arrived);
            if outcome.is_ok() && upload.arrived > before {
                (tries, pause) = (1, FIRST_PAUSE);
                continue;
            }
            if tries == TRIES {
                outcome?;
                return Err(self.failed(&upload.location, "the registry takes no more of it"));
            }
            tries += 1;
            std::thread::sleep(pause);
            pause *= 2;
            upload = match self.continued(&upload)? {
                Some(upload) => upload,
                None => self.begin()?,
            };
        }
        let mark = if upload.location.contains('?') { '&' } else { '?' };
        let address = format!("{}{mark}digest=sha256%3A{digest}", upload.location);
        let answer = self.patient("PUT", &address, &[], Payload::Nothing)?;
        // One that was finished before its answer was lost is there.
        if (200..300).contains(&answer.status) || self.has_blob(digest)? {
            return Ok(Pushed::Sent);
        }
        Err(self.refused(&address, &answer))
    }

    fn begin(&self) -> Result<Upload, SourceError> {
        let address = format!("{}/blobs/uploads/", self.base);
        let answer = self.patient("POST", &address, &[], Payload::Nothing)?;
        match answer.status {
            202 => Ok(Upload { location: self.location(&answer, &address)?, arrived: 0 }),
            _ => Err(self.refused(&address, &answer)),
        }
    }

    fn send_chunk(&self, upload: &mut Upload, size: u64, file: &File) -> Result<(), SourceError> {
        let length = CHUNK.min(size - upload.arrived);
        let range = format!("{}-{}", upload.arrived, upload.arrived + length - 1);
        let headers = [("Content-Type", "application/octet-stream"), ("Content-Range", range.as_str())];
        let part = Payload::Part(file, upload.arrived, length);
        let answer = self.web.send("PATCH", &upload.location, &headers, part, LONGEST_ANSWER)?;
        if answer.status == 401 {
            self.show_who_we_are(&answer, &upload.location)?;
            return Ok(());
        }
        if !(200..300).contains(&answer.status) {
            wait(&answer);
            return Err(self.refused(&upload.location, &answer));
        }
        upload.arrived = arrived(&answer).unwrap_or(upload.arrived + length).min(size);
        upload.location = self.location(&answer, &upload.location)?;
        Ok(())
    }

    /// How far an upload got; nothing when the registry has forgotten it.
    fn continued(&self, upload: &Upload) -> Result<Option<Upload>, SourceError> {
        let answer = self.patient("GET", &upload.location, &[], Payload::Nothing)?;
        if !(200..300).contains(&answer.status) {
            return Ok(None);
        }
        let location = self.location(&answer, &upload.location).unwrap_or_else(|_| upload.location.clone());
        Ok(arrived(&answer).map(|arrived| Upload { location, arrived }))
    }

    /// Sends a manifest or index under a tag, or under its digest, which the registry then proves. True when the
    /// registry keeps what refers to a manifest by itself ("Pushing Manifests with Subject").
    ///
    /// # Errors
    /// When the registry cannot be reached, does not let us in, or does not take it.
    pub fn push_manifest(&self, which: &str, media_type: &str, bytes: &[u8]) -> Result<bool, SourceError> {
        let address = format!("{}/manifests/{which}", self.base);
        let answer = self.patient("PUT", &address, &[("Content-Type", media_type)], Payload::Bytes(bytes))?;
        if !(200..300).contains(&answer.status) {
            return Err(self.refused(&address, &answer));
        }
        Ok(answer.header("oci-subject").is_some())
    }

    /// The manifest or index of a tag, when there is one.
    ///
    /// # Errors
    /// When the registry cannot be reached, or does not let us in.
    pub fn find_manifest(&self, which: &str) -> Result<Option<Vec<u8>>, SourceError> {
        let address = format!("{}/manifests/{which}", self.base);
        let answer = self.ask(&address)?;
        match answer.status {
            200..=299 => Ok(Some(answer.body)),
            404 => Ok(None),
            _ => Err(self.refused(&address, &answer)),
        }
    }

    /// Sends a request until the registry has time for it, and shows who we are when it asks.
    fn patient(
        &self,
        method: &str,
        address: &str,
        headers: &[(&str, &str)],
        payload: Payload<'_>,
    ) -> Result<Answer, SourceError> {
        let (mut shown, mut pause) = (false, FIRST_PAUSE);
        let mut number = 1;
        loop {
            let answer = self.web.send(method, address, headers, payload, LONGEST_ANSWER);
            let again = match &answer {
                Ok(answer) if answer.status == 401 && !shown => {
                    self.show_who_we_are(answer, address)?;
                    shown = true;
                    continue;
                }
                Ok(answer) if answer.status == 401 || answer.status == 403 => return Err(self.unwelcome(address)),
                Ok(answer) => matches!(answer.status, 408 | 429 | 500..=599),
                // A request that got no answer may have been carried out; all of ours may be repeated.
                Err(SourceError::Unreachable { cause, .. }) => !matches!(cause, Unreached::Offline),
                Err(_) => false,
            };
            if !again || number == TRIES {
                return answer;
            }
            number += 1;
            if !answer.as_ref().is_ok_and(wait) {
                std::thread::sleep(pause);
                pause *= 2;
            }
        }
    }

    /// Where the next request goes (RFC 9110, section 10.2.2). One that leads to another host is followed without
    /// showing it who we are.
    fn location(&self, answer: &Answer, address: &str) -> Result<String, SourceError> {
        let location =
            answer.header("location").ok_or_else(|| self.failed(address, "it does not say where to go on"))?;
        Ok(self.beside(location))
    }

    /// An address that the registry gave, which may leave out the registry itself.
    pub(super) fn beside(&self, given: &str) -> String {
        if given.contains("://") {
            return given.to_owned();
        }
        let origin = self.base.split("/v2/").next().unwrap_or_default();
        format!("{origin}/{}", given.trim_start_matches('/'))
    }

    /// What a registry says against something, in its own words where it has some ("Error Codes").
    pub(super) fn refused(&self, address: &str, answer: &Answer) -> SourceError {
        let said: serde_json::Value = serde_json::from_slice(&answer.body).unwrap_or_default();
        let said = said["errors"][0]["message"].as_str().map(|text| format!(": {}", text.trim()));
        let words = said.map(|text| cavrith_core::path::shown(text.as_bytes())).unwrap_or_default();
        let cause = Unreached::Status { status: answer.status, words, tries: 1 };
        SourceError::Unreachable { url: address.to_owned(), cause }
    }
}

/// How many bytes a registry has of an upload (the header `Range`, whose end is the last byte's number).
fn arrived(answer: &Answer) -> Option<u64> {
    let (_, last) = answer.header("range")?.trim_start_matches("bytes=").split_once('-')?;
    let last: u64 = last.trim().parse().ok()?;
    // An upload of nothing is told as 0-0, as one of a single byte is; the first byte is then sent again.
    Some(if last == 0 { 0 } else { last + 1 })
}

/// Waits as long as a registry says (RFC 9110, section 10.2.3); false when it says nothing.
fn wait(answer: &Answer) -> bool {
    let seconds = answer.header("retry-after").and_then(|text| text.trim().parse::<u64>().ok());
    if let Some(seconds) = seconds {
        std::thread::sleep(Duration::from_secs(seconds.min(LONGEST_PAUSE)));
    }
    seconds.is_some()
}
