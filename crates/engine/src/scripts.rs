//! Commands of a spec that no shell can read: said before anything is built. Nothing of them is carried out.

use std::io::Write as _;
use std::ops::Range;
use std::process::{Command, Stdio};

use cavrith_core::mistake::{Code, Mistake};
use cavrith_core::path::shown;
use cavrith_core::spec::{Action, At, Base, Run, Spec};
use cavrith_sandbox::programs::find_program;

/// Commands that are looked at one by one; a spec with more is looked at as a whole first.
const FEW: usize = 8;

/// A command of the spec: what it belongs to, and its text.
struct Script<'a> {
    of: String,
    at: &'a Range<usize>,
    text: &'a str,
}

/// The mistakes of all commands that are texts for a shell. The machine's own shell reads them (POSIX, `sh -n`), which
/// has the grammar that Debian's has; of other bases it is a warning.
pub fn mistakes(spec: &Spec) -> Vec<Mistake> {
    let Some(shell) = find_program("sh") else { return Vec::new() };
    let steps = spec.steps.iter().chain(spec.start_steps.iter().map(|start| &start.step));
    let of_steps = steps.filter_map(|step| match &step.action {
        Action::Run(At { value: Run::Shell(text), span }) => {
            Some(Script { of: format!("the step {:?}", step.name.value), at: span, text })
        }
        _ => None,
    });
    let of_services = spec.services.iter().filter_map(|(name, service)| match &service.value.run {
        At { value: Run::Shell(text), span } => Some(Script { of: format!("the service `{name}`"), at: span, text }),
        _ => None,
    });
    let all: Vec<_> = of_steps.chain(of_services).collect();
    let read = |text: &str| -> Option<String> {
        let mut command = Command::new(&shell);
        command.arg("-n").env_clear().stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
        let mut child = command.spawn().ok()?;
        let mut stdin = child.stdin.take()?;
        let text = text.to_owned();
        let written = std::thread::spawn(move || drop(stdin.write_all(text.as_bytes())));
        let output = child.wait_with_output().ok()?;
        let _ = written.join();
        (!output.status.success()).then(|| String::from_utf8_lossy(&output.stderr).into_owned())
    };
    // Each by itself in a subshell: one process says that all of many are right.
    if all.len() > FEW {
        let together: String = all.iter().map(|script| format!("(\n{}\n)\n", script.text)).collect();
        if read(&together).is_none() {
            return Vec::new();
        }
    }
    let weight = |mistake: Mistake| match spec.base {
        Base::Debian(_) | Base::Packages { .. } => mistake,
        _ => mistake.as_warning(),
    };
    let mistake = |script: &Script<'_>| {
        let said = read(script.text)?;
        let message = format!("{} has a command that no shell can read: {}", script.of, words(&said));
        let remedy = "mend it; sh -n reads a script without running it";
        Some(weight(Mistake::new(Code::BAD_SCRIPT, script.at.clone(), message, remedy)))
    };
    all.iter().filter_map(mistake).collect()
}

/// What a shell says, without its name before it.
fn words(said: &str) -> String {
    let line = said.lines().next().unwrap_or_default();
    let line = line.split_once("sh: ").map_or(line, |(_, rest)| rest);
    let words = match line.split_once(": ") {
        Some((number, rest)) if number.bytes().all(|byte| byte.is_ascii_digit()) => format!("line {number}: {rest}"),
        _ => line.to_owned(),
    };
    shown(words.as_bytes())
}
