//! The recorder as a step's programs see it, over real sockets, with a web that is made up and changes all the time.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod answers;
mod clients;
mod encrypted;
mod multiplexed;

use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::Duration;

use cavrith_recorder::authority::Authority;
use cavrith_recorder::{Answers, Sockets, serve};

/// Where the sockets of a recorder are.
#[derive(Debug, Clone, Copy)]
struct Places {
    names: SocketAddr,
    plain: SocketAddr,
    secure: SocketAddr,
    proxy: SocketAddr,
    other: SocketAddr,
}

/// Runs something while these answers are given, on the loopback of this machine.
fn answered<T>(answers: &dyn Answers, run: impl FnOnce(Places, &str) -> T) -> T {
    let listener = || TcpListener::bind("127.0.0.1:0").unwrap();
    let (plain, secure, proxy, other) = (listener(), listener(), listener(), listener());
    let names = UdpSocket::bind("127.0.0.1:0").unwrap();
    let places = Places {
        names: names.local_addr().unwrap(),
        plain: plain.local_addr().unwrap(),
        secure: secure.local_addr().unwrap(),
        proxy: proxy.local_addr().unwrap(),
        other: other.local_addr().unwrap(),
    };
    let authority = Authority::new().unwrap();
    let sockets = Sockets { own_name: "cavrith", names, plain, secure, proxy, others: vec![("git", other)] };
    serve(sockets, &authority, answers, || run(places, authority.pem()))
}

/// Sends bytes, and gives all that comes back until the other side closes.
fn said(to: SocketAddr, bytes: &[u8]) -> Vec<u8> {
    let mut stream = TcpStream::connect(to).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    stream.write_all(bytes).unwrap();
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    answer
}

/// A request that asks for the connection to be closed.
fn request(method: &str, target: &str, host: &str, headers: &str, body: &[u8]) -> Vec<u8> {
    let length = if body.is_empty() { String::new() } else { format!("content-length: {}\r\n", body.len()) };
    let head = format!("{method} {target} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n{headers}{length}\r\n");
    [head.as_bytes(), body].concat()
}
