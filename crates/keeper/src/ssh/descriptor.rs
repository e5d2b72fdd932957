//! A descriptor of whatever kind, as a stream that waits for nobody: a pipe, a socket, a terminal's outer end.

use std::io;
use std::os::fd::OwnedFd;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use rustix::fs::OFlags;
use tokio::io::unix::AsyncFd;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// The descriptor.
#[derive(Debug)]
pub(crate) struct Descriptor(AsyncFd<OwnedFd>);

impl Descriptor {
    /// # Errors
    /// When it is none that can be waited for, as a file's is not.
    pub(crate) fn new(fd: OwnedFd) -> io::Result<Self> {
        let flags = rustix::fs::fcntl_getfl(&fd)?;
        rustix::fs::fcntl_setfl(&fd, flags | OFlags::NONBLOCK)?;
        watched(fd).map(Self)
    }
}

/// A descriptor that can be waited for.
///
/// # Errors
/// When it is none of those.
pub(super) fn watched(fd: OwnedFd) -> io::Result<AsyncFd<OwnedFd>> {
    // What replaces it is unsafe, for types whose descriptor changes: that of an `OwnedFd` stays the same.
    #[allow(deprecated)]
    AsyncFd::new(fd)
}

impl AsyncRead for Descriptor {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        loop {
            let mut guard = ready!(self.0.poll_read_ready(cx))?;
            let into = buffer.initialize_unfilled();
            match guard.try_io(|fd| Ok(rustix::io::read(fd, &mut *into)?)) {
                Ok(Ok(count)) => {
                    buffer.advance(count);
                    return Poll::Ready(Ok(()));
                }
                Ok(Err(error)) if error.kind() == io::ErrorKind::Interrupted => {}
                Ok(Err(error)) => return Poll::Ready(Err(error)),
                Err(_) => {}
            }
        }
    }
}

impl AsyncWrite for Descriptor {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        loop {
            let mut guard = ready!(self.0.poll_write_ready(cx))?;
            match guard.try_io(|fd| Ok(rustix::io::write(fd, bytes)?)) {
                Ok(Err(error)) if error.kind() == io::ErrorKind::Interrupted => {}
                Ok(written) => return Poll::Ready(written),
                Err(_) => {}
            }
        }
    }

    fn poll_flush(self: Pin<&mut Self>, _cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }
}

/// Both directions of a client that has one descriptor for each.
#[derive(Debug)]
pub(crate) struct Pair {
    /// What it sends.
    pub from: Descriptor,
    /// What it receives.
    pub to: Descriptor,
}

impl AsyncRead for Pair {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.from).poll_read(cx, buffer)
    }
}

impl AsyncWrite for Pair {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.to).poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.to).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.to).poll_shutdown(cx)
    }
}
