//! Links that a lead gives to somebody who is to join: where a project is, at which revision, in which variant, and
//! where to start reading. `cavrith:join?source=…&revision=…&variant=…&at=FILE:LINE`, in the form of a URI (RFC 3986)
//! with everything but letters, digits and `-._~/:@` in percent signs.

use std::fmt;

use crate::encode::{percent_decoded, percent_encoded};
use crate::path::RootPath;

/// How every link begins.
pub const BEGIN: &str = "cavrith:join?";

/// A link.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Link {
    /// Where the project is: an address of git, a folder, a parcel, a registry's reference.
    pub source: String,
    /// The revision, when it is one of git's.
    pub revision: Option<String>,
    /// The variant, unless it is the default one.
    pub variant: Option<String>,
    /// Where to start reading.
    pub at: Option<Place>,
}

/// A place in a project.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The file, relative to the project.
    pub file: String,
    /// The line, from 1.
    pub line: Option<u32>,
}

impl Place {
    /// Reads `FILE` or `FILE:LINE`. An error says, in words, why it is none.
    ///
    /// # Errors
    /// When it leads out of the project.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (file, line) = match text.rsplit_once(':') {
            Some((file, line)) if line.parse::<u32>().is_ok_and(|line| line > 0) => (file, line.parse().ok()),
            _ => (text, None),
        };
        match RootPath::from_plain(file.as_bytes()) {
            Ok(path) if !path.is_root() => Ok(Self { file: file.to_owned(), line }),
            Ok(_) => Err("it names no file".to_owned()),
            Err(bad) => Err(bad.to_string()),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            Some(line) => write!(f, "{}:{line}", self.file),
            None => f.write_str(&self.file),
        }
    }
}

impl fmt::Display for Link {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let encoded = |text: &str| percent_encoded(text, "/:@");
        write!(f, "{BEGIN}source={}", encoded(&self.source))?;
        let at = self.at.as_ref().map(ToString::to_string);
        for (name, value) in [("revision", &self.revision), ("variant", &self.variant), ("at", &at)] {
            if let Some(value) = value {
                write!(f, "&{name}={}", encoded(value))?;
            }
        }
        Ok(())
    }
}

impl Link {
    /// Reads a link; nothing when the text is not one. An error says, in words, why it cannot be used.
    ///
    /// # Errors
    /// When it is damaged, or names something unknown.
    pub fn parse(text: &str) -> Option<Result<Self, String>> {
        Some(Self::read(text.strip_prefix(BEGIN)?))
    }

    fn read(query: &str) -> Result<Self, String> {
        let mut link = Self::default();
        for (name, value) in fields(query)? {
            match name.as_str() {
                "source" => link.source = value,
                "revision" => link.revision = Some(value),
                "variant" => link.variant = Some(value),
                "at" => link.at = Some(Place::parse(&value).map_err(|why| format!("its place \"{value}\": {why}"))?),
                other => return Err(format!("it has {other:?}, which this Cavrith does not know")),
            }
        }
        if link.source.is_empty() { Err("it names no source".to_owned()) } else { Ok(link) }
    }
}

/// The names and values of a link. An error says, in words, which are none.
pub(crate) fn fields(query: &str) -> Result<Vec<(String, String)>, String> {
    let field = |pair: &str| {
        let (name, value) = pair.split_once('=').ok_or_else(|| format!("\"{pair}\" has no value"))?;
        let value = decoded(value).ok_or_else(|| format!("the value of {name} is not written as in an address"))?;
        Ok((name.to_owned(), value))
    };
    query.split('&').map(field).collect()
}

/// The text of percent-encoded bytes, when somebody can be shown it.
fn decoded(text: &str) -> Option<String> {
    // Nothing that is shown or typed for somebody has these in it.
    percent_decoded(text).filter(|text| !text.chars().any(char::is_control))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_link_is_read_as_it_is_written() {
        let link = Link {
            source: "https://git.brindle.example/timetable.git".to_owned(),
            revision: Some("3f2a90c1".to_owned()),
            variant: Some("release".to_owned()),
            at: Some(Place { file: "src/tides & moons.py".to_owned(), line: Some(12) }),
        };
        let text = link.to_string();
        assert_eq!(
            text,
            "cavrith:join?source=https://git.brindle.example/timetable.git&revision=3f2a90c1&variant=release&at=src/tides%20%26%20moons.py:12"
        );
        assert_eq!(Link::parse(&text), Some(Ok(link)));
        assert_eq!(Link::parse("https://git.brindle.example/x"), None);
    }

    #[test]
    fn what_leads_elsewhere_is_refused() {
        for bad in
            ["", "source=", "source=x&at=../y", "source=x&at=/etc/passwd", "source=x%0a", "source=x&run=y", "source=%f"]
        {
            assert!(Link::parse(&format!("{BEGIN}{bad}")).is_some_and(|link| link.is_err()), "{bad}");
        }
    }

    proptest! {
        #[test]
        fn any_source_survives(source in "\\PC{1,40}", revision in proptest::option::of("\\PC{1,20}")) {
            let link = Link { source, revision, ..Link::default() };
            prop_assert_eq!(Link::parse(&link.to_string()), Some(Ok(link)));
        }
    }
}
