//! A port's pages for an invited browser: TLS outside, a token that says who it is, and the port inside. A connection
//! carries one request (RFC 9112, section 9.6), so each is looked at; one that goes over to another protocol, like a
//! web socket's (RFC 6455), carries what follows.

use std::io;
use std::net::TcpStream;
use std::sync::Arc;
use std::time::Duration;

use cavrith_core::digest::Sha256Digest;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, copy_bidirectional};
use tokio::time::timeout;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;

use crate::secrets;
use crate::visitors::Door;
use crate::work::Keeper;

/// How long somebody has to say what they want.
const INTRODUCTION: Duration = Duration::from_secs(15);
/// Bytes before the content of a request.
const LONGEST: usize = 32 << 10;
/// Its fields.
const FIELDS: usize = 100;
/// The parameter of an address that says who somebody is the first time.
pub const TOKEN: &str = "token";

/// The name of the cookie that says it ever after. Cookies are the same for all ports of a host.
fn cookie(port: u16) -> String {
    format!("cavrith-visit-{port}")
}

/// What of a token is written down, so that nobody can come who reads it.
#[must_use]
pub fn written(token: &str) -> String {
    Sha256Digest::of(token.as_bytes()).to_string()
}

/// Answers one connection.
pub(crate) fn attend_port(
    keeper: &Arc<Keeper>,
    door: &Arc<Door>,
    stream: TcpStream,
    config: Arc<ServerConfig>,
) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    stream.set_nodelay(true)?;
    stream.set_nonblocking(true)?;
    let own_port = stream.local_addr()?.port();
    runtime.block_on(async {
        let stream = tokio::net::TcpStream::from_std(stream)?;
        let accepted = timeout(INTRODUCTION, TlsAcceptor::from(config).accept(stream)).await;
        let mut stream = accepted.map_err(io::Error::from)??;
        let outcome = attend(keeper, door, own_port, &mut stream).await;
        // Whoever reads more slowly than that has had their time.
        let _ = timeout(INTRODUCTION, stream.shutdown()).await;
        outcome
    })
}

async fn attend<S>(keeper: &Arc<Keeper>, door: &Arc<Door>, own_port: u16, stream: &mut S) -> io::Result<()>
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    let read = timeout(INTRODUCTION, read_head(stream)).await.map_err(io::Error::from)??;
    let Some((head, rest)) = read else { return Ok(()) };
    let Some(request) = Request::parse(&head) else {
        return refuse(stream, "400 Bad Request", "This is no request.").await;
    };
    let name = cookie(own_port);
    // By the address the first time, which is then another one, so that the token does not stay in the history.
    if let Some((token, target)) = request.taken_from_target()
        && door.knows(&written(&token))
    {
        let answer = format!(
            "HTTP/1.1 303 See Other\r\nLocation: {target}\r\nSet-Cookie: {name}={token}; Path=/; Secure; HttpOnly; SameSite=Lax\r\n\
             Cache-Control: no-store\r\nReferrer-Policy: no-referrer\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        );
        return stream.write_all(answer.as_bytes()).await;
    }
    let entered = request.cookie(&name).and_then(|token| Door::enter_by(door, &written(&token)));
    let Some((port, visit)) = entered else {
        return refuse(stream, "403 Forbidden", "Come by the whole link that you were given; it may be over.").await;
    };
    visit.log(&secrets::masked(&format!("asks for {} {}", request.method, request.target), &keeper.hidden));
    let connector = keeper.connector.clone();
    let connected = tokio::task::spawn_blocking(move || connector.connect(port)).await.map_err(io::Error::other)?;
    let Ok(inside) = connected else {
        return refuse(stream, "502 Bad Gateway", "Nothing answers at this port at the moment.").await;
    };
    inside.set_nodelay(true)?;
    inside.set_nonblocking(true)?;
    let mut inside = tokio::net::TcpStream::from_std(inside)?;
    inside.write_all(&request.passed_on(&name)).await?;
    inside.write_all(&rest).await?;
    let mut closing = visit.closing();
    tokio::select! {
        carried = copy_bidirectional(stream, &mut inside) => carried.map(drop),
        // Taken back, or over: whatever they are doing.
        _ = closing.wait_for(|closed| *closed) => Ok(()),
    }
}

async fn refuse(stream: &mut (impl AsyncWrite + Unpin), status: &str, why: &str) -> io::Result<()> {
    let answer = format!(
        "HTTP/1.1 {status}\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{why}\n",
        why.len() + 1
    );
    stream.write_all(answer.as_bytes()).await
}

/// The bytes before a request's content, and what came after them; nothing when there is none.
async fn read_head(stream: &mut (impl AsyncRead + Unpin)) -> io::Result<Option<(Vec<u8>, Vec<u8>)>> {
    let (mut head, mut buffer) = (Vec::new(), vec![0; 4096]);
    loop {
        let count = stream.read(&mut buffer).await?;
        if count == 0 {
            return Ok(None);
        }
        // The end may have come in two pieces.
        let from = head.len().saturating_sub(3);
        head.extend_from_slice(&buffer[..count]);
        if let Some(at) = head[from..].windows(4).position(|four| four == b"\r\n\r\n") {
            let rest = head.split_off(from + at + 4);
            return Ok(Some((head, rest)));
        }
        if head.len() > LONGEST {
            return Ok(None);
        }
    }
}

/// A request, without its content.
struct Request {
    method: String,
    target: String,
    fields: Vec<(String, Vec<u8>)>,
}

impl Request {
    /// Reads one that names a path (RFC 9112, section 3.2.1).
    fn parse(head: &[u8]) -> Option<Self> {
        let mut fields = [httparse::EMPTY_HEADER; FIELDS];
        let mut request = httparse::Request::new(&mut fields);
        if !request.parse(head).is_ok_and(|status| status.is_complete()) || request.version != Some(1) {
            return None;
        }
        // To a browser both slashes are the same, and two of them begin another site.
        let is_path = |target: &&str| target.starts_with('/') && !target.starts_with("//") && !target.contains('\\');
        let target = request.path.filter(is_path)?.to_owned();
        let fields = request.headers.iter().map(|field| (field.name.to_owned(), field.value.to_vec()));
        Some(Self { method: request.method?.to_owned(), target, fields: fields.collect() })
    }

    /// The token of the address, and the address without it.
    fn taken_from_target(&self) -> Option<(String, String)> {
        let (path, query) = self.target.split_once('?')?;
        let is_token = |part: &&str| part.split_once('=').is_some_and(|(name, _)| name == TOKEN);
        let token = query.split('&').find(is_token)?.split_once('=')?.1;
        // It goes into a field of the answer.
        if token.is_empty() || !token.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte)) {
            return None;
        }
        let rest = query.split('&').filter(|part| !is_token(part)).collect::<Vec<_>>().join("&");
        let target = if rest.is_empty() { path.to_owned() } else { format!("{path}?{rest}") };
        Some((token.to_owned(), target))
    }

    fn field<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a [u8]> {
        self.fields.iter().filter(move |(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_slice())
    }

    fn cookie(&self, name: &str) -> Option<String> {
        let pairs = self.field("cookie").filter_map(|value| std::str::from_utf8(value).ok());
        let mut pairs = pairs.flat_map(|value| value.split(';')).filter_map(|pair| pair.trim().split_once('='));
        pairs.find(|(own, _)| *own == name).map(|(_, value)| value.to_owned())
    }

    /// What the server inside gets: no token, and the word that nothing follows this request, unless it is to go over
    /// to another protocol.
    fn passed_on(&self, name: &str) -> Vec<u8> {
        let upgrades = self.field("upgrade").next().is_some();
        let mut head = format!("{} {} HTTP/1.1\r\n", self.method, self.target).into_bytes();
        for (own, value) in &self.fields {
            if own.eq_ignore_ascii_case("cookie") {
                let text = String::from_utf8_lossy(value);
                let is_ours = |pair: &&str| pair.trim().split_once('=').is_some_and(|(own, _)| own == name);
                let rest = text.split(';').filter(|pair| !is_ours(pair)).collect::<Vec<_>>().join(";");
                if !rest.trim().is_empty() {
                    head.extend_from_slice(format!("Cookie: {}\r\n", rest.trim()).as_bytes());
                }
                continue;
            }
            let is_of_the_way =
                ["connection", "keep-alive", "x-forwarded-proto"].iter().any(|of| own.eq_ignore_ascii_case(of));
            if !is_of_the_way {
                head.extend_from_slice(own.as_bytes());
                head.extend_from_slice(b": ");
                head.extend_from_slice(value);
                head.extend_from_slice(b"\r\n");
            }
        }
        let connection = if upgrades { "Upgrade" } else { "close" };
        head.extend_from_slice(format!("X-Forwarded-Proto: https\r\nConnection: {connection}\r\n\r\n").as_bytes());
        head
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn request(text: &str) -> Option<Request> {
        Request::parse(text.replace('\n', "\r\n").as_bytes())
    }

    #[test]
    fn a_token_is_taken_out_of_what_the_server_inside_gets() {
        let text = "GET /a?x=1&token=ab-_9&y HTTP/1.1\nHost: pier:4443\nCookie: a=1; cavrith-visit-4443=ab-_9; b=2\nConnection: keep-alive\n\n";
        let asked = request(text).unwrap();
        assert_eq!(asked.taken_from_target().unwrap(), ("ab-_9".to_owned(), "/a?x=1&y".to_owned()));
        assert_eq!(asked.cookie("cavrith-visit-4443").as_deref(), Some("ab-_9"));
        assert_eq!(asked.cookie("cavrith-visit-44"), None);
        let passed = String::from_utf8(asked.passed_on("cavrith-visit-4443")).unwrap();
        assert!(passed.contains("Cookie: a=1; b=2\r\n") && passed.contains("Connection: close\r\n"), "{passed}");
        let alone =
            request("GET /?token=ab HTTP/1.1\nCookie: cavrith-visit-1=ab\nUpgrade: websocket\nConnection: Upgrade\n\n");
        let alone = alone.unwrap();
        assert_eq!(alone.taken_from_target().unwrap().1, "/");
        let passed = String::from_utf8(alone.passed_on("cavrith-visit-1")).unwrap();
        assert!(!passed.contains("Cookie") && passed.contains("Connection: Upgrade\r\n"), "{passed}");
    }

    #[test]
    fn what_could_lead_elsewhere_is_no_request_or_has_no_token() {
        for text in [
            "GET http://other.example/ HTTP/1.1\n\n",
            "GET //other.example HTTP/1.1\n\n",
            "GET /\\other.example HTTP/1.1\n\n",
            "CONNECT a:1 HTTP/1.1\n\n",
            "GET / HTTP/1.0\n\n",
            "x\n\n",
        ] {
            assert!(request(text).is_none(), "{text}");
        }
        for target in ["/", "/?token=", "/?token=a%0d%0aX:1", "/?other=ab"] {
            let asked = request(&format!("GET {target} HTTP/1.1\n\n")).unwrap();
            assert!(asked.taken_from_target().is_none(), "{target}");
        }
    }
}
