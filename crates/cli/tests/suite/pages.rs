//! A port's pages for an invited browser, and the port by which members come themselves.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::ring::default_provider;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, ClientConnection, DigitallySignedStruct, SignatureScheme, StreamOwned};

use crate::owners::Someone;
use crate::team::{Team, told};

/// A browser that knows a machine by its certificate's digest.
#[derive(Debug)]
struct Known(String);

impl ServerCertVerifier for Known {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let digest = ring::digest::digest(&ring::digest::SHA256, certificate);
        let shown = digest.as_ref().iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(":");
        assert_eq!(shown, self.0);
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = default_provider().signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, certificate, signed, &algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = default_provider().signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, certificate, signed, &algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        default_provider().signature_verification_algorithms.supported_schemes()
    }
}

struct Browser {
    at: String,
    certificate: String,
}

impl Browser {
    fn connect(&self) -> std::io::Result<StreamOwned<ClientConnection, TcpStream>> {
        let config = ClientConfig::builder_with_provider(Arc::new(default_provider()));
        let config = config.with_safe_default_protocol_versions().unwrap().dangerous();
        let config = config.with_custom_certificate_verifier(Arc::new(Known(self.certificate.clone())));
        let host = self.at.rsplit_once(':').unwrap().0.to_owned();
        let stream = TcpStream::connect(&self.at)?;
        stream.set_read_timeout(Some(Duration::from_secs(20)))?;
        let name = ServerName::try_from(host).unwrap();
        let connection = ClientConnection::new(Arc::new(config.with_no_client_auth()), name).unwrap();
        Ok(StreamOwned::new(connection, stream))
    }

    /// What comes back for the beginning of a request.
    fn ask(&self, head: &str) -> String {
        let Ok(mut stream) = self.connect() else { return String::new() };
        let (mut bytes, mut buffer) = (Vec::new(), [0; 4096]);
        let sent = stream.write_all(format!("{head}\r\nHost: {}\r\n\r\n", self.at).as_bytes());
        while sent.is_ok()
            && let Ok(count @ 1..) = stream.read(&mut buffer)
        {
            bytes.extend_from_slice(&buffer[..count]);
        }
        String::from_utf8_lossy(&bytes).into_owned()
    }
}

/// The cookie that an answer sets.
fn cookie(answer: &str) -> String {
    let line = answer.lines().find_map(|line| line.strip_prefix("Set-Cookie: ")).unwrap_or_default();
    line.split(';').next().unwrap_or_default().to_owned()
}

#[test]
fn a_browser_with_the_token_sees_the_pages_of_one_port_until_it_is_taken_back() {
    for who in Someone::each(Team::locked) {
        let kind = who.kind;
        who.ok(&["start", "-q", "--wait"]);
        let invited = who.ok(&["invite", "sven", "--pages", "site", "--json"]);
        let value: serde_json::Value = serde_json::from_str(&invited).unwrap();
        let address = value["address"].as_str().unwrap();
        let (at, token) = address.strip_prefix("https://").unwrap().split_once("/?token=").unwrap();
        let browser = Browser { at: at.to_owned(), certificate: value["certificate"].as_str().unwrap().to_owned() };
        // Nobody comes without it, nor with one that is nearly it, nor without encryption.
        let refused = "HTTP/1.1 403 Forbidden";
        for head in ["GET / HTTP/1.1", "GET /?token=x HTTP/1.1", "GET / HTTP/1.1\r\nCookie: cavrith-visit-1=x"] {
            assert!(browser.ask(head).starts_with(refused), "{kind} {head}");
        }
        assert!(browser.ask("GET http://other.example/ HTTP/1.1").starts_with("HTTP/1.1 400"), "{kind}");
        let mut plain = TcpStream::connect(at).unwrap();
        plain.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        plain.write_all(b"GET / HTTP/1.1\r\n\r\n").unwrap();
        let mut said = Vec::new();
        let _ = plain.read_to_end(&mut said);
        assert!(!String::from_utf8_lossy(&said).contains("Brindle"), "{kind}");
        let first = browser.ask(&format!("GET /?token={token}&x=1 HTTP/1.1"));
        assert!(first.starts_with("HTTP/1.1 303 ") && first.contains("\r\nLocation: /?x=1\r\n"), "{kind}: {first}");
        let cookie = cookie(&first);
        assert!(first.contains("Secure; HttpOnly; SameSite=Lax") && cookie.ends_with(token), "{kind}: {first}");
        let page = browser.ask(&format!("GET / HTTP/1.1\r\nCookie: a=1; {cookie}"));
        assert!(page.contains("200 OK") && page.contains("Brindle Ferry"), "{kind}: {page}");
        assert!(who.ok(&["status"]).contains("sven may see the pages of port 8080"), "{kind}");
        assert!(who.ok(&["logs", "visitors"]).contains("sven asks for GET /"), "{kind}");
        // The token itself is written down nowhere.
        let found = std::process::Command::new("grep").args(["-rl", token]).arg(who.home()).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&found.stdout), "", "{kind}");
        // It holds over a restart, and the machine is known by the same certificate.
        who.ok(&["restart", "-q", "--wait"]);
        let ask = || browser.ask(&format!("GET / HTTP/1.1\r\nCookie: {cookie}"));
        assert!(ask().contains("Brindle Ferry"), "{kind}");
        // Whoever comes by SSH comes elsewhere.
        let key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILM+rvN+ot98qgEN796jTiQfZfG1KaT0PtFDJ/XFSqti";
        let mixed = who.run(&["invite", "tove", "--key", key, "--read-only", "--at", at]);
        assert!(told(&mixed).contains("in another way"), "{kind}: {}", told(&mixed));
        // Taken back in the middle of an answer that does not end.
        let mut open = browser.connect().unwrap();
        open.write_all(format!("POST / HTTP/1.1\r\nCookie: {cookie}\r\nContent-Length: 900\r\n\r\n").as_bytes())
            .unwrap();
        crate::running::soon("the visitor is seen", || {
            let status: serde_json::Value = serde_json::from_str(&who.ok(&["status", "--json"])).unwrap();
            !status["status"]["visitors"].as_array().unwrap().is_empty()
        });
        let begun = Instant::now();
        who.ok(&["invite", "sven", "--end"]);
        let _ = open.read(&mut [0; 64]);
        assert!(begun.elapsed() < Duration::from_secs(10), "{kind}");
        assert!(!ask().contains("Brindle"), "{kind}");
        who.ok(&["stop", "-q"]);
    }
}

#[test]
fn members_come_by_a_port_of_their_own_with_their_own_key() {
    for who in Someone::each(Team::locked) {
        let kind = who.kind;
        let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = taken.local_addr().unwrap().port();
        who.configure(&format!("[personal]\nssh-port = {port}\n"));
        who.ok(&["start", "-q", "--wait"]);
        let status = who.ok(&["status"]);
        let at = status.split("SSH at 127.0.0.1:").nth(1).and_then(|rest| rest.split(',').next());
        // The one that was asked for is taken, so it is one of the next.
        let own: u16 = at.unwrap_or_else(|| panic!("{kind}: {status}")).parse().unwrap();
        assert!(own > port && own < port.saturating_add(20), "{kind}: {own} beside {port}");
        let (key, known) = (who.home().join("ssh/member"), who.home().join("ssh/known_hosts"));
        let ssh = |key: &std::path::Path| {
            let mut ssh = who.other("ssh");
            ssh.args([
                "-F",
                "/dev/null",
                "-o",
                "BatchMode=yes",
                "-o",
                "HostKeyAlias=cavrith",
                "-o",
                "StrictHostKeyChecking=yes",
            ]);
            ssh.arg("-o").arg(format!("UserKnownHostsFile={}", known.display())).arg("-i").arg(key);
            ssh.args(["-o", "IdentitiesOnly=yes", "-p", &own.to_string(), "cavrith@127.0.0.1", "id -un; pwd"]);
            ssh.output().unwrap()
        };
        let inside = ssh(&key);
        assert_eq!(String::from_utf8_lossy(&inside.stdout), "crew\n/code\n", "{kind}: {}", told(&inside));
        let other = who.dir().join("other-key");
        let made = who.other("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&other).status().unwrap();
        assert!(made.success());
        let refused = ssh(&other);
        assert!(!refused.status.success() && told(&refused).contains("ermission denied"), "{kind}: {}", told(&refused));
        assert!(fs::metadata(&key).is_ok());
        who.ok(&["stop", "-q"]);
        // Somebody else may listen there by now, who has another key.
        assert!(!ssh(&key).status.success(), "{kind}");
    }
}
