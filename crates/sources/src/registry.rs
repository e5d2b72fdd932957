//! Registries of OCI images (OCI Distribution Specification 1.1, "Pull"), with the three ways of showing who one is:
//! not at all, by name and password (RFC 7617), or by a token that a service of the registry's gives for them.

mod referrers;
mod upload;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::encode::percent_encoded;
use cavrith_core::oci::Reference;

use crate::oci::LONGEST_DOCUMENT;
use crate::web::{Answer, Web};
use crate::{SourceError, Unreached};

pub use referrers::Referrers;
pub use upload::Pushed;

/// What manifests are asked for as; others are read if they have the same form.
const ACCEPT: &str = "application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json, application/json;q=0.5, */*;q=0.1";

/// What is said to a member who shows nothing to a registry that wants it.
const STRANGER: &str =
    "the registry wants to know who we are; write user and password-command under [registries] in config.toml";

/// Name and password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Login {
    /// Name.
    pub user: String,
    /// Password.
    pub password: String,
}

/// One image's place in a registry.
pub struct Registry<'a> {
    web: &'a Web,
    reference: &'a Reference,
    login: Option<&'a Login>,
    base: String,
}

impl<'a> Registry<'a> {
    /// A place in a registry. It is spoken to without encryption when it is on this machine, or `plain` says so.
    pub fn new(web: &'a Web, reference: &'a Reference, login: Option<&'a Login>, plain: bool) -> Self {
        let host = reference.registry.split(':').next().unwrap_or_default();
        let scheme = if plain || matches!(host, "localhost" | "127.0.0.1") { "http" } else { "https" };
        let base = format!("{scheme}://{}/v2/{}", reference.registry, reference.name);
        Self { web, reference, login, base }
    }

    /// Where a blob is.
    pub fn blob_address(&self, digest: &str) -> String {
        format!("{}/blobs/sha256:{digest}", self.base)
    }

    /// The manifest or index that a tag or digest stands for.
    ///
    /// # Errors
    /// When the registry cannot be reached, does not let us in, or does not have it.
    pub fn manifest(&self, which: &str) -> Result<Vec<u8>, SourceError> {
        let address = format!("{}/manifests/{which}", self.base);
        let answer = self.ask(&address)?;
        if answer.status == 404 {
            return Err(self.failed(&address, format!("the registry has no {}", self.reference)));
        }
        if !(200..300).contains(&answer.status) {
            let cause = Unreached::Status { status: answer.status, words: String::new(), tries: 1 };
            return Err(SourceError::Unreachable { url: address, cause });
        }
        Ok(answer.body)
    }

    /// A small blob, proved.
    ///
    /// # Errors
    /// When the registry cannot be reached, does not let us in, or does not have it.
    pub fn small_blob(&self, digest: &str) -> Result<Vec<u8>, SourceError> {
        let address = self.blob_address(digest);
        let answer = self.ask(&address)?;
        if (200..300).contains(&answer.status) && Sha256Digest::of(&answer.body).to_string() == digest {
            return Ok(answer.body);
        }
        Err(self.failed(&address, "the registry does not have it, or gives something else"))
    }

    fn failed(&self, url: &str, why: impl Into<String>) -> SourceError {
        SourceError::Unreachable { url: url.to_owned(), cause: Unreached::broken(why) }
    }

    /// Asks, and shows who we are when the registry wants to know. What it takes is kept for the blobs of the same
    /// image.
    fn ask(&self, address: &str) -> Result<Answer, SourceError> {
        let accept = [("Accept", ACCEPT)];
        let answer = self.web.get(address, &accept, LONGEST_DOCUMENT)?;
        if answer.status != 401 {
            return Ok(answer);
        }
        self.show_who_we_are(&answer, address)?;
        let answer = self.web.get(address, &accept, LONGEST_DOCUMENT)?;
        if matches!(answer.status, 401 | 403) {
            return Err(self.unwelcome(address));
        }
        Ok(answer)
    }

    fn show_who_we_are(&self, answer: &Answer, address: &str) -> Result<(), SourceError> {
        let challenge = answer.header("www-authenticate").unwrap_or_default().to_owned();
        let authorization = self.authorization(&challenge, address)?;
        self.web.authorize(&format!("{}/", self.base), &authorization);
        Ok(())
    }

    fn unwelcome(&self, address: &str) -> SourceError {
        let why = match self.login {
            Some(login) => format!("the registry does not let {} in", login.user),
            None => STRANGER.to_owned(),
        };
        self.failed(address, why)
    }

    /// What to show for a challenge (RFC 9110, section 11.6.1).
    fn authorization(&self, challenge: &str, address: &str) -> Result<String, SourceError> {
        let basic =
            self.login.map(|login| format!("Basic {}", STANDARD.encode(format!("{}:{}", login.user, login.password))));
        let (scheme, rest) = challenge.split_once(' ').unwrap_or((challenge, ""));
        if scheme.eq_ignore_ascii_case("basic") {
            return basic.ok_or_else(|| self.failed(address, STRANGER));
        }
        if !scheme.eq_ignore_ascii_case("bearer") {
            return Err(self.failed(address, format!("the registry asks for {scheme:?}, which is not known")));
        }
        let parameters = parameters(rest);
        let get = |name: &str| {
            parameters.iter().find(|(have, _)| have.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
        };
        let realm = get("realm").ok_or_else(|| self.failed(address, "the registry does not say who gives tokens"))?;
        let scope = get("scope").map_or_else(|| format!("repository:{}:pull", self.reference.name), str::to_owned);
        let mut url =
            format!("{realm}{}scope={}", if realm.contains('?') { "&" } else { "?" }, percent_encoded(&scope, ""));
        if let Some(service) = get("service") {
            url.push_str(&format!("&service={}", percent_encoded(service, "")));
        }
        let headers: Vec<_> = basic.iter().map(|basic| ("Authorization", basic.as_str())).collect();
        let answer = self.web.get(&url, &headers, 1 << 20)?;
        if !(200..300).contains(&answer.status) {
            let who = self.login.map_or("a stranger".to_owned(), |login| login.user.clone());
            return Err(self.failed(&url, format!("no token is given to {who} (answer {})", answer.status)));
        }
        let value: serde_json::Value = serde_json::from_slice(&answer.body).unwrap_or_default();
        let token = value.get("token").or_else(|| value.get("access_token")).and_then(|token| token.as_str());
        let token = token.ok_or_else(|| self.failed(&url, "it answers without a token"))?;
        Ok(format!("Bearer {token}"))
    }
}

/// The parameters of a challenge: `name="value"` with commas between.
fn parameters(text: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut rest = text.trim();
    while let Some((name, after)) = rest.split_once('=') {
        let name = name.trim_matches([',', ' ']).to_owned();
        let (value, left) = match after.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"').unwrap_or((quoted, "")),
            None => after.split_once(',').unwrap_or((after, "")),
        };
        found.push((name, value.to_owned()));
        rest = left.trim_start_matches([',', ' ']);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_challenge_is_taken_apart() {
        let read = parameters("realm=\"https://a.example/token\",service=\"a, b\", scope=x");
        let expected = [("realm", "https://a.example/token"), ("service", "a, b"), ("scope", "x")];
        assert_eq!(read, expected.map(|(name, value)| (name.to_owned(), value.to_owned())));
        assert_eq!(percent_encoded("repository:team/base:pull", ""), "repository%3Ateam%2Fbase%3Apull");
    }
}
