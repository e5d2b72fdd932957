//! Terminals of visitors, which their host can look at and type into: both see the same.

use std::io::{self, Read as _, Write as _};
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Mutex};
use std::thread;

use bytes::Bytes;
use tokio::sync::broadcast;

use cavrith_sandbox::locked;

/// Pieces of output that somebody who looks may be behind.
const BEHIND: usize = 256;
/// What is typed to stop looking: Ctrl-].
const LEAVE: u8 = 0x1d;

/// Terminals that visitors have open.
#[derive(Debug, Default)]
pub(crate) struct Terminals(Mutex<Vec<Arc<Shared>>>);

/// One of them.
#[derive(Debug)]
pub(crate) struct Shared {
    name: String,
    output: broadcast::Sender<Bytes>,
    /// The outer end of the terminal.
    input: OwnedFd,
}

/// A terminal that is listed as long as this lasts.
pub(crate) struct Listed<'a> {
    all: &'a Terminals,
    own: Arc<Shared>,
}

impl Terminals {
    /// Lists a visitor's terminal.
    pub fn add(&self, name: &str, outer: OwnedFd) -> Listed<'_> {
        let own = Arc::new(Shared { name: name.to_owned(), output: broadcast::channel(BEHIND).0, input: outer });
        locked(&self.0).push(Arc::clone(&own));
        Listed { all: self, own }
    }

    /// The one that a visitor opened last.
    pub fn of(&self, name: &str) -> Option<Arc<Shared>> {
        locked(&self.0).iter().rev().find(|shared| shared.name == name).cloned()
    }
}

impl Listed<'_> {
    /// Where its output is shown, too.
    pub fn output(&self) -> broadcast::Sender<Bytes> {
        self.own.output.clone()
    }
}

impl Drop for Listed<'_> {
    fn drop(&mut self) {
        locked(&self.all.0).retain(|other| !Arc::ptr_eq(other, &self.own));
    }
}

impl Shared {
    /// Shows it at one end of a socket, and takes what is typed there, until either side ends or leaves.
    ///
    /// # Errors
    /// When the socket cannot be used.
    pub fn show(self: Arc<Self>, here: UnixStream) -> io::Result<()> {
        let mut output = self.output.subscribe();
        let (mut typed, terminal) = (here.try_clone()?, Arc::clone(&self));
        drop(self);
        let typing = thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(count @ 1..) = typed.read(&mut buffer) {
                let bytes = &buffer[..count];
                let leaves = bytes.iter().position(|byte| *byte == LEAVE);
                let _ = rustix::io::write(&terminal.input, &bytes[..leaves.unwrap_or(count)]);
                if leaves.is_some() {
                    break;
                }
            }
            let _ = typed.shutdown(std::net::Shutdown::Both);
        });
        let mut here = here;
        loop {
            match output.blocking_recv() {
                Ok(bytes) if here.write_all(&bytes).is_ok() => {}
                // Somebody who is slow misses something, as at a screen that was cleared.
                Err(broadcast::error::RecvError::Lagged(_)) => {}
                _ => break,
            }
        }
        let _ = here.shutdown(std::net::Shutdown::Both);
        drop(typing);
        Ok(())
    }
}
