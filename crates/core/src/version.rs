//! Versions of toolchains and extensions, and which of them a spec asks for.

use std::cmp::Ordering;
use std::fmt;

/// A version: letters, digits, `.`, `-`, `+`, `_`, beginning with a letter or digit.
///
/// Order: name by name between the dots, dashes, underscores and pluses; numbers by value, numbers before letters are
/// newer (`2.4` is newer than `2.rc`), a longer version is newer than its beginning (`2.4.1` than `2.4`) unless it goes
/// on with letters (`2.4-rc1` is older than `2.4`).
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Version(String);

/// A text that is not a version.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a version; versions are like 2.4.1")]
pub struct BadVersion(pub String);

impl Version {
    /// Takes a version as a person or an index wrote it.
    ///
    /// # Errors
    /// On anything but letters, digits and `.-+_`, and on a text that does not begin with a letter or digit.
    pub fn new(text: &str) -> Result<Self, BadVersion> {
        let good = |letter: char| letter.is_ascii_alphanumeric() || "._-+".contains(letter);
        let begins = text.starts_with(|letter: char| letter.is_ascii_alphanumeric());
        if begins && text.chars().all(good) && text.len() <= 64 {
            Ok(Self(text.to_owned()))
        } else {
            Err(BadVersion(text.to_owned()))
        }
    }

    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether `wanted`, written in a spec, asks for this version: `2.4` asks for `2.4` and every `2.4.x`, but not for
    /// `2.40` and not for `2.4-rc1`.
    pub fn answers(&self, wanted: &Self) -> bool {
        match self.0.strip_prefix(wanted.as_str()) {
            Some("") => true,
            Some(rest) => {
                rest.starts_with(['.', '+']) && !rest[1..].starts_with(|letter: char| letter.is_ascii_alphabetic())
            }
            None => false,
        }
    }

    fn parts(&self) -> impl Iterator<Item = Part<'_>> {
        self.0.split(['.', '-', '_', '+']).map(|part| {
            if !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()) {
                Part::Number(part.trim_start_matches('0'))
            } else {
                Part::Word(part)
            }
        })
    }
}

#[derive(PartialEq, Eq)]
enum Part<'a> {
    Word(&'a str),
    /// Without leading zeros.
    Number(&'a str),
}

impl Part<'_> {
    fn order(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Self::Number(a), Self::Number(b)) => a.len().cmp(&b.len()).then_with(|| a.cmp(b)),
            (Self::Word(a), Self::Word(b)) => a.cmp(b),
            (Self::Number(_), Self::Word(_)) => Ordering::Greater,
            (Self::Word(_), Self::Number(_)) => Ordering::Less,
        }
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        let (mut ours, mut theirs) = (self.parts(), other.parts());
        loop {
            let order = match (ours.next(), theirs.next()) {
                // Equal parts may still be spelt apart (1.0 and 1.00); the text decides, so that the order is total.
                (None, None) => return self.0.cmp(&other.0),
                (Some(Part::Word(_)), None) => Ordering::Less,
                (Some(Part::Number(_)), None) => Ordering::Greater,
                (None, Some(Part::Word(_))) => Ordering::Greater,
                (None, Some(Part::Number(_))) => Ordering::Less,
                (Some(a), Some(b)) => a.order(&b),
            };
            if order != Ordering::Equal {
                return order;
            }
        }
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl serde::Serialize for Version {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> serde::Deserialize<'de> for Version {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Self::new(&text).map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn version(text: &str) -> Version {
        Version::new(text).unwrap()
    }

    #[test]
    fn versions_sort_as_people_expect() {
        let sorted = ["0.9.3", "1.0-rc1", "1.0", "1.0.1", "1.2", "1.10", "2.4-beta", "2.4", "2.4.1", "10"];
        for pair in sorted.windows(2) {
            assert!(version(pair[0]) < version(pair[1]), "{} < {}", pair[0], pair[1]);
        }
    }

    #[test]
    fn a_short_version_asks_for_all_that_go_on_from_it() {
        for (have, want, answer) in [
            ("2.4.1", "2.4", true),
            ("2.4", "2.4", true),
            ("2.40", "2.4", false),
            ("2.4-rc1", "2.4", false),
            ("2.4.rc1", "2.4", false),
            ("2.4.1", "2.4.1", true),
            ("2.4.1", "2.4.10", false),
        ] {
            assert_eq!(version(have).answers(&version(want)), answer, "{have} for {want}");
        }
    }

    #[test]
    fn texts_that_are_no_version_are_refused() {
        for text in ["", ".4", "2 4", "2.4\n", "§", "../2"] {
            assert!(Version::new(text).is_err(), "{text:?} was taken");
        }
    }

    proptest! {
        #[test]
        fn the_order_is_total(a in "[0-2a]([.-][0-2a]{1,2}){0,3}", b in "[0-2a]([.-][0-2a]{1,2}){0,3}", c in "[0-2a]([.-][0-2a]{1,2}){0,3}") {
            let (a, b, c) = (version(&a), version(&b), version(&c));
            prop_assert_eq!(a.cmp(&b), b.cmp(&a).reverse());
            if a <= b && b <= c {
                prop_assert!(a <= c);
            }
        }
    }
}
