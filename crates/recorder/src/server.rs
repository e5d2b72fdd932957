//! Taking a step's connections: those to any host by http and https, those to the proxy that the usual variables name,
//! and questions for names. Everything else has nobody to talk to.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread::{self, Scope};
use std::time::Duration;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::record::Request;
use rustls::StreamOwned;
use rustls::server::{Accepted, Acceptor};

use crate::authority::{self, Authority};
use crate::http::{BadRequest, Budget, Connection, Content, Head, write_answer};
use crate::http2;
use crate::names;

/// The port of the proxy.
pub const PROXY_PORT: u16 = 3128;
/// Ports of protocols that cannot be recorded, with their names.
pub const OTHER_PORTS: [(u16, &str); 6] =
    [(21, "ftp"), (22, "ssh"), (873, "rsync"), (3306, "mysql"), (5432, "postgresql"), (9418, "git")];
/// Connections that a step may have at once.
const MOST_CONNECTIONS: usize = 512;
/// How often the resolver looks whether the step is over.
const LOOK: Duration = Duration::from_millis(50);
/// How a connection with TLS begins (RFC 8446, section 5.1).
const HANDSHAKE: u8 = 22;

/// Sockets in a step's network.
#[derive(Debug)]
pub struct Sockets {
    /// What the step's machine is called, which is no host of the web.
    pub own_name: &'static str,
    /// Port 53, for datagrams.
    pub names: UdpSocket,
    /// Port 80 of every address.
    pub plain: TcpListener,
    /// Port 443 of every address.
    pub secure: TcpListener,
    /// [`PROXY_PORT`].
    pub proxy: TcpListener,
    /// As many of [`OTHER_PORTS`] as could be had.
    pub others: Vec<(&'static str, TcpListener)>,
}

/// A request of a step.
#[derive(Debug)]
pub struct Asked {
    /// What is recorded of it.
    pub request: Request,
    /// All of its headers, as they were written.
    pub headers: Vec<(String, String)>,
    /// What was sent along.
    pub body: Vec<u8>,
}

/// What it is answered.
#[derive(Debug)]
pub struct Given {
    /// The status.
    pub status: u16,
    /// Headers, but for those that say how long it is.
    pub headers: Vec<(String, String)>,
    /// The body.
    pub content: Content,
}

impl Given {
    /// A refusal that people may read.
    pub fn refusal(status: u16, why: &str) -> Self {
        let headers = vec![("content-type".to_owned(), "text/plain; charset=utf-8".to_owned())];
        Self { status, headers, content: Content::Bytes(format!("{why}\n").into_bytes()) }
    }
}

/// Who answers.
pub trait Answers: Sync {
    /// Answers a request.
    fn answer(&self, asked: Asked) -> Given;
    /// Hears of a name that was looked for.
    fn looked_for(&self, name: &str);
    /// Hears of something that cannot be recorded, in words.
    fn refused(&self, what: String);
}

/// Takes the connections of a step for as long as `run` lasts.
///
/// All that the step's processes hold is closed when they end, and with it the threads that serve them.
pub fn serve<T>(sockets: Sockets, authority: &Arc<Authority>, answers: &dyn Answers, run: impl FnOnce() -> T) -> T {
    let (is_over, open) = (AtomicBool::new(false), AtomicUsize::new(0));
    let server = Server { authority, answers, is_over, open, budget: Budget::default() };
    let Sockets { own_name, names, plain, secure, proxy, others } = &sockets;
    thread::scope(|scope| {
        let server = &server;
        scope.spawn(move || server.names(names, own_name));
        scope.spawn(move || server.accept(scope, plain, |server, _, stream| server.plain(stream)));
        scope.spawn(move || server.accept(scope, secure, Server::secure));
        scope.spawn(move || server.accept(scope, proxy, Server::proxied));
        for (protocol, listener) in others {
            scope.spawn(move || {
                server.accept(scope, listener, move |server, _, _| {
                    let what = format!("a connection by {protocol}; only http and https can be recorded");
                    server.answers.refused(what);
                });
            });
        }
        // However it ends: threads that wait for connections would wait for ever.
        let _over = Over { server, sockets: &sockets };
        run()
    })
}

/// Ends whoever waits for connections.
struct Over<'a> {
    server: &'a Server<'a>,
    sockets: &'a Sockets,
}

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.server.is_over.store(true, Ordering::SeqCst);
        let Sockets { plain, secure, proxy, others, .. } = self.sockets;
        for listener in [plain, secure, proxy].into_iter().chain(others.iter().map(|(_, listener)| listener)) {
            // On Linux it wakes whoever waits for a connection.
            let _ = rustix::net::shutdown(listener, rustix::net::Shutdown::Both);
        }
    }
}

pub(crate) struct Server<'a> {
    authority: &'a Arc<Authority>,
    pub answers: &'a dyn Answers,
    is_over: AtomicBool,
    /// Connections, and requests of those that have many at once.
    open: AtomicUsize,
    pub budget: Budget,
}

/// What a connection is known to be to.
#[derive(Debug, Clone)]
pub(crate) struct Target {
    pub scheme: &'static str,
    /// The host, with its port when that is not the usual one, if it is known without a request.
    pub host: Option<String>,
}

impl<'a> Server<'a> {
    pub fn is_over(&self) -> bool {
        self.is_over.load(Ordering::SeqCst)
    }

    fn names(&self, socket: &UdpSocket, own_name: &str) {
        let _ = socket.set_read_timeout(Some(LOOK));
        let mut buffer = [0; 1500];
        while !self.is_over() {
            let Ok((count, from)) = socket.recv_from(&mut buffer) else { continue };
            if let Some((answer, name)) = names::answer(&buffer[..count], own_name) {
                if name != own_name {
                    self.answers.looked_for(&name);
                }
                let _ = socket.send_to(&answer, from);
            }
        }
    }

    fn accept<'scope, 'env>(
        &'scope self,
        scope: &'scope Scope<'scope, 'env>,
        listener: &TcpListener,
        serve: impl Fn(&'scope Self, &'scope Scope<'scope, 'env>, TcpStream) + Send + Copy + 'scope,
    ) where
        'a: 'scope,
    {
        while !self.is_over() {
            let Ok((stream, _)) = listener.accept() else {
                // Out of descriptors, perhaps.
                thread::sleep(Duration::from_millis(10));
                continue;
            };
            if self.is_over() || self.is_full() {
                continue;
            }
            self.spawn(scope, move || {
                let _ = stream.set_nodelay(true);
                serve(self, scope, stream);
            });
        }
    }

    /// Whether as much is open as may be.
    pub fn is_full(&self) -> bool {
        self.open.load(Ordering::SeqCst) >= MOST_CONNECTIONS
    }

    /// Does something in a thread, which counts among what is open.
    pub fn spawn<'scope, 'env>(&'scope self, scope: &'scope Scope<'scope, 'env>, work: impl FnOnce() + Send + 'scope)
    where
        'a: 'scope,
    {
        self.open.fetch_add(1, Ordering::SeqCst);
        scope.spawn(move || {
            work();
            self.open.fetch_sub(1, Ordering::SeqCst);
        });
    }

    /// The host that an address stands for by itself: what was not looked for by a name.
    fn literal(stream: &TcpStream) -> Option<String> {
        let here = stream.local_addr().ok()?.ip();
        (here != names::ADDRESS).then(|| here.to_string())
    }

    fn plain(&self, stream: TcpStream) {
        let target = Target { scheme: "http", host: Self::literal(&stream) };
        self.requests(&mut Connection::new(stream), &target);
    }

    fn secure<'scope, 'env>(&'scope self, scope: &'scope Scope<'scope, 'env>, stream: TcpStream)
    where
        'a: 'scope,
    {
        let host = Self::literal(&stream);
        self.encrypted(scope, Connection::new(stream), host);
    }

    /// How a client begins: which host it means, and what it can speak.
    fn hello(&self, stream: &mut Connection<TcpStream>) -> Option<Accepted> {
        let mut acceptor = Acceptor::default();
        loop {
            if acceptor.read_tls(stream).ok()? == 0 {
                return None;
            }
            match acceptor.accept() {
                Ok(Some(accepted)) => return Some(accepted),
                Ok(None) => {}
                Err((_, mut alert)) => {
                    let _ = alert.write_all(&mut stream.stream);
                    return None;
                }
            }
        }
    }

    fn encrypted<'scope, 'env>(
        &'scope self,
        scope: &'scope Scope<'scope, 'env>,
        mut stream: Connection<TcpStream>,
        host: Option<String>,
    ) where
        'a: 'scope,
    {
        let Some(accepted) = self.hello(&mut stream) else { return };
        let hello = accepted.client_hello();
        let name = host.as_deref().map(without_port);
        let whom = hello.server_name().or(name).unwrap_or("a host").to_owned();
        let asks_newer =
            hello.alpn().is_some_and(|mut protocols| protocols.any(|protocol| protocol == http2::PROTOCOL));
        let target = Target { scheme: "https", host: host.clone().or(hello.server_name().map(str::to_owned)) };
        // One that does not believe the certificate says so; one that was ended says nothing.
        let failed = |error: &std::io::Error| {
            if error.kind() == std::io::ErrorKind::InvalidData {
                self.answers.refused(format!("the encryption to {whom}: {error}"));
            }
        };
        let mut stream = match stream.into_stream() {
            Ok(stream) if asks_newer => {
                if let Ok(config) = self.authority.config(name, http2::PROTOCOL)
                    && let Err(error) = http2::serve(self, scope, (accepted, config), stream, &target)
                {
                    failed(&error);
                }
                return;
            }
            Ok(stream) => Connection::new(stream),
            Err(stream) => stream,
        };
        let Ok(config) = self.authority.config(name, b"http/1.1") else { return };
        let connection = match accepted.into_connection(config) {
            Ok(connection) => connection,
            Err((_, mut alert)) => {
                let _ = alert.write_all(&mut stream.stream);
                return;
            }
        };
        let mut stream = StreamOwned::new(connection, stream);
        while stream.conn.is_handshaking() {
            if let Err(error) = stream.conn.complete_io(&mut stream.sock) {
                failed(&error);
                return;
            }
        }
        self.requests(&mut Connection::new(stream), &target);
    }

    fn proxied<'scope, 'env>(&'scope self, scope: &'scope Scope<'scope, 'env>, stream: TcpStream)
    where
        'a: 'scope,
    {
        let mut connection = Connection::new(stream);
        let target = Target { scheme: "http", host: None };
        loop {
            let Ok(head) = connection.head() else { return };
            if head.method != "CONNECT" {
                if !self.request(&mut connection, head, &target) {
                    return;
                }
                continue;
            }
            if connection.stream.write_all(b"HTTP/1.1 200 Connected\r\n\r\n").is_err() {
                return;
            }
            let host = head.target.clone();
            return match connection.first() {
                Ok(Some(HANDSHAKE)) => self.encrypted(scope, connection, Some(host)),
                Ok(Some(byte)) if byte.is_ascii_uppercase() => {
                    self.requests(&mut connection, &Target { scheme: "http", host: Some(host) });
                }
                Ok(Some(_)) => {
                    let what =
                        format!("a connection to {host} that is neither http nor https, which cannot be recorded");
                    self.answers.refused(what);
                }
                _ => {}
            };
        }
    }

    fn requests<S: Read + Write>(&self, connection: &mut Connection<S>, target: &Target) {
        loop {
            match connection.head() {
                Ok(head) => {
                    if !self.request(connection, head, target) {
                        return;
                    }
                }
                Err(BadRequest::Gone) => return,
                Err(_) => {
                    let whom = target.host.as_deref().unwrap_or("a host");
                    self.answers.refused(format!(
                        "what was said to {whom} is neither HTTP/1.1 nor HTTP/2 with TLS, and cannot be recorded"
                    ));
                    return;
                }
            }
        }
    }

    /// Answers one request; true when the connection can go on.
    fn request<S: Read + Write>(&self, connection: &mut Connection<S>, head: Head, target: &Target) -> bool {
        let mut held = self.budget.hold();
        let (given, goes_on) = match connection.body(&head, &mut held) {
            Ok(body) => (self.given(&head, body, target), true),
            Err(BadRequest::Gone) => return false,
            Err(bad) => (self.refusal(&bad), false),
        };
        let is_over = || self.is_over();
        write_answer(&mut connection.stream, &head, (given.status, &given.headers), given.content, &is_over) && goes_on
    }

    /// What is said to a request that was not understood.
    pub fn refusal(&self, bad: &BadRequest) -> Given {
        match bad {
            BadRequest::TooLong => {
                self.answers.refused("a request with more than 64 MiB, which is not recorded".to_owned());
                Given::refusal(413, "more than 64 MiB are not recorded")
            }
            BadRequest::Mistake(why) => Given::refusal(400, why),
            BadRequest::Gone => Given::refusal(400, "it broke off"),
        }
    }

    /// The answer to a request.
    pub fn given(&self, head: &Head, body: Vec<u8>, target: &Target) -> Given {
        let Some(url) = address(head, target) else {
            return Given::refusal(400, "it does not say which host it is for");
        };
        let calls = head.header("content-type").is_some_and(|kind| kind.starts_with("application/grpc"));
        if let Some(protocol) = head.upgrades().or(calls.then_some("gRPC")) {
            self.answers.refused(format!("{url} by {protocol}, which cannot be recorded"));
            return Given::refusal(501, "only requests and answers can be recorded");
        }
        let sent = (!body.is_empty()).then(|| Sha256Digest::of(&body));
        let headers = head.headers.iter().map(|(name, value)| (name.as_str(), value.as_str()));
        let request = Request::new(&head.method, &url, headers, sent);
        self.answers.answer(Asked { request, headers: head.headers.clone(), body })
    }
}

fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) && !name.contains(':') => name,
        _ if authority::is_address(host) => host,
        _ => host,
    }
}

/// The address that a request means (RFC 9112, section 3.3).
fn address(head: &Head, target: &Target) -> Option<String> {
    let plain =
        |text: &str| !text.is_empty() && text.chars().all(|letter| !letter.is_whitespace() && !letter.is_control());
    let found = if head.target.starts_with("http://") || head.target.starts_with("https://") {
        head.target.clone()
    } else if head.target.starts_with('/') {
        let host = head.header("host").filter(|host| !host.is_empty()).or(target.host.as_deref())?;
        format!("{}://{host}{}", target.scheme, head.target)
    } else {
        return None;
    };
    plain(&found).then_some(found)
}
