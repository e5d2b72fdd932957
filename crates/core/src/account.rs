//! What Cavrith itself adds to an image: the ordinary user, the places where things are mounted, the editor's settings.
//!
//! The result is a plain list of files, so that it can be tested, and so that it is the same wherever it is made.

use std::collections::BTreeMap;

use crate::path::RootPath;
use crate::tree::{Kind, Meta, Tree};

/// User and group number of the account inside, in every workspace: one number, so that one map of ids serves all
/// images of a store.
pub const ACCOUNT_ID: u32 = 1000;

/// The attribute in which a file's owner is written beside it, where there is only one owner to give.
pub const OWNER_RECORD: &str = "user.cavrith.owner";

/// An owner as [`OWNER_RECORD`] holds it.
pub fn owner_record((user, group): (u32, u32)) -> String {
    format!("{user}:{group}")
}

/// The owner that an [`OWNER_RECORD`] holds; nothing when it is none.
pub fn parse_owner_record(value: &[u8]) -> Option<(u32, u32)> {
    let (user, group) = std::str::from_utf8(value).ok()?.split_once(':')?;
    Some((user.parse().ok()?, group.parse().ok()?))
}

/// Directories that a running root needs; something is mounted on each.
const MOUNT_POINTS: &[(&str, u16)] =
    &[("dev", 0o755), ("proc", 0o555), ("run", 0o755), ("sys", 0o555), ("tmp", 0o1777)];

/// The account's home directory.
pub fn home(account: &str) -> String {
    format!("/home/{account}")
}

/// An account of an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// User number.
    pub user: u32,
    /// Group number.
    pub group: u32,
    /// Home directory.
    pub home: String,
    /// Login shell; empty when the file names none.
    pub shell: String,
}

/// The lines of a passwd file (passwd(5)), cut at their colons.
fn passwd_lines(passwd: &[u8]) -> impl Iterator<Item = Vec<String>> {
    let text = String::from_utf8_lossy(passwd).into_owned();
    let lines: Vec<_> = text.lines().map(|line| line.split(':').map(str::to_owned).collect::<Vec<_>>()).collect();
    lines.into_iter().filter(|fields| fields.len() >= 6)
}

/// A number of an owner. The largest one stands for nobody: to become it is to stay who one is (setresuid(2)).
fn number(text: &str) -> Option<u32> {
    text.parse().ok().filter(|number| *number != u32::MAX)
}

/// The account of this name in a passwd file.
pub fn find(passwd: &[u8], name: &str) -> Option<Account> {
    let fields = passwd_lines(passwd).find(|fields| fields[0] == name)?;
    let shell = fields.get(6).cloned().unwrap_or_default();
    Some(Account { user: number(&fields[2])?, group: number(&fields[3])?, home: fields[5].clone(), shell })
}

/// The groups of an account: its own, and those of a group file (group(5)) that list it.
pub fn groups(group: &[u8], name: &str, own: u32) -> Vec<u32> {
    let text = String::from_utf8_lossy(group);
    let listed = text.lines().filter_map(|line| {
        let mut fields = line.split(':').skip(2);
        let (number, members) = (number(fields.next()?)?, fields.next()?);
        members.split(',').any(|member| member == name).then_some(number)
    });
    let mut groups = vec![own];
    for number in listed {
        if !groups.contains(&number) {
            groups.push(number);
        }
    }
    groups
}

/// The number of the group of this name in a group file.
pub fn group_number(group: &[u8], name: &str) -> Option<u32> {
    let fields = lines(group).find(|fields| fields[0] == name.as_bytes())?;
    number(std::str::from_utf8(fields.get(2)?).ok()?)
}

/// The names of all accounts in a passwd file.
pub fn names(passwd: &[u8]) -> Vec<String> {
    passwd_lines(passwd).map(|fields| fields[0].clone()).collect()
}

/// Something to lay into a layer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Made {
    /// A directory.
    Directory(Meta),
    /// A regular file with these bytes.
    File(Meta, Vec<u8>),
}

/// Entries by path. A directory above one of them that is not listed is root's, with mode 0755, or as the base has it.
pub type MadeFiles = BTreeMap<RootPath, Made>;

/// Why the account cannot be made in a base.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AccountError {
    /// The base has somebody of that name, with another number.
    #[error(
        "the base already has an account {0} with another number than {ACCOUNT_ID}; choose another name for workspace.account"
    )]
    NameTaken(String),
    /// The base has somebody with that number.
    #[error(
        "the base already has the {what} number {ACCOUNT_ID}, {name}; write workspace.account = \"{name}\" to work as that one"
    )]
    NumberTaken {
        /// User or group.
        what: &'static str,
        /// Who has it.
        name: String,
    },
    /// A path that Cavrith needs as a directory is something else in the base.
    #[error("{path} has to be a directory, and is a {kind} in the base")]
    NotDirectory {
        /// The path.
        path: String,
        /// What it is.
        kind: &'static str,
    },
}

/// What the base has of the files that name users and groups.
#[derive(Debug, Clone, Default)]
pub struct BaseAccounts {
    /// `/etc/passwd`.
    pub passwd: Option<Vec<u8>>,
    /// `/etc/group`.
    pub group: Option<Vec<u8>>,
    /// `/etc/shadow`.
    pub shadow: Option<Vec<u8>>,
}

/// The paths of [`BaseAccounts`], in its order.
pub const ACCOUNT_FILES: [&str; 3] = ["etc/passwd", "etc/group", "etc/shadow"];

/// The shell of the account: bash when the base has it, else `/bin/sh`.
pub fn shell(base: &Tree) -> &'static str {
    let has = |path: &str| RootPath::from_archive(path.as_bytes()).is_ok_and(|path| base.get(&path).is_some());
    if has("bin/bash") || has("usr/bin/bash") { "/bin/bash" } else { "/bin/sh" }
}

/// The files of the layer that makes `account` and the mount points of every system.
///
/// # Errors
/// When the base has the name or the number already, or something else where a directory is needed.
pub fn layer(account: &str, base: &Tree, accounts: &BaseAccounts) -> Result<MadeFiles, AccountError> {
    let mut made = MadeFiles::new();
    for (name, mode) in MOUNT_POINTS {
        make_directory(&mut made, base, &plain(name), Meta::root(*mode))?;
    }
    let own = Meta::owned(0o755, ACCOUNT_ID, ACCOUNT_ID);
    make_directory(&mut made, base, &plain(&home(account)[1..]), own)?;
    let (passwd, group) = (accounts.passwd.as_deref(), accounts.group.as_deref());
    let shell = shell(base);
    let user = format!("{account}:x:{ACCOUNT_ID}:{ACCOUNT_ID}:{account}:{}:{shell}\n", home(account));
    let root = format!("root:x:0:0:root:/root:{shell}\n");
    let own_group = format!("{account}:x:{ACCOUNT_ID}:\n");
    let passwd = if is_there(account, "user", passwd)? {
        // The account is one of the base's; where it works and lives is as in every workspace.
        replaced(passwd.unwrap_or_default(), account, user.as_bytes())
    } else {
        is_there(account, "group", group)?;
        appended(passwd, root.as_bytes(), user.as_bytes())
    };
    put(&mut made, base, ACCOUNT_FILES[0], passwd);
    if !has_number(group) {
        put(&mut made, base, ACCOUNT_FILES[1], appended(group, b"root:x:0:\n", own_group.as_bytes()));
    }
    let names = |file: &[u8]| lines(file).any(|fields| fields[0] == account.as_bytes());
    if let Some(shadow) = accounts.shadow.as_deref().filter(|shadow| !names(shadow)) {
        // No password, and none that could be guessed: the account is entered through Cavrith only.
        put(
            &mut made,
            base,
            ACCOUNT_FILES[2],
            appended(Some(shadow), b"", format!("{account}:!::0:99999:7:::\n").as_bytes()),
        );
    }
    let hosts = plain("etc/hosts");
    if base.get(&hosts).is_none() {
        put(&mut made, base, "etc/hosts", b"127.0.0.1\tlocalhost\n::1\tlocalhost\n".to_vec());
    }
    Ok(made)
}

/// The files of the layer that holds an editor's settings. Directories under the account's home are the account's.
pub fn settings_layer(account: &str, base: &Tree, place: &RootPath, settings: &str) -> MadeFiles {
    let home = plain(&home(account)[1..]);
    let own = place.lies_in(&home);
    let meta = |mode| {
        if own { Meta::owned(mode, ACCOUNT_ID, ACCOUNT_ID) } else { Meta::root(mode) }
    };
    let mut made = MadeFiles::new();
    for above in place.ancestors() {
        if above.lies_in(&home) && base.get(&above).is_none() {
            made.insert(above, Made::Directory(meta(0o755)));
        }
    }
    made.insert(place.clone(), Made::File(meta(0o644), settings.as_bytes().to_vec()));
    made
}

fn plain(path: &str) -> RootPath {
    RootPath::from_plain(path.as_bytes()).unwrap_or_else(|bad| panic!("BUG: {bad}"))
}

fn make_directory(made: &mut MadeFiles, base: &Tree, path: &RootPath, meta: Meta) -> Result<(), AccountError> {
    for above in path.ancestors().iter().chain([path]) {
        match base.get(above) {
            None => {}
            Some(entry) if entry.kind.is_directory() => {}
            Some(entry) => {
                return Err(AccountError::NotDirectory { path: above.to_string(), kind: entry.kind.word() });
            }
        }
    }
    // What the base already has keeps its rights, but for the account's own places.
    if base.get(path).is_none() || meta.uid == ACCOUNT_ID {
        made.insert(path.clone(), Made::Directory(meta));
    }
    Ok(())
}

fn put(made: &mut MadeFiles, base: &Tree, path: &str, bytes: Vec<u8>) {
    let path = plain(path);
    let meta = match base.get(&path) {
        Some(entry) if matches!(entry.kind, Kind::File { .. }) => entry.meta.clone(),
        _ => Meta::root(0o644),
    };
    made.insert(path, Made::File(meta, bytes));
}

/// The lines of a passwd, group or shadow file, cut at their colons.
fn lines(file: &[u8]) -> impl Iterator<Item = Vec<&[u8]>> {
    file.split(|byte| *byte == b'\n').map(|line| line.split(|byte| *byte == b':').collect())
}

fn is_own_number(fields: &[&[u8]]) -> bool {
    fields.get(2).is_some_and(|number| *number == ACCOUNT_ID.to_string().as_bytes())
}

/// Whether a file has somebody with the account's number.
fn has_number(file: Option<&[u8]>) -> bool {
    lines(file.unwrap_or_default()).any(|fields| is_own_number(&fields))
}

/// Whether the base has the account: under its name and with its number.
///
/// # Errors
/// When the base has only one of the two.
fn is_there(account: &str, what: &'static str, file: Option<&[u8]>) -> Result<bool, AccountError> {
    for fields in lines(file.unwrap_or_default()) {
        match (fields[0] == account.as_bytes(), is_own_number(&fields)) {
            (true, true) => return Ok(true),
            (true, false) => return Err(AccountError::NameTaken(account.to_owned())),
            (false, true) => return Err(AccountError::NumberTaken { what, name: crate::path::shown(fields[0]) }),
            (false, false) => {}
        }
    }
    Ok(false)
}

/// A file with another line for an account.
fn replaced(file: &[u8], account: &str, line: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for old in file.split_inclusive(|byte| *byte == b'\n') {
        let is_own = old.split(|byte| *byte == b':').next() == Some(account.as_bytes());
        bytes.extend(if is_own { line } else { old });
    }
    bytes
}

fn appended(file: Option<&[u8]>, first: &[u8], line: &[u8]) -> Vec<u8> {
    let mut bytes = file.map_or_else(|| first.to_vec(), <[u8]>::to_vec);
    if bytes.last().is_some_and(|last| *last != b'\n') {
        bytes.push(b'\n');
    }
    bytes.extend(line);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tree::Entry;

    fn text<'a>(made: &'a MadeFiles, path: &str) -> &'a str {
        match &made[&plain(path)] {
            Made::File(_, bytes) => std::str::from_utf8(bytes).unwrap(),
            Made::Directory(_) => panic!("{path} is a directory"),
        }
    }

    #[test]
    fn an_empty_base_gets_root_the_account_and_the_mount_points() {
        let made = layer("crew", &Tree::with_root(), &BaseAccounts::default()).unwrap();
        assert_eq!(
            text(&made, "etc/passwd"),
            "root:x:0:0:root:/root:/bin/sh\ncrew:x:1000:1000:crew:/home/crew:/bin/sh\n"
        );
        assert_eq!(text(&made, "etc/group"), "root:x:0:\ncrew:x:1000:\n");
        assert!(!made.contains_key(&plain("etc/shadow")));
        assert_eq!(made[&plain("tmp")], Made::Directory(Meta::root(0o1777)));
        assert_eq!(made[&plain("home/crew")], Made::Directory(Meta::owned(0o755, 1000, 1000)));
    }

    #[test]
    fn a_base_with_accounts_keeps_them_even_without_a_last_newline() {
        let accounts = BaseAccounts {
            passwd: Some(b"root:x:0:0::/root:/bin/bash".to_vec()),
            group: Some(b"root:x:0:\n".to_vec()),
            shadow: Some(b"root:*:1:0:99999:7:::\n".to_vec()),
        };
        let made = layer("crew", &Tree::with_root(), &accounts).unwrap();
        assert!(text(&made, "etc/passwd").starts_with("root:x:0:0::/root:/bin/bash\ncrew:x:1000:"));
        assert_eq!(text(&made, "etc/shadow"), "root:*:1:0:99999:7:::\ncrew:!::0:99999:7:::\n");
    }

    #[test]
    fn a_taken_name_or_number_is_told() {
        let with = |line: &str| BaseAccounts { passwd: Some(line.into()), ..BaseAccounts::default() };
        let make = |line| layer("crew", &Tree::with_root(), &with(line)).unwrap_err();
        assert_eq!(make("crew:x:7:7::/:/bin/sh\n"), AccountError::NameTaken("crew".to_owned()));
        assert_eq!(
            make("pilot:x:1000:7::/:/bin/sh\n"),
            AccountError::NumberTaken { what: "user", name: "pilot".to_owned() }
        );
    }

    #[test]
    fn the_account_may_be_one_of_the_base_s() {
        let accounts = BaseAccounts {
            passwd: Some(
                b"root:x:0:0::/root:/bin/sh\npilot:x:1000:1000::/srv/pilot:/bin/false\nmail:x:8:8:::\n".to_vec(),
            ),
            group: Some(b"root:x:0:\ncrewmen:x:1000:\n".to_vec()),
            shadow: Some(b"pilot:$6$x:1:::::\n".to_vec()),
        };
        let made = layer("pilot", &Tree::with_root(), &accounts).unwrap();
        assert_eq!(
            text(&made, "etc/passwd"),
            "root:x:0:0::/root:/bin/sh\npilot:x:1000:1000:pilot:/home/pilot:/bin/sh\nmail:x:8:8:::\n"
        );
        // Its group has its number under another name, and its password is its own.
        assert!(!made.contains_key(&plain("etc/group")) && !made.contains_key(&plain("etc/shadow")));
    }

    #[test]
    fn a_link_where_a_directory_is_needed_is_told() {
        let mut base = Tree::with_root();
        let link = Entry { kind: Kind::Symlink { target: b"/elsewhere".to_vec() }, meta: Meta::root(0o777) };
        base.entries.insert(plain("home"), link);
        let error = layer("crew", &base, &BaseAccounts::default()).unwrap_err();
        assert_eq!(error, AccountError::NotDirectory { path: "/home".to_owned(), kind: "link" });
    }

    #[test]
    fn settings_in_the_home_belong_to_the_account_and_others_to_root() {
        let at_home = settings_layer("crew", &Tree::with_root(), &plain("home/crew/.lantern/settings.json"), "{}\n");
        assert_eq!(at_home[&plain("home/crew/.lantern")], Made::Directory(Meta::owned(0o755, 1000, 1000)));
        let global = settings_layer("crew", &Tree::with_root(), &plain("etc/lantern/settings.json"), "{}\n");
        assert_eq!(global.len(), 1);
        assert_eq!(global[&plain("etc/lantern/settings.json")], Made::File(Meta::root(0o644), b"{}\n".to_vec()));
    }
}
