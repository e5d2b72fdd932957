//! What a root wants to be in `/run`, which is empty whenever a system starts: directories and links that packages name
//! in `tmpfiles.d` (tmpfiles.d(5)) and in the `RuntimeDirectory=` of their services' units (systemd.exec(5)).

use std::collections::BTreeMap;

/// One thing to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// Where, absolute, beneath `/run`.
    pub path: String,
    /// What to make.
    pub kind: Kind,
    /// Rights.
    pub mode: u32,
    /// Name or number of the owner.
    pub user: String,
    /// Name or number of the group.
    pub group: String,
}

/// What is made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// A directory.
    Directory,
    /// An empty file.
    File,
    /// A symbolic link to this.
    Link(String),
}

/// Everything that these files want, in the order in which it is made: what lies above first. `tmpfiles` are the files
/// of all directories by their names, each name once; `units` are the texts of services' units.
pub fn wanted<'a>(
    tmpfiles: impl IntoIterator<Item = &'a str>,
    units: impl IntoIterator<Item = &'a str>,
) -> Vec<Wanted> {
    let mut all: BTreeMap<String, Wanted> = BTreeMap::new();
    for wanted in tmpfiles.into_iter().flat_map(str::lines).filter_map(line) {
        // The first that names a path has it.
        all.entry(wanted.path.clone()).or_insert(wanted);
    }
    for wanted in units.into_iter().flat_map(unit) {
        all.entry(wanted.path.clone()).or_insert(wanted);
    }
    all.into_values().collect()
}

/// A path beneath `/run`, by whichever of its names, if it is one.
fn in_run(path: &str) -> Option<String> {
    let path = path.replace("%t", "/run");
    let path = match (path.strip_prefix("/var/run/"), path.strip_prefix("/var/lock")) {
        (Some(rest), _) => format!("/run/{rest}"),
        (None, Some(rest)) if rest.is_empty() || rest.starts_with('/') => format!("/run/lock{rest}"),
        _ => path,
    };
    let path = path.trim_end_matches('/');
    let plain = path.split('/').skip(1).all(|name| !name.is_empty() && name != "." && name != "..");
    (path.starts_with("/run/") && plain && !path.contains(['%', '*', '?', '['])).then(|| path.to_owned())
}

fn or_root(text: Option<&str>) -> String {
    text.map(|text| text.trim_start_matches(':')).filter(|text| *text != "-").unwrap_or("root").to_owned()
}

fn mode(text: Option<&str>, otherwise: u32) -> u32 {
    let digits = text.map(|text| text.trim_start_matches(['~', ':']));
    digits.and_then(|digits| u32::from_str_radix(digits, 8).ok()).filter(|mode| *mode <= 0o7777).unwrap_or(otherwise)
}

/// A line of a file of `tmpfiles.d`: type, path, mode, user, group, age, argument.
fn line(line: &str) -> Option<Wanted> {
    let line = line.trim();
    if line.starts_with('#') {
        return None;
    }
    let mut fields = line.split_whitespace();
    let kind = fields.next()?;
    let path = in_run(fields.next()?)?;
    let (rights, user, group) = (fields.next(), fields.next(), fields.next());
    let argument = fields.nth(1);
    let kind = match kind.trim_end_matches(['!', '-', '=', '~', '^', '$', '+', '?']) {
        "d" | "D" | "v" | "q" | "Q" => Kind::Directory,
        "f" | "F" => Kind::File,
        "L" => Kind::Link(argument?.replace("%t", "/run")),
        _ => return None,
    };
    let otherwise = if kind == Kind::File { 0o644 } else { 0o755 };
    Some(Wanted { path, mode: mode(rights, otherwise), user: or_root(user), group: or_root(group), kind })
}

/// The directories that a service's unit wants.
fn unit(text: &str) -> Vec<Wanted> {
    let value = |key: &str| {
        let mut lines = text.lines().filter_map(|line| line.trim().split_once('='));
        lines.rfind(|(name, _)| name.trim() == key).map(|(_, value)| value.trim())
    };
    let user = or_root(value("User"));
    let group = value("Group").map_or_else(|| user.clone(), |group| or_root(Some(group)));
    let rights = mode(value("RuntimeDirectoryMode"), 0o755);
    let names = value("RuntimeDirectory").unwrap_or_default().split_whitespace();
    let paths = names.filter_map(|name| in_run(&format!("/run/{}", name.split(':').next().unwrap_or(name))));
    let wanted = paths.map(|path| Wanted {
        path,
        kind: Kind::Directory,
        mode: rights,
        user: user.clone(),
        group: group.clone(),
    });
    wanted.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn shown(all: &[Wanted]) -> Vec<String> {
        let one = |one: &Wanted| format!("{} {:?} {:o} {}:{}", one.path, one.kind, one.mode, one.user, one.group);
        all.iter().map(one).collect()
    }

    #[test]
    fn lines_beneath_run_are_taken_by_whichever_name() {
        let text = "# comment\nd /run/postgresql 2775 postgres postgres - -\nD! /var/run/mysqld 0755 mysql root -\nd /var/lock 1777 - - -\nL+ /run/initctl - - - - %t/systemd/initctl\nf %t/utmp 0664 root utmp -\nd /var/cache/man 0755 man man 1w\nr /run/nologin\nd /run/../etc 0777\nd /run/*/x\nd\n";
        assert_eq!(
            shown(&wanted([text], [])),
            [
                "/run/initctl Link(\"/run/systemd/initctl\") 755 root:root",
                "/run/lock Directory 1777 root:root",
                "/run/mysqld Directory 755 mysql:root",
                "/run/postgresql Directory 2775 postgres:postgres",
                "/run/utmp File 664 root:utmp",
            ]
        );
    }

    #[test]
    fn a_unit_s_directories_are_its_user_s_unless_tmpfiles_say_otherwise() {
        let unit = "[Service]\nUser=redis\nRuntimeDirectory=redis redis/more\nRuntimeDirectoryMode=2755\n";
        let other = "[Service]\nRuntimeDirectory=sshd\n[Install]\n";
        assert_eq!(
            shown(&wanted(["d /run/sshd 0700\n"], [unit, other])),
            [
                "/run/redis Directory 2755 redis:redis",
                "/run/redis/more Directory 2755 redis:redis",
                "/run/sshd Directory 700 root:root",
            ]
        );
    }

    proptest! {
        #[test]
        fn whatever_is_written_nothing_leaves_run(text in "[dLf+! /a-z.%~*\\n0-9-]{0,80}") {
            for one in wanted([text.as_str()], [text.as_str()]) {
                prop_assert!(one.path.starts_with("/run/") && !one.path.contains("/../") && !one.path.ends_with("/.."));
            }
        }
    }
}
