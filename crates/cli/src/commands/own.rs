//! This program, started again for parts of a longer command: each as if it were typed, so that whatever is interrupted
//! goes on the same way.

use std::path::Path;
use std::process::{Command, ExitStatus, Stdio};

use serde_json::Value;

use cavrith_sandbox::background;

use crate::args::General;
use crate::failure::Failure;

/// This program, for the project.
pub struct Own<'a> {
    pub dir: &'a Path,
    pub general: &'a General,
    pub variant: Option<String>,
    pub quiet: bool,
}

impl Own<'_> {
    pub fn command(&self, arguments: &[&str]) -> Result<Command, Failure> {
        let program =
            std::env::current_exe().map_err(|error| Failure::Own(3, format!("cannot find this program: {error}")))?;
        let mut command = Command::new(program);
        background::hand_on(&mut command);
        command.arg("-C").arg(self.dir).args(arguments);
        if let Some(variant) = &self.variant {
            command.arg("--variant").arg(variant);
        }
        for path in &self.general.allow_outside {
            command.arg("--allow-outside").arg(path);
        }
        if self.quiet {
            command.arg("-q");
        }
        Ok(command)
    }

    /// Runs a command whose output is the member's.
    pub fn passed(&self, arguments: &[&str]) -> Result<(), Failure> {
        // What it shows is on the way to what we show.
        let status = self.command(arguments)?.stdout(std::io::stderr()).status();
        ended(arguments, status)
    }

    /// Runs a command for its answer; a difference that it finds is an answer, too.
    pub fn answer(&self, arguments: &[&str]) -> Result<Value, Failure> {
        let output = self.command(arguments)?.stdin(Stdio::inherit()).stderr(Stdio::inherit()).output();
        let output = output.map_err(|error| Failure::Own(3, format!("cannot run this program: {error}")))?;
        let value: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        let measured = arguments.first() == Some(&"verify") && matches!(output.status.code(), Some(0 | 1 | 3));
        if !measured {
            ended(arguments, Ok(output.status))?;
        }
        Ok(value)
    }
}

/// The failure of a command that has said itself why.
fn ended(arguments: &[&str], status: std::io::Result<ExitStatus>) -> Result<(), Failure> {
    let status = status.map_err(|error| Failure::Own(3, format!("cannot run this program: {error}")))?;
    if status.success() {
        return Ok(());
    }
    let code = status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(130);
    let what = arguments.first().copied().unwrap_or_default();
    Err(Failure::Own(
        code,
        format!("cavrith {what} did not succeed; mend what it says, and type the same command again: it goes on"),
    ))
}
