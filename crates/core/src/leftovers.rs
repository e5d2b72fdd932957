//! What package managers and compilers leave behind that is another thing each time, and of use to nobody who works
//! with the image: notes of when something was used last, where it came from, how it was built here. A step that
//! fetches is relieved of them, so that it comes out the same.

use crate::path::RootPath;

/// A rule: the end of a path, and what has to stand above it, at any distance, when something has to.
struct Rule {
    /// The last names of the path.
    end: &'static [&'static str],
    /// Names somewhere above.
    under: &'static [&'static str],
    /// What it is, in words.
    why: &'static str,
}

const RULES: [Rule; 22] = [
    Rule { end: &[".global-cache"], under: &[], why: "when cargo used which crate last" },
    Rule { end: &[".package-cache"], under: &[], why: "a lock of cargo's" },
    Rule { end: &[".package-cache-mutate"], under: &[], why: "a lock of cargo's" },
    Rule { end: &[".rustc_info.json"], under: &[], why: "which compiler cargo found here" },
    Rule { end: &[".cargo-lock"], under: &["target"], why: "a lock of cargo's" },
    Rule { end: &["invoked.timestamp"], under: &[".fingerprint"], why: "when cargo ran last" },
    Rule { end: &["_remote.repositories"], under: &[], why: "where Maven got a file from" },
    Rule { end: &["resolver-status.properties"], under: &[], why: "when Maven asked last" },
    Rule { end: &["gem_make.out"], under: &[], why: "what building a gem said" },
    Rule { end: &["mkmf.log"], under: &[], why: "what building a gem said" },
    Rule { end: &["Makefile"], under: &["gems", "ext"], why: "how a gem was built here" },
    Rule { end: &["page-Makefile.ri"], under: &["doc", "ri"], why: "how a gem was built here" },
    Rule { end: &["node_modules", ".cache"], under: &[], why: "a cache of tools of Node" },
    Rule { end: &[".npm", "_logs"], under: &[], why: "what npm said" },
    Rule { end: &[".cache", "pip"], under: &[], why: "a cache of pip's" },
    Rule { end: &["cache", "apt", "pkgcache.bin"], under: &["var"], why: "a cache of apt's" },
    Rule { end: &["cache", "apt", "srcpkgcache.bin"], under: &["var"], why: "a cache of apt's" },
    Rule { end: &["log", "apt", "history.log"], under: &["var"], why: "when apt did what" },
    Rule { end: &["log", "apt", "term.log"], under: &["var"], why: "when apt did what" },
    Rule { end: &["log", "apt", "eipp.log.xz"], under: &["var"], why: "what apt planned" },
    Rule { end: &["var", "log", "dpkg.log"], under: &[], why: "when dpkg did what" },
    Rule { end: &["var", "log", "alternatives.log"], under: &[], why: "when alternatives changed" },
];

/// Why something that a step fetched or built is left out, with all that is in it; nothing when it stays.
pub fn why(path: &RootPath) -> Option<&'static str> {
    let names: Vec<_> = path.names().collect();
    let fits = |rule: &&Rule| {
        let end: Vec<_> = rule.end.iter().map(|name| name.as_bytes()).collect();
        names.ends_with(&end) && rule.under.iter().all(|under| names.contains(&under.as_bytes()))
    };
    RULES.iter().find(fits).map(|rule| rule.why)
}

/// What can be done about a file that comes out differently each time, and that the image needs.
pub fn remedy(path: &RootPath) -> Option<&'static str> {
    let names: Vec<_> = path.names().collect();
    let is = |end: &[&str]| names.ends_with(&end.iter().map(|name| name.as_bytes()).collect::<Vec<_>>());
    let is_archive = path.name().is_some_and(|name| name.ends_with(b".jar") || name.ends_with(b".war"));
    if is(&["vendor", "autoload.php"])
        || is(&["composer", "autoload_real.php"])
        || is(&["composer", "autoload_static.php"])
    {
        return Some(
            "composer gives its autoloader a new name each time: write \"autoloader-suffix\" into \"config\" of composer.json",
        );
    }
    is_archive.then_some(
        "an archive of Java's has the time of day in it: set project.build.outputTimestamp, or what the build calls it",
    )
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
            "var/lib/gems/3.1.0/gems/tides-1.2.0/ext/native/Makefile",
            "var/log/apt/history.log",
            "var/log/dpkg.log",
        ] {
            assert!(why(path).is_some(), "{path}");
        }
        for path in [
            "srv/.cache",
            "code/node_modules/x/cache",
            "srv/.cargo-lock",
            "srv/invoked.timestamp",
            "mkmf.log.d",
            "srv/ext/Makefile",
        ] {
            assert_eq!(why(path), None, "{path}");
        }
    }

    #[test]
    fn what_the_image_needs_has_its_remedy() {
        let remedy = |path: &str| remedy(&RootPath::from_plain(path.as_bytes()).unwrap());
        assert!(remedy("srv/app/vendor/composer/autoload_real.php").unwrap().contains("autoloader-suffix"));
        assert!(remedy("srv/tides.jar").unwrap().contains("outputTimestamp"));
        assert_eq!(remedy("srv/autoload.php"), None);
    }
}
