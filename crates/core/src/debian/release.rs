//! The `Release` file of a suite (Debian Repository Format, "Release files"): what its indexes are, and when it was
//! made.

use std::collections::BTreeMap;

use super::{field, parse_stanza};
use crate::digest::Sha256Digest;

/// A suite's `Release` file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Release {
    /// `stable`, `oldstable` …
    pub suite: String,
    /// `bookworm` …
    pub codename: String,
    /// When it was made, in seconds since 1970.
    pub date: u64,
    /// Until when it may be trusted, in seconds since 1970; not every suite says.
    pub valid_until: Option<u64>,
    /// Files can be asked for by their digest, which never mixes two states of a mirror.
    pub by_hash: bool,
    /// Its versions are taken only where no other suite has the package.
    pub not_automatic: bool,
    /// Its components.
    pub components: Vec<String>,
    /// Architectures it has indexes of.
    pub architectures: Vec<String>,
    /// Size and SHA-256 of each file, by its path beneath the suite's directory.
    pub files: BTreeMap<String, (u64, Sha256Digest)>,
}

/// Why a text is no `Release` file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadRelease {
    /// A line that is not a field.
    #[error("it has the line {0:?}, which is not a field")]
    Line(String),
    /// A field is missing.
    #[error("it has no {0}")]
    Missing(&'static str),
    /// A field cannot be read.
    #[error("its {0} cannot be read: {1}")]
    Field(&'static str, String),
}

impl Release {
    /// Reads one, which must have been proved before.
    ///
    /// # Errors
    /// When it is none.
    pub fn parse(text: &str) -> Result<Self, BadRelease> {
        let fields = parse_stanza(text).map_err(BadRelease::Line)?;
        let get = |name: &'static str| field(&fields, name).filter(|value| !value.is_empty());
        let need = |name: &'static str| get(name).ok_or(BadRelease::Missing(name));
        let time = |name: &'static str, text: &str| {
            seconds(text).ok_or_else(|| BadRelease::Field(name, format!("{text:?} is not a date")))
        };
        let names = |name: &'static str| {
            get(name).unwrap_or_default().split_whitespace().map(str::to_owned).collect::<Vec<_>>()
        };
        // Security suites write `updates/main` where their directory has `main`.
        let components = names("Components").into_iter().map(|name| match name.rsplit_once('/') {
            Some((_, last)) => last.to_owned(),
            None => name,
        });
        let mut files = BTreeMap::new();
        for line in need("SHA256")?.lines().filter(|line| !line.trim().is_empty()) {
            let bad_entry = || BadRelease::Field("SHA256", format!("{line:?} is not an entry"));
            let mut parts = line.split_whitespace();
            let (Some(digest), Some(size), Some(path), None) = (parts.next(), parts.next(), parts.next(), parts.next())
            else {
                return Err(bad_entry());
            };
            let digest = digest.parse().map_err(|_| bad_entry())?;
            files.insert(path.to_owned(), (size.parse().map_err(|_| bad_entry())?, digest));
        }
        Ok(Self {
            suite: get("Suite").unwrap_or_default().to_owned(),
            codename: get("Codename").unwrap_or_default().to_owned(),
            date: time("Date", need("Date")?)?,
            valid_until: get("Valid-Until").map(|text| time("Valid-Until", text)).transpose()?,
            by_hash: get("Acquire-By-Hash") == Some("yes"),
            not_automatic: get("NotAutomatic") == Some("yes"),
            components: components.collect(),
            architectures: names("Architectures"),
            files,
        })
    }

    /// Whether it is the suite of this name, or calls itself so.
    pub fn is(&self, name: &str) -> bool {
        self.suite == name || self.codename == name
    }
}

/// Seconds since 1970 of a date as archives write it: `Sat, 11 Jul 2026 10:16:37 UTC`, or with an offset.
pub fn seconds(text: &str) -> Option<u64> {
    let (civil, zone) = text.trim().rsplit_once(' ')?;
    let civil = jiff::civil::DateTime::strptime("%a, %d %b %Y %H:%M:%S", civil).ok()?;
    let offset: i64 = match zone {
        "UTC" | "GMT" | "Z" | "+0000" | "-0000" => 0,
        zone => {
            let (sign, digits) = zone.split_at_checked(1)?;
            let number: i64 = Some(digits).filter(|digits| digits.len() == 4)?.parse().ok()?;
            let seconds = (number / 100) * 3600 + (number % 100) * 60;
            if sign == "-" { -seconds } else { seconds }
        }
    };
    let stamp = civil.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_second() - offset;
    u64::try_from(stamp).ok()
}

/// A time as a day: `2026-07-11`.
pub fn day(seconds: u64) -> String {
    let stamp = i64::try_from(seconds).ok().and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
    stamp.map_or_else(|| seconds.to_string(), |stamp| stamp.strftime("%Y-%m-%d").to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "Origin: Debian\nSuite: oldstable\nCodename: bookworm\nDate: Sat, 11 Jul 2026 10:16:37 UTC\nAcquire-By-Hash: yes\nArchitectures: all amd64\nComponents: updates/main contrib\nSHA256:\n e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  12 main/binary-amd64/Packages.xz\n";

    #[test]
    fn a_release_is_read() {
        let release = Release::parse(TEXT).unwrap();
        assert_eq!((release.date, release.by_hash, release.not_automatic), (1_783_764_997, true, false));
        assert!(release.is("bookworm") && release.is("oldstable") && !release.is("trixie"));
        assert_eq!(release.components, ["main", "contrib"]);
        assert_eq!(release.files["main/binary-amd64/Packages.xz"].0, 12);
        assert_eq!(day(release.date), "2026-07-11");
        assert_eq!(seconds("Sat, 11 Jul 2026 12:16:37 +0200"), Some(1_783_764_997));
    }

    #[test]
    fn what_is_no_release_is_told_by_the_field() {
        let without = |field: &str| {
            let lines: Vec<_> = TEXT.lines().filter(|line| !line.starts_with(field)).collect();
            Release::parse(&lines.join("\n")).unwrap_err().to_string()
        };
        assert_eq!(without("Date"), "it has no Date");
        assert!(without("SHA256").contains("no SHA256") || without("SHA256").contains("Components"));
        let bad_entry = TEXT.replace("Sat, 11 Jul", "Sat, 41 Jul");
        assert!(Release::parse(&bad_entry).unwrap_err().to_string().contains("is not a date"));
        let bad_entry = TEXT.replace("  12 main", "  x12 main");
        assert!(Release::parse(&bad_entry).unwrap_err().to_string().contains("is not an entry"));
    }
}
