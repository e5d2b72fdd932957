//! `/run` of a workspace, as packages expect it when a system starts.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use cavrith_core::account;
use cavrith_core::volatile::{self, Kind, Wanted};

use crate::child::root::read_inside;

/// Where files of tmpfiles.d(5) lie; a name in an earlier directory hides that name in later ones.
const TMPFILES: [&str; 3] = ["/etc/tmpfiles.d", "/usr/local/lib/tmpfiles.d", "/usr/lib/tmpfiles.d"];
/// Where units of services lie, likewise.
const UNITS: [&str; 2] = ["/etc/systemd/system", "/usr/lib/systemd/system"];

/// Makes what the root's packages want there. What cannot be made, such as for an owner that is not there, is left out.
pub(crate) fn make() {
    let tmpfiles = texts(&TMPFILES, ".conf");
    let units = texts(&UNITS, ".service");
    let lock = Wanted {
        path: "/run/lock".to_owned(),
        kind: Kind::Directory,
        mode: 0o1777,
        user: "root".to_owned(),
        group: "root".to_owned(),
    };
    let passwd = read_inside(Path::new("/etc/passwd")).unwrap_or_default();
    let group = read_inside(Path::new("/etc/group")).unwrap_or_default();
    let mut wanted = volatile::wanted(tmpfiles.values().map(String::as_str), units.values().map(String::as_str));
    if !wanted.iter().any(|one| one.path == lock.path) {
        wanted.push(lock);
    }
    for one in &wanted {
        let user = one.user.parse().ok().or_else(|| account::find(&passwd, &one.user).map(|found| found.user));
        let group = one.group.parse().ok().or_else(|| account::group_number(&group, &one.group));
        let _ = make_one(one, user, group);
    }
}

/// Files with this ending, by name.
fn texts(directories: &[&str], ending: &str) -> BTreeMap<String, String> {
    let mut texts = BTreeMap::new();
    for directory in directories {
        for entry in fs::read_dir(directory).into_iter().flatten().flatten() {
            let Ok(name) = entry.file_name().into_string() else { continue };
            if name.ends_with(ending)
                && !name.contains('@')
                && !texts.contains_key(&name)
                && let Ok(bytes) = read_inside(&entry.path())
            {
                texts.insert(name, String::from_utf8_lossy(&bytes).into_owned());
            }
        }
    }
    texts
}

fn make_one(wanted: &Wanted, user: Option<u32>, group: Option<u32>) -> io::Result<()> {
    let path = Path::new(&wanted.path);
    if let Some(above) = path.parent() {
        fs::create_dir_all(above)?;
    }
    match &wanted.kind {
        Kind::Directory => fs::create_dir(path)?,
        Kind::File => drop(fs::File::create_new(path)?),
        Kind::Link(target) => return std::os::unix::fs::symlink(target, path),
    }
    // Where there is one owner only, everything is that one's.
    let _ = std::os::unix::fs::chown(path, user, group);
    fs::set_permissions(path, fs::Permissions::from_mode(wanted.mode))
}
