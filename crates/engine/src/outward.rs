//! The way of a step's requests to the web while it is recorded: to mirrors of the member's, with what the member shows
//! there. It is added here, outside, so that neither the step nor its record ever holds it.

use std::collections::BTreeMap;
use std::net::{IpAddr, ToSocketAddrs as _};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cavrith_core::record::Request;
use cavrith_sources::web::{Exchange, Web};

use crate::member::{CredentialConfig, RecordingConfig};
use crate::registries::secret;

/// How requests go out.
pub(crate) struct Outward<'a> {
    web: &'a Web,
    mirrors: &'a BTreeMap<String, String>,
    /// How addresses begin, and what is shown there; the longest first.
    shown: Vec<(String, String)>,
}

impl<'a> Outward<'a> {
    /// As a member has configured it; commands for secrets are run. An error says, in words, which has none.
    ///
    /// # Errors
    /// When a command fails, or an entry shows nothing.
    pub fn new(web: &'a Web, config: &'a RecordingConfig) -> Result<Self, String> {
        let mut shown = Vec::new();
        for (beginning, credential) in &config.credentials {
            let header = header(credential).map_err(|why| format!("[recording.credentials] for {beginning}: {why}"))?;
            shown.push((beginning.clone(), header));
        }
        shown.sort_by_key(|(beginning, _)| std::cmp::Reverse(beginning.len()));
        Ok(Self { web, mirrors: &config.mirrors, shown })
    }

    /// The address that is really asked.
    fn address(&self, url: &str) -> String {
        let found = self.mirrors.iter().filter(|(from, _)| begins(url, from)).max_by_key(|(from, _)| from.len());
        found.map_or_else(|| url.to_owned(), |(from, to)| format!("{to}{}", &url[from.len()..]))
    }

    /// Sends a request, and gives the answer. An error says, in words, why there is none.
    pub fn fetch(&self, request: &Request, headers: &[(String, String)], body: &[u8]) -> Result<Exchange, String> {
        let url = self.address(&request.url);
        // A spec is somebody's; what listens on the member's own machine is for the member.
        if url == request.url && is_this_machine(request.host()) {
            return Err(
                "it is this machine itself, which no step is let to; [recording.mirrors] can lead there".to_owned()
            );
        }
        let mut headers = headers.to_vec();
        if let Some((_, header)) = self.shown.iter().find(|(beginning, _)| begins(&url, beginning)) {
            headers.push(("Authorization".to_owned(), header.clone()));
        }
        self.web.exchange(&request.method, &url, &headers, body).map_err(|error| error.to_string())
    }
}

/// Whether a host is this machine, or one that only this machine has: its loopback, and what is local to a link, where
/// machines in data centres are told their credentials (RFC 3927, RFC 4291). A name that cannot be resolved here is for
/// a proxy to resolve.
fn is_this_machine(host: &str) -> bool {
    let (name, port) = match host.rsplit_once(':') {
        Some((name, port)) if !name.contains(':') || name.ends_with(']') => (name, port.parse().unwrap_or(80)),
        _ => (host, 80_u16),
    };
    let name = name.trim_start_matches('[').trim_end_matches(']').trim_end_matches('.');
    if name == "localhost" || name.ends_with(".localhost") {
        return true;
    }
    let addresses = (name, port).to_socket_addrs().map(|found| found.map(|one| one.ip()).collect::<Vec<_>>());
    addresses.unwrap_or_default().into_iter().any(|address| match address.to_canonical() {
        IpAddr::V4(address) => address.is_loopback() || address.is_link_local() || address.octets()[0] == 0,
        IpAddr::V6(address) => {
            address.is_loopback() || address.is_unspecified() || address.segments()[0] & 0xffc0 == 0xfe80
        }
    })
}

/// Whether an address lies beneath another one: the same host, and not only one whose name begins the same.
fn begins(url: &str, beginning: &str) -> bool {
    let Some(rest) = url.strip_prefix(beginning) else { return false };
    let has_path = beginning.split_once("://").is_some_and(|(_, rest)| rest.contains('/'));
    has_path || rest.is_empty() || rest.starts_with(['/', '?'])
}

/// What is shown, as a header (RFC 9110, section 11.6.2).
fn header(credential: &CredentialConfig) -> Result<String, String> {
    let CredentialConfig { token, token_command, user, password, password_command } = credential;
    let one_of = |plain: &Option<String>, key: &str, command: &Option<Vec<String>>| match (plain, command) {
        (Some(plain), _) => Ok(Some(plain.clone())),
        (None, Some(command)) => secret(key, command).map(Some),
        (None, None) => Ok(None),
    };
    if let Some(token) = one_of(token, "token-command", token_command)? {
        return Ok(format!("Bearer {token}"));
    }
    let password = one_of(password, "password-command", password_command)?;
    match (user, password) {
        (Some(user), Some(password)) => Ok(format!("Basic {}", STANDARD.encode(format!("{user}:{password}")))),
        _ => Err("it has neither a token nor a user with a password".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_listens_on_this_machine_is_no_step_s() {
        for host in [
            "localhost",
            "localhost:631",
            "db.localhost",
            "127.0.0.1",
            "127.8.9.1:8080",
            "[::1]:80",
            "[::ffff:127.0.0.1]",
            "0.0.0.0:22",
            "169.254.169.254",
            "[fe80::1]",
            "2130706433",
            "0x7f.1",
        ] {
            assert!(is_this_machine(host), "{host}");
        }
        for host in ["10.1.2.3", "192.168.0.7:8443", "[2001:db8::1]", "tides.invalid"] {
            assert!(!is_this_machine(host), "{host}");
        }
    }

    #[test]
    fn mirrors_and_credentials_hold_for_the_host_that_they_name_and_no_other() {
        let config = RecordingConfig {
            mirrors: [
                ("https://index.example/", "https://mirror.example/all/"),
                ("https://index.example/simple/", "http://near.example/"),
            ]
            .map(|(from, to)| (from.to_owned(), to.to_owned()))
            .into(),
            credentials: BTreeMap::from([(
                "https://mirror.example".to_owned(),
                CredentialConfig { token: Some("gull7".to_owned()), ..CredentialConfig::default() },
            )]),
        };
        let web = Web::new(true);
        let outward = Outward::new(&web, &config).unwrap();
        assert_eq!(outward.address("https://index.example/simple/tides/"), "http://near.example/tides/");
        assert_eq!(outward.address("https://index.example/files/a?b"), "https://mirror.example/all/files/a?b");
        assert_eq!(outward.address("https://index.example.org/files"), "https://index.example.org/files");
        assert!(begins("https://mirror.example/x", "https://mirror.example"));
        assert!(!begins("https://mirror.example.org/x", "https://mirror.example"));
        assert!(!begins("https://mirror.example:8443/x", "https://mirror.example"));
        assert_eq!(outward.shown[0].1, "Bearer gull7");
        let lacking = CredentialConfig { user: Some("ida".to_owned()), ..CredentialConfig::default() };
        assert!(header(&lacking).is_err());
    }
}
