//! Messages with file descriptors over a Unix socket: four bytes of length, then JSON.

use std::io::{self, IoSlice, IoSliceMut, Read as _, Write as _};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;

use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer, SendAncillaryMessage, SendFlags,
};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// Descriptors that one message may carry; the kernel's own limit (`SCM_MAX_FD`) is 253.
pub const MAX_FDS: usize = 128;

/// Bytes that a message may have: far more than the longest of ours, and no danger to memory.
const LONGEST: u32 = 64 << 20;

/// Sends one message.
///
/// # Errors
/// When the other side has ended, or there are too many descriptors.
pub fn send(socket: &UnixStream, message: &impl Serialize, fds: &[BorrowedFd<'_>]) -> io::Result<()> {
    let bytes = serde_json::to_vec(message)?;
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?.to_le_bytes();
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(MAX_FDS))];
    let mut control = SendAncillaryBuffer::new(&mut space);
    if !fds.is_empty() && !control.push(SendAncillaryMessage::ScmRights(fds)) {
        return Err(io::Error::other("too many descriptors for one message"));
    }
    // The descriptors travel with the length, so the reader has them before it reads the rest.
    let sent = rustix::net::sendmsg(socket.as_fd(), &[IoSlice::new(&length)], &mut control, SendFlags::NOSIGNAL)?;
    if sent != length.len() {
        return Err(io::ErrorKind::WriteZero.into());
    }
    (&mut &*socket).write_all(&bytes)
}

/// Receives one message with its descriptors; `None` when the other side has ended.
///
/// # Errors
/// When what arrives is not such a message.
pub fn receive<T: DeserializeOwned>(socket: &UnixStream) -> io::Result<Option<(T, Vec<OwnedFd>)>> {
    let mut length = [0; 4];
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(MAX_FDS))];
    let mut control = RecvAncillaryBuffer::new(&mut space);
    let count = loop {
        match rustix::net::recvmsg(
            socket.as_fd(),
            &mut [IoSliceMut::new(&mut length)],
            &mut control,
            RecvFlags::CMSG_CLOEXEC,
        ) {
            Ok(received) => break received.bytes,
            Err(rustix::io::Errno::INTR) => {}
            Err(rustix::io::Errno::CONNRESET) => return Ok(None),
            Err(error) => return Err(error.into()),
        }
    };
    if count == 0 {
        return Ok(None);
    }
    let mut fds = Vec::new();
    for message in control.drain() {
        if let RecvAncillaryMessage::ScmRights(received) = message {
            fds.extend(received);
        }
    }
    (&mut &*socket).read_exact(&mut length[count..])?;
    let length = u32::from_le_bytes(length);
    if length > LONGEST {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "a message is longer than any may be"));
    }
    let mut bytes = vec![0; length as usize];
    (&mut &*socket).read_exact(&mut bytes)?;
    Ok(Some((serde_json::from_slice(&bytes)?, fds)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Seek as _;

    #[test]
    fn a_message_arrives_with_its_descriptors() {
        let (ours, theirs) = UnixStream::pair().unwrap();
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(b"tide").unwrap();
        file.rewind().unwrap();
        let long = "x".repeat(100_000);
        let sender = std::thread::spawn(move || send(&ours, &long, &[file.as_fd()]).unwrap());
        let (text, mut fds) = receive::<String>(&theirs).unwrap().unwrap();
        sender.join().unwrap();
        assert_eq!(text.len(), 100_000);
        let mut content = String::new();
        std::fs::File::from(fds.remove(0)).read_to_string(&mut content).unwrap();
        assert_eq!(content, "tide");
        assert!(receive::<String>(&theirs).unwrap().is_none());
    }
}

/// Paths as bytes, since a path need not be a text, for `#[serde(with = …)]`.
pub mod path {
    use std::ffi::OsString;
    use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
    use std::path::{Path, PathBuf};

    use serde::{Deserialize as _, Deserializer, Serialize as _, Serializer};

    /// Writes a path.
    ///
    /// # Errors
    /// What the serializer says.
    pub fn serialize<S: Serializer>(path: &Path, to: S) -> Result<S::Ok, S::Error> {
        path.as_os_str().as_bytes().serialize(to)
    }

    /// Reads a path.
    ///
    /// # Errors
    /// What the deserializer says.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<PathBuf, D::Error> {
        Ok(OsString::from_vec(Vec::deserialize(from)?).into())
    }
}

/// Lists of paths as bytes.
pub mod paths {
    use std::ffi::OsString;
    use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
    use std::path::PathBuf;

    use serde::{Deserialize as _, Deserializer, Serializer};

    /// Writes paths.
    ///
    /// # Errors
    /// What the serializer says.
    pub fn serialize<S: Serializer>(paths: &[PathBuf], to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq(paths.iter().map(|path| path.as_os_str().as_bytes()))
    }

    /// Reads paths.
    ///
    /// # Errors
    /// What the deserializer says.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<PathBuf>, D::Error> {
        let all = Vec::<Vec<u8>>::deserialize(from)?;
        Ok(all.into_iter().map(|bytes| OsString::from_vec(bytes).into()).collect())
    }
}
