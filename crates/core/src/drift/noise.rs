//! Where programs write as they run. A change there says that a workspace was used, and nothing more.

use super::Open;
use crate::path::RootPath;
use crate::tree::diff::What;

/// Directories, and why a change in them says nothing.
const PLACES: [(&str, &str); 15] = [
    ("tmp", "temporary files"),
    ("var/tmp", "temporary files"),
    ("run", "of running programs"),
    ("var/log", "logs"),
    ("var/cache", "caches"),
    ("root/.cache", "caches"),
    ("root/.npm/_logs", "logs"),
    ("root/.npm", "caches"),
    ("var/spool", "queues"),
    ("var/mail", "queues"),
    ("var/lib/apt", "the package manager's own records"),
    ("var/lib/systemd/deb-systemd-helper-enabled", "the package manager's own records"),
    ("var/lib/ucf", "the package manager's own records"),
    ("var/lib/pam", "the package manager's own records"),
    ("var/lib", "data of programs"),
];

/// What dpkg writes whenever it runs; all else of its records says what is installed, and is told.
const DPKG: [&str; 9] = [
    "lock",
    "lock-frontend",
    "status-old",
    "available",
    "available-old",
    "diversions-old",
    "statoverride-old",
    "triggers/Lock",
    "triggers/Unincorp",
];

/// Files anywhere, by the end of their path, and why they say nothing.
const ENDS: [(&str, &str); 17] = [
    ("/.bash_history", "histories"),
    ("/.ash_history", "histories"),
    ("/.zsh_history", "histories"),
    ("/.python_history", "histories"),
    ("/.node_repl_history", "histories"),
    ("/.psql_history", "histories"),
    ("/.mysql_history", "histories"),
    ("/.sqlite_history", "histories"),
    ("/.lesshst", "histories"),
    ("/.viminfo", "histories"),
    ("/.wget-hsts", "histories"),
    ("/etc/ld.so.cache", "caches"),
    ("/etc/.pwd.lock", "locks"),
    (".pyc", "caches"),
    ("/.package-lock.json", "the package manager's own records"),
    ("/perllocal.pod", "the package manager's own records"),
    ("/etc/machine-id", "of running programs"),
];

/// Counts what says nothing.
pub(super) fn fold(open: &mut Open<'_>) {
    let home = RootPath::from_absolute(open.observed.home).ok();
    let own: Vec<_> =
        DPKG.iter().filter_map(|name| RootPath::from_archive(format!("var/lib/dpkg/{name}").as_bytes()).ok()).collect();
    open.fold("the package manager's own records", |path, _| own.contains(path));
    let dpkg = RootPath::from_archive(b"var/lib/dpkg").ok();
    for (place, why) in PLACES {
        let Ok(top) = RootPath::from_archive(place.as_bytes()) else { continue };
        open.fold(why, |path, what| {
            // A directory of the image that is gone, or whose rights are others, was changed by somebody.
            let is_top = *path == top && *what != What::Extra;
            path.lies_in(&top) && !is_top && !dpkg.as_ref().is_some_and(|dpkg| path.lies_in(dpkg))
        });
    }
    for cache in [b".cache".as_slice(), b".npm"] {
        let Some(cache) = home.as_ref().and_then(|home| home.join(cache).ok()) else { continue };
        open.fold("caches", |path, _| *path == cache || path.lies_in(&cache));
    }
    for (end, why) in ENDS {
        open.fold(why, |path, _| path.to_string().ends_with(end));
    }
    open.fold("caches", |path, _| path.names().any(|name| name == b"__pycache__"));
}
