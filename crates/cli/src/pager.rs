//! Long results on a terminal: they are held until they are whole, and shown by the member's pager when they do not
//! fit.

use std::env;
use std::io::{self, IsTerminal as _, Write as _};
use std::process::{Command, Stdio};

use crate::args::{self, Logs};
use crate::wrapping::width;

/// The pager of those who chose none, and what it is told: colours, no paging when it fits, and leave the text there.
const USUAL: (&str, &str) = ("less", "FRX");

/// Whether the result of a command may be long, and is not told bit by bit.
pub fn may_be_long(command: &args::Command) -> bool {
    match command {
        args::Command::Logs(Logs { follow, .. }) => !follow,
        args::Command::Drift(command) => !command.adopt && !command.undo,
        args::Command::Explain(_)
        | args::Command::Show(_)
        | args::Command::Contents(_)
        | args::Command::History(_)
        | args::Command::Doctor(_)
        | args::Command::Roster(_) => true,
        _ => false,
    }
}

/// Rows and columns of the terminal that results go to; nothing when there is none, or nobody who could turn pages.
pub fn room() -> Option<(usize, usize)> {
    let dumb = env::var_os("TERM").is_none_or(|term| term == "dumb");
    if dumb || !io::stdout().is_terminal() || !io::stdin().is_terminal() {
        return None;
    }
    let size = rustix::termios::tcgetwinsize(rustix::stdio::stdout()).ok()?;
    (size.ws_row > 0 && size.ws_col > 0).then_some((size.ws_row.into(), size.ws_col.into()))
}

/// How many rows of a terminal a text takes.
fn rows(text: &str, columns: usize) -> usize {
    text.lines().map(|line| width(line).div_ceil(columns).max(1)).sum()
}

/// Shows a text that does not fit by the pager; false when it fits, or there is no pager.
pub fn shown(text: &str, (height, columns): (usize, usize)) -> bool {
    // One row is the shell's.
    if rows(text, columns) < height {
        return false;
    }
    let chosen = env::var("PAGER").ok();
    let mut command = match chosen.as_deref().map(str::trim) {
        Some("" | "cat") => return false,
        Some(chosen) => {
            let mut command = Command::new("sh");
            command.args(["-c", chosen]);
            command
        }
        None => Command::new(USUAL.0),
    };
    if env::var_os("LESS").is_none() {
        command.env("LESS", USUAL.1);
    }
    let Ok(mut child) = command.stdin(Stdio::piped()).spawn() else { return false };
    if let Some(mut stdin) = child.stdin.take() {
        // Whoever has seen enough leaves before the end.
        let _ = stdin.write_all(text.as_bytes());
    }
    // A shell says so when it has not found the program.
    !matches!(child.wait().ok().and_then(|status| status.code()), None | Some(126 | 127))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_counted_without_styles_and_with_what_is_wrapped() {
        assert_eq!(rows("\u{1b}[1mtide\u{1b}[0m\n\nabcdefgh", 4), 4);
        assert_eq!(rows("", 80), 0);
    }
}
