//! Opening something with whatever the member's desktop has for it.

use std::ffi::OsStr;
use std::process::{Command, Stdio};

/// Opens a file or an address on the desktop. False where there is none. What is opened goes on by itself; that it
/// shows nothing is seen by the one who sits there.
pub fn open(what: impl AsRef<OsStr>) -> bool {
    let desktop = ["DISPLAY", "WAYLAND_DISPLAY"].iter().any(|name| std::env::var_os(name).is_some());
    let Some(opener) = cavrith_sandbox::programs::find_program("xdg-open").filter(|_| desktop) else { return false };
    let mut command = Command::new(opener);
    command.arg(what).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().is_ok()
}
