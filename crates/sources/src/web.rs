//! Files over HTTP (RFC 9110), with what breaks off carried on (section 14, range requests).
//!
//! Nothing that arrives is trusted: a file is proved against its digest by the one who asked for it, and its length is
//! bounded here.

use std::fs::File;
use std::io::{self, Read, Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::FileExt as _;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use ureq::http::{Response, StatusCode};
use ureq::tls::{RootCerts, TlsConfig};
use ureq::{Agent, Body};

use crate::{SourceError, Unreached};

/// How often one file is tried.
const TRIES: u32 = 4;
/// Time before the second try; doubled for each further one.
const FIRST_PAUSE: Duration = Duration::from_millis(300);
/// How long one answer may take to come. One that takes longer is asked for the rest: anyone who is only slow goes on,
/// and anyone who has stalled is noticed.
const LONGEST_STRETCH: Duration = Duration::from_secs(120);
/// Bytes after which a try counts as one that got on, so that the tries are counted anew.
const STRIDE: u64 = 1 << 20;
/// Bytes that a text (an index) may have.
const LONGEST_TEXT: u64 = 32 << 20;

/// The way to the web.
#[derive(Debug)]
pub struct Web {
    agent: Option<Agent>,
    /// What is shown to whom: how addresses begin, and the header.
    authorizations: Mutex<Vec<(String, String)>>,
}

/// One try that failed.
struct Fault {
    cause: Unreached,
    /// It may go better another time.
    transient: bool,
    /// It got on a good way.
    made_progress: bool,
}

/// What came of asking.
#[derive(Debug)]
pub struct Answer {
    /// The status (RFC 9110, section 15).
    pub status: u16,
    headers: Vec<(String, String)>,
    /// The document.
    pub body: Vec<u8>,
}

impl Answer {
    /// The value of a header field.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(have, _)| have.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }
}

/// What a request brings along.
#[derive(Debug, Clone, Copy)]
pub enum Payload<'a> {
    /// Nothing.
    Nothing,
    /// A document.
    Bytes(&'a [u8]),
    /// A part of a file: from which byte on, and how many.
    Part(&'a File, u64, u64),
}

/// An answer that is still to be read.
pub struct Exchange {
    /// The status (RFC 9110, section 15).
    pub status: u16,
    /// The headers, with names in small letters.
    pub headers: Vec<(String, String)>,
    /// How long the body is, when that is known.
    pub length: Option<u64>,
    /// The body, as it was sent.
    pub body: Box<dyn Read + Send>,
}

impl std::fmt::Debug for Exchange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Exchange").field("status", &self.status).field("length", &self.length).finish_non_exhaustive()
    }
}

impl Web {
    /// The way to the web, over the proxies that the environment names; or with `offline` none: then no socket is ever
    /// opened.
    pub fn new(offline: bool) -> Self {
        let agent = || {
            let tls = TlsConfig::builder().root_certs(RootCerts::PlatformVerifier).build();
            let config = Agent::config_builder()
                .http_status_as_error(false)
                .timeout_connect(Some(Duration::from_secs(20)))
                .timeout_recv_response(Some(Duration::from_secs(60)))
                .timeout_recv_body(Some(LONGEST_STRETCH))
                .user_agent(concat!("cavrith/", env!("CARGO_PKG_VERSION")))
                .tls_config(tls)
                .build();
            Agent::new_with_config(config)
        };
        Self { agent: (!offline).then(agent), authorizations: Mutex::default() }
    }

    /// Whether no socket is opened.
    pub fn is_offline(&self) -> bool {
        self.agent.is_none()
    }

    /// Shows this to anyone who is asked for an address that begins so.
    pub fn authorize(&self, beginning: &str, authorization: &str) {
        let mut shown = self.authorizations.lock().unwrap_or_else(PoisonError::into_inner);
        shown.retain(|(other, _)| other != beginning);
        shown.push((beginning.to_owned(), authorization.to_owned()));
    }

    /// Asks for a document of modest length, and gives the answer whatever its status, as long as it is one that will
    /// not be another soon.
    ///
    /// # Errors
    /// When nobody answers, or more than `longest` bytes come.
    pub fn get(&self, url: &str, headers: &[(&str, &str)], longest: u64) -> Result<Answer, SourceError> {
        self.with_tries(url, |_| {
            let mut response = self.request_with(url, 0, headers)?;
            let status = response.status();
            if status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS {
                good(status)?;
            }
            let names = response.headers().iter();
            let headers = names.filter_map(|(name, value)| Some((name.to_string(), value.to_str().ok()?.to_owned())));
            let headers = headers.collect();
            let mut body = Vec::new();
            response.body_mut().as_reader().take(longest + 1).read_to_end(&mut body).map_err(broken)?;
            if body.len() as u64 > longest {
                return Err(Fault { cause: Unreached::TooLong(longest), transient: false, made_progress: false });
            }
            Ok(Answer { status: status.as_u16(), headers, body })
        })
    }

    /// Sends a request once, and gives the answer whatever its status; a document of up to `longest` bytes in it is
    /// read.
    ///
    /// # Errors
    /// When nobody answers.
    pub fn send(
        &self,
        method: &str,
        url: &str,
        headers: &[(&str, &str)],
        payload: Payload<'_>,
        longest: u64,
    ) -> Result<Answer, SourceError> {
        let unreachable = |cause| SourceError::Unreachable { url: url.to_owned(), cause };
        let Some(agent) = &self.agent else { return Err(unreachable(Unreached::Offline)) };
        let broken = |error: String| unreachable(Unreached::broken(error));
        let mut request = ureq::http::Request::builder().method(method).uri(url);
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        if let Some(authorization) = self.authorization_for(url) {
            request = request.header("Authorization", authorization);
        }
        let (mut empty, mut bytes, mut part) = (io::empty(), None, None);
        let (reader, length): (&mut dyn Read, u64) = match payload {
            Payload::Nothing => (&mut empty, 0),
            Payload::Bytes(given) => {
                let bytes = bytes.insert(io::Cursor::new(given));
                (bytes, given.len() as u64)
            }
            Payload::Part(file, from, length) => (part.insert(FilePart { file, at: from, left: length }), length),
        };
        let answer = if matches!(payload, Payload::Nothing) && matches!(method, "GET" | "HEAD") {
            agent.run(request.body(()).map_err(|error| broken(error.to_string()))?)
        } else {
            let request = request.header("Content-Length", length.to_string());
            agent.run(request.body(ureq::SendBody::from_reader(reader)).map_err(|error| broken(error.to_string()))?)
        };
        let mut response = answer.map_err(|error| broken(error.to_string()))?;
        let names = response.headers().iter();
        let headers = names.filter_map(|(name, value)| Some((name.to_string(), value.to_str().ok()?.to_owned())));
        let (status, headers) = (response.status().as_u16(), headers.collect());
        let mut body = Vec::new();
        let read = response.body_mut().as_reader().take(longest).read_to_end(&mut body);
        read.map_err(|error| broken(error.to_string()))?;
        Ok(Answer { status, headers, body })
    }

    /// Sends somebody else's request as it is, and gives the answer as it is: redirections are not followed, nothing is
    /// unpacked. What does not come at all is asked for again.
    ///
    /// # Errors
    /// When nobody answers.
    pub fn exchange(
        &self,
        method: &str,
        url: &str,
        headers: &[(String, String)],
        payload: &[u8],
    ) -> Result<Exchange, SourceError> {
        self.with_tries(url, |_| {
            let Some(agent) = &self.agent else {
                return Err(Fault { cause: Unreached::Offline, transient: false, made_progress: false });
            };
            let fault =
                |transient, why: String| Fault { cause: Unreached::broken(why), transient, made_progress: false };
            let mut request = ureq::http::Request::builder().method(method).uri(url);
            for (name, value) in headers {
                request = request.header(name, value);
            }
            request = request.header("Accept-Encoding", "identity");
            if let Some(authorization) = self.authorization_for(url) {
                request = request.header("Authorization", authorization);
            }
            // Something that was sent along may have had its effect.
            let again = payload.is_empty();
            let bad = |error: ureq::http::Error| fault(false, error.to_string());
            let as_it_is = |error: ureq::Error| fault(again, error.to_string());
            let response = if payload.is_empty() {
                let request = agent.configure_request(request.body(()).map_err(bad)?);
                let request = request.max_redirects(0).max_redirects_will_error(false).allow_non_standard_methods(true);
                agent.run(request.build()).map_err(as_it_is)?
            } else {
                let request = agent.configure_request(request.body(payload).map_err(bad)?);
                let request = request.max_redirects(0).max_redirects_will_error(false).allow_non_standard_methods(true);
                agent.run(request.build()).map_err(as_it_is)?
            };
            let status = response.status();
            if again && (status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS) {
                good(status)?;
            }
            let names = response.headers().iter();
            let headers = names.filter_map(|(name, value)| Some((name.to_string(), value.to_str().ok()?.to_owned())));
            let headers: Vec<_> = headers.collect();
            let length = response.body().content_length();
            let body = response.into_body().into_with_config().limit(u64::MAX).reader();
            Ok(Exchange { status: status.as_u16(), headers, length, body: Box::new(body) })
        })
    }

    fn authorization_for(&self, url: &str) -> Option<String> {
        let shown = self.authorizations.lock().unwrap_or_else(PoisonError::into_inner);
        shown.iter().find(|(beginning, _)| url.starts_with(beginning.as_str())).map(|(_, header)| header.clone())
    }

    fn request(&self, url: &str, from: u64) -> Result<Response<Body>, Fault> {
        self.request_with(url, from, &[])
    }

    fn request_with(&self, url: &str, from: u64, headers: &[(&str, &str)]) -> Result<Response<Body>, Fault> {
        let Some(agent) = &self.agent else {
            return Err(Fault { cause: Unreached::Offline, transient: false, made_progress: false });
        };
        // A length of the packed form would be of no use for carrying on.
        let mut request = agent.get(url).header("Accept-Encoding", "identity");
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        if let Some(authorization) = self.authorization_for(url) {
            request = request.header("Authorization", authorization);
        }
        if from > 0 {
            request = request.header("Range", format!("bytes={from}-"));
        }
        request.call().map_err(|error| Fault {
            transient: !matches!(error, ureq::Error::BadUri(_)),
            cause: Unreached::broken(error.to_string()),
            made_progress: false,
        })
    }

    /// Fetches a text of modest length.
    ///
    /// # Errors
    /// When it cannot be reached, or is longer than any index.
    pub fn text(&self, url: &str) -> Result<Vec<u8>, SourceError> {
        self.with_tries(url, |_| {
            let mut response = self.request(url, 0)?;
            good(response.status())?;
            let mut bytes = Vec::new();
            let body = response.body_mut().as_reader();
            body.take(LONGEST_TEXT + 1).read_to_end(&mut bytes).map_err(broken)?;
            if bytes.len() as u64 > LONGEST_TEXT {
                return Err(Fault { cause: Unreached::TooLong(LONGEST_TEXT), transient: false, made_progress: false });
            }
            Ok(bytes)
        })
    }

    /// Fetches a file into `to`, going on from what is there already. `longest` bounds it; `progress` hears how many
    /// bytes are there, and of how many when that is known. What had arrived when it broke off stays, for the next
    /// time.
    ///
    /// # Errors
    /// When it cannot be reached, or is too long.
    pub fn fetch(
        &self,
        url: &str,
        to: &mut File,
        longest: u64,
        progress: &dyn Fn(u64, Option<u64>),
    ) -> Result<(), SourceError> {
        let unwritable = |error: io::Error| Fault {
            cause: Unreached::broken(format!("it cannot be written: {error}")),
            transient: false,
            made_progress: false,
        };
        // A try got on when it came further than any before it: one that starts again every time does not.
        let mut furthest = to.seek(SeekFrom::End(0)).unwrap_or(0);
        self.with_tries(url, |_| {
            let mut have = to.seek(SeekFrom::End(0)).map_err(unwritable)?;
            let mut response = self.request(url, have)?;
            let status = response.status();
            if status == StatusCode::RANGE_NOT_SATISFIABLE && have > 0 {
                // Either all of it is there, or it is another file now; from the beginning it is one file for certain.
                to.set_len(0).map_err(unwritable)?;
                return Err(Fault {
                    cause: Unreached::broken("it is shorter than before"),
                    transient: true,
                    made_progress: false,
                });
            }
            good(status)?;
            if status != StatusCode::PARTIAL_CONTENT || !begins_at(&response, have) {
                to.set_len(0).map_err(unwritable)?;
                to.rewind().map_err(unwritable)?;
                have = 0;
                if status == StatusCode::PARTIAL_CONTENT {
                    return Err(Fault {
                        cause: Unreached::broken("it was answered with another part"),
                        transient: true,
                        made_progress: false,
                    });
                }
            }
            let rest = response.body().content_length();
            let total = rest.map(|rest| have + rest);
            let mut body = response.body_mut().as_reader();
            let mut buffer = vec![0; 128 * 1024];
            loop {
                let made_progress = have >= furthest + STRIDE;
                let count = body.read(&mut buffer).map_err(|error| {
                    furthest = furthest.max(have);
                    Fault { made_progress, ..broken(error) }
                })?;
                if count == 0 {
                    break;
                }
                to.write_all(&buffer[..count]).map_err(unwritable)?;
                have += count as u64;
                if have > longest {
                    to.set_len(0).map_err(unwritable)?;
                    return Err(Fault { cause: Unreached::TooLong(longest), transient: false, made_progress: false });
                }
                progress(have, total);
            }
            match total {
                Some(total) if total != have => Err(Fault {
                    cause: Unreached::broken(format!("it broke off after {have} of {total} bytes")),
                    transient: true,
                    made_progress: false,
                }),
                _ => Ok(()),
            }
        })
    }

    fn with_tries<T>(&self, url: &str, mut attempt: impl FnMut(u32) -> Result<T, Fault>) -> Result<T, SourceError> {
        let mut pause = FIRST_PAUSE;
        let mut number = 1;
        loop {
            match attempt(number) {
                Ok(value) => return Ok(value),
                Err(fault) if fault.transient && fault.made_progress => {
                    (number, pause) = (1, FIRST_PAUSE);
                    std::thread::sleep(pause);
                }
                Err(fault) if fault.transient && number < TRIES => {
                    std::thread::sleep(pause);
                    pause *= 2;
                    number += 1;
                }
                Err(fault) => {
                    return Err(SourceError::Unreachable { url: url.to_owned(), cause: fault.cause.after(number) });
                }
            }
        }
    }
}

/// A part of a file, read by position, so that several may be read at once.
struct FilePart<'a> {
    file: &'a File,
    at: u64,
    left: u64,
}

impl Read for FilePart<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let most = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        let count = self.file.read_at(&mut buffer[..most], self.at)?;
        self.at += count as u64;
        self.left -= count as u64;
        Ok(count)
    }
}

fn broken(error: io::Error) -> Fault {
    Fault { cause: Unreached::broken(format!("it broke off: {error}")), transient: true, made_progress: false }
}

fn good(status: StatusCode) -> Result<(), Fault> {
    if status.is_success() {
        return Ok(());
    }
    let transient =
        status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS || status == StatusCode::REQUEST_TIMEOUT;
    let words = status.canonical_reason().map_or_else(String::new, |words| format!(" ({words})"));
    Err(Fault {
        cause: Unreached::Status { status: status.as_u16(), words, tries: 1 },
        transient,
        made_progress: false,
    })
}

/// Whether a part begins where it was asked to (RFC 9110, section 14.4).
fn begins_at(response: &Response<Body>, at: u64) -> bool {
    let range = response.headers().get("content-range").and_then(|value| value.to_str().ok());
    let first = range.and_then(|range| range.strip_prefix("bytes ")?.split('-').next()?.parse::<u64>().ok());
    first == Some(at)
}
