use std::fs::File;
use std::io::Read;
use std::sync::atomic::{AtomicU64, Ordering};

use cavrith_core::digest::Sha256Digest;
use cavrith_core::record::{Record, Request};
use cavrith_recorder::recording::Recording;
use cavrith_recorder::replaying::Replay;
use cavrith_sources::web::Exchange;
use cavrith_store::Store;
use proptest::prelude::*;

use crate::{answered, request, said};

/// One request of a step.
#[derive(Debug, Clone)]
struct Asked {
    method: &'static str,
    path: String,
    headers: &'static str,
    body: Vec<u8>,
}

fn any_request() -> impl Strategy<Value = Asked> {
    let method = prop_oneof![6 => Just("GET"), 1 => Just("HEAD"), 2 => Just("POST")];
    let headers = prop_oneof![
        4 => Just(""),
        1 => Just("accept: text/html\r\n"),
        1 => Just("range: bytes=3-\r\n"),
        1 => Just("if-none-match: \"x\"\r\n"),
        1 => Just("authorization: Bearer own\r\ncookie: a=b\r\n"),
    ];
    let body = prop::collection::vec(any::<u8>(), 0..50);
    (method, "[ab]{0,2}(\\?q=[12])?", headers, body).prop_map(|(method, path, headers, body)| {
        let body = if method == "POST" { body } else { Vec::new() };
        Asked { method, path: format!("/{path}"), headers, body }
    })
}

/// A web that answers everything otherwise each time: with and without a length, with errors, with redirections.
#[allow(clippy::type_complexity, reason = "it is the type of the way to the web")]
fn changing_web(count: &AtomicU64) -> impl Fn(&Request, &[(String, String)], &[u8]) -> Result<Exchange, String> + '_ {
    |request, headers, body| {
        for own in ["authorization", "cookie", "if-none-match", "connection", "host"] {
            assert!(!headers.iter().any(|(name, _)| name.eq_ignore_ascii_case(own)), "{own}");
        }
        let number = count.fetch_add(1, Ordering::SeqCst);
        let text =
            format!("{number} {} {} {}", request.method, request.url, body.len()).repeat(number as usize % 4 * 700);
        let status = [200, 200, 404, 301, 206][number as usize % 5];
        let length = number.is_multiple_of(2).then_some(text.len() as u64);
        let headers = [
            ("content-type", "text/plain"),
            ("set-cookie", "id=7"),
            ("date", "today"),
            ("location", "http://ida:gull7@b/"),
        ];
        let headers = headers.map(|(name, value)| (name.to_owned(), value.to_owned())).to_vec();
        Ok(Exchange { status, headers, length, body: Box::new(std::io::Cursor::new(text.into_bytes())) })
    }
}

/// What was answered, without how it was framed: status and headers but for lengths, and the body.
fn unframed(answer: &[u8]) -> (String, Vec<u8>) {
    let end = answer.windows(4).position(|four| four == b"\r\n\r\n").unwrap() + 4;
    let head = String::from_utf8(answer[..end].to_vec()).unwrap();
    let mut body = answer[end..].to_vec();
    if head.contains("transfer-encoding: chunked") {
        let (mut plain, mut rest) = (Vec::new(), body.as_slice());
        loop {
            let line = rest.windows(2).position(|two| two == b"\r\n").unwrap();
            let size = usize::from_str_radix(std::str::from_utf8(&rest[..line]).unwrap(), 16).unwrap();
            rest = &rest[line + 2..];
            if size == 0 {
                break;
            }
            plain.extend(&rest[..size]);
            rest = &rest[size + 2..];
        }
        body = plain;
    }
    let kept =
        head.lines().filter(|line| !line.starts_with("content-length") && !line.starts_with("transfer-encoding"));
    (kept.collect::<Vec<_>>().join("\n"), body)
}

fn sent(one: &Asked) -> Vec<u8> {
    request(one.method, &one.path, "tides.example", one.headers, &one.body)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn whatever_is_recorded_is_replayed_the_same(requests in prop::collection::vec(any_request(), 1..12)) {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("store")).unwrap();
        let count = AtomicU64::new(0);
        let web = changing_web(&count);
        let recording = Recording::new(&store, &web);
        let first: Vec<_> = answered(&recording, |places, _| {
            requests.iter().map(|one| unframed(&said(places.plain, &sent(one)))).collect()
        });
        let record = recording.into_record();
        // As it is committed, and read by somebody else.
        let record = Record::parse(&record.to_text()).unwrap();
        let open = |digest: &Sha256Digest| File::open(store.blob(digest).unwrap());
        let replay = Replay::new(&record, &open);
        // By the proxy this time, in another order, and each twice.
        let again: Vec<_> = answered(&replay, |places, _| {
            let mut answers: Vec<_> = requests.iter().rev().map(|one| {
                said(places.plain, &sent(one));
                let target = format!("http://tides.example{}", one.path);
                unframed(&said(places.proxy, &request(one.method, &target, "tides.example", one.headers, &one.body)))
            }).collect();
            answers.reverse();
            answers
        });
        prop_assert_eq!(&first, &again);
        prop_assert!(replay.notes().refusals().is_empty());
        for (head, _) in &first {
            prop_assert!(!head.contains("id=7") && !head.contains("today") && !head.contains("gull7"), "{}", head);
        }
        // Nobody was asked the same twice.
        prop_assert_eq!(count.load(Ordering::SeqCst), record.answers.len() as u64);
    }
}

#[test]
fn many_at_once_get_the_same_and_it_is_fetched_once() {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("store")).unwrap();
    let count = AtomicU64::new(0);
    let slow = |_: &Request, _: &[(String, String)], _: &[u8]| {
        let number = count.fetch_add(1, Ordering::SeqCst);
        std::thread::sleep(std::time::Duration::from_millis(100));
        let body = Box::new(std::io::Cursor::new(format!("tide {number}").into_bytes()));
        Ok(Exchange { status: 200, headers: Vec::new(), length: None, body })
    };
    let recording = Recording::new(&store, &slow);
    let answers: Vec<_> = answered(&recording, |places, _| {
        let ask =
            || std::thread::spawn(move || unframed(&said(places.plain, &request("GET", "/", "a.example", "", b""))));
        let asking: Vec<_> = (0..20).map(|_| ask()).collect();
        asking.into_iter().map(|one| one.join().unwrap().1).collect()
    });
    assert!(answers.iter().all(|answer| answer == b"tide 0"), "{answers:?}");
    assert_eq!(count.load(Ordering::SeqCst), 1);
}

/// A body that is not what was said of it.
struct Broken(u64);

impl Read for Broken {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        if self.0 == 0 {
            return Err(std::io::ErrorKind::ConnectionReset.into());
        }
        let count = buffer.len().min(self.0 as usize);
        buffer[..count].fill(b'x');
        self.0 -= count as u64;
        Ok(count)
    }
}

#[test]
fn what_breaks_off_or_lies_about_its_length_is_not_recorded_and_can_be_asked_again() {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("store")).unwrap();
    let count = AtomicU64::new(0);
    let web = |request: &Request, _: &[(String, String)], _: &[u8]| {
        let number = count.fetch_add(1, Ordering::SeqCst);
        let fetched =
            |length, body: Box<dyn Read + Send>| Ok(Exchange { status: 200, headers: Vec::new(), length, body });
        match (request.url.rsplit('/').next().unwrap(), number % 2) {
            ("resets", 0) => fetched(None, Box::new(Broken(100_000))),
            ("short", 0) => fetched(Some(20), Box::new(&b"short"[..])),
            ("long", 0) => fetched(Some(3), Box::new(&b"longer"[..])),
            ("down", 0) => Err("nobody is there".to_owned()),
            ("busy", 0) => Ok(Exchange { status: 503, headers: Vec::new(), length: None, body: Box::new(&b""[..]) }),
            _ => fetched(Some(4), Box::new(&b"tide"[..])),
        }
    };
    let recording = Recording::new(&store, &web);
    answered(&recording, |places, _| {
        for path in ["resets", "short", "long", "down", "busy"] {
            let ask = || {
                String::from_utf8_lossy(&said(places.plain, &request("GET", &format!("/{path}"), "a.example", "", b"")))
                    .into_owned()
            };
            let first = ask();
            assert!(!first.ends_with("\r\n\r\ntide"), "{path}: {first}");
            if ["down", "busy"].contains(&path) {
                assert!(first.starts_with("HTTP/1.1 502 ") && first.contains("could not be fetched"), "{first}");
            }
            let second = ask();
            assert!(second.ends_with("\r\n\r\ntide"), "{path}: {second}");
        }
    });
    let refusals = recording.notes().refusals();
    assert!(
        refusals.iter().any(|line| line.contains("a.example/down could not be fetched: nobody is there")),
        "{refusals:?}"
    );
    let record = recording.into_record();
    assert_eq!(record.answers.len(), 5);
    assert!(record.answers.values().all(|answer| answer.body == Sha256Digest::of(b"tide")));
}

#[test]
fn a_client_that_goes_away_changes_nothing_of_what_is_recorded() {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("store")).unwrap();
    let large = vec![b'x'; 3 << 20];
    let web = |_: &Request, _: &[(String, String)], _: &[u8]| {
        let body = Box::new(std::io::Cursor::new(large.clone()));
        Ok(Exchange { status: 200, headers: Vec::new(), length: Some(large.len() as u64), body })
    };
    let recording = Recording::new(&store, &web);
    answered(&recording, |places, _| {
        use std::io::Write as _;
        let mut stream = std::net::TcpStream::connect(places.plain).unwrap();
        stream.write_all(&request("GET", "/large", "a.example", "", b"")).unwrap();
        stream.read_exact(&mut [0; 100]).unwrap();
        drop(stream);
        // Whoever asks next gets all of it, from what was recorded.
        let (_, body) = unframed(&said(places.plain, &request("GET", "/large", "a.example", "", b"")));
        assert_eq!(body.len(), large.len());
    });
    assert_eq!(recording.into_record().bytes(), large.len() as u64);
}

#[test]
fn what_cannot_be_recorded_is_refused_and_said() {
    let record = Record::default();
    let open = |_: &Sha256Digest| Err(std::io::ErrorKind::NotFound.into());
    let replay = Replay::new(&record, &open);
    answered(&replay, |places, _| {
        let text = |answer: Vec<u8>| String::from_utf8_lossy(&answer).into_owned();
        let never = text(said(places.plain, &request("GET", "/tides", "a.example", "", b"")));
        assert!(
            never.starts_with("HTTP/1.1 403 ") && never.contains("http://a.example/tides was never recorded"),
            "{never}"
        );
        let socket = "connection: upgrade\r\nupgrade: websocket\r\n";
        let upgraded = text(said(places.plain, &request("GET", "/live", "a.example", socket, b"")));
        assert!(upgraded.starts_with("HTTP/1.1 501 "), "{upgraded}");
        assert_eq!(said(places.other, b"git-upload-pack /x\0"), b"");
        let tunnel = text(said(places.proxy, b"CONNECT db.example:5432 HTTP/1.1\r\n\r\n\0\0\0\x08"));
        assert_eq!(tunnel, "HTTP/1.1 200 Connected\r\n\r\n");
        assert_eq!(said(places.plain, b"\0\0\0nonsense\r\n\r\n"), b"");
        let nobody = text(said(places.plain, b"GET / HTTP/1.0\r\n\r\n"));
        assert!(nobody.contains("http://127.0.0.1/ was never recorded"), "{nobody}");
        let smuggled =
            b"POST / HTTP/1.1\r\nhost: a.example\r\ncontent-length: 3\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\r\n";
        assert!(text(said(places.plain, smuggled)).starts_with("HTTP/1.1 400 "));
        // The resolver answers for every name, and hears which.
        let client = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
        let question = b"\x07\x09\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x06secret\x07example\x00\x00\x01\x00\x01";
        client.send_to(question, places.names).unwrap();
        let mut answer = [0; 512];
        let (count, _) = client.recv_from(&mut answer).unwrap();
        assert_eq!(&answer[count - 4..count], [198, 18, 0, 1]);
    });
    let said = replay.notes().refusals().join("\n");
    for what in [
        "http://a.example/tides was never recorded",
        "by websocket",
        "a connection by git",
        "db.example:5432",
        "neither HTTP/1.1 nor HTTP/2",
    ] {
        assert!(said.contains(what), "{what}: {said}");
    }
    assert_eq!(replay.notes().unasked(), ["secret.example"]);
}
