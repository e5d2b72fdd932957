//! The act with OpenSSH, where that is installed.

use std::process::{Command, Stdio};

use cavrith_sandbox::programs::find_program;
use cavrith_workspace::ssh_config::SUFFIX;

use super::{Person, Story, own};
use crate::failure::Failure;

/// The configuration, from the project's folder on; the member's own one is left alone.
const CONFIG: &str = "../ssh-config";
/// What is looked at from outside.
const LOOK: &str = "id -un; pwd; cat news.html";

impl Story<'_> {
    /// A running workspace as a host of SSH.
    pub fn attach(&self, person: &Person) -> Result<(), Failure> {
        let Some(program) = find_program("ssh") else { return Ok(()) };
        let host = format!("timetable{SUFFIX}");
        let ssh = |arguments: &[&str]| {
            let mut command = Command::new(&program);
            command.args(["-F", CONFIG, "-o", "BatchMode=yes", "-o", "LogLevel=ERROR"]).args(arguments);
            command.current_dir(&person.project).stdin(Stdio::null()).output().map_err(own("start ssh"))
        };
        self.narrate("Editors come over SSH, as to any machine, and so does ssh itself. No port is open for it.");
        self.run(person, &["ssh-config", "--apply", "--file", CONFIG], 0)?;
        // A machine that does not know by name who runs this has no SSH to offer.
        if !ssh(&["-G", &host])?.status.success() {
            return Ok(());
        }
        self.show_command(person, &format!("ssh -F {CONFIG} {host} '{LOOK}'"));
        let output = ssh(&[&host, LOOK])?;
        for stream in [&output.stderr, &output.stdout] {
            String::from_utf8_lossy(stream).lines().for_each(|line| self.screen.result(line));
        }
        if output.status.success() {
            return Ok(());
        }
        Err(Failure::Own(5, format!("the story stops here: ssh ended with {}", output.status)))
    }
}
