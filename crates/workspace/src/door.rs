//! How further commands come into a workspace that a command holds already.
//!
//! The command that holds a workspace listens at a socket in the workspace's directory, which only its user can enter. Another
//! command hands over what is to run and its three standard streams; the holder has it run in its sandbox, and tells how it
//! ended. The outer end of a terminal goes back the same way, so the terminal is attended to by whoever sits at it.

use std::fs;
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::Scope;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use cavrith_core::digest::ImageFingerprint;
use cavrith_engine::error::file_error;
use cavrith_sandbox::job::{CommandJob, Ending};
use cavrith_sandbox::session::{Attended, SendSignal};
use cavrith_sandbox::{SandboxError, Session, wire};

use crate::WorkspaceError;

const NAME: &str = "door";

/// From whoever comes in.
#[derive(Debug, Serialize, Deserialize)]
enum Knock {
    /// Run this, if the image is this one. With it come the three standard streams.
    Run(ImageFingerprint, CommandJob),
    /// Send it a signal.
    Signal(i32),
}

/// From the holder.
#[derive(Debug, Serialize, Deserialize)]
enum Answer {
    /// It runs. With it comes the terminal's outer end, if it has one.
    Started,
    /// It could not be started.
    NotStarted { why: String, missing: bool },
    /// The workspace has another image.
    OtherImage(ImageFingerprint),
    /// It ended.
    Ended(Ending),
}

/// The socket's path by way of an open directory: the path of a socket may have 107 bytes only (unix(7)), and a home's path more.
fn socket_in(dir: &fs::File) -> PathBuf {
    Path::new("/proc/self/fd").join(dir.as_raw_fd().to_string()).join(NAME)
}

/// The holder's side.
#[derive(Debug)]
pub struct Door {
    listener: UnixListener,
    path: PathBuf,
    image: ImageFingerprint,
    /// Commands of others that run now.
    guests: AtomicUsize,
}

impl Door {
    /// Begins to listen. What a dead holder left is taken away; whoever holds the workspace may do that.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn open(dir: &Path, image: ImageFingerprint) -> Result<Self, WorkspaceError> {
        let path = dir.join(NAME);
        let failed = |error| WorkspaceError::from(file_error("listen at", &path)(error));
        match fs::remove_file(&path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(failed(error)),
            _ => {}
        }
        let opened = fs::File::open(dir).map_err(failed)?;
        let listener = UnixListener::bind(socket_in(&opened)).map_err(failed)?;
        Ok(Self { listener, path, image, guests: AtomicUsize::new(0) })
    }

    /// Lets commands in, each on a thread of its own, until the door is closed.
    pub fn serve<'scope, 'env>(&'scope self, scope: &'scope Scope<'scope, 'env>, session: &'scope Session) {
        scope.spawn(move || {
            while let Ok((guest, _)) = self.listener.accept() {
                scope.spawn(move || {
                    self.guests.fetch_add(1, Ordering::SeqCst);
                    // A guest that goes away, or talks nonsense, ends its own command only.
                    let _ = self.attend(&guest, session);
                    self.guests.fetch_sub(1, Ordering::SeqCst);
                });
            }
        });
    }

    /// Lets nobody in any more, and says how many are still inside.
    pub fn close(&self) -> usize {
        let _ = fs::remove_file(&self.path);
        let _ = rustix::net::shutdown(self.listener.as_fd(), rustix::net::Shutdown::Both);
        self.guests.load(Ordering::SeqCst)
    }

    fn attend(&self, guest: &UnixStream, session: &Session) -> io::Result<()> {
        let Some((Knock::Run(image, command), streams)) = wire::receive(guest)? else { return Ok(()) };
        if image != self.image {
            return wire::send(guest, &Answer::OtherImage(self.image), &[]);
        }
        let [stdin, stdout, stderr] = streams.as_slice() else { return Err(io::ErrorKind::InvalidData.into()) };
        let running = match session.start(&command, [stdin.as_fd(), stdout.as_fd(), stderr.as_fd()]) {
            Ok(running) => running,
            Err(SandboxError::NotStarted { why, missing, .. }) => {
                return wire::send(guest, &Answer::NotStarted { why, missing }, &[]);
            }
            Err(error) => return Err(io::Error::other(error)),
        };
        let terminal: Vec<BorrowedFd<'_>> = running.terminal.iter().map(OwnedFd::as_fd).collect();
        // A guest that is gone already is noticed below, where its command is ended.
        let _ = wire::send(guest, &Answer::Started, &terminal);
        drop(streams);
        let send_signal = running.signals();
        std::thread::scope(|scope| {
            scope.spawn(move || {
                while let Ok(Some((Knock::Signal(signal), _))) = wire::receive(guest) {
                    send_signal(signal);
                }
                // The guest is gone, with its command's end or without: as when a terminal hangs up.
                send_signal(rustix::process::Signal::HUP.as_raw());
            });
            let ending = running.wait().map_err(io::Error::other);
            let told = ending.and_then(|ending| wire::send(guest, &Answer::Ended(ending), &[]));
            // In any case: the thread above, and the guest, wait for it.
            let _ = guest.shutdown(std::net::Shutdown::Both);
            told
        })
    }
}

/// A command of ours in a sandbox that another command holds.
#[derive(Debug)]
pub struct Guest {
    door: Arc<UnixStream>,
    /// The outer end of its terminal, when it wants one.
    pub terminal: Option<OwnedFd>,
}

/// Goes in at a workspace's door and has a command started. `None`: nobody answers at the door.
///
/// # Errors
/// When the workspace has another image, or the command cannot be started.
pub fn knock(
    name: &str,
    dir: &Path,
    image: ImageFingerprint,
    command: &CommandJob,
    streams: [BorrowedFd<'_>; 3],
) -> Result<Option<Guest>, WorkspaceError> {
    let Some(door) = connect(dir) else { return Ok(None) };
    let talk = |error| WorkspaceError::from(file_error("talk at", dir.join(NAME))(error));
    wire::send(&door, &Knock::Run(image, command.clone()), &streams).map_err(talk)?;
    match wire::receive::<Answer>(&door).map_err(talk)? {
        Some((Answer::Started, mut fds)) => Ok(Some(Guest { door: Arc::new(door), terminal: fds.pop() })),
        Some((Answer::NotStarted { why, missing }, _)) => {
            let program = command.argv.first().cloned().unwrap_or_default();
            Err(SandboxError::NotStarted { program, why, missing }.into())
        }
        Some((Answer::OtherImage(other), _)) => {
            Err(WorkspaceError::OtherImage { name: name.to_owned(), words: other.spoken() })
        }
        // The holder is just ending.
        Some((Answer::Ended(_), _)) | None => Ok(None),
    }
}

/// A holder that is just beginning has no door yet, and one that is just ending none any more.
fn connect(dir: &Path) -> Option<UnixStream> {
    let opened = fs::File::open(dir).ok()?;
    (0..200).find_map(|attempt| {
        if attempt > 0 {
            std::thread::sleep(Duration::from_millis(25));
        }
        UnixStream::connect(socket_in(&opened)).ok()
    })
}

impl Attended for Guest {
    fn ended(&self) -> BorrowedFd<'_> {
        self.door.as_fd()
    }

    fn wait(&self) -> Result<Ending, SandboxError> {
        match wire::receive::<Answer>(&self.door) {
            Ok(Some((Answer::Ended(ending), _))) => Ok(ending),
            _ => Err(SandboxError::Gone),
        }
    }

    fn signals(&self) -> SendSignal {
        let door = Arc::clone(&self.door);
        Box::new(move |signal| drop(wire::send(&door, &Knock::Signal(signal), &[])))
    }
}
