//! The file that a disk is written to: as it is, with holes where it is zero, or as QEMU keeps disks.

use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};

use cavrith_core::path::RootPath;
use cavrith_disk::piece::Piece;
use cavrith_disk::qcow2::{CLUSTER, Qcow2};

/// Bytes that are written at once.
pub(crate) const BUFFER: usize = 1 << 20;

/// The form of a disk's file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// As it is; what is zero is a hole.
    Raw,
    /// As QEMU keeps disks.
    Qcow2,
}

/// A disk's file on its way.
pub(crate) struct Sink<'a> {
    file: &'a mut File,
    at: u64,
    /// What is at the end and not written yet.
    buffer: Vec<u8>,
    packed: Option<Qcow2>,
}

impl<'a> Sink<'a> {
    pub fn new(file: &'a mut File, size: u64, form: Form) -> Self {
        let packed = (form == Form::Qcow2).then(|| Qcow2::new(size));
        Self { file, at: 0, buffer: Vec::with_capacity(BUFFER), packed }
    }

    pub fn piece(&mut self, piece: Piece<'_>, content: &dyn Fn(&RootPath) -> io::Result<File>) -> io::Result<()> {
        match piece {
            Piece::Known(bytes) => self.known(bytes),
            Piece::Zeros(count) => self.to(self.at + count),
            Piece::Content(path, size) => self.content(content(path)?, size),
        }
    }

    pub fn known(&mut self, bytes: &[u8]) -> io::Result<()> {
        for part in bytes.chunks(BUFFER) {
            if self.buffer.len() + part.len() > BUFFER {
                self.flush()?;
            }
            self.buffer.extend_from_slice(part);
            self.at += part.len() as u64;
        }
        Ok(())
    }

    /// Goes on at a place behind; what is between is zero.
    pub fn to(&mut self, at: u64) -> io::Result<()> {
        // Up to a whole cluster, so that what follows begins with one.
        let count = at - self.at;
        let filled = count.min(self.at.next_multiple_of(CLUSTER) - self.at);
        self.zeros(filled)?;
        if count - filled >= CLUSTER {
            self.flush()?;
            // With nothing held back, so many whole clusters are zero.
            self.at = at / CLUSTER * CLUSTER;
            self.file.seek(SeekFrom::Start(self.at))?;
        }
        self.zeros(at - self.at)
    }

    fn zeros(&mut self, count: u64) -> io::Result<()> {
        if self.buffer.len() as u64 + count > BUFFER as u64 {
            self.flush()?;
        }
        self.buffer.resize(self.buffer.len() + count as usize, 0);
        self.at += count;
        Ok(())
    }

    fn content(&mut self, from: File, size: u64) -> io::Result<()> {
        let mut left = from.take(size);
        let before = self.at;
        loop {
            let room = BUFFER - self.buffer.len();
            let read = (&mut left).take(room as u64).read_to_end(&mut self.buffer)?;
            self.at += read as u64;
            if read < room {
                break;
            }
            self.flush()?;
        }
        if self.at - before == size { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }

    /// Writes what is held back, but for the beginning of a cluster that is not whole.
    fn flush(&mut self) -> io::Result<()> {
        let Some(packed) = &mut self.packed else {
            self.file.write_all(&self.buffer)?;
            self.buffer.clear();
            return Ok(());
        };
        let first = (self.at - self.buffer.len() as u64) / CLUSTER;
        let mut written = 0;
        for (cluster, content) in (first..).zip(self.buffer.chunks_exact(CLUSTER as usize)) {
            if let Some(at) = packed.place(cluster, content) {
                self.file.seek(SeekFrom::Start(at))?;
                self.file.write_all(content)?;
            }
            written += content.len();
        }
        self.buffer.drain(..written);
        Ok(())
    }

    pub fn finish(mut self) -> io::Result<u64> {
        let size = self.at;
        self.zeros(size.next_multiple_of(CLUSTER) - size)?;
        self.flush()?;
        let Some(packed) = &self.packed else {
            self.file.set_len(size)?;
            return Ok(size);
        };
        self.file.seek(SeekFrom::Start(0))?;
        self.file.write_all(&packed.head())?;
        self.file.set_len(packed.file_size())?;
        Ok(packed.file_size())
    }
}
