//! HTTP/1.1 as a server speaks it (RFC 9112): requests read, answers written. What a step sends is hostile: heads and
//! bodies are bounded, and a request whose length could be understood in two ways is refused.

use std::io::{self, Read, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Bytes that the head of a request may have.
const LONGEST_HEAD: usize = 64 << 10;
/// Headers that it may have.
const MOST_HEADERS: usize = 128;
/// Bytes that may be sent along with a request.
pub(crate) const LONGEST_BODY: u64 = 64 << 20;
/// Bytes that all requests together may have sent along that are not answered yet.
const MOST_HELD: u64 = 512 << 20;
/// Bytes that are read at once.
const PIECE: usize = 16 << 10;

/// The head of a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Head {
    /// The method.
    pub method: String,
    /// What is asked for, as it is written.
    pub target: String,
    /// It is of version 1.1, and not 1.0.
    pub is_newer: bool,
    /// The headers, as they are written.
    pub headers: Vec<(String, String)>,
}

impl Head {
    /// The value of the first header of a name.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    fn has_word(&self, name: &str, word: &str) -> bool {
        let mut values = self.headers.iter().filter(|(known, _)| known.eq_ignore_ascii_case(name));
        values.any(|(_, value)| value.split(',').any(|part| part.trim().eq_ignore_ascii_case(word)))
    }

    /// Whether the connection ends with the answer.
    pub fn closes(&self) -> bool {
        self.has_word("connection", "close") || (!self.is_newer && !self.has_word("connection", "keep-alive"))
    }

    /// Whether something else than HTTP is to be spoken afterwards.
    pub fn upgrades(&self) -> Option<&str> {
        self.has_word("connection", "upgrade").then(|| self.header("upgrade")).flatten()
    }
}

/// Why a request was not understood.
#[derive(Debug)]
pub(crate) enum BadRequest {
    /// It ended, or the connection broke.
    Gone,
    /// It has this mistake.
    Mistake(&'static str),
    /// More is sent along than is taken.
    TooLong,
}

impl From<io::Error> for BadRequest {
    fn from(_: io::Error) -> Self {
        Self::Gone
    }
}

/// Bytes that were sent along with requests which are not answered yet, of a whole step.
#[derive(Debug, Clone, Default)]
pub(crate) struct Budget(Arc<AtomicU64>);

impl Budget {
    /// Nothing of it, for one request.
    pub fn hold(&self) -> Held {
        Held { budget: self.clone(), bytes: 0 }
    }
}

/// What one request has of a [`Budget`], until it is dropped.
#[derive(Debug)]
pub(crate) struct Held {
    budget: Budget,
    bytes: u64,
}

impl Held {
    /// Takes some more; refused where it would be too much for one request, or for all of them together.
    pub fn more(&mut self, bytes: u64) -> Result<(), BadRequest> {
        if self.bytes.saturating_add(bytes) > LONGEST_BODY {
            return Err(BadRequest::TooLong);
        }
        self.bytes += bytes;
        let before = self.budget.0.fetch_add(bytes, Ordering::SeqCst);
        if before + bytes > MOST_HELD { Err(BadRequest::TooLong) } else { Ok(()) }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.budget.0.fetch_sub(self.bytes, Ordering::SeqCst);
    }
}

/// A connection, and what was read of it beyond a request.
#[derive(Debug)]
pub(crate) struct Connection<S> {
    pub stream: S,
    ahead: Vec<u8>,
}

impl<S: Read + Write> Connection<S> {
    pub fn new(stream: S) -> Self {
        Self { stream, ahead: Vec::new() }
    }

    /// The stream, when nothing was read of it beyond what was asked for.
    pub fn into_stream(self) -> Result<S, Self> {
        if self.ahead.is_empty() { Ok(self.stream) } else { Err(self) }
    }

    /// The first byte of what comes, which stays; nothing at the end.
    pub fn first(&mut self) -> io::Result<Option<u8>> {
        if self.ahead.is_empty() {
            self.more()?;
        }
        Ok(self.ahead.first().copied())
    }

    /// Reads some more; false at the end.
    fn more(&mut self) -> io::Result<bool> {
        let before = self.ahead.len();
        self.ahead.resize(before + PIECE, 0);
        let count = self.stream.read(&mut self.ahead[before..]);
        self.ahead.truncate(before + *count.as_ref().unwrap_or(&0));
        Ok(count? > 0)
    }

    /// The next request's head.
    pub fn head(&mut self) -> Result<Head, BadRequest> {
        loop {
            let mut headers = [httparse::EMPTY_HEADER; MOST_HEADERS];
            let mut request = httparse::Request::new(&mut headers);
            match request.parse(&self.ahead) {
                Ok(httparse::Status::Complete(length)) => {
                    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec());
                    let headers =
                        request.headers.iter().map(|header| Ok((header.name.to_owned(), text(header.value)?)));
                    let headers: Result<Vec<_>, std::string::FromUtf8Error> = headers.collect();
                    let head = Head {
                        method: request.method.unwrap_or_default().to_owned(),
                        target: request.path.unwrap_or_default().to_owned(),
                        is_newer: request.version == Some(1),
                        headers: headers.map_err(|_| BadRequest::Mistake("a header is not written in UTF-8"))?,
                    };
                    self.ahead.drain(..length);
                    return Ok(head);
                }
                Ok(httparse::Status::Partial) if self.ahead.len() > LONGEST_HEAD => {
                    return Err(BadRequest::Mistake("its head is too long"));
                }
                Ok(httparse::Status::Partial) => {
                    if !self.more()? {
                        return Err(BadRequest::Gone);
                    }
                }
                Err(_) => return Err(BadRequest::Mistake("it is not HTTP/1.1")),
            }
        }
    }

    /// What is sent along with a request.
    pub fn body(&mut self, head: &Head, held: &mut Held) -> Result<Vec<u8>, BadRequest> {
        let lengths: Vec<_> =
            head.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("content-length")).collect();
        let chunked = head.header("transfer-encoding");
        let length = match (lengths.as_slice(), chunked) {
            ([], None) => 0,
            ([], Some(coding)) if coding.eq_ignore_ascii_case("chunked") => {
                self.go_on(head)?;
                return self.chunks(held);
            }
            ([(_, length)], None) => {
                length.parse::<u64>().map_err(|_| BadRequest::Mistake("its length is no number"))?
            }
            _ => return Err(BadRequest::Mistake("its length can be understood in two ways")),
        };
        held.more(length)?;
        if length > 0 {
            self.go_on(head)?;
        }
        self.exactly(length as usize)
    }

    /// Lets a client go on that waits for it (RFC 9110, section 10.1.1).
    fn go_on(&mut self, head: &Head) -> io::Result<()> {
        if head.has_word("expect", "100-continue") {
            self.stream.write_all(b"HTTP/1.1 100 Continue\r\n\r\n")?;
            self.stream.flush()?;
        }
        Ok(())
    }

    fn exactly(&mut self, length: usize) -> Result<Vec<u8>, BadRequest> {
        while self.ahead.len() < length {
            if !self.more()? {
                return Err(BadRequest::Gone);
            }
        }
        Ok(self.ahead.drain(..length).collect())
    }

    fn line(&mut self) -> Result<String, BadRequest> {
        loop {
            if let Some(end) = self.ahead.windows(2).position(|pair| pair == b"\r\n") {
                let line: Vec<u8> = self.ahead.drain(..end + 2).collect();
                return Ok(String::from_utf8_lossy(&line[..end]).into_owned());
            }
            if self.ahead.len() > LONGEST_HEAD {
                return Err(BadRequest::Mistake("a line is too long"));
            }
            if !self.more()? {
                return Err(BadRequest::Gone);
            }
        }
    }

    /// A body in chunks (RFC 9112, section 7.1).
    fn chunks(&mut self, held: &mut Held) -> Result<Vec<u8>, BadRequest> {
        let mut body = Vec::new();
        loop {
            let line = self.line()?;
            let size = line.split(';').next().unwrap_or_default().trim();
            let good = !size.is_empty() && size.bytes().all(|byte| byte.is_ascii_hexdigit());
            let size = u64::from_str_radix(size, 16).ok().filter(|_| good);
            let size = size.ok_or(BadRequest::Mistake("a chunk has no length"))?;
            held.more(size)?;
            if size == 0 {
                // What stands behind the last chunk tells us nothing.
                while !self.line()?.is_empty() {}
                return Ok(body);
            }
            body.extend(self.exactly(size as usize)?);
            if self.exactly(2)? != b"\r\n" {
                return Err(BadRequest::Mistake("a chunk does not end where it says"));
            }
        }
    }
}

impl<S: Read> Read for Connection<S> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.ahead.is_empty() {
            return self.stream.read(buffer);
        }
        let count = buffer.len().min(self.ahead.len());
        buffer[..count].copy_from_slice(&self.ahead[..count]);
        self.ahead.drain(..count);
        Ok(count)
    }
}

impl<S: Write> Write for Connection<S> {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        self.stream.write(buffer)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.stream.flush()
    }
}

/// Reads all requests that some bytes are, as a step might send them. For trying out what comes of any bytes.
#[doc(hidden)]
pub fn requests_in(bytes: &[u8]) -> usize {
    let mut connection = Connection::new(io::Cursor::new(bytes.to_vec()));
    let mut count = 0;
    while let Ok(head) = connection.head() {
        if connection.body(&head, &mut Budget::default().hold()).is_err() {
            break;
        }
        count += 1;
    }
    count
}

/// The body of an answer.
pub enum Content {
    /// In memory.
    Bytes(Vec<u8>),
    /// To be read, of this length when that is known.
    Stream(Box<dyn Read + Send>, Option<u64>),
}

impl std::fmt::Debug for Content {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Bytes(bytes) => f.debug_tuple("Bytes").field(&bytes.len()).finish(),
            Self::Stream(_, length) => f.debug_tuple("Stream").field(length).finish(),
        }
    }
}

/// Writes an answer. Whatever becomes of the connection, the content is read to its end, unless `is_over`: so what is
/// recorded does not depend on how patient a client is. True when the connection can go on.
pub(crate) fn write_answer(
    to: &mut dyn Write,
    head: &Head,
    (status, headers): (u16, &[(String, String)]),
    content: Content,
    is_over: &dyn Fn() -> bool,
) -> bool {
    let mut text = format!("HTTP/1.1 {status} {}\r\n", reason(status));
    for (name, value) in headers {
        text += &format!("{name}: {value}\r\n");
    }
    let has_body = head.method != "HEAD" && status != 204 && status != 304;
    let length = match &content {
        Content::Bytes(bytes) => Some(bytes.len() as u64),
        Content::Stream(_, length) => *length,
    };
    let chunked = has_body && length.is_none() && head.is_newer;
    let closes = head.closes() || (has_body && length.is_none() && !head.is_newer);
    match length {
        _ if !has_body => {}
        Some(length) => text += &format!("content-length: {length}\r\n"),
        None if chunked => text += "transfer-encoding: chunked\r\n",
        None => {}
    }
    text += if closes { "connection: close\r\n\r\n" } else { "\r\n" };
    let mut good = to.write_all(text.as_bytes()).is_ok();
    let mut stream: Box<dyn Read + Send> = match content {
        Content::Bytes(bytes) => Box::new(io::Cursor::new(bytes)),
        Content::Stream(stream, _) => stream,
    };
    let (mut buffer, mut sent) = (vec![0; 64 << 10], 0_u64);
    let whole = loop {
        match stream.read(&mut buffer) {
            Ok(0) => break true,
            Ok(count) if has_body && good => {
                sent += count as u64;
                let piece = &buffer[..count];
                good = if chunked {
                    let begun = write!(to, "{count:x}\r\n").and_then(|()| to.write_all(piece));
                    begun.and_then(|()| to.write_all(b"\r\n")).is_ok()
                } else {
                    to.write_all(piece).is_ok()
                };
            }
            Ok(_) => {}
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(_) => break false,
        }
        if is_over() {
            break false;
        }
    };
    if chunked && good && whole {
        good = to.write_all(b"0\r\n\r\n").is_ok();
    }
    // What is shorter than was said has to end with the connection, or the client would wait for ever.
    let complete = whole && (!has_body || length.is_none_or(|length| length == sent));
    good = to.flush().is_ok() && good;
    good && complete && !closes
}

/// The words of a status, which nobody acts on (RFC 9110, section 15).
fn reason(status: u16) -> &'static str {
    match status {
        200 => "OK",
        201 => "Created",
        204 => "No Content",
        206 => "Partial Content",
        301 => "Moved Permanently",
        302 => "Found",
        303 => "See Other",
        304 => "Not Modified",
        307 => "Temporary Redirect",
        308 => "Permanent Redirect",
        400 => "Bad Request",
        401 => "Unauthorized",
        403 => "Forbidden",
        404 => "Not Found",
        413 => "Content Too Large",
        501 => "Not Implemented",
        502 => "Bad Gateway",
        _ => "Answered",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A connection that brings these bytes, a few at a time, and keeps what is written.
    struct Wire(Vec<u8>, Vec<u8>, usize);

    impl Read for Wire {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            let count = self.0.len().min(buffer.len()).min(self.2);
            buffer[..count].copy_from_slice(&self.0[..count]);
            self.0.drain(..count);
            Ok(count)
        }
    }

    impl Write for Wire {
        fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
            self.1.extend(buffer);
            Ok(buffer.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    fn wire(text: &str, at_once: usize) -> Connection<Wire> {
        Connection::new(Wire(text.as_bytes().to_vec(), Vec::new(), at_once))
    }

    #[test]
    fn requests_come_one_after_the_other_however_they_are_cut() {
        let text = "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\nExpect: 100-continue\r\n\r\ntidesGET /b HTTP/1.0\r\n\r\n\
                    PUT /c HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n3;x=y\r\nlow\r\nA\r\n and water\r\n0\r\nx: y\r\n\r\n";
        for at_once in [1, 2, 7, 4096] {
            let mut wire = wire(text, at_once);
            let head = wire.head().unwrap();
            assert_eq!((head.method.as_str(), head.target.as_str(), head.closes()), ("POST", "/a", false));
            assert_eq!(wire.body(&head, &mut Budget::default().hold()).unwrap(), b"tides");
            assert_eq!(wire.stream.1, b"HTTP/1.1 100 Continue\r\n\r\n");
            let head = wire.head().unwrap();
            assert_eq!((head.target.as_str(), head.closes()), ("/b", true));
            assert_eq!(wire.body(&head, &mut Budget::default().hold()).unwrap(), b"");
            let head = wire.head().unwrap();
            assert_eq!(wire.body(&head, &mut Budget::default().hold()).unwrap(), b"low and water");
            assert!(matches!(wire.head(), Err(BadRequest::Gone)));
        }
    }

    #[test]
    fn what_could_be_understood_in_two_ways_is_refused() {
        for headers in [
            "Content-Length: 3\r\nContent-Length: 4",
            "Content-Length: 3\r\nTransfer-Encoding: chunked",
            "Transfer-Encoding: gzip, chunked",
            "Content-Length: 3, 3",
            "Content-Length: -1",
            "Content-Length: 99999999999",
        ] {
            let mut wire = wire(&format!("POST / HTTP/1.1\r\n{headers}\r\n\r\nabc"), 4096);
            let head = wire.head().unwrap();
            assert!(wire.body(&head, &mut Budget::default().hold()).is_err(), "{headers}");
        }
        assert!(matches!(wire("\x16\x03\x01 / x\r\n\r\n", 4096).head(), Err(BadRequest::Mistake(_))));
        assert!(matches!(wire(&"A".repeat(100_000), 4096).head(), Err(BadRequest::Mistake(_))));
    }

    fn answered(head: &Head, status: u16, content: Content) -> (String, bool) {
        let mut out = Vec::new();
        let goes_on = write_answer(&mut out, head, (status, &[]), content, &|| false);
        (String::from_utf8(out).unwrap(), goes_on)
    }

    #[test]
    fn an_answer_says_how_long_it_is_or_comes_in_chunks() {
        let head = wire("GET / HTTP/1.1\r\n\r\n", 100).head().unwrap();
        let stream = |text: &'static str, length| Content::Stream(Box::new(text.as_bytes()), length);
        let (text, goes_on) = answered(&head, 200, Content::Bytes(b"low".to_vec()));
        assert!(goes_on && text.ends_with("content-length: 3\r\n\r\nlow"), "{text}");
        let (text, goes_on) = answered(&head, 200, stream("low", None));
        assert!(goes_on && text.ends_with("transfer-encoding: chunked\r\n\r\n3\r\nlow\r\n0\r\n\r\n"), "{text}");
        // Shorter than it said: the connection cannot be used any more.
        let (_, goes_on) = answered(&head, 200, stream("low", Some(9)));
        assert!(!goes_on);
        let older = Head { is_newer: false, ..head.clone() };
        let (text, goes_on) = answered(&older, 200, stream("low", None));
        assert!(!goes_on && text.ends_with("connection: close\r\n\r\nlow"), "{text}");
        let (text, _) = answered(&Head { method: "HEAD".to_owned(), ..head }, 200, stream("low", None));
        assert!(text.ends_with("\r\n\r\n") && !text.contains("low"), "{text}");
    }
}
