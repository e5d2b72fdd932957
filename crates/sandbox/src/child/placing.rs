//! Putting a member's own files into the home, by a process that is the account. What is there already and is not ours
//! stays, whoever put it there, and is told.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read, Write};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use cavrith_core::digest::ContentDigest;
use serde::{Deserialize, Serialize};

use crate::host::ground::{Dress, Ground};
use crate::protocol::job::{PLACED, PlacedFile};

/// Bytes of all files, as they come.
const LONGEST: u64 = 16 << 20;

/// Bytes of a file that something may take the place of.
const LONGEST_BEFORE: u64 = 1 << 20;

/// What is written down of it.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Placed {
    /// Digests of what was put there, by path.
    files: BTreeMap<String, String>,
    /// What was there before, by path, where something took its place.
    #[serde(default)]
    before: BTreeMap<String, PlacedFile>,
}

/// Puts the files that come from `from` into a home, takes away those of an earlier time that are no longer among them,
/// and writes a line for each that stays as it is: `kept PATH`.
///
/// # Errors
/// When what comes is not a list of files, or the home cannot be written to.
pub(crate) fn place(from: impl Read, mut to: impl Write, home: &Path) -> io::Result<()> {
    let mut text = Vec::new();
    from.take(LONGEST).read_to_end(&mut text)?;
    let wanted: Vec<PlacedFile> = serde_json::from_slice(&text)?;
    let list = Path::new(PLACED);
    let mut before: Placed =
        fs::read(home.join(list)).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default();
    let ground = Ground::open(home)?;
    let dress = |mode| Dress { mode, owner: None, modified: now() };
    let mut after = Placed::default();
    for file in &wanted {
        let path = Path::new(&file.path);
        let content = content(file)?;
        let digest = digest(file.link.as_deref(), &content);
        let ours = before.files.remove(&file.path);
        match here(&home.join(path)) {
            Some(here) if here == digest => {}
            Some(here) if ours.as_ref() != Some(&here) && file.over.as_ref() != Some(&here) => {
                writeln!(to, "kept {}", file.path)?;
                // What was ours and was changed by hand is theirs from now on.
                continue;
            }
            there => {
                let theirs = there.filter(|here| ours.as_ref() != Some(here)).map(|_| taken(home, &file.path));
                let made = match &theirs {
                    Some(Err(_)) => false,
                    _ => put(&ground, file, &content, &dress).is_ok(),
                };
                if let Some(theirs) = theirs.and_then(Result::ok).filter(|_| made) {
                    after.before.insert(file.path.clone(), theirs);
                }
                if !made {
                    writeln!(to, "kept {}", file.path)?;
                    continue;
                }
            }
        }
        if let Some(theirs) = before.before.remove(&file.path) {
            after.before.entry(file.path.clone()).or_insert(theirs);
        }
        after.files.insert(file.path.clone(), digest);
    }
    for (path, digest) in before.files {
        if here(&home.join(&path)).as_ref() == Some(&digest) {
            match before.before.get(&path) {
                Some(theirs) => put(&ground, theirs, &content(theirs)?, &dress)?,
                None => ground.remove(Path::new(&path))?,
            }
        }
    }
    if after.files.is_empty() && !home.join(list).exists() {
        return Ok(());
    }
    let text = serde_json::to_vec(&after)?;
    ground.make_way(list, &dress(0o755))?;
    ground.file(list, &mut text.as_slice(), &dress(0o644))
}

/// Writes a file or a link.
fn put(ground: &Ground, file: &PlacedFile, content: &[u8], dress: &impl Fn(u32) -> Dress) -> io::Result<()> {
    let path = Path::new(&file.path);
    // What is in these is nobody else's to read, and their programs insist on it.
    let is_private = [".ssh", ".gnupg"].iter().any(|private| path.starts_with(private));
    ground.make_way(path, &dress(if is_private { 0o700 } else { 0o755 }))?;
    match &file.link {
        Some(target) => ground.link(path, Path::new(target), &dress(0o777)),
        None => ground.file(path, &mut &*content, &dress(if file.executable { 0o755 } else { 0o644 })),
    }
}

/// What is at a path, so that it can be put back.
fn taken(home: &Path, path: &str) -> io::Result<PlacedFile> {
    let at = home.join(path);
    let meta = at.symlink_metadata()?;
    if meta.len() > LONGEST_BEFORE {
        return Err(io::ErrorKind::FileTooLarge.into());
    }
    let link = if meta.is_symlink() { Some(fs::read_link(&at)?.to_string_lossy().into_owned()) } else { None };
    let content = if link.is_some() { Vec::new() } else { fs::read(&at)? };
    let content = base64::Engine::encode(&base64::prelude::BASE64_STANDARD, content);
    let executable = meta.permissions().mode() & 0o100 != 0;
    Ok(PlacedFile { path: path.to_owned(), executable, link, content, over: None })
}

fn now() -> u64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map(|since| since.as_secs()).unwrap_or_default()
}

fn content(file: &PlacedFile) -> io::Result<Vec<u8>> {
    base64::Engine::decode(&base64::prelude::BASE64_STANDARD, &file.content).map_err(io::Error::other)
}

fn digest(link: Option<&str>, content: &[u8]) -> String {
    PlacedFile::digest_of(link, || ContentDigest::of(content))
}

/// What is at a path; nothing when nothing is.
fn here(path: &Path) -> Option<String> {
    let meta = path.symlink_metadata().ok()?;
    if meta.is_symlink() {
        return Some(digest(Some(&fs::read_link(path).ok()?.to_string_lossy()), &[]));
    }
    let content = if meta.is_file() { fs::read(path).ok() } else { None };
    Some(content.map_or_else(String::new, |content| digest(None, &content)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(path: &str, text: &str) -> PlacedFile {
        let content = base64::Engine::encode(&base64::prelude::BASE64_STANDARD, text);
        PlacedFile { path: path.to_owned(), executable: false, link: None, content, over: None }
    }

    #[test]
    fn files_come_change_and_go_and_what_is_somebody_s_own_stays() {
        let home = tempfile::tempdir().unwrap();
        let put = |files: &[PlacedFile]| {
            let mut told = Vec::new();
            place(serde_json::to_vec(files).unwrap().as_slice(), &mut told, home.path()).unwrap();
            String::from_utf8(told).unwrap()
        };
        let text = |path: &str| fs::read_to_string(home.path().join(path)).ok();
        fs::write(home.path().join(".team"), "sealed").unwrap();
        assert_eq!(put(&[file(".config/a", "1"), file(".b", "1"), file(".team", "mine")]), "kept .team\n");
        assert_eq!((text(".config/a"), text(".team")), (Some("1".to_owned()), Some("sealed".to_owned())));
        // Again: nothing; another content: brought; changed by hand: kept; gone: taken away, with its directory.
        assert_eq!(put(&[file(".config/a", "1"), file(".b", "1")]), "");
        fs::write(home.path().join(".b"), "by hand").unwrap();
        assert_eq!(put(&[file(".b", "2"), file(".c", "1")]), "kept .b\n");
        assert_eq!((text(".config/a"), text(".b")), (None, Some("by hand".to_owned())));
        assert!(!home.path().join(".config").exists());
        assert_eq!(put(&[]), "");
        assert_eq!((text(".b"), text(".c")), (Some("by hand".to_owned()), None));
        // What may be replaced is, as long as nobody has changed it.
        let over = |text: &str| PlacedFile { over: Some(digest(None, text.as_bytes())), ..file(".team", "mine") };
        assert_eq!(put(&[over("another")]), "kept .team\n");
        assert_eq!((put(&[over("sealed")]), text(".team")), (String::new(), Some("mine".to_owned())));
        assert_eq!((put(&[over("sealed")]), text(".team")), (String::new(), Some("mine".to_owned())));
        // And is there again when what took its place goes.
        assert_eq!((put(&[]), text(".team")), (String::new(), Some("sealed".to_owned())));
        // Through a link nothing is put.
        let elsewhere = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink(elsewhere.path(), home.path().join(".d")).unwrap();
        assert_eq!(put(&[file(".d/x", "1")]), "kept .d/x\n");
        assert_eq!(fs::read_dir(elsewhere.path()).unwrap().count(), 0);
    }
}
