//! Lending a command inside the member's own terminal.
//!
//! A command that is typed to and examined gets a terminal of its own, and what comes and goes is carried over: bytes,
//! the size, and nothing else. When only one of the two is a terminal (`cavrith run -- ls | less`), somebody else works
//! on the terminal too, and its modes are left alone: the command gets the streams as they are, and on none of them can
//! it type in the member's name (the filter of system calls refuses that).

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::termios::{OptionalActions, Termios};
use signal_hook::consts::SIGWINCH;

use crate::parent::runtime::Attended;
use crate::protocol::job::Ending;
use crate::{SandboxError, outside};

/// How often it is checked whether we have come to the foreground.
const GLANCE: Timespec = Timespec { tv_sec: 0, tv_nsec: 200_000_000 };
/// How long a terminal that nothing inside has open is left alone.
const CLOSED_PAUSE: Duration = Duration::from_millis(20);

/// Puts the terminal into raw mode, and back when dropped.
struct Raw {
    usual: Termios,
}

impl Raw {
    fn begin() -> io::Result<Self> {
        let usual = rustix::termios::tcgetattr(rustix::stdio::stdin())?;
        let mut raw = usual.clone();
        raw.make_raw();
        rustix::termios::tcsetattr(rustix::stdio::stdin(), OptionalActions::Flush, &raw)?;
        Ok(Self { usual })
    }
}

impl Drop for Raw {
    fn drop(&mut self) {
        let _ = rustix::termios::tcsetattr(rustix::stdio::stdin(), OptionalActions::Drain, &self.usual);
    }
}

/// Which of our standard streams a command gets as a terminal of its own.
pub fn own_terminals() -> [bool; 3] {
    let is_terminal = |fd: BorrowedFd<'_>| rustix::termios::isatty(fd);
    if is_terminal(rustix::stdio::stdin()) && is_terminal(rustix::stdio::stdout()) {
        [true, true, is_terminal(rustix::stdio::stderr())]
    } else {
        [false; 3]
    }
}

/// Whether we may type on our terminal and change its modes. In the background (`cavrith run -- serve &`) the kernel
/// would stop us for trying.
fn in_foreground() -> bool {
    let group = rustix::termios::tcgetpgrp(rustix::stdio::stdin());
    // A terminal that is not our controlling one has no foreground for us to be in.
    group.map_or(true, |group| group == rustix::process::getpgrp())
}

fn copy_size(inner: &OwnedFd) {
    let streams = [rustix::stdio::stdin(), rustix::stdio::stdout(), rustix::stdio::stderr()];
    if let Some(size) = streams.into_iter().find_map(|stream| rustix::termios::tcgetwinsize(stream).ok()) {
        let _ = rustix::termios::tcsetwinsize(inner, size);
    }
}

/// Carries everything between our terminal and the outer end of a command's, until the command ends. What the command
/// wrote last is still shown.
///
/// # Errors
/// When the sandbox has ended.
pub fn carry(command: &dyn Attended, outer: &OwnedFd) -> Result<Ending, SandboxError> {
    let doing = "watch the terminal";
    let (woken, on_signal) = io::pipe().map_err(outside(doing))?;
    let registered =
        signal_hook::low_level::pipe::register(SIGWINCH, OwnedFd::from(on_signal)).map_err(outside(doing))?;
    let mut raw = None;
    let mut typing = true;
    copy_size(outer);
    let ending = loop {
        if raw.is_none() && in_foreground() {
            raw = Some(Raw::begin().map_err(outside("prepare the terminal"))?);
        }
        let reading = typing && raw.is_some();
        let mut watched = vec![
            PollFd::new(outer, PollFlags::IN),
            PollFd::from_borrowed_fd(command.ended(), PollFlags::IN),
            PollFd::new(&woken, PollFlags::IN),
        ];
        if reading {
            watched.push(PollFd::from_borrowed_fd(rustix::stdio::stdin(), PollFlags::IN));
        }
        // No signal comes when we are brought to the foreground, unless we were stopped, so in the background we look
        // now and then.
        let wait = if raw.is_some() { None } else { Some(&GLANCE) };
        match poll(&mut watched, wait) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(outside(doing)(error.into())),
        }
        let ready = |number: usize| watched.get(number).is_some_and(|watched| !watched.revents().is_empty());
        let (output, ended, signalled, input) = (ready(0), ready(1), ready(2), ready(3));
        if signalled {
            let _ = rustix::io::read(&woken, &mut [0; 64]);
            copy_size(outer);
        }
        if input {
            typing = pass(rustix::stdio::stdin(), outer.as_fd());
        }
        let more = output && pass(outer.as_fd(), rustix::stdio::stdout());
        if ended && !more {
            break command.wait()?;
        }
        if output && !more {
            // Nothing inside has the terminal open, which would wake us again at once; but something may open it anew.
            std::thread::sleep(CLOSED_PAUSE);
        }
    };
    drop(raw);
    signal_hook::low_level::unregister(registered);
    Ok(ending)
}

/// Passes on what can be read at once; false at the end. The outer end of a terminal whose inner ends are all closed
/// reads as an error, which is its end.
fn pass(from: BorrowedFd<'_>, to: impl AsFd) -> bool {
    let mut buffer = [0; 16 * 1024];
    let count = match rustix::io::read(from, &mut buffer) {
        Ok(0) => return false,
        Ok(count) => count,
        Err(error) => return error == rustix::io::Errno::INTR,
    };
    let mut rest = &buffer[..count];
    while !rest.is_empty() {
        match rustix::io::write(&to, rest) {
            Ok(written) => rest = &rest[written..],
            Err(rustix::io::Errno::INTR) => {}
            // Nobody looks any more; the command goes on.
            Err(_) => break,
        }
    }
    true
}
