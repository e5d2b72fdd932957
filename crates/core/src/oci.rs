//! References to OCI images.

pub mod image;
pub mod parcel;

use std::fmt;

use crate::digest::Sha256Digest;

/// Where an image is found: `registry/name:tag`, `registry/name@sha256:…`, or both (OCI Distribution Specification 1.1,
/// "Pulling manifests").
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reference {
    /// Host, and perhaps port, of the registry.
    pub registry: String,
    /// The image's name there.
    pub name: String,
    /// Its tag.
    pub tag: Option<String>,
    /// The digest of its manifest or index.
    pub digest: Option<Sha256Digest>,
}

impl Reference {
    /// Reads one. The registry has to be named: nothing is looked for at a place that nobody wrote.
    ///
    /// # Errors
    /// In words, what is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (rest, digest) = match text.split_once('@') {
            Some((rest, digest)) => {
                let hex = digest.strip_prefix("sha256:").ok_or("its digest is not a sha256")?;
                (rest, Some(hex.parse().map_err(|_| "its digest is not a sha256".to_owned())?))
            }
            None => (text, None),
        };
        let (registry, path) = rest.split_once('/').ok_or("it names no registry")?;
        let host = registry.split(':').next().unwrap_or_default();
        if !(registry.contains(['.', ':']) || registry == "localhost") {
            return Err("it names no registry".to_owned());
        }
        let port = registry.split_once(':').is_none_or(|(_, port)| port.parse::<u16>().is_ok());
        let letters = |text: &str, more: &str| {
            !text.is_empty() && text.chars().all(|letter| letter.is_ascii_alphanumeric() || more.contains(letter))
        };
        if !letters(host, ".-") || !port {
            return Err(format!("{registry:?} is not a host"));
        }
        let (name, tag) = match path.split_once(':') {
            Some((name, tag)) => (name, Some(tag)),
            None => (path, None),
        };
        let plain = |part: &str| {
            letters(part, "._-")
                && !part.starts_with(['.', '_', '-'])
                && !part.chars().any(|letter| letter.is_ascii_uppercase())
        };
        if name.len() > 255 || !name.split('/').all(plain) {
            return Err(format!("{name:?} is not a name of an image"));
        }
        if tag.is_some_and(|tag| !letters(tag, "._-") || tag.len() > 128 || tag.starts_with(['.', '-'])) {
            return Err("its tag has letters that no tag has".to_owned());
        }
        if tag.is_none() && digest.is_none() {
            return Err("it has neither a tag nor a digest".to_owned());
        }
        Ok(Self { registry: registry.to_owned(), name: name.to_owned(), tag: tag.map(str::to_owned), digest })
    }
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.registry, self.name)?;
        if let Some(tag) = &self.tag {
            write!(f, ":{tag}")?;
        }
        if let Some(digest) = &self.digest {
            write!(f, "@sha256:{digest}")?;
        }
        Ok(())
    }
}

/// Seconds since 1970 of a time as images write it (RFC 3339, section 5.6).
pub fn seconds(text: &str) -> Option<u64> {
    let stamp: jiff::Timestamp = text.parse().ok()?;
    u64::try_from(stamp.as_second()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_are_read_as_they_are_written() {
        let digest = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
        for text in [
            "registry.example/team/base:1.2".to_owned(),
            "localhost:5000/pier:latest".to_owned(),
            format!("registry.example/pier@sha256:{digest}"),
            format!("registry.example/pier:2@sha256:{digest}"),
        ] {
            assert_eq!(Reference::parse(&text).unwrap().to_string(), text);
        }
    }

    #[test]
    fn what_is_no_reference_is_told() {
        for (text, why) in [
            ("pier", "no registry"),
            ("team/pier:1", "no registry"),
            ("registry.example/pier", "neither a tag nor a digest"),
            ("registry.example/Pier:1", "not a name"),
            ("registry.example/../pier:1", "not a name"),
            ("registry.example/pier:a b", "tag"),
            ("registry.example/pier@md5:abc", "not a sha256"),
            ("registry.example:port/pier:1", "not a host"),
        ] {
            let error = Reference::parse(text).unwrap_err();
            assert!(error.contains(why), "{text}: {error}");
        }
    }
}
