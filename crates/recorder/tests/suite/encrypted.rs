use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::sync::Arc;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::record::{Record, Request, Response};
use cavrith_recorder::replaying::Replay;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};

use crate::{answered, request};

pub fn config(pem: &str) -> ClientConfig {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(pem.as_bytes()).unwrap()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    config.with_root_certificates(roots).with_no_client_auth()
}

fn client(pem: &str, host: &str) -> ClientConnection {
    ClientConnection::new(Arc::new(config(pem)), ServerName::try_from(host.to_owned()).unwrap()).unwrap()
}

pub fn asked(stream: TcpStream, pem: &str, host: &str, path: &str) -> std::io::Result<String> {
    let mut stream = StreamOwned::new(client(pem, host), stream);
    stream.write_all(&request("GET", path, host, "", b""))?;
    let mut answer = String::new();
    // Whether it ends as TLS wants it is not what is tried here.
    let _ = stream.read_to_string(&mut answer);
    Ok(answer)
}

#[test]
fn every_host_has_a_certificate_that_the_step_s_programs_believe_and_nobody_else() {
    let mut record = Record::default();
    let body = Sha256Digest::of(b"low");
    for host in ["a.example", "b.example", "10.1.2.3"] {
        let request = Request::new("GET", &format!("https://{host}/tides"), [], None);
        record.answers.insert(request, Response::new(200, [], (body, 3)));
    }
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), "low").unwrap();
    let open = |_: &Sha256Digest| std::fs::File::open(file.path());
    let replay = Replay::new(&record, &open);
    answered(&replay, |places, pem| {
        for host in ["a.example", "b.example", "a.example"] {
            let answer = asked(TcpStream::connect(places.secure).unwrap(), pem, host, "/tides").unwrap();
            assert!(answer.starts_with("HTTP/1.1 200 ") && answer.ends_with("low"), "{host}: {answer}");
        }
        // By the proxy, also to an address that is no name, for which a client says no host.
        for (host, target) in [("b.example", "b.example:443"), ("10.1.2.3", "10.1.2.3:443")] {
            let mut stream = TcpStream::connect(places.proxy).unwrap();
            stream.write_all(format!("CONNECT {target} HTTP/1.1\r\nhost: {target}\r\n\r\n").as_bytes()).unwrap();
            let mut connected = [0; b"HTTP/1.1 200 Connected\r\n\r\n".len()];
            stream.read_exact(&mut connected).unwrap();
            let answer = asked(stream, pem, host, "/tides").unwrap();
            assert!(answer.ends_with("low"), "{host}: {answer}");
        }
        // Somebody else's authority proves nothing.
        let other = cavrith_recorder::authority::Authority::new().unwrap();
        assert!(asked(TcpStream::connect(places.secure).unwrap(), other.pem(), "a.example", "/tides").is_err());
    });
    let said = replay.notes().refusals();
    assert!(said.len() == 1 && said[0].contains("the encryption to a.example"), "{said:?}");
}
