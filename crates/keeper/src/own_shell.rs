//! A member's shell: the one that they want, if it is inside, with their short words for commands.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io;
use std::path::{Path, PathBuf};

use cavrith_engine::personal::Personal;
use cavrith_sandbox::Identity;
use cavrith_sandbox::ground::{Dress, Ground};

/// Where what shells read lies inside: in memory, and nobody inside may write to it.
const DIRECTORY: &str = "/run/personal";

/// Finds the wanted shell (`$1`), or takes the account's (`$2`), and has it read the aliases after its own files. Only
/// a shell at a terminal reads them, so no script ever sees them.
const BEGIN: &str = "own=$(command -v -- \"$1\") || own=$2
if [ ! -e /run/personal/rc ]; then exec \"$own\"; fi
case ${own##*/} in
    bash) exec \"$own\" --rcfile /run/personal/bash ;;
    zsh) ZDOTDIR=/run/personal/zsh exec \"$own\" ;;
    fish) exec \"$own\" -C '. /run/personal/fish' ;;
    *) ENV=/run/personal/rc exec \"$own\" ;;
esac";

/// The program and arguments of a member's shell.
pub(crate) fn command(personal: &Personal, account_shell: &str) -> Vec<String> {
    if personal.shell.is_none() && personal.aliases.is_empty() {
        return vec![account_shell.to_owned()];
    }
    let wanted = personal.shell.as_deref().unwrap_or(account_shell);
    [account_shell, "-c", BEGIN, account_shell, wanted, account_shell].map(str::to_owned).to_vec()
}

fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// The files, by their names in the directory.
fn files(aliases: &BTreeMap<String, String>) -> [(&'static str, String); 4] {
    let (mut plain, mut fish) = (String::new(), String::new());
    for (name, command) in aliases {
        let _ = writeln!(plain, "alias {name}={}", quoted(command));
        // In quotes of its own it reads both characters so.
        let command = command.replace('\\', "\\\\").replace('\'', "\\'");
        let _ = writeln!(fish, "alias {name} '{command}'");
    }
    let after = |files: &[&str]| {
        let reads: String = files.iter().map(|file| format!("if [ -f {file} ]; then . {file}; fi\n")).collect();
        format!("{reads}. {DIRECTORY}/rc\n")
    };
    [
        ("rc", plain),
        ("fish", fish),
        ("bash", after(&["/etc/bash.bashrc", "~/.bashrc"])),
        ("zsh/.zshrc", format!("ZDOTDIR=$HOME\n{}", after(&["~/.zshenv", "~/.zshrc"]))),
    ]
}

/// Writes them into the memory of the workspace whose first process this is; nothing else runs there yet.
///
/// # Errors
/// When the sandbox does not let it be written.
pub(crate) fn lay(process: u32, personal: &Personal, identity: Identity) -> io::Result<()> {
    if personal.aliases.is_empty() {
        return Ok(());
    }
    let owner = (!identity.records_owners()).then_some((0, 0));
    let dress = |mode| Dress { mode, owner, modified: crate::record::now() / 1000 };
    let root = Ground::open(Path::new(&format!("/proc/{process}/root")))?;
    for (name, text) in files(&personal.aliases) {
        let path = PathBuf::from(DIRECTORY.trim_start_matches('/')).join(name);
        root.make_way(&path, &dress(0o755))?;
        root.file(&path, &mut text.as_bytes(), &dress(0o644))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn aliases_are_quoted_for_each_shell() {
        let aliases = BTreeMap::from([("tide".to_owned(), "echo 'low \\ $HOME'".to_owned())]);
        let [plain, fish, ..] = files(&aliases).map(|(_, text)| text);
        assert_eq!(plain, "alias tide='echo '\\''low \\ $HOME'\\'''\n");
        assert_eq!(fish, "alias tide 'echo \\'low \\\\ $HOME\\''\n");
        let shell = |shell: Option<&str>| {
            let personal = Personal { shell: shell.map(str::to_owned), ..Personal::default() };
            command(&personal, "/bin/sh")
        };
        assert_eq!(shell(None), ["/bin/sh"]);
        assert_eq!(shell(Some("zsh"))[3..], ["/bin/sh", "zsh", "/bin/sh"]);
    }
}
