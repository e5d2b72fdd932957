//! HTTP/2: many requests of one connection at once, and the same record as by HTTP/1.1.

use std::io::{Read as _, Write as _};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use bytes::Bytes;
use cavrith_core::record::{Record, Request};
use cavrith_recorder::recording::Recording;
use cavrith_recorder::replaying::Replay;
use cavrith_sources::web::Exchange;
use cavrith_store::Store;
use h2::client::SendRequest;
use rustls::pki_types::ServerName;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

use crate::answered;
use crate::encrypted::config;

/// Runs a client on a connection of its own, by the proxy when that is given.
fn connected<T, F: Future<Output = T>>(
    (to, by): (SocketAddr, Option<SocketAddr>),
    pem: &str,
    run: impl FnOnce(SendRequest<Bytes>) -> F,
) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_io().build().unwrap();
    runtime.block_on(async {
        let stream = match by {
            None => std::net::TcpStream::connect(to).unwrap(),
            Some(proxy) => {
                let mut stream = std::net::TcpStream::connect(proxy).unwrap();
                stream.write_all(b"CONNECT tides.example:443 HTTP/1.1\r\n\r\n").unwrap();
                stream.read_exact(&mut [0; b"HTTP/1.1 200 Connected\r\n\r\n".len()]).unwrap();
                stream
            }
        };
        stream.set_nonblocking(true).unwrap();
        let mut config = config(pem);
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        let connector = TlsConnector::from(Arc::new(config));
        let stream = TcpStream::from_std(stream).unwrap();
        let stream = connector.connect(ServerName::try_from("tides.example").unwrap(), stream).await.unwrap();
        assert_eq!(stream.get_ref().1.alpn_protocol(), Some(&b"h2"[..]));
        // As other clients do, until it is told how many requests there may be at once.
        let mut builder = h2::client::Builder::new();
        let builder = builder.initial_max_send_streams(100);
        let (client, connection) = builder.handshake::<_, Bytes>(stream).await.unwrap();
        tokio::spawn(connection);
        run(client).await
    })
}

/// Asks, and gives the status, the headers, and the body, or why it broke off.
async fn asked(
    client: SendRequest<Bytes>,
    (method, path): (&str, &str),
    body: Option<Bytes>,
) -> (u16, http::HeaderMap, Result<Vec<u8>, h2::Error>) {
    let request = http::Request::builder().method(method).uri(format!("https://tides.example{path}")).body(()).unwrap();
    let mut client = client.ready().await.unwrap();
    let (response, mut stream) = client.send_request(request, body.is_none()).unwrap();
    if let Some(body) = body {
        stream.send_data(body, true).unwrap();
    }
    let (parts, mut stream) = response.await.unwrap().into_parts();
    let mut body = Vec::new();
    let read = async {
        while let Some(piece) = stream.data().await {
            let piece = piece?;
            stream.flow_control().release_capacity(piece.len())?;
            body.extend_from_slice(&piece);
        }
        Ok(())
    };
    let read = read.await;
    (parts.status.as_u16(), parts.headers, read.map(|()| body))
}

#[test]
fn many_requests_of_one_connection_are_recorded_and_replayed_the_same() {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("store")).unwrap();
    let count = AtomicU64::new(0);
    let web = |request: &Request, _: &[(String, String)], body: &[u8]| {
        let number = count.fetch_add(1, Ordering::SeqCst);
        std::thread::sleep(std::time::Duration::from_millis(20));
        let text = format!("{number} {} {} {}", request.method, request.url, body.len()).repeat(3000);
        let headers =
            vec![("content-type".to_owned(), "text/plain".to_owned()), ("connection".to_owned(), "x".to_owned())];
        let length = number.is_multiple_of(2).then_some(text.len() as u64);
        Ok(Exchange { status: 200, headers, length, body: Box::new(std::io::Cursor::new(text.into_bytes())) })
    };
    let all = |client: SendRequest<Bytes>| async move {
        let asking: Vec<_> = (0..300)
            .map(|number| {
                let (method, body) = match number % 3 {
                    0 => ("GET", None),
                    1 => ("HEAD", None),
                    _ => ("POST", Some(Bytes::from(vec![b'x'; 30_000 + number]))),
                };
                let client = client.clone();
                tokio::spawn(async move { asked(client, (method, &format!("/{number}")), body).await })
            })
            .collect();
        let mut answers = Vec::new();
        for one in asking {
            let (status, mut headers, body) = one.await.unwrap();
            // What is recorded has a length that was not known while it was.
            headers.remove("content-length");
            answers.push((status, headers, body.unwrap()));
        }
        answers
    };
    let recording = Recording::new(&store, &web);
    let first = answered(&recording, |places, pem| connected((places.secure, None), pem, all));
    let record = Record::parse(&recording.into_record().to_text()).unwrap();
    assert_eq!(record.answers.len(), 300);
    assert!(first.iter().all(|(status, headers, _)| *status == 200 && !headers.contains_key("connection")));
    assert!(
        first[2].2.starts_with(b"") && first[2].2.ends_with(b"POST https://tides.example/2 30002"),
        "{:?}",
        first[2]
    );
    let open = |digest: &cavrith_core::digest::Sha256Digest| std::fs::File::open(store.blob(digest).unwrap());
    let replay = Replay::new(&record, &open);
    let (again, older) = answered(&replay, |places, pem| {
        let again = connected((places.secure, Some(places.proxy)), pem, all);
        // The protocol is nothing that a record knows of.
        let older =
            crate::encrypted::asked(std::net::TcpStream::connect(places.secure).unwrap(), pem, "tides.example", "/0");
        (again, older.unwrap())
    });
    assert_eq!(first, again);
    assert!(older.as_bytes().ends_with(&first[0].2));
    assert!(replay.notes().refusals().is_empty(), "{:?}", replay.notes().refusals());
}

#[test]
fn what_breaks_off_does_not_look_whole_and_one_who_goes_away_changes_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("store")).unwrap();
    let large = vec![b'x'; 6 << 20];
    let web = |request: &Request, _: &[(String, String)], _: &[u8]| {
        let length = if request.url.ends_with("/short") { large.len() + 1 } else { large.len() };
        let body = Box::new(std::io::Cursor::new(large.clone()));
        Ok(Exchange { status: 200, headers: Vec::new(), length: Some(length as u64), body })
    };
    let recording = Recording::new(&store, &web);
    answered(&recording, |places, pem| {
        connected((places.secure, None), pem, |client| async move {
            let (_, _, body) = asked(client.clone(), ("GET", "/short"), None).await;
            assert!(body.unwrap_err().is_reset());
            // Gone after the first piece, on a connection that goes on.
            let request = http::Request::get("https://tides.example/left").body(()).unwrap();
            let mut ready = client.clone().ready().await.unwrap();
            let (response, _) = ready.send_request(request, true).unwrap();
            let mut stream = response.await.unwrap().into_body();
            stream.data().await.unwrap().unwrap();
            drop(stream);
            let (_, _, body) = asked(client.clone(), ("GET", "/left"), None).await;
            assert_eq!(body.unwrap().len(), 6 << 20);
            // What is longer than may be is refused; what no record can have, too.
            let (status, _, _) = asked(client.clone(), ("POST", "/"), Some(Bytes::from(vec![0; (64 << 20) + 1]))).await;
            assert_eq!(status, 413);
            let call =
                http::Request::post("https://tides.example/tides.Tides/Low").header("content-type", "application/grpc");
            let mut ready = client.ready().await.unwrap();
            let (response, _) = ready.send_request(call.body(()).unwrap(), true).unwrap();
            assert_eq!(response.await.unwrap().status(), 501);
        });
    });
    let refusals = recording.notes().refusals();
    assert!(refusals.iter().any(|line| line.contains("by gRPC")), "{refusals:?}");
    let record = recording.into_record();
    assert_eq!(
        record.answers.keys().map(|request| request.url.as_str()).collect::<Vec<_>>(),
        ["https://tides.example/left"]
    );
}
