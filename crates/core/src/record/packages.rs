//! Which package an address stands for, by the layout that each kind of registry has; whatever host it is on.

use crate::encode::percent_encoded;

/// A package of some registry.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Package {
    /// Its type, as package URLs have it (purl specification, "purl types"): `pypi`, `npm`, `cargo` …
    pub kind: &'static str,
    /// Its name, as that registry writes it.
    pub name: String,
    /// Its version.
    pub version: String,
}

impl Package {
    /// Its package URL (purl specification).
    pub fn purl(&self) -> String {
        let Self { kind, name, version } = self;
        format!("pkg:{kind}/{}@{}", percent_encoded(name, "/"), percent_encoded(version, "+"))
    }

    /// The package whose file an address stands for, if it is one.
    pub fn of_address(url: &str) -> Option<Self> {
        let (_, rest) = url.split_once("://")?;
        let path = rest.split(['?', '#']).next()?.split_once('/')?.1;
        let decoded = decoded(path);
        let names: Vec<&str> = decoded.split('/').collect();
        let file = *names.last()?;
        let package = |kind, name: &str, version: &str| {
            let good = |text: &str| !text.is_empty() && !text.contains(char::is_whitespace);
            (good(name) && good(version)).then(|| Self { kind, name: name.to_owned(), version: version.to_owned() })
        };
        // npm: NAME/-/FILE-VERSION.tgz, where NAME may have a scope.
        if let Some(dash) = names.iter().position(|name| *name == "-").filter(|dash| *dash > 0)
            && let Some(stem) = file.strip_suffix(".tgz")
        {
            let name = names[dash - 1];
            let scope = dash.checked_sub(2).map(|at| names[at]).filter(|scope| scope.starts_with('@'));
            let version = stem.strip_prefix(name)?.strip_prefix('-')?;
            let name = scope.map_or_else(|| name.to_owned(), |scope| format!("{scope}/{name}"));
            return package("npm", &name, version);
        }
        // crates: crates/NAME/VERSION/download, or NAME/NAME-VERSION.crate.
        if let [.., "crates", name, version, "download"] = names.as_slice() {
            return package("cargo", name, version);
        }
        if let Some(stem) = file.strip_suffix(".crate") {
            let (name, version) = parted(stem)?;
            return package("cargo", name, version);
        }
        if let Some(stem) = file.strip_suffix(".gem") {
            let (name, version) = parted(stem)?;
            return package("gem", name, version);
        }
        // Go: MODULE/@v/VERSION.zip.
        if let [module @ .., "@v", file] = names.as_slice()
            && let Some(version) = file.strip_suffix(".zip")
        {
            return package("golang", &module.join("/"), version);
        }
        // Debian: pool/…/NAME_VERSION_ARCHITECTURE.deb.
        if let Some(stem) = file.strip_suffix(".deb") {
            let mut parts = stem.split('_');
            return package("deb", parts.next()?, parts.next()?);
        }
        // Maven: GROUP/ARTIFACT/VERSION/ARTIFACT-VERSION.jar.
        if let [group @ .., artifact, version, file] = names.as_slice()
            && file.ends_with(".jar")
            && file.starts_with(&format!("{artifact}-{version}"))
        {
            let group =
                group.iter().skip_while(|name| matches!(**name, "maven2" | "repository" | "public" | "releases"));
            let group = group.copied().collect::<Vec<_>>().join(".");
            return package("maven", &format!("{group}/{artifact}"), version);
        }
        // Python: wheels (binary distribution format, "File name convention") anywhere, archives beneath `packages`.
        if let Some(stem) = file.strip_suffix(".whl") {
            let mut parts = stem.split('-');
            return package("pypi", &python_name(parts.next()?), parts.next()?);
        }
        if names.contains(&"packages")
            && let Some(stem) = file.strip_suffix(".tar.gz").or_else(|| file.strip_suffix(".zip"))
        {
            let (name, version) = parted(stem)?;
            return package("pypi", &python_name(name), version);
        }
        None
    }
}

/// A name of Python's, as its index has it (simple repository API, "Normalized Names").
pub(crate) fn python_name(name: &str) -> String {
    let mut plain = String::new();
    for letter in name.chars() {
        let letter = if matches!(letter, '_' | '.') { '-' } else { letter.to_ascii_lowercase() };
        if letter != '-' || !plain.ends_with('-') {
            plain.push(letter);
        }
    }
    plain
}

/// Name and version of `NAME-VERSION`: a version begins with a digit.
pub(crate) fn parted(stem: &str) -> Option<(&str, &str)> {
    let mut dashes = stem.match_indices('-').map(|(at, _)| at);
    let at = dashes.find(|at| stem[at + 1..].starts_with(|letter: char| letter.is_ascii_digit()))?;
    Some((&stem[..at], &stem[at + 1..]))
}

/// A path without percent signs (RFC 3986, section 2.1).
fn decoded(path: &str) -> String {
    let bytes = path.as_bytes();
    let (mut plain, mut at) = (Vec::with_capacity(bytes.len()), 0);
    while at < bytes.len() {
        let hex = (bytes[at] == b'%').then(|| path.get(at + 1..at + 3)).flatten();
        match hex.and_then(|hex| u8::from_str_radix(hex, 16).ok()) {
            Some(byte) => {
                plain.push(byte);
                at += 3;
            }
            None => {
                plain.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&plain).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_registry_s_files_are_known_by_their_addresses() {
        for (url, purl) in [
            (
                "https://files.example/packages/04/96/9244/tide_tables-2.2.0-py3-none-any.whl",
                "pkg:pypi/tide-tables@2.2.0",
            ),
            ("https://files.example/packages/source/t/Tides-1.0rc1.tar.gz", "pkg:pypi/tides@1.0rc1"),
            ("https://npm.example/tides/-/tides-4.17.21.tgz", "pkg:npm/tides@4.17.21"),
            ("https://npm.example/@brindle%2fquill/-/quill-1.0.0-beta.2.tgz", "pkg:npm/%40brindle/quill@1.0.0-beta.2"),
            ("https://index.example/api/v1/crates/tide-core/0.4.1/download", "pkg:cargo/tide-core@0.4.1"),
            ("https://static.example/crates/tide-core/tide-core-0.4.1+x.crate", "pkg:cargo/tide-core@0.4.1+x"),
            ("https://gems.example/gems/tide-rails-7.1.0.gem", "pkg:gem/tide-rails@7.1.0"),
            ("https://proxy.example/git.example/tide/v2/@v/v2.3.0.zip", "pkg:golang/git.example/tide/v2@v2.3.0"),
            ("https://repo.example/maven2/org/brindle/tide/1.2/tide-1.2.jar", "pkg:maven/org.brindle/tide@1.2"),
            ("http://deb.example/debian/pool/main/t/tide/tide_1.0-1_amd64.deb", "pkg:deb/tide@1.0-1"),
        ] {
            assert_eq!(Package::of_address(url).map(|package| package.purl()).as_deref(), Some(purl), "{url}");
        }
        for url in [
            "https://index.example/simple/tides/",
            "https://npm.example/tides",
            "https://npm.example/-/x.tgz",
            "https://files.example/tides.tar.gz",
            "https://files.example/packages/tides.tar.gz",
            "https://a.example",
            "tides",
            "https://a.example/%zz%4/.whl",
        ] {
            assert_eq!(Package::of_address(url), None, "{url}");
        }
    }
}
