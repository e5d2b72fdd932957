//! A member's own files in the home, put there before anything else runs inside.

use std::fs::File;
use std::io::{Read as _, Write as _};
use std::os::fd::AsFd as _;
use std::time::Duration;

use cavrith_engine::dotfiles::Part;
use cavrith_sandbox::SandboxError;
use cavrith_sandbox::job::{Ending, PLACED, Task};
use cavrith_sandbox::lines::{LastLines, Lines};

use crate::protocol::ExecRequest;
use crate::work::Keeper;

/// How long the member's command may take.
const LIMIT: Duration = Duration::from_secs(600);
/// Where it is written down what their commands were run for, from the home on: a mark in a line.
const RAN: &str = ".local/state/cavrith/ran";
/// Runs a command (from `$2` on) unless it was run for this mark (`$1`) already.
const ONCE: &str = "cd || exit
if [ -f \"$0\" ]; then
    while read -r mark; do if [ \"$mark\" = \"$1\" ]; then exit 0; fi; done < \"$0\"
fi
of=$1; shift
\"$@\" < /dev/null && mkdir -p \"${0%/*}\" && printf '%s\\n' \"$of\" >> \"$0\"";

impl Keeper {
    /// Puts the files in place, and runs the member's command when they are others than before. What could not be done
    /// is noted: taste is no reason not to start.
    pub fn place_dotfiles(&self) {
        let own = &self.personal.dotfiles;
        let list = format!("{}/{PLACED}", cavrith_core::account::home(&self.arrangement().setup.account));
        // Without any, those of an earlier start go; most starts have neither.
        if own.files.is_empty() && self.runtime.changed(&list).is_ok_and(|changed| changed.is_none()) {
            return;
        }
        match self.try_place() {
            Ok(kept) if kept.is_empty() => {}
            Ok(kept) => {
                let few = kept.iter().take(5).cloned().collect::<Vec<_>>().join(", ");
                let more = if kept.len() > 5 { format!(" and {} more", kept.len() - 5) } else { String::new() };
                let text = format!("{few}{more}: the image, or you, have another one there");
                self.note_anew("your dotfiles lack ", &text);
            }
            Err(error) => return self.note_anew("your dotfiles are not in place: ", &error.to_string()),
        }
        // One after the other; what an earlier one did not do is no reason to leave out the others.
        let failed: Vec<_> = own.run.iter().filter_map(|part| self.run_part(part)).collect();
        if !failed.is_empty() {
            self.note_anew("of the commands of your dotfiles failed: ", &failed.join("; "));
        }
    }

    /// Why one of their commands failed.
    fn run_part(&self, Part { argv, mark }: &Part) -> Option<String> {
        let mut whole = vec![self.shell.clone(), "-c".to_owned(), ONCE.to_owned(), RAN.to_owned(), mark.clone()];
        whole.extend(argv.iter().cloned());
        let command = self.visiting(&ExecRequest { argv: whole, ..ExecRequest::default() });
        let (mut lines, mut last) = (Lines::default(), LastLines::default());
        let ended = self.runtime.run(&command, LIMIT, &mut |bytes| lines.take(bytes, &mut |line| last.push(line)));
        lines.finish(&mut |line| last.push(line));
        let failed = match ended {
            Ok(Some(Ending::Code(0) | Ending::Left(_))) => return None,
            Ok(Some(ending)) => format!("it ended with {}", ending.as_code()),
            Ok(None) => format!("it took longer than {} s", LIMIT.as_secs()),
            Err(error) => error.to_string(),
        };
        let said = last.to_vec().pop().map(|line| format!(", {line}")).unwrap_or_default();
        Some(format!("{}: {failed}{said}", argv.join(" ")))
    }

    /// Which files stay as they are.
    fn try_place(&self) -> Result<Vec<String>, SandboxError> {
        let outside = |source| SandboxError::Outside { doing: "pass on dotfiles".to_owned(), source };
        let request = ExecRequest { task: Some(Task::Place), ..ExecRequest::default() };
        let (theirs, mut files) = std::io::pipe().map_err(outside)?;
        let (mut told, answer) = std::io::pipe().map_err(outside)?;
        let nothing = File::options().write(true).open("/dev/null").map_err(outside)?;
        let running =
            self.runtime.start(&self.visiting(&request), [theirs.as_fd(), answer.as_fd(), nothing.as_fd()])?;
        drop((theirs, answer));
        let text = serde_json::to_vec(&self.personal.dotfiles.files).unwrap_or_default();
        let sent = files.write_all(&text);
        drop(files);
        let mut lines = String::new();
        let heard = told.by_ref().take(1 << 20).read_to_string(&mut lines);
        match (running.wait()?, sent.and(heard)) {
            (Ending::Code(0), Ok(_)) => {
                let kept = lines.lines().filter_map(|line| line.strip_prefix("kept "));
                Ok(kept.map(|path| format!("~/{path}")).collect())
            }
            (_, Err(error)) => Err(outside(error)),
            _ => Err(outside(std::io::Error::other("the home cannot be written to"))),
        }
    }
}
