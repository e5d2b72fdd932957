//! Moves the bytes of a connection from one socket to another (splice(2)).

use std::io;
use std::net::{Shutdown, TcpStream};
use std::sync::Arc;
use std::thread;

use rustix::pipe::{PipeFlags, SpliceFlags};

/// Bytes that are carried at once.
const CHUNK: usize = 1 << 20;

/// Both ends of a connection that is carried: outside and inside.
#[derive(Debug)]
pub(crate) struct Pair {
    pub outer: TcpStream,
    pub inner: TcpStream,
}

impl Pair {
    /// Ends it, whatever is still on its way.
    pub(crate) fn end(&self) {
        let _ = self.outer.shutdown(Shutdown::Both);
        let _ = self.inner.shutdown(Shutdown::Both);
    }
}

/// Carries both directions until both have ended.
pub(crate) fn carry(pair: &Arc<Pair>) {
    let back = {
        let pair = Arc::clone(pair);
        thread::Builder::new().spawn(move || one_way(&pair.inner, &pair.outer))
    };
    // A connection that could only ask, and never hear an answer, is given up.
    let Ok(back) = back else { return };
    one_way(&pair.outer, &pair.inner);
    let _ = back.join();
}

/// Carries one direction. When it ends, or either side breaks, the other side hears of it.
fn one_way(from: &TcpStream, to: &TcpStream) {
    let _ = splice_all(from, to);
    let _ = to.shutdown(Shutdown::Write);
    let _ = from.shutdown(Shutdown::Read);
}

fn splice_all(from: &TcpStream, to: &TcpStream) -> io::Result<()> {
    let (out, into) = rustix::pipe::pipe_with(PipeFlags::CLOEXEC)?;
    // Best effort: a user's share of pipe memory may be used up, and the usual size does too.
    let _ = rustix::pipe::fcntl_setpipe_size(&into, CHUNK);
    loop {
        let mut left = match rustix::pipe::splice(from, None, &into, None, CHUNK, SpliceFlags::MOVE) {
            Ok(0) => return Ok(()),
            Ok(count) => count,
            Err(rustix::io::Errno::INTR) => continue,
            Err(error) => return Err(error.into()),
        };
        while left > 0 {
            match rustix::pipe::splice(&out, None, to, None, left, SpliceFlags::MOVE) {
                Ok(count) => left -= count,
                Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
        }
    }
}
