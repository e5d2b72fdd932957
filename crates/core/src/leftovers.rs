//! What package managers and compilers leave behind that is another thing each time, and of use to nobody who works
//! with the image: notes of when something was used last, where it came from, how it was built here. A step that
//! fetches is relieved of them, so that it comes out the same.

use crate::path::RootPath;

/// A rule: the end of a path, and what has to stand above it, at any distance, when something has to.
struct Rule {
    /// The last names of the path.
    end: &'static [&'static str],
    /// A name somewhere above.
    under: Option<&'static str>,
    /// What it is, in words.
    why: &'static str,
}

const RULES: [Rule; 20] = [
    Rule { end: &[".global-cache"], under: None, why: "when cargo used which crate last" },
    Rule { end: &[".package-cache"], under: None, why: "a lock of cargo's" },
    Rule { end: &[".package-cache-mutate"], under: None, why: "a lock of cargo's" },
    Rule { end: &[".rustc_info.json"], under: None, why: "which compiler cargo found here" },
    Rule { end: &[".cargo-lock"], under: Some("target"), why: "a lock of cargo's" },
    Rule { end: &["invoked.timestamp"], under: Some(".fingerprint"), why: "when cargo ran last" },
    Rule { end: &["_remote.repositories"], under: None, why: "where Maven got a file from" },
    Rule { end: &["resolver-status.properties"], under: None, why: "when Maven asked last" },
    Rule { end: &["gem_make.out"], under: None, why: "what building a gem said" },
    Rule { end: &["mkmf.log"], under: None, why: "what building a gem said" },
    Rule { end: &["node_modules", ".cache"], under: None, why: "a cache of tools of Node" },
    Rule { end: &[".npm", "_logs"], under: None, why: "what npm said" },
    Rule { end: &[".cache", "pip"], under: None, why: "a cache of pip's" },
    Rule { end: &["cache", "apt", "pkgcache.bin"], under: Some("var"), why: "a cache of apt's" },
    Rule { end: &["cache", "apt", "srcpkgcache.bin"], under: Some("var"), why: "a cache of apt's" },
    Rule { end: &["log", "apt", "history.log"], under: Some("var"), why: "when apt did what" },
    Rule { end: &["log", "apt", "term.log"], under: Some("var"), why: "when apt did what" },
    Rule { end: &["log", "apt", "eipp.log.xz"], under: Some("var"), why: "what apt planned" },
    Rule { end: &["var", "log", "dpkg.log"], under: None, why: "when dpkg did what" },
    Rule { end: &["var", "log", "alternatives.log"], under: None, why: "when alternatives changed" },
];

/// Why something that a step fetched or built is left out, with all that is in it; nothing when it stays.
pub fn why(path: &RootPath) -> Option<&'static str> {
    let names: Vec<_> = path.names().collect();
    let fits = |rule: &&Rule| {
        let end: Vec<_> = rule.end.iter().map(|name| name.as_bytes()).collect();
        names.ends_with(&end) && rule.under.is_none_or(|under| names.contains(&under.as_bytes()))
    };
    RULES.iter().find(fits).map(|rule| rule.why)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_another_thing_each_time_goes_and_what_only_looks_like_it_stays() {
        let why = |path: &str| why(&RootPath::from_plain(path.as_bytes()).unwrap());
        for path in [
            "root/.cargo/.global-cache",
            "srv/app/target/.rustc_info.json",
            "srv/app/target/debug/.cargo-lock",
            "srv/app/target/debug/.fingerprint/serde-1/invoked.timestamp",
            "root/.m2/repository/a/b/1/_remote.repositories",
            "code/node_modules/.cache",
            "var/log/apt/history.log",
            "var/log/dpkg.log",
        ] {
            assert!(why(path).is_some(), "{path}");
        }
        for path in
            ["srv/.cache", "code/node_modules/x/cache", "srv/.cargo-lock", "srv/invoked.timestamp", "mkmf.log.d"]
        {
            assert_eq!(why(path), None, "{path}");
        }
    }
}
