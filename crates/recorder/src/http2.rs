//! HTTP/2 as a server speaks it (RFC 9113), for clients that ask for it when they begin to encrypt (RFC 7301). A
//! connection is one thread, which has a loop of its own; each of its requests is answered by a thread, as those of
//! HTTP/1.1 are. What a step sends is hostile: requests at once, heads and bodies are bounded.

use std::future::poll_fn;
use std::io::{self, Read as _};
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::mpsc::{self, SyncSender};
use std::thread::{self, Scope};
use std::time::Duration;

use bytes::Bytes;
use h2::server::{Builder, SendResponse};
use h2::{Reason, RecvStream, SendStream};
use rustls::ServerConfig;
use rustls::server::Accepted;
use tokio::sync::mpsc as pieces;
use tokio_rustls::StartHandshake;

use crate::http::{BadRequest, Budget, Content, Head, Held};
use crate::server::{Given, Server, Target};

/// Its name (RFC 9113, section 3.1).
pub(crate) const PROTOCOL: &[u8] = b"h2";
/// Requests of a connection at once: more than clients begin before they are told.
const MOST_AT_ONCE: u32 = 250;
/// Bytes that the head of a request may have.
const LONGEST_HEAD: u32 = 64 << 10;
/// Bytes that are on their way before somebody says that they arrived.
const WINDOW: u32 = 1 << 20;
/// Bytes that are sent at once.
const PIECE: usize = 64 << 10;
/// Pieces of an answer that wait to be sent.
const AHEAD: usize = 4;
/// How long is waited before it is looked again whether one more request can be answered.
const LOOK: Duration = Duration::from_millis(5);
/// Headers of a connection and not of an answer, which HTTP/2 has none of (RFC 9113, section 8.2.2).
const OF_CONNECTION: [&str; 5] = ["connection", "keep-alive", "proxy-connection", "transfer-encoding", "upgrade"];

/// A request that has arrived as a whole.
struct Arrived {
    head: Head,
    body: Result<Vec<u8>, BadRequest>,
    /// It is answered when this is dropped.
    _held: Held,
    answer: pieces::Sender<Piece>,
}

/// A part of an answer.
enum Piece {
    /// Status and headers, and whether that is all.
    Head(Box<http::Response<()>>, bool),
    Some(Bytes),
    End,
}

/// Answers all requests of a connection.
///
/// # Errors
/// When the connection cannot be encrypted.
pub(crate) fn serve<'scope, 'env, 'a: 'scope>(
    server: &'scope Server<'a>,
    scope: &'scope Scope<'scope, 'env>,
    (accepted, config): (Accepted, Arc<ServerConfig>),
    stream: TcpStream,
    target: &Target,
) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_io().build()?;
    let (arrived, queue) = mpsc::sync_channel::<Arrived>(MOST_AT_ONCE as usize);
    let target = target.clone();
    scope.spawn(move || {
        for arrived in queue {
            while server.is_full() && !server.is_over() {
                thread::sleep(LOOK);
            }
            let target = target.clone();
            server.spawn(scope, move || answer(server, arrived, &target));
        }
    });
    let budget = server.budget.clone();
    runtime.block_on(async {
        stream.set_nonblocking(true)?;
        let stream = tokio::net::TcpStream::from_std(stream)?;
        let stream = StartHandshake::from_parts(accepted, stream).into_stream(config).await?;
        let mut builder = Builder::new();
        builder.max_concurrent_streams(MOST_AT_ONCE).max_header_list_size(LONGEST_HEAD);
        builder.initial_window_size(WINDOW).initial_connection_window_size(WINDOW);
        // What is no HTTP/2 is said by the client itself, to whoever runs it.
        let Ok(mut connection) = builder.handshake::<_, Bytes>(stream).await else { return Ok(()) };
        while let Some(Ok((request, respond))) = connection.accept().await {
            tokio::spawn(exchange(request, respond, arrived.clone(), budget.clone()));
        }
        Ok(())
    })
}

/// One request and its answer, as the connection's loop sees them.
async fn exchange(
    request: http::Request<RecvStream>,
    respond: SendResponse<Bytes>,
    queue: SyncSender<Arrived>,
    budget: Budget,
) {
    let (parts, stream) = request.into_parts();
    let mut held = budget.hold();
    let body = match body(stream, &mut held).await {
        Err(BadRequest::Gone) => return,
        body => body,
    };
    let (answer, given) = pieces::channel(AHEAD);
    // One who takes requests back and asks for others has more than there can be at once, and is not answered.
    if queue.try_send(Arrived { head: head(&parts), body, _held: held, answer }).is_ok() {
        // Whoever went away is not told anything.
        let _ = send(respond, given).await;
    }
}

/// What is sent along.
async fn body(mut stream: RecvStream, held: &mut Held) -> Result<Vec<u8>, BadRequest> {
    let mut body = Vec::new();
    while let Some(piece) = stream.data().await {
        let piece = piece.map_err(|_| BadRequest::Gone)?;
        held.more(piece.len() as u64)?;
        body.extend_from_slice(&piece);
        stream.flow_control().release_capacity(piece.len()).map_err(|_| BadRequest::Gone)?;
    }
    Ok(body)
}

/// The head of a request, as if it had come by HTTP/1.1.
fn head(parts: &http::request::Parts) -> Head {
    let headers = parts.headers.iter().map(|(name, value)| {
        let value = String::from_utf8_lossy(value.as_bytes()).into_owned();
        (name.as_str().to_owned(), value)
    });
    Head {
        method: parts.method.as_str().to_owned(),
        target: parts.uri.to_string(),
        is_newer: true,
        headers: headers.collect(),
    }
}

async fn send(mut respond: SendResponse<Bytes>, mut given: pieces::Receiver<Piece>) -> Result<(), h2::Error> {
    let Some(Piece::Head(head, is_all)) = given.recv().await else {
        respond.send_reset(Reason::INTERNAL_ERROR);
        return Ok(());
    };
    let mut stream = respond.send_response(*head, is_all)?;
    if is_all {
        return Ok(());
    }
    while let Some(piece) = given.recv().await {
        match piece {
            Piece::Some(bytes) => send_piece(&mut stream, bytes).await?,
            Piece::End => return stream.send_data(Bytes::new(), true),
            Piece::Head(..) => break,
        }
    }
    // What is shorter than was said does not end as if it were whole.
    stream.send_reset(Reason::INTERNAL_ERROR);
    Ok(())
}

async fn send_piece(stream: &mut SendStream<Bytes>, mut bytes: Bytes) -> Result<(), h2::Error> {
    while !bytes.is_empty() {
        stream.reserve_capacity(bytes.len());
        let Some(room) = poll_fn(|context| stream.poll_capacity(context)).await else {
            return Err(Reason::CANCEL.into());
        };
        let room = room?.min(bytes.len());
        stream.send_data(bytes.split_to(room), false)?;
    }
    Ok(())
}

/// Answers a request. Whatever becomes of the connection, the content is read to its end, unless the step is over: so
/// what is recorded does not depend on how patient a client is.
fn answer(server: &Server<'_>, arrived: Arrived, target: &Target) {
    let Arrived { head, body, _held, answer } = arrived;
    let Given { status, headers, content } = match body {
        Ok(body) => server.given(&head, body, target),
        Err(bad) => server.refusal(&bad),
    };
    let has_body = head.method != "HEAD" && status != 204 && status != 304;
    let (mut stream, length): (Box<dyn io::Read + Send>, _) = match content {
        Content::Bytes(bytes) => {
            let length = bytes.len() as u64;
            (Box::new(io::Cursor::new(bytes)), Some(length))
        }
        Content::Stream(stream, length) => (stream, length),
    };
    let mut response = http::Response::builder().status(status);
    for (name, value) in headers.iter().filter(|(name, _)| !OF_CONNECTION.contains(&name.as_str())) {
        response = response.header(name, value);
    }
    if let Some(length) = length.filter(|_| has_body) {
        response = response.header("content-length", length);
    }
    let mut wanted = match response.body(()) {
        Ok(response) => answer.blocking_send(Piece::Head(Box::new(response), !has_body)).is_ok() && has_body,
        Err(_) => false,
    };
    let (mut buffer, mut sent) = (vec![0; PIECE], 0_u64);
    loop {
        match stream.read(&mut buffer) {
            Ok(0) => break,
            Ok(count) => {
                sent += count as u64;
                wanted = wanted && answer.blocking_send(Piece::Some(Bytes::copy_from_slice(&buffer[..count]))).is_ok();
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(_) => return,
        }
        if server.is_over() {
            return;
        }
    }
    if wanted && length.is_none_or(|length| length == sent) {
        let _ = answer.blocking_send(Piece::End);
    }
}
