//! Answering from a record.

use std::fs::File;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::record::{Record, Response};

use crate::http::Content;
use crate::notes::Notes;
use crate::server::{Answers, Asked, Given};

/// Answers from a record, and from nothing else.
pub struct Replay<'a> {
    record: &'a Record,
    /// The body with this digest.
    body: &'a (dyn Fn(&Sha256Digest) -> std::io::Result<File> + Sync),
    notes: Notes,
}

impl std::fmt::Debug for Replay<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Replay").field("notes", &self.notes).finish_non_exhaustive()
    }
}

impl<'a> Replay<'a> {
    /// From this record; `body` opens the body of a digest.
    pub fn new(record: &'a Record, body: &'a (dyn Fn(&Sha256Digest) -> std::io::Result<File> + Sync)) -> Self {
        Self { record, body, notes: Notes::default() }
    }

    /// What was noticed.
    pub fn notes(&self) -> &Notes {
        &self.notes
    }
}

impl Answers for Replay<'_> {
    fn answer(&self, asked: Asked) -> Given {
        let request = asked.request;
        self.notes.asked(request.host());
        let Some(response) = self.record.answers.get(&request) else {
            let nearest = self.record.nearest(&request);
            let nearest =
                nearest.map_or_else(String::new, |known| format!("; the nearest that was is {}", known.shown()));
            let what = format!("{} was never recorded{nearest}", request.shown());
            self.notes.refused(what.clone());
            return Given::refusal(403, &what);
        };
        match (self.body)(&response.body) {
            Ok(file) => given(response, file),
            Err(error) => {
                let what = format!("the recorded answer to {} cannot be read: {error}", request.shown());
                self.notes.refused(what.clone());
                Given::refusal(502, &what)
            }
        }
    }

    fn looked_for(&self, name: &str) {
        self.notes.looked_for(name);
    }

    fn refused(&self, what: String) {
        self.notes.refused(what);
    }
}

/// A recorded answer, as a step gets it.
pub(crate) fn given(response: &Response, file: File) -> Given {
    let headers = response.headers.iter().map(|(name, value)| (name.clone(), value.clone())).collect();
    Given { status: response.status, headers, content: Content::Stream(Box::new(file), Some(response.size)) }
}
