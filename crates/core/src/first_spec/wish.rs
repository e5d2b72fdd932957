//! A version as projects ask for it.

use std::fmt;

/// How much of a version is fixed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
enum Bound {
    /// It begins so.
    Exact,
    /// It, or a newer one.
    AtLeast,
    /// It, or a newer one of the same first number.
    SameMajor,
}

/// A version that a project asks for.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Wish {
    /// Its beginning: numbers with dots between.
    pub version: String,
    bound: Bound,
}

impl Wish {
    /// Reads what a file says: `>=18.2, <20`, `^8.1`, `~> 3.1`, `20.x`, `v20.11.0`, `3.12`. Nothing of one that names
    /// no number.
    pub fn read(text: &str) -> Option<Self> {
        let text = text.trim();
        let begin = text.find(|letter: char| letter.is_ascii_digit())?;
        let rest = &text[begin..];
        let end = rest.find(|letter: char| !letter.is_ascii_digit() && letter != '.').unwrap_or(rest.len());
        let parts: Vec<_> = rest[..end].split('.').filter(|part| !part.is_empty()).take(3).collect();
        let version = parts.join(".");
        let operator = text[..begin].trim_end_matches(['v', 'V', ' ', '"', '\'']);
        let operator = operator.rsplit([' ', ',', '"', '\'', '|']).next().unwrap_or_default();
        let bound = match operator {
            ">=" | ">" => Bound::AtLeast,
            "^" | "~>" | "~" | "~=" => Bound::SameMajor,
            _ => Bound::Exact,
        };
        (!version.is_empty()).then_some(Self { version, bound })
    }

    /// Reads what names the oldest version that will do, as `go.mod` and `rust-version` do.
    pub fn at_least(text: &str) -> Option<Self> {
        Self::read(text).map(|wish| Self { bound: Bound::AtLeast, ..wish })
    }

    /// Whether only this version is meant.
    pub fn is_exact(&self) -> bool {
        self.bound == Bound::Exact
    }

    /// Whether a version, or the beginning of one, answers it, as far as it says.
    pub fn is_met_by(&self, have: &str) -> bool {
        let numbers = |text: &str| -> Vec<u64> { text.split('.').map_while(|part| part.parse().ok()).collect() };
        let (wanted, have) = (numbers(&self.version), numbers(have));
        let common = wanted.len().min(have.len());
        match self.bound {
            Bound::Exact => wanted[..common] == have[..common],
            Bound::AtLeast => have[..common] >= wanted[..common],
            Bound::SameMajor => wanted.first() == have.first() && have[..common] >= wanted[..common],
        }
    }
}

impl fmt::Display for Wish {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.bound {
            Bound::Exact => f.write_str(&self.version),
            Bound::AtLeast => write!(f, "{} or newer", self.version),
            Bound::SameMajor => {
                let major = self.version.split('.').next().unwrap_or_default();
                write!(f, "{} or a newer {major}", self.version)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_people_write_is_understood() {
        let met = |wish: &str, have: &str| Wish::read(wish).unwrap().is_met_by(have);
        for (wish, have) in [
            (">=18.2, <20", "20.19"),
            ("^18.2", "18.20"),
            ("~> 3.1", "3.3"),
            ("20.x", "20.19"),
            ("v20.11.0", "20"),
            ("3.12", "3.12"),
            (">= 3.9", "3.13"),
            ("^8.1 || ^9", "8.4"),
            ("\"3.3.0\"", "3.3"),
        ] {
            assert!(met(wish, have), "{wish} {have}");
        }
        for (wish, have) in [("^18.2", "20.19"), ("3.12", "3.13"), (">=21", "20.19"), ("~> 3.1", "2.7"), ("18", "20.1")]
        {
            assert!(!met(wish, have), "{wish} {have}");
        }
        assert_eq!(Wish::read("stable"), None);
        assert!(Wish::at_least("1.21").unwrap().is_met_by("1.24"));
    }
}
