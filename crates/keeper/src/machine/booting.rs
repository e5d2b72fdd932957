//! From the files of a machine to the process within that says it is there.

use std::fs;
use std::io;
use std::process::Child;
use std::sync::{Arc, mpsc};
use std::time::{Duration, Instant};

use cavrith_sandbox::guest::hypervisor::{self, Hypervisor, Parts, Said as Words};
use cavrith_sandbox::guest::monitor::Monitor;
use cavrith_sandbox::guest::outer::{Outer, Said};
use cavrith_sandbox::{SandboxError, Session};

use super::{Answer, VERSION, ended};
use crate::KeeperError;
use crate::record::boot;

/// How long a machine has until the process within says something, when its processor is this machine's own.
const FAST: Duration = Duration::from_secs(10);
/// The same, when the processor is emulated.
const EMULATED: Duration = Duration::from_secs(180);
/// Where it is noted that this kernel's way to run machines does not work.
const NOT_FAST: &str = "emulated";

/// A machine in which the process within has said that it is there.
pub(super) struct Booted {
    pub child: Child,
    pub monitor: Monitor,
    pub said: Words,
    pub outer: Arc<Outer>,
    pub session: Session,
    pub says: mpsc::Receiver<Said>,
}

/// By the kernel where that works, and emulated where it does not.
pub(super) fn boot_machine(parts: &mut Parts, notes: &mut Vec<String>) -> Result<Booted, KeeperError> {
    let mark = parts.dir.join(NOT_FAST);
    let is_known = fs::read_to_string(&mark).is_ok_and(|known| known == boot());
    parts.is_fast = hypervisor::may_be_fast() && !is_known;
    if parts.is_fast
        && let Ok(booted) = attempt(parts, FAST)
    {
        return Ok(booted);
    }
    let was_tried = std::mem::take(&mut parts.is_fast);
    let booted = attempt(parts, EMULATED)?;
    if was_tried {
        // It was this alone that failed; until this machine is started anew nobody has to wait for it again.
        let _ = fs::write(&mark, boot());
    }
    notes.push("the processor is emulated: /dev/kvm is not there, closed to you, or does not work".to_owned());
    Ok(booted)
}

fn attempt(parts: &Parts, limit: Duration) -> Result<Booted, SandboxError> {
    let Hypervisor { mut child, port, monitor, said } =
        hypervisor::start(parts).map_err(|error| ended("start the hypervisor", error))?;
    let outcome = (|| {
        let monitor = Monitor::greet(monitor).map_err(|error| ended("talk to the hypervisor", error))?;
        let (outer, socket, says) = Outer::attend(port).map_err(|error| ended("talk to the machine", error))?;
        let started = Instant::now();
        loop {
            match says.recv_timeout(Duration::from_millis(50)) {
                Ok(said) => match serde_json::from_value(said.what) {
                    Ok(Answer::Here { version }) if version == VERSION => break,
                    _ => return Err(SandboxError::Inside("trust the machine: another version is in it".to_owned())),
                },
                Err(mpsc::RecvTimeoutError::Disconnected) => return Err(SandboxError::Gone),
                Err(mpsc::RecvTimeoutError::Timeout) if outer.is_gone() => return Err(SandboxError::Gone),
                Err(mpsc::RecvTimeoutError::Timeout) if started.elapsed() > limit => {
                    return Err(ended("start the machine", io::ErrorKind::TimedOut.into()));
                }
                Err(mpsc::RecvTimeoutError::Timeout) => {}
            }
        }
        let session = Session::in_machine(Arc::clone(&outer), &socket)?;
        Ok((monitor, outer, session, says))
    })();
    match outcome {
        Ok((monitor, outer, session, says)) => Ok(Booted { child, monitor, said, outer, session, says }),
        Err(error) => {
            let _ = child.kill();
            let _ = child.wait();
            Err(match last_line(&said).as_str() {
                "" => error,
                said => SandboxError::Inside(format!("start the machine: {error}; it said last: {said}")),
            })
        }
    }
}

/// What the machine's console or its hypervisor said last: where its kernel gave up, if it did.
pub(super) fn last_line(said: &Words) -> String {
    let text = said.text();
    // What firmware writes clears a screen that is not there.
    let lines: Vec<_> = text.lines().filter(|line| !line.trim().is_empty() && !line.contains('\u{1b}')).collect();
    let signs = ["Kernel panic", "BUG: ", "cavrith: ", "Out of memory", "qemu-system"];
    let told = lines.iter().rev().find(|line| signs.iter().any(|sign| line.contains(sign)));
    told.or(lines.last()).map(|line| line.trim().to_owned()).unwrap_or_default()
}
