//! The real git, started so that it only moves data: no hooks, filters, submodules or transports that run programs, and
//! nothing of the environment that leads it elsewhere.

use std::ffi::OsStr;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};

use cavrith_sandbox::programs::find_program;

use crate::ExchangeError;

/// Settings under which git only moves files.
const SAFE: [&str; 7] = [
    "core.hooksPath=/dev/null",
    "protocol.ext.allow=never",
    "core.fsmonitor=false",
    "submodule.recurse=false",
    "fetch.recurseSubmodules=false",
    // The same history packs to the same bytes.
    "pack.threads=1",
    "core.quotePath=false",
];

/// Runs git in a folder, and gives what it writes. `input` goes to its standard input.
///
/// # Errors
/// When it is not installed, or fails.
pub(crate) fn output<S: AsRef<OsStr>>(
    dir: &Path,
    arguments: impl IntoIterator<Item = S>,
    input: &[u8],
) -> Result<Vec<u8>, ExchangeError> {
    let program =
        find_program("git").ok_or_else(|| ExchangeError::Git("git is not installed; install it".to_owned()))?;
    let mut command = Command::new(program);
    for one in SAFE {
        command.args([OsStr::new("-c"), OsStr::new(one)]);
    }
    let arguments: Vec<_> = arguments.into_iter().collect();
    let clones = arguments.first().is_some_and(|first| first.as_ref() == "clone");
    command.args(arguments).current_dir(dir);
    // A password is asked for at the terminal, by git itself; what it inherits must not lead it elsewhere.
    for name in ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY", "GIT_TEMPLATE_DIR"] {
        command.env_remove(name);
    }
    command
        // What is asked of a repository that is there is answered from it, whatever its configuration says is
        // elsewhere.
        .env("GIT_ALLOW_PROTOCOL", if clones { "file:git:http:https:ssh" } else { "none" })
        .env("GIT_LFS_SKIP_SMUDGE", "1")
        .env("GIT_NO_LAZY_FETCH", "1")
        .env("LC_ALL", "C.UTF-8");
    let failed = |error: std::io::Error| ExchangeError::Git(format!("git cannot be run: {error}"));
    command.stdin(if input.is_empty() { Stdio::null() } else { Stdio::piped() });
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().map_err(failed)?;
    let fed = child.stdin.take().map(|mut stdin| {
        let input = input.to_vec();
        // Beside the reading, since each may wait for the other.
        std::thread::spawn(move || drop(stdin.write_all(&input)))
    });
    let output = child.wait_with_output().map_err(failed)?;
    drop(fed.map(std::thread::JoinHandle::join));
    if output.status.success() {
        return Ok(output.stdout);
    }
    let said = String::from_utf8_lossy(&output.stderr);
    let lines: Vec<_> = said.lines().map(|line| cavrith_core::path::shown(line.trim().as_bytes())).collect();
    Err(ExchangeError::Git(format!("git failed: {}", lines.join(" / "))))
}

/// As [`output`], without an input, and what it writes in text.
///
/// # Errors
/// As [`output`].
pub(crate) fn text<S: AsRef<OsStr>>(
    dir: &Path,
    arguments: impl IntoIterator<Item = S>,
) -> Result<String, ExchangeError> {
    Ok(String::from_utf8_lossy(&output(dir, arguments, b"")?).trim().to_owned())
}
