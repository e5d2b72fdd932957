//! Standard streams on their way inside.
//!
//! A descriptor gives more than what it is used for: through `/proc/self/fd` a file that was opened for reading is
//! opened for writing by whoever may, a directory leads on, a device's rights can be changed. So only pipes and sockets
//! cross, and terminals are made anew inside; for everything else a thread of ours carries the bytes.

use std::fs::File;
use std::io::{self, PipeWriter, Read as _, Write as _};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::thread::JoinHandle;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::fs::FileType;

/// How long a command that has ended may leave its streams silent before nobody waits for them any more: something that
/// it left in the background may keep them open.
const SILENCE: Duration = Duration::from_millis(300);

/// The streams of a command, as they cross.
#[derive(Debug)]
pub struct Streams {
    inner: [OwnedFd; 3],
    carrying: Vec<(JoinHandle<()>, PipeWriter)>,
}

impl Streams {
    /// Of this process's own.
    ///
    /// # Errors
    /// When one of them is a directory, or no pipe can be made.
    pub fn own() -> io::Result<Self> {
        let mut carrying = Vec::new();
        let [stdin, stdout, stderr] = [rustix::stdio::stdin(), rustix::stdio::stdout(), rustix::stdio::stderr()];
        let inner = match crosses(stdin)? {
            true => stdin.try_clone_to_owned()?,
            false => carried_in(stdin.try_clone_to_owned()?)?,
        };
        let mut out = |stream: BorrowedFd<'_>| -> io::Result<OwnedFd> {
            if crosses(stream)? {
                return stream.try_clone_to_owned();
            }
            let (inner, thread, wake) = carried_out(stream.try_clone_to_owned()?)?;
            carrying.push((thread, wake));
            Ok(inner)
        };
        let outer = out(stdout)?;
        // Two streams that go into the same file stay in the order in which they are written.
        let errors = if is_same(stdout, stderr) { outer.try_clone()? } else { out(stderr)? };
        Ok(Self { inner: [inner, outer, errors], carrying })
    }

    /// What crosses.
    pub fn inner(&self) -> [BorrowedFd<'_>; 3] {
        self.inner.each_ref().map(|fd| fd.as_fd())
    }

    /// To be called when the command has started: the ends inside are its own from then on. The value that is returned
    /// waits for what it writes.
    pub fn started(self) -> Carrying {
        Carrying { threads: self.carrying }
    }
}

/// What is still being carried.
#[derive(Debug)]
pub struct Carrying {
    threads: Vec<(JoinHandle<()>, PipeWriter)>,
}

impl Carrying {
    /// Waits until all that the command wrote has arrived; to be called when it has ended.
    pub fn finish(self) {
        for (thread, wake) in self.threads {
            // The thread is told by the end of this pipe.
            drop(wake);
            let _ = thread.join();
        }
    }
}

/// Whether a stream may cross as it is.
fn crosses(stream: BorrowedFd<'_>) -> io::Result<bool> {
    // One that is closed is as good as one that has nothing.
    let Ok(found) = rustix::fs::fstat(stream) else { return Ok(true) };
    match FileType::from_raw_mode(found.st_mode) {
        FileType::Fifo | FileType::Socket => Ok(true),
        FileType::Directory => Err(io::Error::new(io::ErrorKind::InvalidInput, "a standard stream is a directory")),
        // It is only asked whether it is one; the command gets a terminal of its own.
        FileType::CharacterDevice if rustix::termios::isatty(stream) => Ok(true),
        _ => Ok(false),
    }
}

fn is_same(one: BorrowedFd<'_>, other: BorrowedFd<'_>) -> bool {
    match (rustix::fs::fstat(one), rustix::fs::fstat(other)) {
        (Ok(one), Ok(other)) => (one.st_dev, one.st_ino) == (other.st_dev, other.st_ino) && !is_pipe(one.st_mode),
        _ => false,
    }
}

fn is_pipe(mode: u32) -> bool {
    FileType::from_raw_mode(mode) == FileType::Fifo
}

/// A pipe that a thread fills. When the command does not read all of it, the thread ends with this process.
fn carried_in(from: OwnedFd) -> io::Result<OwnedFd> {
    let (inner, mut to) = io::pipe()?;
    std::thread::Builder::new().name("carry in".to_owned()).spawn(move || {
        let _ = io::copy(&mut File::from(from), &mut to);
    })?;
    Ok(inner.into())
}

/// A pipe that a thread empties, the thread, and the pipe whose end tells it that the command has ended.
fn carried_out(to: OwnedFd) -> io::Result<(OwnedFd, JoinHandle<()>, PipeWriter)> {
    let (mut from, inner) = io::pipe()?;
    let (over, wake) = io::pipe()?;
    let carry = move || {
        let mut to = File::from(to);
        let mut buffer = vec![0; 64 * 1024];
        let mut ended = false;
        let silence = Timespec { tv_sec: 0, tv_nsec: SILENCE.as_nanos() as i64 };
        loop {
            let mut watched = [PollFd::new(&from, PollFlags::IN), PollFd::new(&over, PollFlags::IN)];
            let count = if ended { 1 } else { 2 };
            match rustix::event::poll(&mut watched[..count], ended.then_some(&silence)) {
                Ok(0) => return,
                Ok(_) | Err(rustix::io::Errno::INTR) => {}
                Err(_) => return,
            }
            ended |= !watched[1].revents().is_empty();
            if watched[0].revents().is_empty() {
                continue;
            }
            match from.read(&mut buffer) {
                Ok(0) | Err(_) => return,
                // A full disk ends the command's output, which it hears of as of a reader that went away.
                Ok(read) => {
                    if to.write_all(&buffer[..read]).is_err() {
                        return;
                    }
                }
            }
        }
    };
    let thread = std::thread::Builder::new().name("carry out".to_owned()).spawn(carry)?;
    Ok((inner.into(), thread, wake))
}
