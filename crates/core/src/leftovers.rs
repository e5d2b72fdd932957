//! What package managers and compilers leave behind that is another thing each time, and of use to nobody who works
//! with the image: notes of when something was used last, where it came from, how it was built here. A step that
//! fetches is relieved of them, so that it comes out the same.

use crate::path::RootPath;

/// A rule: the end of a path, and what has to stand above it, at any distance, when something has to.
#[derive(Debug)]
struct Rule {
    /// The last names of the path.
    end: &'static [&'static str],
    /// Names somewhere above.
    under: &'static [&'static str],
    /// What it is, in words.
    why: &'static str,
}

const RULES: [Rule; 26] = [
    Rule { end: &[".global-cache"], under: &[], why: "when cargo used which crate last" },
    Rule { end: &[".package-cache"], under: &[], why: "a lock of cargo's" },
    Rule { end: &[".package-cache-mutate"], under: &[], why: "a lock of cargo's" },
    Rule { end: &[".rustc_info.json"], under: &[], why: "which compiler cargo found here" },
    Rule { end: &[".cargo-lock"], under: &["target"], why: "a lock of cargo's" },
    Rule { end: &["invoked.timestamp"], under: &[".fingerprint"], why: "when cargo ran last" },
    Rule { end: &["_remote.repositories"], under: &[], why: "where Maven got a file from" },
    Rule { end: &["resolver-status.properties"], under: &[], why: "when Maven asked last" },
    Rule { end: &["go", "telemetry"], under: &[".config"], why: "how often Go did what on which day" },
    Rule { end: &["gem_make.out"], under: &[], why: "what building a gem said" },
    Rule { end: &["mkmf.log"], under: &[], why: "what building a gem said" },
    Rule { end: &["page-Makefile.ri"], under: &["doc", "ri"], why: "how a gem was built here" },
    Rule { end: &["node_modules", ".cache"], under: &[], why: "a cache of tools of Node" },
    Rule { end: &[".npm", "_logs"], under: &[], why: "what npm said" },
    Rule { end: &[".cache", "pnpm"], under: &[], why: "a cache of pnpm's" },
    Rule { end: &["pnpm", "store"], under: &[".local"], why: "a cache of pnpm's" },
    Rule { end: &["state", "pnpm"], under: &[".local"], why: "when pnpm asked for news of itself" },
    Rule { end: &[".pnpm-store"], under: &[], why: "a cache of pnpm's" },
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

/// A note of the time or the disk in a file that the image needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Note {
    /// The index of a git repository: times and places on the disk.
    GitIndex,
    /// What Python compiled of a source, with the source's time.
    SourceTime,
    /// A line that begins so has the time of day, or a name made up for this once, and becomes the second text.
    Lines(&'static [(&'static str, &'static str)]),
}

/// The note that a file has, by its name.
pub fn note(path: &RootPath) -> Option<Note> {
    let name = path.name()?;
    let is_below = |above: &str| path.names().any(|name| name == above.as_bytes());
    match name {
        b"index" if is_below(".git") => Some(Note::GitIndex),
        b".modules.yaml" if is_below("node_modules") => {
            Some(Note::Lines(&[("prunedAt:", "prunedAt: Thu, 01 Jan 1970 00:00:00 GMT")]))
        }
        // Where a gem's libraries lay while it was built.
        b"Makefile" if is_below("gems") => Some(Note::Lines(&[
            ("sitearchdir = $(DESTDIR)./.gem.", "sitearchdir = $(DESTDIR)./.gem"),
            ("sitelibdir = $(DESTDIR)./.gem.", "sitelibdir = $(DESTDIR)./.gem"),
        ])),
        _ if name.ends_with(b".pyc") => Some(Note::SourceTime),
        _ => None,
    }
}

/// A text in which lines that begin as the first of a pair are the second; nothing when that changes nothing.
pub fn with_lines(text: &[u8], pairs: &[(&str, &str)]) -> Option<Vec<u8>> {
    let lines = text.split(|byte| *byte == b'\n').map(|line| {
        let found = pairs.iter().find(|(beginning, _)| line.starts_with(beginning.as_bytes()));
        found.map_or(line, |(_, instead)| instead.as_bytes())
    });
    let changed = lines.collect::<Vec<_>>().join(&b'\n');
    (changed != text).then_some(changed)
}

/// The source that a file of Python's `__pycache__` is compiled from (PEP 3147).
pub fn source_of_compiled(path: &RootPath) -> Option<RootPath> {
    let name = path.name()?;
    let end = name.iter().position(|byte| *byte == b'.')?;
    let above = path.parent().filter(|above| above.name().is_some_and(|name| name == b"__pycache__"))?.parent()?;
    above.join(&[&name[..end], b".py"].concat()).ok()
}

/// What Python compiled, as of a source with this time stamp: whoever imports it finds it right, and does not compile
/// anew (PEP 552: a magic number, flags, which are 0 when a time stands there, and the time). Nothing when no time
/// stands there, or this one.
pub fn with_source_time(compiled: &[u8], time: u64) -> Option<Vec<u8>> {
    let time = (time as u32).to_le_bytes();
    let has_time = compiled.len() >= 16 && compiled[2..4] == *b"\r\n" && compiled[4..8] == [0; 4];
    (has_time && compiled[8..12] != time).then(|| [&compiled[..8], &time, &compiled[12..]].concat())
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
    if is(&["uv_cache.json"]) {
        return Some(
            "uv notes when files of the project changed: install what it needs without the project itself (uv sync --no-install-project)",
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
    fn other_rules_have_another_version() {
        let rules = crate::digest::Sha256Digest::of(format!("{RULES:?}").as_bytes()).to_string();
        let known = (crate::derive::plan::RECORDED_RULES, &rules[..16]);
        // What older rules made is in stores and caches: raise the version, then write the new digest here.
        assert_eq!(known, (7, "6f5dcdfe7e477480"));
    }

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
            "var/lib/gems/3.1.0/gems/tides-1.2.0/ext/native/mkmf.log",
            "var/log/apt/history.log",
            "var/log/dpkg.log",
            "root/.config/go/telemetry",
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

    #[test]
    fn notes_in_files_become_the_same_for_everybody() {
        let path = |path: &str| RootPath::from_plain(path.as_bytes()).unwrap();
        let compiled = path("srv/app/__pycache__/tides.cpython-311.pyc");
        assert_eq!(note(&compiled), Some(Note::SourceTime));
        assert_eq!(source_of_compiled(&compiled), Some(path("srv/app/tides.py")));
        assert_eq!(source_of_compiled(&path("srv/app/tides.pyc")), None);
        let bytes = b"\xa7\x0d\x0d\x0a\0\0\0\0timesize...";
        assert_eq!(with_source_time(bytes, 7).unwrap(), b"\xa7\x0d\x0d\x0a\0\0\0\0\x07\0\0\0size...");
        // By the source's digest, or too short to be one.
        assert_eq!(with_source_time(b"\xa7\x0d\x0d\x0a\x03\0\0\0timesize...", 7), None);
        assert_eq!(with_source_time(&bytes[..15], 7), None);
        let modules = path("code/node_modules/.modules.yaml");
        let Some(Note::Lines(pairs)) = note(&modules) else { panic!("it has a note") };
        let changed = with_lines(b"a: 1\nprunedAt: Fri\nb: 2\n", pairs).unwrap();
        assert_eq!(changed, b"a: 1\nprunedAt: Thu, 01 Jan 1970 00:00:00 GMT\nb: 2\n");
        assert_eq!(with_lines(&changed, pairs), None);
        // A Makefile that somebody wrote stays as it is.
        let Some(Note::Lines(pairs)) = note(&path("srv/gems/tides/ext/Makefile")) else { panic!("it has notes") };
        assert_eq!(with_lines(b"sitelibdir = /usr\nall:\n", pairs), None);
        let changed = with_lines(b"sitelibdir = $(DESTDIR)./.gem.20261126-5-x\nall:\n", pairs).unwrap();
        assert_eq!(changed, b"sitelibdir = $(DESTDIR)./.gem\nall:\n");
        assert_eq!(note(&path("srv/index")), None);
        assert_eq!(note(&path("srv/tides/.git/modules/x/index")), Some(Note::GitIndex));
    }
}
