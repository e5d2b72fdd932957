//! Fetching what a step asks for, and writing it down.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Read, Write as _};
use std::sync::{Arc, Condvar, Mutex, PoisonError};

use cavrith_core::digest::Sha256Digest;
use cavrith_core::record::{Record, Request, Response};
use cavrith_sources::web::Exchange;
use cavrith_store::Store;
use cavrith_store::blobs::Partial;
use cavrith_store::hashing::Sha256;

use crate::http::Content;
use crate::notes::Notes;
use crate::replaying::given;
use crate::server::{Answers, Asked, Given};

/// Bytes that one body may have.
const LONGEST: u64 = 4 << 30;
/// Headers that belong to a connection and not to a request (RFC 9110, section 7.6.1), that ask a cache's questions, or
/// that would have the answer come packed; and those that are credentials: a step has none to give.
const OWN: [&str; 20] = [
    "accept-encoding",
    "authorization",
    "connection",
    "content-length",
    "cookie",
    "expect",
    "host",
    "if-match",
    "if-modified-since",
    "if-none-match",
    "if-range",
    "if-unmodified-since",
    "keep-alive",
    "proxy-authorization",
    "proxy-connection",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
    "x-forwarded-for",
];

/// The way to the web. An error says, in words, why there was no answer.
pub type Fetch<'a> = dyn Fn(&Request, &[(String, String)], &[u8]) -> Result<Exchange, String> + Sync + 'a;

/// Fetches, and writes down.
pub struct Recording<'a> {
    shared: Arc<Shared>,
    store: &'a Store,
    fetch: &'a Fetch<'a>,
    notes: Notes,
}

impl std::fmt::Debug for Recording<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Recording").field("notes", &self.notes).finish_non_exhaustive()
    }
}

#[derive(Default)]
struct Shared {
    record: Mutex<Record>,
    /// Requests that are being fetched. Whoever asks the same meanwhile waits, and gets the same.
    under_way: Mutex<HashSet<Request>>,
    done: Condvar,
}

impl Shared {
    fn answer(&self, request: &Request) -> Option<Response> {
        self.record.lock().unwrap_or_else(PoisonError::into_inner).answers.get(request).cloned()
    }

    fn is_over(&self, request: &Request) {
        self.under_way.lock().unwrap_or_else(PoisonError::into_inner).remove(request);
        self.done.notify_all();
    }
}

impl<'a> Recording<'a> {
    /// Fetches by `fetch`; bodies go into the store.
    pub fn new(store: &'a Store, fetch: &'a Fetch<'a>) -> Self {
        Self { shared: Arc::default(), store, fetch, notes: Notes::default() }
    }

    /// What was noticed.
    pub fn notes(&self) -> &Notes {
        &self.notes
    }

    /// What was recorded.
    pub fn into_record(self) -> Record {
        std::mem::take(&mut self.shared.record.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The answer that is recorded already; or nothing, and from then on the request is being fetched by us.
    fn recorded(&self, request: &Request) -> Option<Response> {
        let mut under_way = self.shared.under_way.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(response) = self.shared.answer(request) {
                return Some(response);
            }
            if under_way.insert(request.clone()) {
                return None;
            }
            under_way = self.shared.done.wait(under_way).unwrap_or_else(PoisonError::into_inner);
        }
    }

    fn fetched(&self, asked: &Asked) -> Result<Given, String> {
        let request = &asked.request;
        let is_own = |name: &str| OWN.contains(&name.to_ascii_lowercase().as_str());
        let headers: Vec<_> = asked.headers.iter().filter(|(name, _)| !is_own(name)).cloned().collect();
        let Exchange { status, headers, length, body } = (self.fetch)(request, &headers, &asked.body)?;
        if status >= 500 {
            return Err(format!("it is answered with {status}"));
        }
        let key = format!("recorded {} {} {:?} {:?}", request.method, request.url, request.headers, request.body);
        let mut partial = self.store.partial(&key).map_err(|error| error.to_string())?;
        partial.file().set_len(0).map_err(|error| error.to_string())?;
        let is_head = request.method == "HEAD";
        let mut headers: Vec<_> =
            headers.into_iter().filter(|(name, _)| is_head || !name.eq_ignore_ascii_case("content-length")).collect();
        if let Some(length) = length.filter(|_| is_head) {
            headers.retain(|(name, _)| !name.eq_ignore_ascii_case("content-length"));
            headers.push(("content-length".to_owned(), length.to_string()));
        }
        let plain = headers.iter().map(|(name, value)| (name.as_str(), value.as_str()));
        // As it will be replayed, but for the length, which is not known yet.
        let response = Response::new(status, plain, (Sha256Digest::of(b""), 0));
        let headers = response.headers.iter().map(|(name, value)| (name.clone(), value.clone())).collect();
        let length = length.filter(|_| !is_head);
        let tee = Tee {
            body,
            left: length,
            count: 0,
            digest: Sha256::default(),
            end: Some(End {
                partial,
                store: self.store.clone(),
                shared: self.shared.clone(),
                request: request.clone(),
                response,
            }),
        };
        Ok(Given { status, headers, content: Content::Stream(Box::new(tee), length) })
    }
}

impl Answers for Recording<'_> {
    fn answer(&self, asked: Asked) -> Given {
        let request = &asked.request;
        self.notes.asked(request.host());
        let failed = |why: String| {
            let what = format!("{} could not be fetched: {why}", request.shown());
            self.notes.refused(what.clone());
            Given::refusal(502, &what)
        };
        if let Some(response) = self.recorded(request) {
            let open = self.store.blob(&response.body).ok_or_else(|| io::Error::from(io::ErrorKind::NotFound));
            return match open.and_then(File::open) {
                Ok(file) => given(&response, file),
                Err(error) => failed(error.to_string()),
            };
        }
        self.fetched(&asked).unwrap_or_else(|why| {
            self.shared.is_over(request);
            failed(why)
        })
    }

    fn looked_for(&self, name: &str) {
        self.notes.looked_for(name);
    }

    fn refused(&self, what: String) {
        self.notes.refused(what);
    }
}

/// A body on its way, which is kept as it passes.
struct Tee {
    body: Box<dyn Read + Send>,
    left: Option<u64>,
    count: u64,
    digest: Sha256,
    end: Option<End>,
}

/// What is to be done when all of a body has passed; or nothing, when it did not.
struct End {
    partial: Partial,
    store: Store,
    shared: Arc<Shared>,
    request: Request,
    response: Response,
}

impl Drop for End {
    fn drop(&mut self) {
        self.shared.is_over(&self.request);
    }
}

impl Tee {
    fn finish(&mut self) -> io::Result<()> {
        let Some(mut end) = self.end.take() else { return Ok(()) };
        if self.left.is_some_and(|left| left > 0) {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "it broke off"));
        }
        let digest = std::mem::take(&mut self.digest).finish();
        end.store.keep_blob(&end.partial, &digest).map_err(io::Error::other)?;
        (end.response.body, end.response.size) = (digest, self.count);
        let (request, response) = (end.request.clone(), end.response.clone());
        end.shared.record.lock().unwrap_or_else(PoisonError::into_inner).answers.insert(request, response);
        Ok(())
    }
}

impl Read for Tee {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let Some(end) = &mut self.end else { return Ok(0) };
        let count = self.body.read(buffer)?;
        if count == 0 {
            return self.finish().map(|()| 0);
        }
        let piece = &buffer[..count];
        self.count += count as u64;
        if self.count > LONGEST {
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, "it is longer than 4 GiB"));
        }
        if let Some(left) = &mut self.left {
            let after = left.checked_sub(count as u64);
            *left = after.ok_or_else(|| io::Error::other("it is longer than it says"))?;
        }
        self.digest.update(piece);
        end.partial.file().write_all(piece)?;
        // The last piece is recorded before the client has it, and so before the client can ask again.
        if self.left == Some(0) {
            self.finish()?;
        }
        Ok(count)
    }
}
