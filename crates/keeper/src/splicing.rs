//! Moves the bytes of a connection from one socket to another (splice(2)).

use std::io;
use std::net::{Shutdown, TcpStream};
use std::sync::Arc;
use std::thread;

use rustix::pipe::{PipeFlags, SpliceFlags};

/// Bytes that are carried at once.
const CHUNK: usize = 1 << 20;

/// Carries both directions until both have ended.
pub(crate) fn carry(outer: TcpStream, inner: TcpStream) {
    let (outer, inner) = (Arc::new(outer), Arc::new(inner));
    let back = {
        let (outer, inner) = (Arc::clone(&outer), Arc::clone(&inner));
        thread::Builder::new().spawn(move || one_way(&inner, &outer))
    };
    // A connection that could only ask, and never hear an answer, is given up.
    let Ok(back) = back else { return };
    one_way(&outer, &inner);
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
