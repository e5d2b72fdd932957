//! Standard streams on their way inside.
//!
//! A descriptor gives more than what it is used for: through `/proc/self/fd` a file that was opened for reading is
//! opened for writing by anyone who may, a directory leads on, a device's rights can be changed. So only pipes and
//! sockets cross. Terminals are made anew inside, the device of nothing is the inside's own, and for everything else a
//! thread of ours carries the bytes.

use std::fs::File;
use std::io::{self, PipeWriter, Read as _, Write as _};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::fs::{FileType, SeekFrom};

/// How long a command that has ended may leave its streams silent before nobody waits for them any more: something that
/// it left in the background may keep them open.
const SILENCE: Duration = Duration::from_millis(300);

/// The streams of a command, as they cross.
#[derive(Debug)]
pub struct Streams {
    inner: [OwnedFd; 3],
    fed: Option<Fed>,
    carrying: Vec<(JoinHandle<()>, PipeWriter)>,
}

impl Streams {
    /// Of this process's own.
    ///
    /// # Errors
    /// When one of them is a directory, or no pipe can be made.
    pub fn own() -> io::Result<Self> {
        let (mut carrying, mut fed) = (Vec::new(), None);
        let [stdin, stdout, stderr] = [rustix::stdio::stdin(), rustix::stdio::stdout(), rustix::stdio::stderr()];
        let inner = match crosses(stdin)? {
            true => stdin.try_clone_to_owned()?,
            false => {
                let feeding = Fed::begin(stdin.try_clone_to_owned()?)?;
                let inner = feeding.pipe.try_clone()?;
                fed = Some(feeding);
                inner
            }
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
        Ok(Self { inner: [inner, outer, errors], fed, carrying })
    }

    /// What crosses.
    pub fn inner(&self) -> [BorrowedFd<'_>; 3] {
        self.inner.each_ref().map(|fd| fd.as_fd())
    }

    /// To be called when the command has started: the ends inside are its own from then on. The value that is returned
    /// waits for what it writes.
    pub fn started(self) -> Carrying {
        Carrying { fed: self.fed, threads: self.carrying }
    }
}

/// What is still being carried.
#[derive(Debug)]
pub struct Carrying {
    fed: Option<Fed>,
    threads: Vec<(JoinHandle<()>, PipeWriter)>,
}

impl Carrying {
    /// Waits until all that the command wrote has arrived; to be called when it has ended. A file that it read from
    /// stands where it stopped reading, as it would have been without us: a loop that reads the same file goes on
    /// there.
    pub fn finish(self) {
        if let Some(fed) = self.fed {
            fed.step_back();
        }
        for (thread, wake) in self.threads {
            // The end of this pipe stops the thread.
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
        // The command gets the inside's own.
        FileType::CharacterDevice if is_null(&found) => Ok(true),
        // It is only asked whether it is one; the command gets a terminal of its own.
        FileType::CharacterDevice if rustix::termios::isatty(stream) => Ok(true),
        _ => Ok(false),
    }
}

/// Whether it is the device of nothing, as it has its number on every Linux (devices.txt of the kernel's
/// documentation).
fn is_null(found: &rustix::fs::Stat) -> bool {
    found.st_rdev == rustix::fs::makedev(1, 3)
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

/// A pipe that a thread fills from a file. When the command does not read all of it, the thread ends with this process.
#[derive(Debug)]
struct Fed {
    file: OwnedFd,
    /// Where the file stood; `None` when it is nothing that stands anywhere.
    offset: Option<u64>,
    /// The command's end.
    pipe: OwnedFd,
    /// Bytes that went into the pipe.
    written: Arc<AtomicU64>,
}

/// Writes of so many bytes go into a pipe as a whole or not at all (pipe(7), `PIPE_BUF`), so that what is in it is
/// known.
const WHOLE: usize = 4096;

impl Fed {
    fn begin(file: OwnedFd) -> io::Result<Self> {
        let offset = rustix::fs::seek(&file, SeekFrom::Current(0)).ok();
        let (inner, mut to) = io::pipe()?;
        let written = Arc::new(AtomicU64::new(0));
        let (mut from, count) = (File::from(file.try_clone()?), Arc::clone(&written));
        let carry = move || {
            let mut buffer = [0; WHOLE];
            while let Ok(read @ 1..) = from.read(&mut buffer) {
                if to.write_all(&buffer[..read]).is_err() {
                    return;
                }
                count.fetch_add(read as u64, Ordering::SeqCst);
            }
        };
        std::thread::Builder::new().name("carry in".to_owned()).spawn(carry)?;
        Ok(Self { file, offset, pipe: inner.into(), written })
    }

    fn step_back(&self) {
        let (Some(offset), Ok(unread)) = (self.offset, rustix::io::ioctl_fionread(&self.pipe)) else { return };
        let read = self.written.load(Ordering::SeqCst).saturating_sub(unread);
        let _ = rustix::fs::seek(&self.file, SeekFrom::Start(offset + read));
    }
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
