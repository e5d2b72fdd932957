//! What makes a workspace a host that every SSH client knows: keys of this member's, and one marked block in their SSH
//! configuration (ssh_config(5)).

use std::fs::{self, File};
use std::io::{self, Read as _, Write as _};
use std::path::{Path, PathBuf};

use rustix::fs::FlockOperation;
use ssh_key::private::Ed25519Keypair;
use ssh_key::{LineEnding, PrivateKey};

use cavrith_engine::error::file_error;
use cavrith_engine::home::Home;
use cavrith_keeper::ssh::USER;
use cavrith_store::atomic::NewFile;
use cavrith_store::{private, reading};

use crate::WorkspaceError;

/// What a workspace's name is followed by, as a host.
pub const SUFFIX: &str = ".cavrith";
/// The name under which clients know this machine's key, whichever workspace it is.
const ALIAS: &str = "cavrith";
/// How the block begins.
const BEGINS: &str = "# cavrith: begins (kept by cavrith ssh-config)";
/// How it ends.
const ENDS: &str = "# cavrith: ends";

/// The keys of a member.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Keys {
    /// The private key of this machine's workspaces, in OpenSSH's form.
    pub host: String,
    /// Its public part, as a line.
    pub host_public: String,
    /// The public part of the member's own key, as a line.
    pub member_public: String,
    /// The directory that they lie in.
    pub dir: PathBuf,
}

impl Keys {
    /// Those of a member; they are made when there are none yet.
    ///
    /// # Errors
    /// When the disk refuses, or a file is not a key.
    pub fn of(home: &Home) -> Result<Self, WorkspaceError> {
        let dir = home.root().join("ssh");
        private::directory(&dir)?;
        // Two commands that are the first at once make the same keys.
        let held = File::open(&dir).map_err(file_error("open", &dir))?;
        rustix::fs::flock(&held, FlockOperation::LockExclusive)
            .map_err(|error| file_error("lock", &dir)(error.into()))?;
        let (host, host_public) = key(&dir.join("host"), ALIAS)?;
        let (_, member_public) = key(&dir.join("member"), "cavrith")?;
        write(&dir.join("known_hosts"), &format!("{ALIAS} {host_public}\n"), 0o644)?;
        Ok(Self { host, host_public, member_public, dir })
    }
}

/// The private key at a path, and its public line, which lies beside it.
fn key(path: &Path, comment: &str) -> Result<(String, String), WorkspaceError> {
    let text = match reading::text(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let mut seed = [0; 32];
            let random = Path::new("/dev/urandom");
            File::open(random)
                .and_then(|mut random| random.read_exact(&mut seed))
                .map_err(file_error("read", random))?;
            let mut made = PrivateKey::from(Ed25519Keypair::from_seed(&seed));
            made.set_comment(comment);
            let text = made.to_openssh(LineEnding::LF).map_err(|_| unusable(path))?.to_string();
            write(path, &text, 0o600)?;
            text
        }
        Err(error) => return Err(file_error("read", path)(error).into()),
    };
    let private = PrivateKey::from_openssh(&text).map_err(|_| unusable(path))?;
    let public = private.public_key().to_openssh().map_err(|_| unusable(path))?;
    write(&path.with_extension("pub"), &format!("{public}\n"), 0o644)?;
    Ok((text, public))
}

fn unusable(path: &Path) -> WorkspaceError {
    WorkspaceError::SshKey(path.to_owned())
}

/// Writes a file that is not there, or is otherwise.
fn write(path: &Path, text: &str, mode: u32) -> Result<(), WorkspaceError> {
    if fs::read(path).is_ok_and(|before| before == text.as_bytes()) {
        return Ok(());
    }
    let written = NewFile::beside(path, mode).and_then(|new| {
        new.file().write_all(text.as_bytes())?;
        new.put_in_place()
    });
    Ok(written.map_err(file_error("write", path))?)
}

/// A word of ssh_config(5): in quotes, and what stands for something else is doubled.
fn quoted(path: &Path) -> String {
    format!("\"{}\"", path.display().to_string().replace('%', "%%"))
}

/// A word for the shell that runs the proxy command, in which `%` stands for something else.
fn for_shell(path: &Path) -> String {
    format!("'{}'", path.display().to_string().replace('\'', "'\\''").replace('%', "%%"))
}

/// The lines for ssh_config(5): no port is open, since the connection is the program's own.
pub fn block(program: &Path, own_home: Option<&Path>, keys: &Path) -> String {
    let program = match own_home {
        Some(home) => format!("env CAVRITH_HOME={} {}", for_shell(home), for_shell(program)),
        None => for_shell(program),
    };
    format!(
        "Host *{SUFFIX}\n    ProxyCommand {program} ssh-proxy %n\n    User {USER}\n    HostKeyAlias {ALIAS}\n    \
         UserKnownHostsFile {known}\n    IdentityFile {member}\n    IdentitiesOnly yes\n",
        known = quoted(&keys.join("known_hosts")),
        member = quoted(&keys.join("member")),
    )
}

/// A configuration with our block at its beginning, where nothing before it can count instead; without one, when there
/// is to be none. All other lines stay as they are, and mean what they meant.
pub fn with_block(text: &str, block: Option<&str>) -> String {
    let mut rest = String::new();
    let mut own = false;
    for line in text.split_inclusive('\n') {
        match line.trim_end() {
            BEGINS => own = true,
            ENDS if own => own = false,
            _ if own => {}
            _ => rest.push_str(line),
        }
    }
    match block {
        // What comes first in a configuration is for every host.
        Some(block) => format!("{BEGINS}\n{block}Host *\n{ENDS}\n{rest}"),
        None => rest,
    }
}

/// The member's configuration.
pub fn file() -> Option<PathBuf> {
    let home = std::env::var_os("HOME").filter(|home| !home.is_empty())?;
    Some(PathBuf::from(home).join(".ssh/config"))
}

/// Whether a configuration has our block.
pub fn is_applied(path: &Path) -> bool {
    reading::text(path).is_ok_and(|text| text.lines().any(|line| line.trim_end() == BEGINS))
}

/// Brings the block in a configuration up to date, or takes it out; says whether anything had to be changed.
///
/// # Errors
/// When the file cannot be read or written, or has lost the end of the block.
pub fn apply(path: &Path, block: Option<&str>) -> Result<bool, WorkspaceError> {
    let text = match reading::text(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(file_error("read", path)(error).into()),
    };
    let count = |mark: &str| text.lines().filter(|line| line.trim_end() == mark).count();
    if count(BEGINS) != count(ENDS) {
        return Err(WorkspaceError::SshConfig(path.to_owned()));
    }
    let wanted = with_block(&text, block);
    if wanted == text {
        return Ok(false);
    }
    if let Some(dir) = path.parent().filter(|dir| !dir.exists()) {
        private::directory(dir)?;
    }
    write(path, &wanted, 0o600)?;
    Ok(true)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt as _;

    use super::*;

    #[test]
    fn keys_are_made_once_and_closed_to_others() {
        let dir = tempfile::tempdir().unwrap();
        let home = Home::at(dir.path());
        let keys = Keys::of(&home).unwrap();
        assert_eq!(Keys::of(&home).unwrap(), keys);
        let mode = |name: &str| fs::metadata(keys.dir.join(name)).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode("host"), mode("member"), mode("")), (0o600, 0o600, 0o700));
        assert!(keys.host_public.starts_with("ssh-ed25519 ") && keys.host_public != keys.member_public);
        fs::write(keys.dir.join("host"), "low water").unwrap();
        assert!(Keys::of(&home).unwrap_err().to_string().contains("is no key"));
    }

    #[test]
    fn the_block_comes_first_and_everything_else_keeps_its_meaning() {
        let own = "ServerAliveInterval 10\nHost pier\n    User ida";
        let block = block(Path::new("/usr/bin/cavrith"), Some(Path::new("/srv/50% full")), Path::new("/k"));
        assert!(block.contains("ProxyCommand env CAVRITH_HOME='/srv/50%% full' '/usr/bin/cavrith' ssh-proxy %n\n"));
        let with = with_block(own, Some(&block));
        assert!(with.starts_with(BEGINS) && with.ends_with(&format!("Host *\n{ENDS}\n{own}")));
        assert_eq!(with_block(&with, Some(&block)), with);
        assert_eq!(with_block(&with, None), own);
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("new/config");
        assert!(apply(&file, Some(&block)).unwrap() && !apply(&file, Some(&block)).unwrap());
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        // Somebody took the end away: what is theirs from there on cannot be told from ours.
        fs::write(&file, with.replace(ENDS, "")).unwrap();
        assert!(apply(&file, None).unwrap_err().to_string().contains("has lost its end"));
    }
}
