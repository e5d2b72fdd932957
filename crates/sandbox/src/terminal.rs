//! Lending a command inside the member's own terminal.
//!
//! The inside never gets the real terminal, on which it could type in the member's name. It gets one of its own, and what
//! comes and goes is carried over: bytes, the size, and nothing else.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use rustix::termios::{OptionalActions, Termios};
use signal_hook::consts::SIGWINCH;

use crate::job::Ending;
use crate::{SandboxError, Session, outside};

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

/// Which of our standard streams are terminals.
pub fn own_terminals() -> [bool; 3] {
    let is_terminal = |fd: BorrowedFd<'_>| rustix::termios::isatty(fd);
    [is_terminal(rustix::stdio::stdin()), is_terminal(rustix::stdio::stdout()), is_terminal(rustix::stdio::stderr())]
}

fn copy_size(inner: &OwnedFd) {
    let streams = [rustix::stdio::stdin(), rustix::stdio::stdout(), rustix::stdio::stderr()];
    if let Some(size) = streams.into_iter().find_map(|stream| rustix::termios::tcgetwinsize(stream).ok()) {
        let _ = rustix::termios::tcsetwinsize(inner, size);
    }
}

/// Carries everything between our terminal and the outer end of a command's, until the command ends. What the command wrote last is
/// still shown.
///
/// # Errors
/// When the sandbox is gone.
pub fn carry(session: &Session, outer: &OwnedFd, terminals: [bool; 3]) -> Result<Ending, SandboxError> {
    let (resized, on_resize) = io::pipe().map_err(outside("watch the terminal's size"))?;
    let registered = signal_hook::low_level::pipe::register(SIGWINCH, OwnedFd::from(on_resize))
        .map_err(outside("watch the terminal's size"))?;
    // A terminal on standard input only can be typed on.
    let raw = terminals[0].then(Raw::begin).transpose().map_err(outside("prepare the terminal"))?;
    copy_size(outer);
    let shown = if terminals[1] { rustix::stdio::stdout() } else { rustix::stdio::stderr() };
    let mut typing = terminals[0];
    let ending = loop {
        let typed = if typing { rustix::stdio::stdin() } else { outer.as_fd() };
        let mut watched = [
            PollFd::new(outer.as_fd(), PollFlags::POLLIN),
            PollFd::new(session.ended(), PollFlags::POLLIN),
            PollFd::new(resized.as_fd(), PollFlags::POLLIN),
            PollFd::new(typed, PollFlags::POLLIN),
        ];
        match poll(&mut watched, PollTimeout::NONE) {
            Ok(_) | Err(nix::errno::Errno::EINTR) => {}
            Err(error) => return Err(outside("watch the terminal")(error.into())),
        }
        let ready = |number: usize| watched[number].revents().is_some_and(|events| !events.is_empty());
        let (output, ended, size, input) = (ready(0), ready(1), ready(2), typing && ready(3));
        if size {
            let _ = rustix::io::read(&resized, &mut [0; 64]);
            copy_size(outer);
        }
        if input && !pass(rustix::stdio::stdin(), outer.as_fd()) {
            typing = false;
        }
        let more = output && pass(outer.as_fd(), shown);
        if ended && !more {
            break session.wait()?;
        }
    };
    drop(raw);
    signal_hook::low_level::unregister(registered);
    Ok(ending)
}

/// Passes on what can be read at once; false at the end. The outer end of a terminal whose inner ends are all closed reads
/// as an error, which is its end.
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
