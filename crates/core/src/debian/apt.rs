//! Where a machine gets its packages from: apt's lists of sources in both formats (sources.list(5)).

use super::{field, parse_stanza};

/// One source of packages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AptSource {
    /// The archive's address.
    pub address: String,
    /// A suite of it.
    pub suite: String,
    /// The keyring that has to have signed it, when one is named.
    pub signed_by: Option<String>,
}

/// Reads a list in the one-line format: `deb [options] address suite component…`. What is not understood is passed
/// over, as it is somebody else's file.
pub fn parse_lines(text: &str) -> Vec<AptSource> {
    let mut sources = Vec::new();
    for line in text.lines() {
        let line = line.split('#').next().unwrap_or_default().trim();
        let Some(rest) = line.strip_prefix("deb").filter(|rest| rest.starts_with([' ', '\t'])) else { continue };
        let rest = rest.trim();
        let (options, rest) = match rest.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            Some((options, rest)) => (options, rest),
            None => ("", rest),
        };
        let mut words = rest.split_whitespace();
        let (Some(address), Some(suite)) = (words.next(), words.next()) else { continue };
        let signed_by = options.split_whitespace().find_map(|option| option.strip_prefix("signed-by="));
        push(&mut sources, address, suite, signed_by);
    }
    sources
}

/// Reads a list in the format of stanzas: `Types`, `URIs`, `Suites`, `Components`, `Signed-By`.
pub fn parse_stanzas(text: &str) -> Vec<AptSource> {
    let lines: Vec<_> = text.lines().filter(|line| !line.starts_with('#')).collect();
    let mut sources = Vec::new();
    for stanza in lines.join("\n").split("\n\n") {
        let Ok(fields) = parse_stanza(stanza.trim_start_matches('\n')) else { continue };
        let get = |name| field(&fields, name).unwrap_or_default();
        let off = ["no", "false", "0", "off", "without", "disable"];
        if off.contains(&get("Enabled").to_ascii_lowercase().as_str())
            || !get("Types").split_whitespace().any(|kind| kind == "deb")
        {
            continue;
        }
        // A keyring may be written into the stanza itself; then it is not a path.
        let signed_by = Some(get("Signed-By")).filter(|path| path.starts_with('/') && !path.contains('\n'));
        for address in get("URIs").split_whitespace() {
            for suite in get("Suites").split_whitespace() {
                push(&mut sources, address, suite, signed_by);
            }
        }
    }
    sources
}

fn push(sources: &mut Vec<AptSource>, address: &str, suite: &str, signed_by: Option<&str>) {
    // Discs, other transports and mirror lists are nothing that we fetch from.
    if address.starts_with("http://") || address.starts_with("https://") {
        let address = address.trim_end_matches('/').to_owned();
        sources.push(AptSource { address, suite: suite.to_owned(), signed_by: signed_by.map(str::to_owned) });
    }
}

/// Which addresses may have a suite: those that are listed with it; else those that are listed with a suite of the same
/// kind, security or not, since a mirror carries all of a kind.
pub fn addresses_for<'a>(sources: &'a [AptSource], suite: &str) -> Vec<&'a AptSource> {
    let listed: Vec<_> = sources.iter().filter(|source| source.suite == suite).collect();
    if !listed.is_empty() {
        return listed;
    }
    let security = |suite: &str| suite.ends_with("-security") || suite.ends_with("/updates");
    let debian = |source: &&AptSource| source.address.rsplit('/').next().is_some_and(|last| last.contains("debian"));
    sources.iter().filter(|source| security(&source.suite) == security(suite)).filter(debian).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_formats_are_read() {
        let lines = "# old\ndeb-src http://a.example/debian tide main\ndeb [arch=amd64 signed-by=/k.gpg] http://a.example/debian/ tide main contrib # all\ndeb cdrom:[x] tide main\n";
        let stanzas = "# comment\nTypes: deb deb-src\nURIs: http://a.example/debian\nSuites: tide tide-updates\nComponents: main\nSigned-By: /k.gpg\n\nTypes: deb\nEnabled: no\nURIs: http://b.example/debian\nSuites: ebb\n\nTypes: deb-src\nURIs: http://c.example/\nSuites: ebb\n";
        let one = |suite: &str| AptSource {
            address: "http://a.example/debian".to_owned(),
            suite: suite.to_owned(),
            signed_by: Some("/k.gpg".to_owned()),
        };
        assert_eq!(parse_lines(lines), [one("tide")]);
        assert_eq!(parse_stanzas(stanzas), [one("tide"), one("tide-updates")]);
    }

    #[test]
    fn a_suite_that_is_not_listed_comes_from_a_mirror_of_its_kind() {
        let sources = parse_lines(
            "deb http://a.example/debian tide main\ndeb http://s.example/debian-security tide-security main\ndeb http://x.example/tools tide-tools main\n",
        );
        let found = |suite: &str| {
            addresses_for(&sources, suite).into_iter().map(|source| source.address.as_str()).collect::<Vec<_>>()
        };
        assert_eq!(found("ebb"), ["http://a.example/debian"]);
        assert_eq!(found("ebb-security"), ["http://s.example/debian-security"]);
        assert_eq!(found("tide-tools"), ["http://x.example/tools"]);
    }
}
