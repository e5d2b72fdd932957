//! What refers to a manifest (OCI Distribution Specification 1.1, "Listing Referrers").

use cavrith_core::digest::Sha256Digest;
use cavrith_core::encode::percent_encoded;

use super::Registry;
use crate::web::Answer;
use crate::{SourceError, Unreached};

/// Pages of one list that are read; a registry that never ends must not keep us.
const MOST_PAGES: usize = 1000;

/// The pages of a list, each an index, one after the other.
pub struct Referrers<'a> {
    registry: &'a Registry<'a>,
    next: Option<Answer>,
    left: usize,
}

impl Registry<'_> {
    /// The list of what refers to a manifest and is of one kind; nothing when the registry keeps no such lists. One
    /// that does not filter gives what is of other kinds, too.
    ///
    /// # Errors
    /// When the registry cannot be reached, or does not let us in.
    pub fn referrers(&self, digest: &Sha256Digest, kind: &str) -> Result<Option<Referrers<'_>>, SourceError> {
        let address = format!("{}/referrers/sha256:{digest}?artifactType={}", self.base, percent_encoded(kind, ""));
        let answer = self.ask(&address)?;
        match answer.status {
            200..=299 => Ok(Some(Referrers { registry: self, next: Some(answer), left: MOST_PAGES })),
            // One that does not know the question has various ways to say so.
            400 | 404 | 405 => Ok(None),
            _ => Err(self.refused(&address, &answer)),
        }
    }
}

impl Referrers<'_> {
    /// The next page.
    ///
    /// # Errors
    /// When the registry fails on the way.
    pub fn next_page(&mut self) -> Result<Option<Vec<u8>>, SourceError> {
        let Some(answer) = self.next.take() else { return Ok(None) };
        let next = answer.header("link").and_then(next_of).map(|link| self.registry.beside(link));
        self.left -= 1;
        if let Some(address) = next.filter(|_| self.left > 0) {
            // It is shown who we are only at the registry itself.
            if !address.starts_with(&self.registry.base) {
                let why = "the list goes on at another place than the registry's own";
                return Err(SourceError::Unreachable { url: address, cause: Unreached::broken(why) });
            }
            let answer = self.registry.ask(&address)?;
            if !(200..300).contains(&answer.status) {
                return Err(self.registry.refused(&address, &answer));
            }
            self.next = Some(answer);
        }
        Ok(Some(answer.body))
    }
}

/// The link to what comes next (RFC 8288, section 3).
fn next_of(header: &str) -> Option<&str> {
    header.split(',').find_map(|link| {
        let (target, parameters) = link.trim().strip_prefix('<')?.split_once('>')?;
        let is_next = |parameter: &str| matches!(parameter.trim(), "rel=\"next\"" | "rel=next");
        parameters.split(';').any(is_next).then_some(target)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_next_page_is_the_one_that_a_link_calls_so() {
        assert_eq!(next_of("</v2/a/referrers/x?n=2>; rel=\"next\""), Some("/v2/a/referrers/x?n=2"));
        assert_eq!(next_of("<a>; rel=\"prev\", <b>; title=x; rel=next"), Some("b"));
        assert_eq!(next_of("a; rel=\"next\""), None);
        assert_eq!(next_of(""), None);
    }
}
