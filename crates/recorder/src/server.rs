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
use rustls::{ServerConnection, StreamOwned};

use crate::authority::{self, Authority};
use crate::http::{BadRequest, Connection, Content, Head, write_answer};
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
    let server = Server { authority, answers, is_over: AtomicBool::new(false), open: AtomicUsize::new(0) };
    let Sockets { own_name, names, plain, secure, proxy, others } = &sockets;
    thread::scope(|scope| {
        let server = &server;
        scope.spawn(move || server.names(names, own_name));
        scope.spawn(move || server.accept(scope, plain, |server, stream| server.plain(stream)));
        scope.spawn(move || server.accept(scope, secure, |server, stream| server.secure(stream)));
        scope.spawn(move || server.accept(scope, proxy, |server, stream| server.proxied(stream)));
        for (protocol, listener) in others {
            scope.spawn(move || {
                server.accept(scope, listener, move |server, _| {
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

struct Server<'a> {
    authority: &'a Arc<Authority>,
    answers: &'a dyn Answers,
    is_over: AtomicBool,
    open: AtomicUsize,
}

/// What a connection is known to be to.
#[derive(Debug, Clone)]
struct Target {
    scheme: &'static str,
    /// The host, with its port when that is not the usual one, if it is known without a request.
    host: Option<String>,
}

impl<'a> Server<'a> {
    fn is_over(&self) -> bool {
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
        serve: impl Fn(&Self, TcpStream) + Send + Copy + 'scope,
    ) where
        'a: 'scope,
    {
        while !self.is_over() {
            let Ok((stream, _)) = listener.accept() else {
                // Out of descriptors, perhaps.
                thread::sleep(Duration::from_millis(10));
                continue;
            };
            if self.is_over() || self.open.load(Ordering::SeqCst) >= MOST_CONNECTIONS {
                continue;
            }
            self.open.fetch_add(1, Ordering::SeqCst);
            scope.spawn(move || {
                let _ = stream.set_nodelay(true);
                serve(self, stream);
                self.open.fetch_sub(1, Ordering::SeqCst);
            });
        }
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

    fn secure(&self, stream: TcpStream) {
        let host = Self::literal(&stream);
        self.encrypted(Connection::new(stream), host);
    }

    fn encrypted<S: Read + Write>(&self, stream: S, host: Option<String>) {
        let name = host.as_deref().map(without_port);
        let Ok(config) = self.authority.config(name) else { return };
        let Ok(connection) = ServerConnection::new(config) else { return };
        let mut stream = StreamOwned::new(connection, stream);
        // The handshake says which host is meant.
        while stream.conn.is_handshaking() {
            if let Err(error) = stream.conn.complete_io(&mut stream.sock) {
                // One that does not believe the certificate says so; one that was ended says nothing.
                if error.kind() == std::io::ErrorKind::InvalidData {
                    let whom = stream.conn.server_name().or(name).unwrap_or("a host").to_owned();
                    self.answers.refused(format!("the encryption to {whom}: {error}"));
                }
                return;
            }
        }
        let said = stream.conn.server_name().map(str::to_owned);
        let target = Target { scheme: "https", host: host.or(said) };
        self.requests(&mut Connection::new(stream), &target);
    }

    fn proxied(&self, stream: TcpStream) {
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
                Ok(Some(HANDSHAKE)) => self.encrypted(connection, Some(host)),
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
                    self.answers.refused(format!("what was said to {whom} is not HTTP/1.1, and cannot be recorded"));
                    return;
                }
            }
        }
    }

    /// Answers one request; true when the connection can go on.
    fn request<S: Read + Write>(&self, connection: &mut Connection<S>, head: Head, target: &Target) -> bool {
        let is_over = || self.is_over();
        let refuse = |connection: &mut Connection<S>, head: &Head, status, why: &str| {
            let given = Given::refusal(status, why);
            write_answer(&mut connection.stream, head, (given.status, &given.headers), given.content, &is_over)
        };
        let body = match connection.body(&head) {
            Ok(body) => body,
            Err(BadRequest::Gone) => return false,
            Err(BadRequest::TooLong) => {
                self.answers.refused("a request with more than 64 MiB, which is not recorded".to_owned());
                refuse(connection, &head, 413, "more than 64 MiB are not recorded");
                return false;
            }
            Err(BadRequest::Mistake(why)) => {
                refuse(connection, &head, 400, why);
                return false;
            }
        };
        let Some(url) = address(&head, target) else {
            return refuse(connection, &head, 400, "it does not say which host it is for");
        };
        if let Some(protocol) = head.upgrades() {
            self.answers.refused(format!("{url} by {protocol}, which cannot be recorded"));
            return refuse(connection, &head, 501, "only requests and answers can be recorded");
        }
        let sent = (!body.is_empty()).then(|| Sha256Digest::of(&body));
        let headers = head.headers.iter().map(|(name, value)| (name.as_str(), value.as_str()));
        let request = Request::new(&head.method, &url, headers, sent);
        let given = self.answers.answer(Asked { request, headers: head.headers.clone(), body });
        write_answer(&mut connection.stream, &head, (given.status, &given.headers), given.content, &is_over)
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
